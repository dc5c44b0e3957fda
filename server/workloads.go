package server

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/store"
)

// Body wraps what an operation returns.
type Body[T any] struct{ Body T }

func body[T any](v T) *Body[T] { return &Body[T]{v} }

// Missing stands for the workloads that lack a tag, in facets and filters.
const Missing = "(missing)"

// WorkloadFilter selects workloads: those that agree with all of it.
type WorkloadFilter struct {
	Text  string   `query:"q" doc:"Words in the id, the name, an address or a tag; or an expression"`
	Tags  []string `query:"tag,explode" doc:"key=value; several of one key are alternatives; value (missing) is those without"`
	Group string   `query:"group" doc:"Only members of this group"`
}

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
	ID     string     `json:"id"`
	Name   string     `json:"name"`
	OS     string     `json:"os"`
	Kind   string     `json:"kind"`
	Leases []LeaseOut `json:"leases"`
	Tags   []TagOut   `json:"tags"`
}

// WorkloadList is a page of workloads.
type WorkloadList struct {
	Total     int           `json:"total" doc:"Workloads that the filter selects"`
	All       int           `json:"all" doc:"Workloads there are"`
	Workloads []WorkloadOut `json:"workloads"`
	Keys      []string      `json:"keys" doc:"All tag keys, the structural ones first"`
}

// Facet is a tag key with its values.
type Facet struct {
	Key        string       `json:"key"`
	Structural bool         `json:"structural"`
	Missing    int          `json:"missing"`
	Values     []FacetValue `json:"values"`
}

// FacetValue is a value with how many of the selected workloads have it.
type FacetValue struct {
	Value string `json:"value"`
	Count int    `json:"count"`
	Like  string `json:"like,omitempty" doc:"The usual spelling that this one looks like"`
}

func (s *Server) workloadRoutes() {
	huma.Get(s.api, "/api/workloads", s.listWorkloads)
	huma.Get(s.api, "/api/workloads/facets", s.facets)
	huma.Get(s.api, "/api/workloads/{id}", s.oneWorkload)
	huma.Post(s.api, "/api/tags", s.setTags)
	huma.Register(s.api, huma.Operation{OperationID: "export-workloads", Method: http.MethodGet, Path: "/api/workloads.csv", Summary: "The selected workloads as CSV"}, s.exportWorkloads)
}

// selected gives the indexes of the workloads that a filter selects.
func (snap snapshot) selected(f WorkloadFilter) ([]int32, error) {
	byKey := map[string][]string{}
	for _, t := range f.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	var words []string
	var test *expr.Expr
	if f.Text != "" {
		if e, errs := expr.ParseText(f.Text); len(errs) == 0 {
			test = e
		} else {
			words = strings.Fields(strings.ToLower(f.Text))
		}
	}
	walk := decide.NewWalk(snap.estate, snap.policy, snap.compiled.AsOf)
	if f.Group != "" && snap.policy.Groups[f.Group] == nil {
		return nil, huma.Error404NotFound("there is no group " + f.Group)
	}
	out := []int32{}
	for i, w := range snap.estate.All() {
		if !hasTags(w, byKey) || !mentions(w, words) {
			continue
		}
		if test != nil || f.Group != "" {
			in := false
			for _, ep := range endpointsOf(snap.estate, i, snap.compiled.AsOf) {
				members := func(g string) expr.Truth { return walk.Group(g, ep) }
				if (test == nil || test.Eval(decide.Subject(snap.estate, ep), members) == expr.Yes) && (f.Group == "" || walk.Group(f.Group, ep) == expr.Yes) {
					in = true
				}
			}
			if !in {
				continue
			}
		}
		out = append(out, i)
	}
	return out, nil
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

func hasTags(w *estate.Workload, byKey map[string][]string) bool {
	for key, values := range byKey {
		t, ok := w.Tag(key)
		if !ok {
			t.Value = Missing
		}
		if !slices.Contains(values, t.Value) {
			return false
		}
	}
	return true
}

func mentions(w *estate.Workload, words []string) bool {
	for _, word := range words {
		found := strings.Contains(strings.ToLower(w.ID), word) || strings.Contains(strings.ToLower(w.Name), word)
		for _, l := range w.Leases {
			found = found || strings.HasPrefix(l.Addr.String(), word)
		}
		for _, t := range w.Tags {
			found = found || strings.Contains(strings.ToLower(t.Value), word)
		}
		if !found {
			return false
		}
	}
	return true
}

func (s *Server) listWorkloads(ctx context.Context, in *listWorkloads) (*Body[WorkloadList], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := snap.selected(in.WorkloadFilter)
	if err != nil {
		return nil, err
	}
	key, down := strings.CutPrefix(in.Sort, "-")
	value := func(i int32) string {
		w := snap.estate.Workload(i)
		switch key {
		case "name":
			return w.Label()
		case "address":
			if len(w.Leases) > 0 {
				b := w.Leases[0].Addr.As16()
				return string(b[:])
			}
			return ""
		}
		t, _ := w.Tag(key)
		return t.Value
	}
	sort.SliceStable(selected, func(a, b int) bool {
		x, y := value(selected[a]), value(selected[b])
		if down {
			return x > y
		}
		return x < y
	})
	out := WorkloadList{Total: len(selected), All: snap.estate.Len(), Workloads: []WorkloadOut{}, Keys: tagKeys(snap.estate)}
	for _, i := range selected[min(in.Offset, len(selected)):min(in.Offset+in.Limit, len(selected))] {
		out.Workloads = append(out.Workloads, snap.workload(i))
	}
	return body(out), nil
}

func (snap snapshot) workload(i int32) WorkloadOut {
	w := snap.estate.Workload(i)
	out := WorkloadOut{ID: w.ID, Name: w.Label(), OS: w.OS, Kind: w.Kind, Leases: []LeaseOut{}, Tags: []TagOut{}}
	for _, l := range w.Leases {
		lo := LeaseOut{Addr: l.Addr.String(), Now: snap.estate.At(l.Addr, snap.compiled.AsOf).Workload == i}
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
	return out
}

func tagOut(t estate.Tag) TagOut {
	return TagOut{t.Key, t.Value, t.Source, t.Source == estate.ByHand, t.By, t.At}
}

// tagKeys gives all keys in use, the structural ones first.
func tagKeys(e *estate.Estate) []string {
	seen := map[string]bool{}
	for _, w := range e.All() {
		for _, t := range w.Tags {
			seen[t.Key] = true
		}
	}
	out := slices.Clone(reach.Structural)
	for _, k := range slices.Sorted(maps.Keys(seen)) {
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

func (s *Server) facets(ctx context.Context, in *struct{ WorkloadFilter }) (*Body[[]Facet], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := []Facet{}
	for _, key := range tagKeys(snap.estate) {
		// A facet counts under the filters of the other facets.
		f := in.WorkloadFilter
		f.Tags = nil
		for _, t := range in.Tags {
			if !strings.HasPrefix(t, key+"=") {
				f.Tags = append(f.Tags, t)
			}
		}
		selected, err := snap.selected(f)
		if err != nil {
			return nil, err
		}
		facet := Facet{Key: key, Structural: slices.Contains(reach.Structural, key), Values: []FacetValue{}}
		counts := map[string]int{}
		for _, i := range selected {
			if t, ok := snap.estate.Workload(i).Tag(key); ok {
				counts[t.Value]++
			} else {
				facet.Missing++
			}
		}
		for _, v := range slices.Sorted(maps.Keys(counts)) {
			facet.Values = append(facet.Values, FacetValue{Value: v, Count: counts[v], Like: estate.UsualSpelling(v, counts)})
		}
		slices.SortStableFunc(facet.Values, func(a, b FacetValue) int { return b.Count - a.Count })
		out = append(out, facet)
	}
	return body(out), nil
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

func (s *Server) oneWorkload(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*Body[WorkloadPage], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	i, ok := snap.estate.ByID(in.ID)
	if !ok {
		return nil, huma.Error404NotFound("there is no workload with the id " + in.ID)
	}
	out := WorkloadPage{WorkloadOut: snap.workload(i), Groups: []GroupMembership{}}
	walk := decide.NewWalk(snap.estate, snap.policy, snap.compiled.AsOf)
	ep := endpointsOf(snap.estate, i, snap.compiled.AsOf)[0]
	for _, g := range groupsInOrder(snap.policy) {
		m := walk.Explain(g.Name, ep, false)
		if m.Truth != expr.No {
			out.Groups = append(out.Groups, GroupMembership{g.Name, m.Truth.String(), m.Listed, reasonsOut(m.Reasons), expr.Unsettled(m.Reasons)})
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

type setTagsInput struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Workloads []string `json:"workloads" minItems:"1" doc:"Ids"`
		Key       string   `json:"key" minLength:"1"`
		Value     string   `json:"value" doc:"Empty: the workload does not have the tag"`
	}
}

func (s *Server) setTags(ctx context.Context, in *setTagsInput) (*Body[Consequences], error) {
	before, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	var changed []estate.Workload
	var edits []store.TagEdit
	for _, id := range in.Body.Workloads {
		i, ok := snap.estate.ByID(id)
		if !ok {
			return nil, huma.Error404NotFound("there is no workload with the id " + id + "; nothing was changed")
		}
		w := *snap.estate.Workload(i)
		w.SetTag(estate.Tag{Key: in.Body.Key, Value: in.Body.Value, Source: estate.ByHand, By: s.Author, At: time.Now()})
		changed = append(changed, w)
		edits = append(edits, store.TagEdit{Workload: id, Key: in.Body.Key, Value: &in.Body.Value})
	}
	e, touched, _ := snap.estate.With(changed, nil)
	out := s.consequences(before, snap, snap.compiled.WithEstate(e, touched))
	if in.DryRun {
		return body(out), nil
	}
	what := in.Body.Workloads[0]
	if n := len(in.Body.Workloads); n > 1 {
		what = fmt.Sprintf("%d workloads", n)
	}
	words := fmt.Sprintf("Set %s = %s on %s", in.Body.Key, in.Body.Value, what)
	if in.Body.Value == "" {
		words = fmt.Sprintf("Clear %s of %s", in.Body.Key, what)
	}
	if err := s.Store.SetTags(ctx, edits, s.Author, words); err != nil {
		return nil, unavailable(err)
	}
	s.events.changed()
	return body(out), nil
}
