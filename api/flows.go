package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/ingest"
	"lucidorchard/model"
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

// LedgerFilter says which conversations count.
type LedgerFilter struct {
	Verdict  []string `query:"verdict" doc:"permit, reject, uncovered; none is all" enum:"permit,reject,uncovered"`
	Odd      bool     `query:"odd" doc:"Only leaks and chokes"`
	Turn     string   `query:"turn" enum:"reached,reaches" default:"reached" doc:"Who reaches it, or what it reaches"`
	Text     string   `query:"q"`
	Rule     int      `query:"rule" doc:"Only what the rule on this line decides"`
	Group    string   `query:"group" doc:"Only what reaches members of this group, or what they reach"`
	Workload string   `query:"workload" doc:"Only what reaches the workload with this id, or what it reaches"`
	Against  int      `query:"against" doc:"A revision of the policy to compare with"`
	Was      []string `query:"was" doc:"Only what it gives these verdicts" enum:"permit,reject,uncovered"`

	Client   string `query:"clients" doc:"An expression that the client agrees with"`
	Server   string `query:"servers" doc:"An expression that the server agrees with"`
	Services string `query:"services" doc:"Names of services of the policy, or specs such as tcp/443; separated by commas"`
	Outcome  string `query:"outcome" enum:",carried,dropped,unknown" doc:"What the network did with it"`
	MinBytes int64  `query:"bytes" minimum:"0" doc:"At least so many"`
	New      bool   `query:"new" doc:"Only what was not seen before the window"`
	Unsure   bool   `query:"unsure" doc:"Only what may be the wrong way round"`
	By       string `query:"by" doc:"A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are"`
	For      string `query:"for" doc:"Only what has an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag"`
	Asking   bool   `query:"asking" doc:"Without what is rejected and a probe says rightly so"`
	MapKeysIn
	Path []string `query:"path" doc:"Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any"`
}

// MapKeysIn are the tags that make the columns and the rows of the map.
type MapKeysIn struct {
	Columns string `query:"columns" default:"env"`
	Rows    string `query:"rows" default:"tier"`
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
	ClientColumn string      `json:"clientColumn" doc:"~outside and ~nowhere are no columns"`
	ClientRow    string      `json:"clientRow"`
	ServerColumn string      `json:"serverColumn"`
	ServerRow    string      `json:"serverRow"`
	Counts       CountsOut   `json:"counts"`
	Top          []StreamOut `json:"top" doc:"By verdict that occurs: what it is most of"`
}

// StreamOut is conversations between two that are called so.
type StreamOut struct {
	Verdict       string `json:"verdict" enum:"permit,reject,uncovered"`
	Client        string `json:"client"`
	Server        string `json:"server"`
	Conversations int    `json:"conversations"`
}

// LedgerRow is a row of the reach ledger.
type LedgerRow struct {
	Key           string     `json:"key" doc:"What near and far take"`
	Label         string     `json:"label"`
	Kind          string     `json:"kind" enum:"group,tags,workload,outside"`
	Lack          string     `json:"lack,omitempty"`
	Service       string     `json:"service"`
	ServiceName   string     `json:"serviceName,omitempty"`
	Counts        CountsOut  `json:"counts"`
	Conversations int        `json:"conversations"`
	Connections   int64      `json:"connections"`
	Bytes         int64      `json:"bytes"`
	Leaks         int        `json:"leaks"`
	Chokes        int        `json:"chokes"`
	Others        []OtherOut `json:"others" doc:"The other side, most undecided first; at most 6"`
	OtherCount    int        `json:"otherCount"`
	Spark         []int      `json:"spark"`
	Rules         []int      `json:"rules"`
	Changed       int        `json:"changed" doc:"Conversations with another verdict in the revision that is compared with"`
	First         string     `json:"first"`
	Last          string     `json:"last"`
}

// OtherOut is one on the other side of a row.
type OtherOut struct {
	Label  string    `json:"label"`
	Lack   string    `json:"lack,omitempty"`
	Counts CountsOut `json:"counts"`
}

// LedgerPage is a page of rows.
type LedgerPage struct {
	Total int         `json:"total"`
	Rows  []LedgerRow `json:"rows"`
}

// ConversationOut is one conversation.
type ConversationOut struct {
	Client      EndpointOut `json:"client"`
	Server      EndpointOut `json:"server"`
	Service     string      `json:"service"`
	Verdict     string      `json:"verdict" enum:"permit,reject,uncovered"`
	Was         string      `json:"was,omitempty" enum:"permit,reject,uncovered" doc:"Its verdict in the revision that is compared with"`
	Rule        int         `json:"rule" doc:"Line of the deciding rule; 0 if there is none"`
	Connections int64       `json:"connections"`
	Bytes       int64       `json:"bytes"`
	Carried     int64       `json:"carried"`
	Dropped     int64       `json:"dropped"`
	Unsure      int64       `json:"unsure" doc:"Connections that may be the wrong way round"`
	First       string      `json:"first"`
	Last        string      `json:"last"`
	Spark       []int       `json:"spark"`
}

// HourOut is what was stored of a conversation for one hour.
type HourOut struct {
	At          string `json:"at"`
	Outcome     string `json:"outcome"`
	Connections int64  `json:"connections"`
	Bytes       int64  `json:"bytes"`
	Packets     int64  `json:"packets"`
	First       string `json:"first"`
	Last        string `json:"last"`
	Observer    string `json:"observer"`
}

// ConversationPage is a page of conversations.
type ConversationPage struct {
	Total         int               `json:"total"`
	Conversations []ConversationOut `json:"conversations"`
}

// flowsAPI answers about the strip, the map, the ledger, conversations and records.
type flowsAPI struct{ *base }

func (s *flowsAPI) routes(a huma.API) {
	huma.Get(a, "/api/flows/strip", answer(s.base, s.strip))
	huma.Get(a, "/api/flows/map", answer(s.base, s.terrace))
	huma.Get(a, "/api/ledger", answer(s.base, s.ledger))
	huma.Get(a, "/api/ledger/callers", answer(s.base, s.callers))
	huma.Get(a, "/api/conversations", answer(s.base, s.conversations))
	huma.Get(a, "/api/conversations/hours", answer(s.base, s.hours))
	huma.Get(a, "/api/records", answer(s.base, s.records))
	huma.Register(a, huma.Operation{OperationID: "export-ledger", Method: http.MethodGet, Path: "/api/ledger.csv", Summary: "The rows of the ledger as CSV"}, answer(s.base, s.exportLedger))
	huma.Register(a, huma.Operation{OperationID: "export-conversation-lines", Method: http.MethodGet, Path: "/api/conversations.jsonl", Summary: "The selected conversations as JSON Lines"}, answer(s.base, s.exportConversationLines))
	huma.Register(a, huma.Operation{OperationID: "export-conversations", Method: http.MethodGet, Path: "/api/conversations.csv", Summary: "The selected conversations with their verdicts as CSV"}, answer(s.base, s.exportConversations))
}

// asked gives the view of a window, compared with another revision if the filter
// says so, and what the filter asks of it.
func (s *base) asked(ctx context.Context, w Window, f LedgerFilter) (*reach.View, *model.Model, reach.Query, error) {
	v, snap, err := s.viewAgainst(ctx, w, f.Against)
	if err != nil {
		return nil, snap, reach.Query{}, err
	}
	q, err := f.query(snap)
	return v, snap, q, err
}

func (f LedgerFilter) query(snap *model.Model) (reach.Query, error) {
	q := reach.Query{Group: f.Group, Leaks: f.Odd, Turn: f.Turn == "reaches", Text: f.Text, Rule: f.Rule, Verdicts: verdicts(f.Verdict)}
	if f.Against != 0 {
		q.Was = verdicts(f.Was)
	}
	if f.Group != "" && snap.Policy.Groups[f.Group] == nil {
		return q, huma.Error404NotFound("there is no group " + f.Group)
	}
	if f.Workload != "" {
		i, ok := snap.Estate.ByID(f.Workload)
		if !ok {
			return q, huma.Error404NotFound("there is no workload with the id " + f.Workload)
		}
		q.Workload = &i
	}
	q.By, q.Asking, q.Acceptance = f.By, f.Asking, snap.Acceptance()
	if f.For != "" {
		part, ok := reach.ReadPart(f.For)
		if !ok {
			return q, huma.Error422UnprocessableEntity(fmt.Sprintf("for: found %q, expected area:NAME, owner:NAME or KEY:VALUE", f.For))
		}
		q.Part = &part
	}
	return q, f.narrow(snap, &q.Filter)
}

// narrow reads the part of the filter that speaks of each conversation.
func (f LedgerFilter) narrow(snap *model.Model, to *reach.Filter) error {
	to.Outcome, to.MinBytes, to.New, to.Unsure = f.Outcome, f.MinBytes, f.New, f.Unsure
	to.Map = reach.MapKeys{Columns: f.Columns, Rows: f.Rows}
	for _, side := range []struct {
		name, text string
		to         **expr.Expr
	}{{"clients", f.Client, &to.Client}, {"servers", f.Server, &to.Server}} {
		if side.text == "" {
			continue
		}
		e, errs := expr.ParseText(side.text)
		if len(errs) > 0 {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("%s: at character %d: %s", side.name, errs[0].Col, errs[0].Message))
		}
		*side.to = e
	}
	for _, word := range strings.FieldsFunc(f.Services, func(r rune) bool { return r == ',' || r == ' ' }) {
		if to.Services == nil {
			to.Services = service.Set{}
		}
		if snap.Policy.Services[word] != nil {
			to.Services = to.Services.Union(snap.Policy.Points(policy.Services{Specs: []policy.Spec{{Service: word}}}))
			continue
		}
		r, ok, err := service.ParseSpec(strings.ToLower(word))
		if !ok || err != nil {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("services: found %q, expected the name of a service of the policy, or a spec such as tcp/443", word))
		}
		to.Services = to.Services.Union(service.NewSet(r))
	}
	for _, path := range f.Path {
		parts := strings.Split(path, "|")
		if len(parts) != 4 {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("path: found %q, expected four names separated by |", path))
		}
		to.Paths = append(to.Paths, reach.Path{ClientColumn: parts[0], ClientRow: parts[1], ServerColumn: parts[2], ServerRow: parts[3]})
	}
	return nil
}

// terrace draws up the map.
func (s *flowsAPI) terrace(ctx context.Context, in *struct {
	Window
	LedgerFilter
}) (*Body[TerraceMap], error) {
	v, snap, err := s.viewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	in.Path = nil // the map shows all ways; one is picked out on it
	q, err := in.query(snap)
	if err != nil {
		return nil, err
	}
	m := v.Terrace(q, reach.MapKeys{Columns: in.Columns, Rows: in.Rows})
	out := TerraceMap{Columns: []PlaceOut{}, Rows: []PlaceOut{}, Plots: []PlotOut{}, Channels: []PassageOut{}, Gates: []PassageOut{}, Unplaced: m.Unplaced, Keys: snap.Keys()}
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
			o := PassageOut{p.ClientColumn, p.ClientRow, p.ServerColumn, p.ServerRow, countsOut(p.Counts), []StreamOut{}}
			for _, verdict := range app.Verdicts {
				if t := p.Top[verdict]; t.Conversations > 0 {
					o.Top = append(o.Top, StreamOut{verdict.String(), t.Client, t.Server, t.Conversations})
				}
			}
			*list.to = append(*list.to, o)
		}
	}
	return body(out), nil
}

func verdicts(names []string) (out [3]bool) {
	for _, v := range app.Verdicts {
		out[v] = slices.Contains(names, v.String())
	}
	return out
}

// readFlow reads two addresses and a spec that names one point.
func readFlow(client, server, spec string) (a, b netip.Addr, pt service.Point, err error) {
	a, err1 := netip.ParseAddr(client)
	b, err2 := netip.ParseAddr(server)
	if err1 != nil || err2 != nil {
		return a, b, 0, huma.Error422UnprocessableEntity("client and server: expected two IP addresses")
	}
	pt, err = readPoint(spec)
	return a, b, pt, err
}

// readPoint reads a spec that names one point.
func readPoint(spec string) (service.Point, error) {
	r, ok, err := service.ParseSpec(strings.ToLower(spec))
	switch {
	case !ok || err != nil:
		return 0, huma.Error422UnprocessableEntity("service: found " + spec + ", expected a protocol with a port such as tcp/443, icmp/8.0 or proto/47")
	case r.Lo != r.Hi && service.IsICMP(r.Lo.Proto()) && r == service.Whole(r.Lo.Proto()):
		return r.Hi, nil // the message of unknown type
	}
	return r.Lo, nil
}

func (s *flowsAPI) strip(ctx context.Context, in *struct {
	Window
	LedgerFilter
	Bins    int    `query:"bins" minimum:"1" maximum:"400" default:"112"`
	Measure string `query:"measure" enum:"conversations,pairs,bytes" default:"conversations"`
}) (*Body[Strip], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	q, err := in.query(snap)
	if err != nil {
		return nil, err
	}
	out := Strip{Conversations: v.Len(), Records: v.Table.Len(), Bins: []BinOut{}}
	if snap.To > snap.From {
		out.From, out.To = snap.From.Start().String(), snap.To.Start().String()
		for _, b := range v.Strip(q, in.Bins, measures[in.Measure]) {
			out.Bins = append(out.Bins, BinOut{b.Hour.Start().String(), b.Counts[decide.Permit], b.Counts[decide.Reject], b.Counts[decide.Uncovered]})
		}
	}
	return body(out), nil
}

var measures = map[string]reach.Measure{"conversations": reach.Conversations, "pairs": reach.PairsOfEnds, "bytes": reach.Bytes}

// Page is a stretch of a list.
type Page struct {
	Offset int `query:"offset" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (p Page) cut(n int) (from, to int) {
	return min(p.Offset, n), min(p.Offset, n) + min(p.Limit, n-min(p.Offset, n))
}

func (s *flowsAPI) ledger(ctx context.Context, in *struct {
	Window
	LedgerFilter
	Page
}) (*Body[LedgerPage], error) {
	v, _, q, err := s.asked(ctx, in.Window, in.LedgerFilter)
	if err != nil {
		return nil, err
	}
	return body(ledgerPage(v.Served(q), in.Page)), nil
}

func (s *flowsAPI) callers(ctx context.Context, in *struct {
	Window
	LedgerFilter
	Page
	Near    string `query:"near" required:"true" doc:"Key of the row"`
	Service string `query:"service" required:"true"`
}) (*Body[LedgerPage], error) {
	v, snap, err := s.viewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	pt, err := readPoint(in.Service)
	if err != nil {
		return nil, err
	}
	q, err := in.query(snap)
	if err != nil {
		return nil, err
	}
	q.Near, q.Point = in.Near, &pt
	return body(ledgerPage(v.Callers(q), in.Page)), nil
}

func ledgerPage(rows []reach.Row, p Page) LedgerPage {
	out := LedgerPage{Total: len(rows), Rows: []LedgerRow{}}
	from, to := p.cut(len(rows))
	for _, r := range rows[from:to] {
		o := LedgerRow{
			Key: r.Key(), Label: r.Text, Kind: r.Kind, Lack: r.Lack, Service: r.Point.String(), ServiceName: flow.ServiceName(r.Point), Counts: countsOut(r.Counts),
			Conversations: r.Conversations, Connections: r.Connections, Bytes: r.Bytes, Leaks: r.Leaks, Chokes: r.Chokes,
			Others: []OtherOut{}, OtherCount: r.OtherCount, Spark: r.Spark, Rules: r.Rules, Changed: r.Changed, First: r.First.String(), Last: r.Last.String(),
		}
		if o.Rules == nil {
			o.Rules = []int{}
		}
		for _, x := range r.Others[:min(6, len(r.Others))] {
			o.Others = append(o.Others, OtherOut{x.Text, x.Lack, countsOut(x.Counts)})
		}
		out.Rows = append(out.Rows, o)
	}
	return out
}

// ConversationFilter selects conversations below a row of the ledger.
type ConversationFilter struct {
	Window
	LedgerFilter
	Near    string `query:"near" doc:"Key of the row"`
	Far     string `query:"far" doc:"Key of the other side"`
	Service string `query:"service"`
}

func (s *base) selectConversations(ctx context.Context, f ConversationFilter) (*reach.View, *model.Model, []int, error) {
	v, m, q, err := s.asked(ctx, f.Window, f.LedgerFilter)
	if err != nil {
		return nil, nil, nil, err
	}
	q.Near, q.Far = f.Near, f.Far
	if f.Service != "" {
		pt, err := readPoint(f.Service)
		if err != nil {
			return nil, nil, nil, err
		}
		q.Point = &pt
	}
	return v, m, v.Select(q), nil
}

func (s *flowsAPI) conversations(ctx context.Context, in *struct {
	ConversationFilter
	Page
}) (*Body[ConversationPage], error) {
	v, _, found, err := s.selectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	out := ConversationPage{Total: len(found), Conversations: []ConversationOut{}}
	from, to := in.cut(len(found))
	for _, i := range found[from:to] {
		out.Conversations = append(out.Conversations, conversationOut(v, i))
	}
	return body(out), nil
}

func conversationOut(v *reach.View, i int) ConversationOut {
	c := v.At(i)
	client, server := v.Labels(i)
	out := ConversationOut{
		Client: endpointOut(v, c.Client, client), Server: endpointOut(v, c.Server, server), Service: c.Point.String(),
		Verdict: c.Verdict.String(), Connections: c.Connections, Bytes: c.Bytes, Carried: c.Carried, Dropped: c.Dropped, Unsure: c.Unsure,
		First: c.First.String(), Last: c.Last.String(), Spark: make([]int, 24),
	}
	if c.Rule != nil {
		out.Rule = c.Rule.Line
	}
	if v.Against != nil {
		out.Was = v.Against.Verdict(i).String()
	}
	v.Spread(i, out.Spark)
	return out
}

func (s *flowsAPI) hours(ctx context.Context, in *struct {
	Window
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	First   string `query:"first" required:"true" doc:"When the conversation was first seen: tells apart those of workloads that held one address in turn"`
}) (*Body[[]HourOut], error) {
	v, _, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	client, server, pt, err := readFlow(in.Client, in.Server, in.Service)
	if err != nil {
		return nil, err
	}
	for _, i := range v.Between(client, server, pt) {
		if v.At(i).First.String() != in.First {
			continue
		}
		out := []HourOut{}
		for _, k := range v.RowsOf(i) {
			b := v.Table.Bucket(int(k))
			out = append(out, HourOut{b.Hour.Start().String(), b.Outcome.String(), b.Connections, b.Bytes, b.Packets, b.First.String(), b.Last.String(), b.Observer})
		}
		return body(out), nil
	}
	return nil, huma.Error404NotFound("there is no such conversation in the window")
}

// RecordOut is a single record: a connection, or a part of one.
type RecordOut struct {
	Start        string   `json:"start"`
	End          string   `json:"end"`
	ClientPort   int      `json:"clientPort"`
	Outcome      string   `json:"outcome" enum:",carried,dropped"`
	Connections  int64    `json:"connections" doc:"0: a later part of one that goes on"`
	Packets      int64    `json:"packets" doc:"Both ways"`
	Bytes        int64    `json:"bytes"`
	ReplyPackets int64    `json:"replyPackets"`
	ReplyBytes   int64    `json:"replyBytes"`
	Flags        []string `json:"flags" doc:"TCP control bits that the client sent"`
	ReplyFlags   []string `json:"replyFlags"`
	Confidence   int      `json:"confidence" doc:"That client and server are the right way round, in percent"`
	Reason       string   `json:"reason" doc:"What decided that"`
	Exporter     string   `json:"exporter" doc:"Who saw it"`
}

// RecordPage is the newest records of a conversation.
type RecordPage struct {
	Total   int         `json:"total"`
	Records []RecordOut `json:"records"`
	Days    int         `json:"days" doc:"For how many days single records are kept; 0 is without bound"`
}

var flagNames = []string{"FIN", "SYN", "RST", "PSH", "ACK", "URG", "ECE", "CWR"}

func flagsOut(flags uint8) []string {
	out := []string{}
	for _, i := range []int{1, 4, 3, 0, 2, 5, 6, 7} { // in the order of a connection's life
		if flags>>i&1 == 1 {
			out = append(out, flagNames[i])
		}
	}
	return out
}

func (s *flowsAPI) records(ctx context.Context, in *struct {
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	From    string `query:"from" doc:"RFC 3339; without it, from the beginning"`
	To      string `query:"to" doc:"RFC 3339; records that start at it are in"`
	Limit   int    `query:"limit" minimum:"1" maximum:"5000" default:"100"`
}) (*Body[RecordPage], error) {
	var ends [2]netip.Addr
	for i, text := range []string{in.Client, in.Server} {
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: found %q, expected an IP address", [2]string{"client", "server"}[i], text))
		}
		ends[i] = a.Unmap()
	}
	pt, err := readPoint(in.Service)
	if err != nil {
		return nil, err
	}
	span := [2]estate.Instant{{}, {Sec: 1 << 33}}
	for i, text := range []string{in.From, in.To} {
		if text == "" {
			continue
		}
		t, err := estate.ParseInstant(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity([2]string{"from", "to"}[i] + ": " + err.Error())
		}
		if span[i] = t; i == 1 {
			span[i] = (flow.MicrosOfInstant(t) + 1).Instant()
		}
	}
	found, total, err := s.Store.Records(ctx, ends[0], ends[1], pt, span[0], span[1], in.Limit)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	kept, err := s.Retention(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	out := RecordPage{Total: total, Records: []RecordOut{}, Days: kept.RecordDays}
	for _, r := range found {
		out.Records = append(out.Records, RecordOut{
			Start: r.Start.String(), End: r.End.String(), ClientPort: int(r.SourcePort), Outcome: r.Outcome.String(), Connections: r.Connections, Packets: r.Packets, Bytes: r.Bytes,
			ReplyPackets: r.ReplyPackets, ReplyBytes: r.ReplyBytes, Flags: flagsOut(r.Flags), ReplyFlags: flagsOut(r.ReplyFlags), Confidence: int(r.Confidence), Reason: r.Reason.String(), Exporter: r.Observer,
		})
	}
	return body(out), nil
}

// exportLedger gives the rows of the ledger, without their callers.
func (s *flowsAPI) exportLedger(ctx context.Context, in *struct {
	Window
	LedgerFilter
}) (*huma.StreamResponse, error) {
	v, _, q, err := s.asked(ctx, in.Window, in.LedgerFilter)
	if err != nil {
		return nil, err
	}
	rows := v.Served(q)
	return stream("ledger.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"name", "kind", "service", "conversations", "permit", "reject", "uncovered", "connections", "bytes", "leaks", "chokes", "other_sides", "rules", "first", "last"})
		for _, r := range rows {
			var rules []string
			for _, l := range r.Rules {
				rules = append(rules, strconv.Itoa(l))
			}
			_ = w.Write([]string{r.Text, r.Kind, r.Point.String(), strconv.Itoa(r.Conversations), strconv.Itoa(r.Counts[decide.Permit]), strconv.Itoa(r.Counts[decide.Reject]), strconv.Itoa(r.Counts[decide.Uncovered]),
				strconv.FormatInt(r.Connections, 10), strconv.FormatInt(r.Bytes, 10), strconv.Itoa(r.Leaks), strconv.Itoa(r.Chokes), strconv.Itoa(r.OtherCount), strings.Join(rules, " "), r.First.String(), r.Last.String()})
		}
	}), nil
}

// stream sends CSV as it is made.
func stream(name string, rows func(*ingest.CSV)) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/csv; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="`+name+`"`)
		w := ingest.NewCSV(ctx.BodyWriter())
		rows(w)
		_ = w.Flush() // nobody reads any more
	}}
}

// exportConversationLines gives an object a line, as the list of conversations
// has it.
func (s *flowsAPI) exportConversationLines(ctx context.Context, in *struct{ ConversationFilter }) (*huma.StreamResponse, error) {
	v, _, found, err := s.selectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "application/jsonl")
		ctx.SetHeader("Content-Disposition", `attachment; filename="conversations.jsonl"`)
		w := bufio.NewWriter(ctx.BodyWriter())
		defer w.Flush()
		e := json.NewEncoder(w)
		for _, i := range found {
			if e.Encode(conversationOut(v, i)) != nil {
				return // nobody reads any more
			}
		}
	}}, nil
}

func (s *flowsAPI) exportConversations(ctx context.Context, in *struct{ ConversationFilter }) (*huma.StreamResponse, error) {
	v, _, found, err := s.selectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	return stream("conversations.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"client", "client_address", "server", "server_address", "service", "verdict", "rule", "connections", "bytes", "carried", "dropped", "first", "last"})
		for _, i := range found {
			c := v.At(i)
			line := ""
			if c.Rule != nil {
				line = strconv.Itoa(c.Rule.Line)
			}
			n := func(v int64) string { return strconv.FormatInt(v, 10) }
			name := func(p decide.Placed) string {
				if p.Workload == estate.Outside {
					return ""
				}
				return v.Name(p)
			}
			_ = w.Write([]string{name(c.Client), c.Client.Addr.String(), name(c.Server), c.Server.Addr.String(), c.Point.String(), c.Verdict.String(), line,
				n(c.Connections), n(c.Bytes), n(c.Carried), n(c.Dropped), c.First.String(), c.Last.String()})
		}
	}), nil
}
