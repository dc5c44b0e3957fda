package derive

import (
	"cmp"
	"container/heap"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
	"slices"
	"strings"
)

// Which candidates are taken: greedily those that cost least for what they say, then wider ones in
// the place of those that they hold, then none that the others make needless.

// choose takes candidates until none saves anything more.
func (d coverer) choose(s *scratch, svc int, edges []edge, all []candidate, danger float64) []*draft {
	var queue byRatio
	for i := range all {
		if all[i].weighed(s, all[i].first); all[i].gain > 0 {
			queue = append(queue, &all[i])
		}
	}
	heap.Init(&queue)
	var chosen []candidate
	for len(queue) > 0 {
		c := queue[0]
		before := c.gain
		d.judgeCandidate(s, edges, c, danger)
		switch {
		case c.gain <= 0:
			heap.Pop(&queue)
			continue
		case c.gain < before-1e-9:
			heap.Fix(&queue, 0) // perhaps another one is better now
			continue
		}
		heap.Pop(&queue)
		chosen = append(chosen, *c)
		for _, i := range c.edges {
			edges[i].covered = true
		}
	}
	chosen = needed(edges, d.exchanged(s, edges, chosen, all, danger))
	var out []*draft
	for _, c := range chosen {
		r := &draft{left: []item{c.left}, right: []item{c.right}, points: service.Set{d.points[svc]}, took: c.took}
		if c.same&sameEnv != 0 {
			r.same = append(r.same, expr.Key{Name: d.keys[2]})
		}
		if c.same&sameApp != 0 {
			r.same = append(r.same, expr.Key{Name: d.keys[0]})
		}
		for _, i := range c.edges {
			r.edges = append(r.edges, &edges[i])
		}
		out = append(out, r)
	}
	return out
}

// exchanged puts a wider rule in the place of those that it holds, of one or several, where that
// says more for less; until none does.
func (d coverer) exchanged(s *scratch, edges []edge, chosen, all []candidate, danger float64) []candidate {
	in := make([]bool, len(edges))
	first := make([]int32, len(edges)) // by edge: one more than the chosen rule that begins with it
	for range 4 {
		clear(first)
		next := make([]int32, len(chosen)) // that begins with the same edge
		keys := map[string]bool{}
		for n := range chosen {
			keys[chosen[n].key] = true
			i := chosen[n].edges[0]
			next[n], first[i] = first[i], int32(n+1)
		}
		gone := make([]bool, len(chosen))
		var more []candidate
		for k := range all {
			c := &all[k]
			if keys[c.key] {
				continue
			}
			most := c.first // that it may save: with all that begins in it
			for _, i := range c.edges {
				for n := first[i]; n > 0; n = next[n-1] {
					if !gone[n-1] && len(chosen[n-1].edges) <= len(c.edges) {
						most += chosen[n-1].cost
					}
				}
			}
			if most == c.first || most < c.price(s) {
				continue
			}
			for _, i := range c.edges {
				in[i] = true
			}
			var held []int
			saved := 0.0
			for _, i := range c.edges {
				for n := first[i]; n > 0; n = next[n-1] {
					x := &chosen[n-1]
					if !gone[n-1] && !slices.ContainsFunc(x.edges, func(i int32) bool { return !in[i] }) {
						held = append(held, int(n-1))
						saved += x.cost
					}
				}
			}
			for _, i := range c.edges {
				in[i] = false
			}
			if len(held) == 0 || saved+c.first < c.price(s) {
				continue
			}
			d.judgeCandidate(s, edges, c, danger)
			if saved+c.gain <= 1e-9 { // its gain counts only what is not covered yet
				continue
			}
			for _, n := range held {
				gone[n] = true
			}
			more = append(more, *c)
			for _, i := range c.edges {
				edges[i].covered = true
			}
		}
		if len(more) == 0 {
			break
		}
		var kept []candidate
		for n := range chosen {
			if !gone[n] {
				kept = append(kept, chosen[n])
			}
		}
		chosen = append(kept, more...)
	}
	return chosen
}

// byRatio has the candidates that cost least for what they say first.
type byRatio []*candidate

func (q byRatio) Len() int { return len(q) }
func (q byRatio) Less(i, j int) bool {
	a, b := q[i], q[j]
	return cmp.Or(cmp.Compare(a.ratio, b.ratio), cmp.Compare(b.gain, a.gain), strings.Compare(a.key, b.key)) < 0
}
func (q byRatio) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *byRatio) Push(x any)   { *q = append(*q, x.(*candidate)) }
func (q *byRatio) Pop() any {
	n := len(*q) - 1
	x := (*q)[n]
	*q = (*q)[:n]
	return x
}

// needed drops rules all of whose evidence others have too.
func needed(edges []edge, chosen []candidate) []candidate {
	times := make([]int32, len(edges))
	for n := range chosen {
		for _, i := range chosen[n].edges {
			times[i]++
		}
	}
	return slices.DeleteFunc(chosen, func(c candidate) bool {
		if slices.ContainsFunc(c.edges, func(i int32) bool { return times[i] == 1 && edges[i].open }) {
			return false
		}
		for _, i := range c.edges {
			times[i]--
		}
		return true
	})
}
