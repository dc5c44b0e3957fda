package inventory

import (
	"slices"

	"lucidorchard/core/estate"
)

// FacetCounts counts workloads by the values of their tags.
type FacetCounts struct {
	Whole     int              // workloads that fail no filter
	Values    []map[string]int // by key
	Has, Seen []int            // by key: those that have it; those that fail the filter of this key only
}

func CountFacets(e *estate.Estate, selected []int32, keys []string, byKey map[string][]string) *FacetCounts {
	c := &FacetCounts{Values: make([]map[string]int, len(keys)), Has: make([]int, len(keys)),
		Seen: make([]int, len(keys))}
	for k := range c.Values {
		c.Values[k] = map[string]int{}
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
			c.Whole++
			k := 0
			for j := range w.Tags {
				t := &w.Tags[j]
				for keys[k] < t.Key { // both are in order
					k++
				}
				if t.Value != "" {
					c.Values[k][t.Value]++
					c.Has[k]++
				}
			}
		case 1:
			if k, ok := slices.BinarySearch(keys, failed); ok {
				c.Seen[k]++
				if t, ok := w.Tag(failed); ok {
					c.Values[k][t.Value]++
					c.Has[k]++
				}
			}
		}
	}
	return c
}

func (c *FacetCounts) Add(d *FacetCounts) {
	c.Whole += d.Whole
	for k := range c.Values {
		c.Has[k] += d.Has[k]
		c.Seen[k] += d.Seen[k]
		for v, n := range d.Values[k] {
			c.Values[k][v] += n
		}
	}
}
