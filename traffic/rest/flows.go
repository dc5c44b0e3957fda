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

// BinOut is a stretch of the strip.
type BinOut struct {
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
	Bins          []BinOut `json:"bins"`
}

// TerraceMap is the terrace map.
type TerraceMap struct {
	Columns  []PlaceOut   `json:"columns"`
	Rows     []PlaceOut   `json:"rows" doc:"From those that mostly call to those that are mostly called"`
	Plots    []PlotOut    `json:"plots"`
	Channels []PassageOut `json:"channels" doc:"Traffic inside a column"`
	Gates    []PassageOut `json:"gates" doc:"Traffic between columns, and from and to outside and nowhere"`
	Unplaced int          `json:"unplaced" doc:"Workloads without a column or a row"`
	Keys     []string     `json:"keys" doc:"Tags that can make columns and rows"`
}

// PlaceOut is a column or a row.
type PlaceOut struct {
	Name      string `json:"name"`
	Workloads int    `json:"workloads"`
	Values    int    `json:"values" doc:"How many values of the tag it stands for: more than one of ~others"`
}

// PlotOut is what lies in a column and a row.
type PlotOut struct {
	Column string        `json:"column"`
	Row    string        `json:"row"`
	Parts  []PlotPartOut `json:"parts"`
}

// PlotPartOut is workloads of a plot that belong together.
type PlotPartOut struct {
	Name      string `json:"name"`
	Workloads int    `json:"workloads"`
	Open      int    `json:"open" doc:"Of these, those that lack a structural tag"`
}

// PassageOut is the traffic one way between two places.
type PassageOut struct {
	ClientColumn string            `json:"clientColumn" doc:"~outside and ~nowhere are no columns"`
	ClientRow    string            `json:"clientRow"`
	ServerColumn string            `json:"serverColumn"`
	ServerRow    string            `json:"serverRow"`
	Counts       answers.CountsOut `json:"counts"`
	Top          []StreamOut       `json:"top" doc:"By verdict that occurs: what it is most of"`
}

// StreamOut is conversations between two that are called so.
type StreamOut struct {
	Verdict       string `json:"verdict" enum:"permit,reject,uncovered"`
	Client        string `json:"client"`
	Server        string `json:"server"`
	Conversations int    `json:"conversations"`
}

// flowsAPI answers about the strip, the map, the ledger, conversations and records.
type Flows struct {
	*answers.Desk
	*traffic.Service
}

func (s *Flows) Routes(r server.Routes) {
	server.Get(r, "read-strip", "/flows/strip", "Connections of each hour, for the strip of the window", s.strip)
	server.Get(r, "read-terrace-map", "/flows/map", "Who talks to whom, between tiers, environments or groups", s.terrace, server.CanBeMissing)
	server.Get(r, "list-ledger-rows", "/ledger", "The rows of the reach ledger", s.ledger, server.CanBeMissing)
	server.Get(r, "list-ledger-callers", "/ledger/callers", "The callers in a row of the ledger", s.callers, server.CanBeMissing)
	server.Get(r, "list-conversations", "/conversations", "The selected conversations", s.conversations, server.CanBeMissing)
	server.Get(r, "list-conversation-hours", "/conversations/hours", "The hours of a conversation", s.hours, server.CanBeMissing)
	server.Get(r, "list-records", "/records", "The single records behind a conversation", s.records, server.CanBeMissing)
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
}) (*server.Body[TerraceMap], error) {
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
	out := TerraceMap{Columns: []PlaceOut{}, Rows: []PlaceOut{}, Plots: []PlotOut{}, Channels: []PassageOut{},
		Gates: []PassageOut{}, Unplaced: m.Unplaced, Keys: snap.Keys()}
	for _, list := range []struct {
		from []reach.Place
		to   *[]PlaceOut
	}{{m.Columns, &out.Columns}, {m.Rows, &out.Rows}} {
		for _, p := range list.from {
			*list.to = append(*list.to, PlaceOut(p))
		}
	}
	for _, p := range m.Plots {
		o := PlotOut{p.Column, p.Row, []PlotPartOut{}}
		for _, x := range p.Parts {
			o.Parts = append(o.Parts, PlotPartOut(x))
		}
		out.Plots = append(out.Plots, o)
	}
	for _, list := range []struct {
		from []reach.Passage
		to   *[]PassageOut
	}{{m.Channels, &out.Channels}, {m.Gates, &out.Gates}} {
		for _, p := range list.from {
			o := PassageOut{p.ClientColumn, p.ClientRow, p.ServerColumn, p.ServerRow, answers.NewCountsOut(p.Counts),
				[]StreamOut{}}
			for _, verdict := range decide.Verdicts {
				if t := p.Top[verdict]; t.Conversations > 0 {
					o.Top = append(o.Top, StreamOut{verdict.String(), t.Client, t.Server, t.Conversations})
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
	out := Strip{Conversations: v.Len(), Records: v.Table.Len(), Bins: []BinOut{}}
	if snap.To > snap.From {
		out.From, out.To = snap.From.Start().String(), snap.To.Start().String()
		for _, b := range v.Strip(q, in.Bins, measures[in.Measure]) {
			out.Bins = append(out.Bins, BinOut{b.Hour.Start().String(), b.Counts[decide.Permit],
				b.Counts[decide.Reject], b.Counts[decide.Uncovered]})
		}
	}
	return server.OK(out), nil
}
