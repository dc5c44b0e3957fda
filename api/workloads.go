package api

import (
	"context"
	"encoding/csv"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/ingest"
	"lucidorchard/model"
)

// Body wraps what an operation returns.
type Body[T any] struct{ Body T }

func body[T any](v T) *Body[T] { return &Body[T]{v} }

// Missing stands for the workloads that lack a tag, in facets and filters.
const Missing = "(missing)"

type listWorkloads struct {
	WorkloadFilter
	Offset int    `query:"offset" minimum:"0"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	Sort   string `query:"sort" doc:"name, address, or a tag's key; with - before it, downwards" default:"name"`
}

// TagOut is a tag as it is shown.
type TagOut struct {
	Key    string    `json:"key"`
	Value  string    `json:"value"`
	Source string    `json:"source"`
	ByHand bool      `json:"byHand"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// LeaseOut is a lease as it is shown.
type LeaseOut struct {
	Addr  string `json:"addr"`
	From  string `json:"from,omitempty"`
	Until string `json:"until,omitempty"`
	Now   bool   `json:"now"`
}

// WorkloadOut is a row of the list.
type WorkloadOut struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	OS      string     `json:"os"`
	Kind    string     `json:"kind"`
	Leases  []LeaseOut `json:"leases"`
	Tags    []TagOut   `json:"tags"`
	Retired string     `json:"retired,omitempty" doc:"Since when no source lists it"`
}

// WorkloadList is a page of workloads.
type WorkloadList struct {
	Total     int           `json:"total" doc:"Workloads that the filter selects"`
	All       int           `json:"all" doc:"Workloads there are"`
	Workloads []WorkloadOut `json:"workloads"`
	Keys      []string      `json:"keys" doc:"All tag keys, the structural ones first"`
	Hint      string        `json:"hint,omitempty" doc:"What of the expression can hardly be meant: a tag that nothing has"`
}

// workloadsAPI answers about workloads and their tags.
type workloadsAPI struct {
	*base
	orders     perEstate[[]int32]
	facetCache perEstate[[]Facet]
}

func (s *workloadsAPI) routes(r routes) {
	get(r, "list-workloads", "/workloads", "The selected workloads", s.listWorkloads, missing)
	get(r, "list-facets", "/workloads/facets",
		"The values of the tags of the selected workloads, with how many have each", s.facets, missing)
	get(r, "read-workload", "/workloads/{id}", "One workload, with its traffic", s.oneWorkload, missing)
	post(r, "set-tags", "/tags", "Set or remove tags of workloads", s.setTags, missing)
	get(r, "export-workloads", "/workloads.csv", "The selected workloads as CSV", s.exportWorkloads, missing)
	get(r, "read-workload-rules", "/workloads/{id}/rules",
		"What may reach a workload, and what it may reach, in deciding order", s.workloadRules, missing)
}

// endpointsOf gives a workload's endpoints at an instant; if it holds no
// address then, one without an address.
func endpointsOf(e *estate.Estate, i int32, at estate.Instant) []estate.Endpoint {
	var out []estate.Endpoint
	for _, l := range e.Workload(i).Leases {
		if ep := e.At(l.Addr, at); ep.Workload == i && !slices.Contains(out, ep) {
			out = append(out, ep)
		}
	}
	if out == nil {
		out = []estate.Endpoint{{Workload: i}}
	}
	return out
}

func (s *workloadsAPI) listWorkloads(ctx context.Context, in *listWorkloads) (*Body[WorkloadList], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := s.selectGuarded(ctx, snap, in.WorkloadFilter)
	if err != nil {
		return nil, err
	}
	key, down := strings.CutPrefix(in.Sort, "-")
	selected = inOrder(selected, s.order(snap, key), down)
	out := WorkloadList{Total: len(selected), All: snap.Present(), Workloads: []WorkloadOut{}, Keys: snap.TagKeys(),
		Hint: unknownKeys(snap, in.Text)}
	from, to := Page{in.Offset, in.Limit}.cut(len(selected))
	for _, i := range selected[from:to] {
		out.Workloads = append(out.Workloads, workloadOut(snap, i))
	}
	return body(out), nil
}

func workloadOut(snap *model.Model, i int32) WorkloadOut {
	w := snap.Estate.Workload(i)
	out := WorkloadOut{ID: w.ID, Name: w.Label(), OS: w.OS, Kind: w.Kind, Leases: []LeaseOut{}, Tags: []TagOut{}}
	for _, l := range w.Leases {
		lo := LeaseOut{Addr: l.Addr.String(), Now: snap.Estate.At(l.Addr, snap.Compiled.AsOf).Workload == i}
		if l.From.IsBound() {
			lo.From = l.From.String()
		}
		if l.Until.IsBound() {
			lo.Until = l.Until.String()
		}
		out.Leases = append(out.Leases, lo)
	}
	for _, t := range w.Tags {
		out.Tags = append(out.Tags, tagOut(t))
	}
	if !w.Retired.IsZero() {
		out.Retired = w.Retired.UTC().Format(time.RFC3339)
	}
	return out
}

func tagOut(t estate.Tag) TagOut {
	return TagOut{t.Key, t.Value, t.Source, t.Source == estate.ByHand, t.By, t.At}
}

// GroupMembership is what one group says of a workload, and why.
type GroupMembership struct {
	Group   string      `json:"group"`
	Truth   string      `json:"truth" enum:"yes,undecided"`
	Listed  string      `json:"listed,omitempty"`
	Reasons []ReasonOut `json:"reasons"`
	Missing []string    `json:"missing,omitempty" doc:"Keys that would settle it"`
}

// WorkloadPage is all that is known of a workload.
type WorkloadPage struct {
	WorkloadOut
	Groups []GroupMembership `json:"groups"`
}

func (s *workloadsAPI) oneWorkload(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*Body[WorkloadPage], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	i, ok := snap.Estate.ByID(in.ID)
	if !ok {
		return nil, huma.Error404NotFound("there is no workload with the id " + in.ID)
	}
	out := WorkloadPage{WorkloadOut: workloadOut(snap, i), Groups: []GroupMembership{}}
	walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
	ep := endpointsOf(snap.Estate, i, snap.Compiled.AsOf)[0]
	for _, g := range groupsInOrder(snap.Policy) {
		m := walk.Explain(g.Name, ep, false)
		if m.Truth != expr.No {
			out.Groups = append(out.Groups, GroupMembership{g.Name, m.Truth.String(), m.Listed, reasonsOut(m.Reasons),
				expr.MissingKeys(m.Reasons)})
		}
	}
	return body(out), nil
}

// groupsInOrder gives the groups in the order of the text.
func groupsInOrder(p *policy.Policy) []*policy.Group {
	var out []*policy.Group
	for _, item := range p.Items {
		if g, ok := item.Statement.(*policy.Group); ok {
			out = append(out, g)
		}
	}
	return out
}

func (s *workloadsAPI) exportWorkloads(ctx context.Context, in *struct{ WorkloadFilter }) (*huma.StreamResponse,
	error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := s.selectGuarded(ctx, snap, in.WorkloadFilter)
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
