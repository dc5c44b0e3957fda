package inventory

import (
	"slices"

	"lucidorchard/model"
)

// FacetCounts counts workloads by the values of their tags.
type FacetCounts struct {
	Whole     int              // workloads that fail no filter
	Values    []map[string]int // by key
	Has, Seen []int            // by key: those that have it; those that fail the filter of this key only
	NeedNot   []int            // by key: those without it that it does not apply to
}

// CountFacets counts some workloads of a model by the values of tag keys, which are in order.
// Filters, by key, are values as Filter has them: a workload that fails the one of a key counts
// in that key alone, and one that fails two nowhere.
func CountFacets(m *model.Model, selected []int32, keys []string, byKey map[string][]string) *FacetCounts {
	c := &FacetCounts{Values: make([]map[string]int, len(keys)), Has: make([]int, len(keys)),
		Seen: make([]int, len(keys)), NeedNot: make([]int, len(keys))}
	var limited []int // keys that do not apply to all
	for k, key := range keys {
		if m.Inapplicable[key] != nil {
			limited = append(limited, k)
		}
	}
	for k := range c.Values {
		c.Values[k] = map[string]int{}
	}
	for _, i := range selected {
		w := m.Estate.Workload(i)
		failed, fails := "", 0
		for key, values := range byKey {
			if !slices.Contains(values, valueOf(m, i, key)) {
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
			for _, k := range limited {
				if valueOf(m, i, keys[k]) == NotApplicable {
					c.NeedNot[k]++
				}
			}
		case 1:
			if k, ok := slices.BinarySearch(keys, failed); ok {
				c.Seen[k]++
				if t, ok := w.Tag(failed); ok {
					c.Values[k][t.Value]++
					c.Has[k]++
				} else if valueOf(m, i, failed) == NotApplicable {
					c.NeedNot[k]++
				}
			}
		}
	}
	return c
}

// Add adds what was counted of other workloads.
func (c *FacetCounts) Add(d *FacetCounts) {
	c.Whole += d.Whole
	for k := range c.Values {
		c.Has[k] += d.Has[k]
		c.Seen[k] += d.Seen[k]
		c.NeedNot[k] += d.NeedNot[k]
		for v, n := range d.Values[k] {
			c.Values[k][v] += n
		}
	}
}
