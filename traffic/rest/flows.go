package rest

import (
	"context"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/reach"
	"lucidorchard/ledger"
	"lucidorchard/server"
	"lucidorchard/traffic"
)

// binOut is a stretch of the strip.
type binOut struct {
	At        string `json:"at"`
	Permit    int64  `json:"permit"`
	Reject    int64  `json:"reject"`
	Uncovered int64  `json:"uncovered"`
}

// Strip is the volume of traffic over time.
type Strip struct {
	From          string   `json:"from" doc:"Start of all conversations; empty if there are none"`
	To            string   `json:"to"`
	Conversations int      `json:"conversations"`
	Records       int      `json:"records" doc:"Conversation-hours that are stored"`
	Bins          []binOut `json:"bins"`
}

// terraceMap is the terrace map.
type terraceMap struct {
	Columns  []placeOut   `json:"columns"`
	Rows     []placeOut   `json:"rows" doc:"From those that mostly call to those that are mostly called"`
	Plots    []plotOut    `json:"plots"`
	Channels []passageOut `json:"channels" doc:"Traffic inside a column"`
	Gates    []passageOut `json:"gates" doc:"Traffic between columns, and from and to outside and nowhere"`
	Unplaced int          `json:"unplaced" doc:"Workloads without a column or a row"`
	Keys     []string     `json:"keys" doc:"Tags that can make columns and rows"`
}

// placeOut is a column or a row.
type placeOut struct {
	Name      string `json:"name"`
	Workloads int    `json:"workloads"`
	Values    int    `json:"values" doc:"How many values of the tag it stands for: more than one of ~others"`
}

// plotOut is what lies in a column and a row.
type plotOut struct {
	Column string        `json:"column"`
	Row    string        `json:"row"`
	Parts  []plotPartOut `json:"parts"`
}

// plotPartOut is workloads of a plot that belong together.
type plotPartOut struct {
	Name      string `json:"name"`
	Workloads int    `json:"workloads"`
	Open      int    `json:"open" doc:"Of these, those that lack a structural tag"`
}

// passageOut is the traffic one way between two places.
type passageOut struct {
	ClientColumn string            `json:"clientColumn" doc:"~outside and ~nowhere are no columns"`
	ClientRow    string            `json:"clientRow"`
	ServerColumn string            `json:"serverColumn"`
	ServerRow    string            `json:"serverRow"`
	Counts       answers.CountsOut `json:"counts"`
	Top          []streamOut       `json:"top" doc:"By verdict that occurs: what it is most of"`
}

// streamOut is conversations between two that are called so.
type streamOut struct {
	Verdict       string `json:"verdict" enum:"permit,reject,uncovered"`
	Client        string `json:"client"`
	Server        string `json:"server"`
	Conversations int    `json:"conversations"`
}

// Flows answers about the strip, the map, the ledger, conversations and records.
type Flows struct {
	*answers.Desk
	*traffic.Service
}

func (s *Flows) Routes(r server.Routes) {
	server.Get(r, "read-strip", "/flows/strip", "Connections of each hour, for the strip of the window", s.strip)
	server.Get(r, "read-terrace-map", "/flows/map", "Who talks to whom, between tiers, environments or groups",
		s.terrace, server.CanBeMissing)
	server.Get(r, "list-ledger-rows", "/ledger", "The rows of the reach ledger", s.ledger, server.CanBeMissing)
	server.Get(r, "list-ledger-callers", "/ledger/callers", "The callers in a row of the ledger", s.callers,
		server.CanBeMissing)
	server.Get(r, "list-conversations", "/conversations", "The selected conversations", s.conversations,
		server.CanBeMissing)
	server.Get(r, "list-conversation-hours", "/conversations/hours", "The hours of a conversation", s.hours,
		server.CanBeMissing)
	server.Get(r, "list-records", "/records", "The single records behind a conversation", s.records,
		server.CanBeMissing)
	server.Get(r, "export-ledger", "/ledger.csv", "The rows of the ledger as CSV", s.exportLedger, server.CanBeMissing)
	server.Get(r, "export-conversation-lines", "/conversations.jsonl", "The selected conversations as JSON Lines",
		s.exportConversationLines, server.CanBeMissing)
	server.Get(r, "export-conversations", "/conversations.csv", "The selected conversations with their verdicts as CSV",
		s.exportConversations, server.CanBeMissing)
}

// terrace draws up the map.
func (s *Flows) terrace(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
}) (*server.Body[terraceMap], error) {
	v, snap, err := s.ViewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	in.Path = nil // the map shows all ways; one is picked out on it
	q, err := s.Ledger.QueryOf(ctx, snap, in.Filter)
	if err != nil {
		return nil, err
	}
	m := v.Terrace(q, in.Keys())
	out := terraceMap{Columns: []placeOut{}, Rows: []placeOut{}, Plots: []plotOut{}, Channels: []passageOut{},
		Gates: []passageOut{}, Unplaced: m.Unplaced, Keys: snap.Keys()}
	for _, list := range []struct {
		from []reach.Place
		to   *[]placeOut
	}{{m.Columns, &out.Columns}, {m.Rows, &out.Rows}} {
		for _, p := range list.from {
			*list.to = append(*list.to, placeOut(p))
		}
	}
	for _, p := range m.Plots {
		o := plotOut{p.Column, p.Row, []plotPartOut{}}
		for _, x := range p.Parts {
			o.Parts = append(o.Parts, plotPartOut(x))
		}
		out.Plots = append(out.Plots, o)
	}
	for _, list := range []struct {
		from []reach.Passage
		to   *[]passageOut
	}{{m.Channels, &out.Channels}, {m.Gates, &out.Gates}} {
		for _, p := range list.from {
			o := passageOut{p.ClientColumn, p.ClientRow, p.ServerColumn, p.ServerRow, answers.NewCountsOut(p.Counts),
				[]streamOut{}}
			for _, verdict := range decide.Verdicts {
				if t := p.Top[verdict]; t.Conversations > 0 {
					o.Top = append(o.Top, streamOut{verdict.String(), t.Client, t.Server, t.Conversations})
				}
			}
			*list.to = append(*list.to, o)
		}
	}
	return server.OK(out), nil
}

func (s *Flows) strip(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
	Bins    int    `query:"bins" minimum:"1" maximum:"400" default:"112"`
	Measure string `query:"measure" enum:"conversations,pairs,bytes" default:"conversations"`
}) (*server.Body[Strip], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	q, err := s.Ledger.QueryOf(ctx, snap, in.Filter)
	if err != nil {
		return nil, err
	}
	out := Strip{Conversations: v.Len(), Records: v.Table.Len(), Bins: []binOut{}}
	if snap.To > snap.From {
		out.From, out.To = snap.From.Start().String(), snap.To.Start().String()
		for _, b := range v.Strip(q, in.Bins, measures[in.Measure]) {
			out.Bins = append(out.Bins, binOut{b.Hour.Start().String(), b.Counts[decide.Permit],
				b.Counts[decide.Reject], b.Counts[decide.Uncovered]})
		}
	}
	return server.OK(out), nil
}
