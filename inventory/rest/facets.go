package rest

import (
	"context"

	// How often each value of each tag occurs among the selected workloads.
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/inventory"
	"lucidorchard/refuse"
	"lucidorchard/server"
)

// Facet is a tag key with its values.
type Facet struct {
	Key             string       `json:"key"`
	Structural      bool         `json:"structural"`
	Missing         int          `json:"missing" doc:"Workloads that lack the tag and that it applies to"`
	NotApplicable   int          `json:"notApplicable" doc:"Workloads that lack the tag and that it does not apply to"`
	NotApplicableTo string       `json:"notApplicableTo,omitempty" doc:"The expression for the workloads that it does not apply to"`
	Values          []facetValue `json:"values"`
}

// facetValue is a value with how many of the selected workloads have it.
type facetValue struct {
	Value string `json:"value"`
	Count int    `json:"count"`
	Like  string `json:"like,omitempty" doc:"The usual spelling that this one looks like"`
}

func (s *Workloads) facets(ctx context.Context, in *struct{ inventory.Filter }) (*server.Body[[]Facet], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	// A facet counts under the filters of the other facets: a workload that fails
	// the filter of one key only counts in that facet.
	byKey := map[string][]string{}
	for _, t := range in.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, refuse.Invalid(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	others := in.Filter
	others.Tags = nil
	// Without words and group the answer hangs on the estate alone.
	name := fmt.Sprint(in.Gone, in.Tags, snap.Structural, snap.Inapplicable)
	if in.Text == "" && in.Group == "" && in.Guard == "" {
		if have, ok := s.facetCache.Get(snap.Estate, name); ok {
			return server.OK(have), nil
		}
	}
	selected, err := s.selectGuarded(ctx, snap, others)
	if err != nil {
		return nil, err
	}
	keys := snap.TagKeys()
	sorted := slices.Clone(keys)
	slices.Sort(sorted)
	parts := make([]*inventory.FacetCounts, 2*runtime.GOMAXPROCS(0))
	decide.Parallel(len(parts), len(parts), func(_, part int) {
		parts[part] = inventory.CountFacets(snap,
			selected[part*len(selected)/len(parts):(part+1)*len(selected)/len(parts)], sorted, byKey)
	})
	all := parts[0]
	for _, p := range parts[1:] {
		all.Add(p)
	}
	out := []Facet{}
	for _, key := range keys {
		k, _ := slices.BinarySearch(sorted, key)
		counts := all.Values[k]
		facet := Facet{Key: key, Structural: slices.Contains(snap.Structural, key), Missing: all.Whole +
			all.Seen[k] - all.Has[k] - all.NeedNot[k], NotApplicable: all.NeedNot[k], Values: []facetValue{}}
		if test := snap.Inapplicable[key]; test != nil {
			facet.NotApplicableTo = test.String()
		}
		usual := estate.UsualSpellings(counts)
		for _, v := range slices.Sorted(maps.Keys(counts)) {
			facet.Values = append(facet.Values, facetValue{Value: v, Count: counts[v], Like: usual[v]})
		}
		slices.SortStableFunc(facet.Values, func(a, b facetValue) int { return b.Count - a.Count })
		out = append(out, facet)
	}
	if in.Text == "" && in.Group == "" && in.Guard == "" {
		s.facetCache.Put(snap.Estate, name, out)
	}
	return server.OK(out), nil
}
