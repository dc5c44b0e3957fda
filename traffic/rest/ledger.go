package rest

import (
	"context"

	// The ledger: aggregated flows, filtered, sorted and in pages.

	"lucidorchard/answers"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/ledger"
	"lucidorchard/server"
)

// ledgerRow is a row of the reach ledger.
type ledgerRow struct {
	Key           string            `json:"key" doc:"What near and far take"`
	Label         string            `json:"label"`
	Kind          string            `json:"kind" enum:"group,tags,workload,outside"`
	Lack          string            `json:"lack,omitempty"`
	Service       string            `json:"service"`
	ServiceName   string            `json:"serviceName,omitempty"`
	Counts        answers.CountsOut `json:"counts"`
	Conversations int               `json:"conversations"`
	Connections   int64             `json:"connections"`
	Bytes         int64             `json:"bytes"`
	Leaks         int               `json:"leaks"`
	Chokes        int               `json:"chokes"`
	Others        []otherOut        `json:"others" doc:"The other side, most undecided first; at most 6"`
	OtherCount    int               `json:"otherCount"`
	Spark         []int             `json:"spark"`
	Rules         []int             `json:"rules"`
	Changed       int               `json:"changed" doc:"Conversations with another verdict in the revision that is compared with"`
	First         string            `json:"first"`
	Last          string            `json:"last"`
}

// otherOut is one on the other side of a row.
type otherOut struct {
	Label  string            `json:"label"`
	Lack   string            `json:"lack,omitempty"`
	Counts answers.CountsOut `json:"counts"`
}

// LedgerPage is a page of rows.
type LedgerPage struct {
	Total int         `json:"total"`
	Rows  []ledgerRow `json:"rows"`
}

var measures = map[string]reach.Measure{"conversations": reach.Conversations, "pairs": reach.PairsOfEnds,
	"bytes": reach.Bytes}

func (s *Flows) ledger(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
	server.Page
}) (*server.Body[LedgerPage], error) {
	v, _, q, err := s.Asked(ctx, in.Window, in.Filter)
	if err != nil {
		return nil, err
	}
	return server.OK(ledgerPage(v.Served(q), in.Page)), nil
}

func (s *Flows) callers(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
	server.Page
	Near    string `query:"near" required:"true" doc:"Key of the row"`
	Service string `query:"service" required:"true"`
}) (*server.Body[LedgerPage], error) {
	v, snap, err := s.ViewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	pt, err := answers.ReadPoint(in.Service)
	if err != nil {
		return nil, err
	}
	q, err := s.Ledger.QueryOf(ctx, snap, in.Filter)
	if err != nil {
		return nil, err
	}
	q.Near, q.Point = in.Near, &pt
	return server.OK(ledgerPage(v.Callers(q), in.Page)), nil
}

func ledgerPage(rows []reach.Row, p server.Page) LedgerPage {
	out := LedgerPage{Total: len(rows), Rows: []ledgerRow{}}
	from, to := p.Cut(len(rows))
	for _, r := range rows[from:to] {
		o := ledgerRow{
			Key: r.Key(), Label: r.Text, Kind: r.Kind, Lack: r.Lack, Service: r.Point.String(),
			ServiceName: flow.ServiceName(r.Point), Counts: answers.NewCountsOut(r.Counts),
			Conversations: r.Conversations, Connections: r.Connections, Bytes: r.Bytes, Leaks: r.Leaks,
			Chokes: r.Chokes,
			Others: []otherOut{}, OtherCount: r.OtherCount, Spark: r.Spark, Rules: r.Rules, Changed: r.Changed,
			First: r.First.String(), Last: r.Last.String(),
		}
		if o.Rules == nil {
			o.Rules = []int{}
		}
		for _, x := range r.Others[:min(6, len(r.Others))] {
			o.Others = append(o.Others, otherOut{x.Text, x.Lack, answers.NewCountsOut(x.Counts)})
		}
		out.Rows = append(out.Rows, o)
	}
	return out
}
