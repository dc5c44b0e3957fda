package api

// How often each value of each tag occurs among the selected workloads.

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
)

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

func (s *workloadsAPI) facets(ctx context.Context, in *struct{ WorkloadFilter }) (*Body[[]Facet], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	// A facet counts under the filters of the other facets: a workload that fails
	// the filter of one key only counts in that facet.
	byKey := map[string][]string{}
	for _, t := range in.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	others := in.WorkloadFilter
	others.Tags = nil
	// Without words and group the answer hangs on the estate alone.
	name := fmt.Sprint(in.Gone, in.Tags, snap.Structural)
	if in.Text == "" && in.Group == "" && in.Guard == "" {
		if have, ok := s.facetCache.get(snap.Estate, name); ok {
			return body(have), nil
		}
	}
	selected, err := s.selectGuarded(ctx, snap, others)
	if err != nil {
		return nil, err
	}
	keys := snap.TagKeys()
	sorted := slices.Clone(keys)
	slices.Sort(sorted)
	parts := make([]*facetCounts, 2*runtime.GOMAXPROCS(0))
	decide.Parallel(len(parts), len(parts), func(_, part int) {
		parts[part] = countFacets(snap.Estate,
			selected[part*len(selected)/len(parts):(part+1)*len(selected)/len(parts)], sorted, byKey)
	})
	all := parts[0]
	for _, p := range parts[1:] {
		all.add(p)
	}
	out := []Facet{}
	for _, key := range keys {
		k, _ := slices.BinarySearch(sorted, key)
		counts := all.values[k]
		facet := Facet{Key: key, Structural: slices.Contains(snap.Structural, key), Missing: all.whole +
			all.seen[k] - all.has[k], Values: []FacetValue{}}
		usual := estate.UsualSpellings(counts)
		for _, v := range slices.Sorted(maps.Keys(counts)) {
			facet.Values = append(facet.Values, FacetValue{Value: v, Count: counts[v], Like: usual[v]})
		}
		slices.SortStableFunc(facet.Values, func(a, b FacetValue) int { return b.Count - a.Count })
		out = append(out, facet)
	}
	if in.Text == "" && in.Group == "" && in.Guard == "" {
		s.facetCache.put(snap.Estate, name, out)
	}
	return body(out), nil
}

// perEstate remembers answers that hang on the estate alone, for the last one
// that was asked about.
type perEstate[T any] struct {
	mu     sync.Mutex
	estate *estate.Estate
	by     map[string]T
}

func (c *perEstate[T]) get(e *estate.Estate, name string) (T, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.estate != e {
		var none T
		return none, false
	}
	v, ok := c.by[name]
	return v, ok
}

func (c *perEstate[T]) put(e *estate.Estate, name string, v T) {
	c.mu.Lock()
	defer c.mu.Unlock()
	const most = 64
	if c.estate != e || len(c.by) >= most {
		c.estate, c.by = e, map[string]T{}
	}
	c.by[name] = v
}

// facetCounts counts workloads by the values of their tags.
type facetCounts struct {
	whole     int              // workloads that fail no filter
	values    []map[string]int // by key
	has, seen []int            // by key: those that have it; those that fail the filter of this key only
}

func countFacets(e *estate.Estate, selected []int32, keys []string, byKey map[string][]string) *facetCounts {
	c := &facetCounts{values: make([]map[string]int, len(keys)), has: make([]int, len(keys)),
		seen: make([]int, len(keys))}
	for k := range c.values {
		c.values[k] = map[string]int{}
	}
	for _, i := range selected {
		w := e.Workload(i)
		failed, fails := "", 0
		for key, values := range byKey {
			t, ok := w.Tag(key)
			if !ok {
				t.Value = Missing
			}
			if !slices.Contains(values, t.Value) {
				failed = key
				fails++
			}
		}
		switch fails {
		case 0:
			c.whole++
			k := 0
			for j := range w.Tags {
				t := &w.Tags[j]
				for keys[k] < t.Key { // both are in order
					k++
				}
				if t.Value != "" {
					c.values[k][t.Value]++
					c.has[k]++
				}
			}
		case 1:
			if k, ok := slices.BinarySearch(keys, failed); ok {
				c.seen[k]++
				if t, ok := w.Tag(failed); ok {
					c.values[k][t.Value]++
					c.has[k]++
				}
			}
		}
	}
	return c
}

func (c *facetCounts) add(d *facetCounts) {
	c.whole += d.whole
	for k := range c.values {
		c.has[k] += d.has[k]
		c.seen[k] += d.seen[k]
		for v, n := range d.values[k] {
			c.values[k][v] += n
		}
	}
}
