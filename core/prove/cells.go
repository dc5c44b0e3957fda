package prove

import (
	"slices"

	"lucidorchard/core/service"
)

// cells cuts all real points into stretches that no rule tells apart, so that a
// set of points is a few runs of stretches.
type cells struct {
	from []service.Point // of each stretch, rising
}

// run is the cells from one up to, and without, another.
type run struct{ from, to int32 }

func newCells(sets []service.Set) cells {
	var edges []service.Point
	real := service.All.Real()
	for _, r := range real {
		edges = append(edges, r.Lo)
	}
	for _, s := range sets {
		for _, r := range s.Intersect(real) {
			edges = append(edges, r.Lo, r.Hi+1)
		}
	}
	slices.Sort(edges)
	edges = slices.Compact(edges)
	c := cells{}
	for i, e := range edges {
		// Between protocols there is nothing.
		if real.Contains(e) || i+1 < len(edges) && len(real.Intersect(service.Set{{Lo: e, Hi: edges[i+1] - 1}})) > 0 {
			c.from = append(c.from, e)
		}
	}
	return c
}

// of returns the cells of a set that newCells was given, or of all.
func (c cells) of(s service.Set) (out []run) {
	for _, r := range s {
		from, _ := slices.BinarySearch(c.from, r.Lo)
		to, _ := slices.BinarySearch(c.from, r.Hi+1)
		if from < to {
			out = append(out, run{int32(from), int32(to)})
		}
	}
	return out
}
