package rest

import (
	"context"
	"encoding/csv"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

type listWorkloads struct {
	inventory.Filter
	Offset int    `query:"offset" minimum:"0"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	Sort   string `query:"sort" doc:"name, address, or a tag's key; with - before it, downwards" default:"name"`
}

// leaseOut is a lease as it is shown.
type leaseOut struct {
	Addr  string `json:"addr"`
	From  string `json:"from,omitempty"`
	Until string `json:"until,omitempty"`
	Now   bool   `json:"now"`
}

// WorkloadOut is a row of the list.
type WorkloadOut struct {
	ID      string           `json:"id"`
	Name    string           `json:"name"`
	OS      string           `json:"os"`
	Kind    string           `json:"kind"`
	Leases  []leaseOut       `json:"leases"`
	Tags    []answers.TagOut `json:"tags"`
	NeedNot []string         `json:"notApplicable,omitempty" doc:"Tag keys that it lacks and that do not apply to it"`
	Retired string           `json:"retired,omitempty" doc:"Since when no source lists it"`
}

// WorkloadList is a page of workloads.
type WorkloadList struct {
	Total     int           `json:"total" doc:"Workloads that the filter selects"`
	All       int           `json:"all" doc:"Workloads there are"`
	Workloads []WorkloadOut `json:"workloads"`
	Keys      []string      `json:"keys" doc:"All tag keys, the structural ones first"`
	Hint      string        `json:"hint,omitempty" doc:"What of the expression can hardly be meant: a tag that nothing has"`
}

// Workloads answers about workloads and their tags.
type Workloads struct {
	*answers.Desk
	*Selector
	*inventory.Service
	Releasing  *releasing.Service
	orders     inventory.PerEstate[[]int32]
	facetCache inventory.PerEstate[[]Facet]
}

func (s *Workloads) Routes(r server.Routes) {
	server.Get(r, "list-workloads", "/workloads", "The selected workloads", s.listWorkloads, server.CanBeMissing)
	server.Get(r, "list-facets", "/workloads/facets",
		"The values of the tags of the selected workloads, with how many have each", s.facets, server.CanBeMissing)
	server.Get(r, "read-workload", "/workloads/{id}", "One workload, with its traffic", s.oneWorkload,
		server.CanBeMissing)
	server.Post(r, "set-tags", "/tags", "Set or remove tags of workloads", s.setTags, server.CanBeMissing)
	server.Get(r, "export-workloads", "/workloads.csv", "The selected workloads as CSV", s.exportWorkloads,
		server.CanBeMissing)
	server.Get(r, "read-workload-rules", "/workloads/{id}/rules",
		"What may reach a workload, and what it may reach, in deciding order", s.workloadRules, server.CanBeMissing)
}

func (s *Workloads) listWorkloads(ctx context.Context, in *listWorkloads) (*server.Body[WorkloadList], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := s.selectGuarded(ctx, snap, in.Filter)
	if err != nil {
		return nil, err
	}
	key, down := strings.CutPrefix(in.Sort, "-")
	selected = inventory.InOrder(selected, s.order(snap, key), down)
	out := WorkloadList{Total: len(selected), All: snap.Present(), Workloads: []WorkloadOut{}, Keys: snap.TagKeys(),
		Hint: inventory.UnknownKeys(snap, in.Text)}
	from, to := server.Page{Offset: in.Offset, Limit: in.Limit}.Cut(len(selected))
	for _, i := range selected[from:to] {
		out.Workloads = append(out.Workloads, workloadOut(snap, i))
	}
	return server.OK(out), nil
}

func workloadOut(snap *model.Model, i int32) WorkloadOut {
	w := snap.Estate.Workload(i)
	out := WorkloadOut{ID: w.ID, Name: w.Label(), OS: w.OS, Kind: w.Kind, Leases: []leaseOut{},
		Tags: []answers.TagOut{}}
	for _, l := range w.Leases {
		lo := leaseOut{Addr: l.Addr.String(), Now: snap.Estate.At(l.Addr, snap.Compiled.AsOf).Workload == i}
		if l.From.IsBound() {
			lo.From = l.From.String()
		}
		if l.Until.IsBound() {
			lo.Until = l.Until.String()
		}
		out.Leases = append(out.Leases, lo)
	}
	for _, t := range w.Tags {
		out.Tags = append(out.Tags, answers.NewTagOut(t))
	}
	for key := range snap.Inapplicable {
		if _, has := w.Tag(key); !has && !snap.Missing(i, key) {
			out.NeedNot = append(out.NeedNot, key)
		}
	}
	slices.Sort(out.NeedNot)
	if !w.Retired.IsZero() {
		out.Retired = w.Retired.UTC().Format(time.RFC3339)
	}
	return out
}

// groupMembership is what one group says of a workload, and why.
type groupMembership struct {
	Group   string              `json:"group"`
	Truth   string              `json:"truth" enum:"yes,undecided"`
	Listed  string              `json:"listed,omitempty"`
	Reasons []answers.ReasonOut `json:"reasons"`
	Missing []string            `json:"missing,omitempty" doc:"Keys that would settle it"`
}

// WorkloadPage is all that is known of a workload.
type WorkloadPage struct {
	WorkloadOut
	Groups []groupMembership `json:"groups"`
}

func (s *Workloads) oneWorkload(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*server.Body[WorkloadPage], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	i, ok := snap.Estate.ByID(in.ID)
	if !ok {
		return nil, huma.Error404NotFound("there is no workload with the id " + in.ID)
	}
	out := WorkloadPage{WorkloadOut: workloadOut(snap, i), Groups: []groupMembership{}}
	walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
	ep := snap.Estate.Endpoints(i, snap.Compiled.AsOf)[0]
	for _, g := range answers.GroupsInOrder(snap.Policy) {
		m := walk.Explain(g.Name, ep, false)
		if m.Truth != expr.No {
			out.Groups = append(out.Groups, groupMembership{g.Name, m.Truth.String(), m.Listed,
				answers.ReasonsOut(m.Reasons),
				expr.MissingKeys(m.Reasons)})
		}
	}
	return server.OK(out), nil
}

func (s *Workloads) exportWorkloads(ctx context.Context, in *struct{ inventory.Filter }) (*huma.StreamResponse,
	error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := s.selectGuarded(ctx, snap, in.Filter)
	if err != nil {
		return nil, err
	}
	var ws []estate.Workload
	for _, i := range selected {
		ws = append(ws, *snap.Estate.Workload(i))
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="workloads.csv"`)
		w := csv.NewWriter(hc.BodyWriter())
		_ = ingest.WriteWorkloads(w, ws)
		w.Flush()
	}}, nil
}
