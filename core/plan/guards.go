package plan

import (
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// Guarded gives the workloads of which an expression says yes, at one of the
// addresses that they hold, and how many it cannot tell: those are not guarded. It
// may name groups of the policy.
func Guarded(c *decide.Compiled, e *expr.Expr) (in []int32, undecided int) {
	addresses := map[int32][]netip.Addr{}
	c.Estate.Held(c.AsOf, func(ep estate.Endpoint) {
		addresses[ep.Workload] = append(addresses[ep.Workload], ep.Addr)
	})
	walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
	for i, w := range c.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		list := addresses[i]
		if len(list) == 0 {
			list = []netip.Addr{{}}
		}
		best := expr.No
		for _, a := range list {
			ep := estate.Endpoint{Addr: a, Workload: i}
			switch e.Eval(decide.Subject(c.Estate, ep), func(n string) expr.Truth { return walk.Group(n, ep) }) {
			case expr.Yes:
				best = expr.Yes
			case expr.Undecided:
				if best == expr.No {
					best = expr.Undecided
				}
			}
		}
		switch best {
		case expr.Yes:
			in = append(in, i)
		case expr.Undecided:
			undecided++
		}
	}
	return in, undecided
}
