package api

// The ledger: aggregated flows, filtered, sorted and in pages.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/model"
)

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
	Aside    string `query:"aside" doc:"Only what the newest derivation set aside for this reason; all: for any"`
	MapKeysIn
	Path []string `query:"path" doc:"Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any"`
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

// asked gives the view of a window, compared with another revision if the filter
// says so, and what the filter asks of it.
func (s *base) asked(ctx context.Context, w Window, f LedgerFilter) (*reach.View, *model.Model, reach.Query, error) {
	v, snap, err := s.viewAgainst(ctx, w, f.Against)
	if err != nil {
		return nil, snap, reach.Query{}, err
	}
	q, err := s.queryOf(ctx, snap, f)
	return v, snap, q, err
}

// queryOf reads a filter.
func (s *base) queryOf(ctx context.Context, m *model.Model, f LedgerFilter) (reach.Query, error) {
	q, err := f.query(m)
	if err != nil || f.Aside == "" {
		return q, err
	}
	found, err := s.Store.SetAside(ctx, f.Aside)
	if err != nil {
		return q, err
	}
	q.Only = make(map[reach.Talk]bool, len(found))
	for _, x := range found {
		q.Only[reach.Talk{Client: x.Client, Server: x.Server, Point: x.Point}] = true
	}
	return q, nil
}

func (f LedgerFilter) query(snap *model.Model) (reach.Query, error) {
	q := reach.Query{Group: f.Group, Leaks: f.Odd, Turn: f.Turn == "reaches", Text: f.Text, Rule: f.Rule,
		Verdicts: verdicts(f.Verdict)}
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
			return q, huma.Error422UnprocessableEntity(fmt.Sprintf("for: found %q, expected area:NAME, owner:NAME "+
				"or KEY:VALUE", f.For))
		}
		q.Part = &part
	}
	return q, f.narrow(snap, &q.Filter)
}

// narrow reads the part of the filter that speaks of each conversation.
func (f LedgerFilter) narrow(snap *model.Model, to *reach.Filter) error {
	to.Outcome, to.MinBytes, to.New, to.Unsure = f.Outcome, f.MinBytes, f.New, f.Unsure
	to.Map = f.keys()
	for _, side := range []struct {
		name, text string
		to         **expr.Expr
	}{{"clients", f.Client, &to.Client}, {"servers", f.Server, &to.Server}} {
		if side.text == "" {
			continue
		}
		e, errs := expr.ParseText(side.text)
		if len(errs) > 0 {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("%s: at character %d: %s", side.name, errs[0].Col,
				errs[0].Message))
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
			return huma.Error422UnprocessableEntity(fmt.Sprintf("services: found %q, expected the name of a "+
				"service of the policy, or a spec such as tcp/443", word))
		}
		to.Services = to.Services.Union(service.NewSet(r))
	}
	for _, path := range f.Path {
		parts := strings.Split(path, "|")
		if len(parts) != 4 {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("path: found %q, expected four names separated by |",
				path))
		}
		to.Paths = append(to.Paths, reach.Path{ClientColumn: parts[0], ClientRow: parts[1], ServerColumn: parts[2],
			ServerRow: parts[3]})
	}
	return nil
}

func verdicts(names []string) (out [3]bool) {
	for _, v := range app.Verdicts {
		out[v] = slices.Contains(names, v.String())
	}
	return out
}

var measures = map[string]reach.Measure{"conversations": reach.Conversations, "pairs": reach.PairsOfEnds,
	"bytes": reach.Bytes}

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
	q, err := s.queryOf(ctx, snap, in.LedgerFilter)
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
			Key: r.Key(), Label: r.Text, Kind: r.Kind, Lack: r.Lack, Service: r.Point.String(),
			ServiceName: flow.ServiceName(r.Point), Counts: countsOut(r.Counts),
			Conversations: r.Conversations, Connections: r.Connections, Bytes: r.Bytes, Leaks: r.Leaks,
			Chokes: r.Chokes,
			Others: []OtherOut{}, OtherCount: r.OtherCount, Spark: r.Spark, Rules: r.Rules, Changed: r.Changed,
			First: r.First.String(), Last: r.Last.String(),
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
