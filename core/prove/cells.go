package prove

import (
	"slices"

	"lucidorchard/core/service"
)

// cells cuts all real points into stretches that no rule tells apart, so that a
// set of points is a few words of bits.
type cells struct {
	from []service.Point // of each stretch
	all  points
}

// points is a set of cells.
type points []uint64

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
	c.all = make(points, (len(c.from)+63)/64)
	for i := range c.from {
		c.all[i>>6] |= 1 << (i & 63)
	}
	return c
}

// of gives the cells of a set that newCells was given, or of all.
func (c cells) of(s service.Set) points {
	out := make(points, len(c.all))
	for i, p := range c.from {
		if s.Contains(p) {
			out[i>>6] |= 1 << (i & 63)
		}
	}
	return out
}

func (p points) empty() bool {
	for _, w := range p {
		if w != 0 {
			return false
		}
	}
	return true
}

func (p points) meets(q points) bool {
	for i, w := range p {
		if w&q[i] != 0 {
			return true
		}
	}
	return false
}

// both gives what is in p and q, in room.
func (p points) both(q, room points) points {
	for i, w := range p {
		room[i] = w & q[i]
	}
	return room
}

// drop takes q out of p.
func (p points) drop(q points) {
	for i, w := range q {
		p[i] &^= w
	}
}
