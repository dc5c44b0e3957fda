package derive

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/service"
)

// alike adds to each rule the clauses "same KEY" that all of its traffic keeps to,
// beside those for environment and application, which candidates have: where both
// sides have several values of a tag, and pairs agree far more often than chance
// would make them.
func (d coverer) alike(rules []*draft) []*draft {
	var keys []expr.Key
	for _, r := range d.relations {
		keys = append(keys, r.key)
	}
	slices.SortFunc(keys, func(a, b expr.Key) int { return strings.Compare(a.Name, b.Name) })
	for _, r := range rules {
		r.members = [2]int{d.size(&r.left[0], 0), d.size(&r.right[0], 0)}
		// Within one application, other tags agree by themselves.
		if r.left[0].set == nil || r.right[0].set == nil || slices.Contains(r.same, expr.Key{Name: d.keys[0]}) {
			continue
		}
		for _, k := range keys {
			if !slices.Contains(r.same, k) && d.keepsTo(r, k) {
				r.same = append(r.same, k)
			}
		}
	}
	var more []*draft
	for _, r := range rules {
		more = append(more, d.beside(r)...)
	}
	return append(rules, more...)
}

// beside returns rules of their own to the machines of a rule with clauses that lack
// the tag in question: by what they do they belong to it, but no clause holds of
// them until they are tagged.
func (d coverer) beside(r *draft) (out []*draft) {
	if len(r.same) == 0 || r.left[0].set == nil || r.right[0].set == nil {
		return nil
	}
	by := map[int32]*draft{}
	for _, x := range r.edges {
		for side, m := range [2]int32{x.client, x.server} {
			other := [2]int32{x.server, x.client}[side]
			if d.isOutside(m) || proposer(d).agrees(r, m) {
				continue
			}
			to := d.setWith(other, 7)
			if to == nil {
				continue
			}
			n := by[m*2+int32(side)]
			if n == nil {
				n = &draft{left: []item{{m: m}}, right: []item{{set: to}}, points: r.points, took: [2]int{1, 1},
					members: [2]int{1, len(to.members)}}
				if side == 1 {
					n.left, n.right = n.right, n.left
				}
				by[m*2+int32(side)] = n
				out = append(out, n)
			}
			if judge(d).anyHolds(n.left, x.client) && judge(d).anyHolds(n.right, x.server) {
				n.edges = append(n.edges, x)
			}
		}
	}
	return out
}

// setWith returns the set of those that are tagged like a machine, by some of
// application (1), tier (2) and environment (4).
func (d coverer) setWith(m int32, mask uint8) *set {
	if d.isOutside(m) {
		return nil
	}
	for _, id := range d.setsOf[m] {
		if s := d.sets[id]; s.group == "" && s.mask == mask {
			return s
		}
	}
	tests, ok := setMaker(d).tests(m, mask)
	if !ok {
		return nil
	}
	s := &set{tests: tests, mask: mask, words: wordsOfMask[mask]}
	for w := range d.c.Estate.All() {
		holds := d.present[w]
		for i := range 3 {
			holds = holds && (mask&(1<<i) == 0 || d.meant[w][i] == d.meant[m][i])
		}
		if holds {
			s.members = append(s.members, w)
		}
	}
	return s
}

// keepsTo reports whether the traffic of a rule stays where a tag is the same.
func (d coverer) keepsTo(r *draft, k expr.Key) bool {
	spread := func(s *set) map[string]float64 {
		out := map[string]float64{}
		for _, m := range s.members {
			if v := setMaker(d).tagOf(m, k); v != "" {
				out[v]++
			}
		}
		return out
	}
	a, b := spread(r.left[0].set), spread(r.right[0].set)
	if len(a) < 2 || len(b) < 2 {
		return false
	}
	same, other := 0, 0
	values := map[string]bool{}
	for _, x := range r.edges {
		va, vb := setMaker(d).tagOf(x.client, k), setMaker(d).tagOf(x.server, k)
		switch {
		case va == "" || vb == "":
		case va == vb:
			same++
			values[va] = true
		default:
			other++
		}
	}
	var na, nb, chance float64
	for _, n := range a {
		na += n
	}
	for v, n := range b {
		nb += n
		chance += n * a[v]
	}
	return other == 0 && same >= 8 && len(values) >= 2 && chance/na/nb <= 0.6
}

// joined joins rules that differ in one thing only into one with a list, which
// opens nothing that they do not.
func (d coverer) joined(rules []*draft, balance float64) []*draft {
	sides := func(list []item) string {
		keys := make([]string, len(list))
		for i := range list {
			keys[i] = d.itemKey(&list[i])
		}
		slices.Sort(keys)
		return strings.Join(keys, ", ")
	}
	rest := func(r *draft) string { return fmt.Sprint(r.same, r.alone != "", " ") }
	kind := func(list []item) string { return d.itemKey(&list[0])[:1] }
	join := func(key func(*draft) string, merge func(into, r *draft) bool) {
		by := map[string]*draft{}
		var out []*draft
		for _, r := range rules {
			k := rest(r) + key(r)
			if into := by[k]; into != nil && r.alone == "" && merge(into, r) {
				into.edges = append(into.edges, r.edges...)
				into.n += r.n
				continue
			}
			by[k] = r
			out = append(out, r)
		}
		rules = out
	}
	admin := func(r *draft) string { return fmt.Sprint(service.Administration.Contains(r.points[0].Lo)) }
	join(func(r *draft) string { return sides(r.left) + " -> " + sides(r.right) + admin(r) },
		func(into, r *draft) bool {
			into.points = into.points.Union(r.points)
			return true
		})
	if balance >= 0.3 {
		for _, left := range [2]bool{true, false} {
			join(func(r *draft) string {
				if left {
					return kind(r.left) + sides(r.right) + fmt.Sprint(r.points)
				}
				return kind(r.right) + sides(r.left) + fmt.Sprint(r.points)
			}, func(into, r *draft) bool {
				to, from := &into.right, r.right
				if left {
					to, from = &into.left, r.left
				}
				if len(*to)+len(from) > mostItems {
					return false
				}
				*to = append(slices.Clone(*to), from...)
				for i := range into.took {
					if (i == 0) == left {
						into.took[i] += r.took[i]
						into.members[i] += r.members[i]
					}
				}
				return true
			})
		}
	}
	type named struct {
		r           *draft
		left, right string
	}
	order := make([]named, len(rules))
	for i, r := range rules {
		order[i] = named{r, sides(r.left), sides(r.right)}
	}
	slices.SortStableFunc(order, func(a, b named) int {
		return cmp.Or(strings.Compare(a.right, b.right), strings.Compare(a.left, b.left),
			slices.CompareFunc(a.r.points, b.r.points, func(x, y service.Range) int {
				return cmp.Or(cmp.Compare(x.Lo, y.Lo), cmp.Compare(x.Hi, y.Hi))
			}))
	})
	for i := range order {
		rules[i] = order[i].r
	}
	return rules
}
