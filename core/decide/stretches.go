package decide

import (
	"cmp"
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
)

// Stretch is addresses that stand side by side and that rules cannot tell apart:
// one that a workload holds, or some that none does.
type Stretch struct {
	First, Last netip.Addr
	Class       int32
	Workload    int32 // estate.Outside: nobody holds them
}

// Stretches returns the whole line of addresses at an instant, IPv4 first, in their
// order and without gaps.
func (c *Compiled) Stretches(at estate.Instant) []Stretch {
	var held []Stretch
	c.Estate.Held(at, func(ep estate.Endpoint) {
		held = append(held, Stretch{ep.Addr, ep.Addr, c.At(ep.Addr, at).Class, ep.Workload})
	})
	var out []Stretch
	for _, open := range c.regionLine() {
		from := open.First
		for len(held) > 0 && held[0].First.Compare(open.Last) <= 0 {
			h := held[0]
			held = held[1:]
			if from.Less(h.First) {
				out = append(out, Stretch{from, h.First.Prev(), open.Class, estate.Outside})
			}
			out = append(out, h)
			if from = h.First.Next(); !from.IsValid() {
				break // the last address of all
			}
		}
		if from.IsValid() && from.Compare(open.Last) <= 0 {
			out = append(out, Stretch{from, open.Last, open.Class, estate.Outside})
		}
	}
	return out
}

// regionLine returns the addresses as if nobody held any, cut by the prefixes of the
// policy: each belongs to the longest that holds it.
func (c *Compiled) regionLine() []Stretch {
	order := make([]int32, len(c.regions))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		p, q := c.regions[a].prefix, c.regions[b].prefix
		return cmp.Or(p.Addr().Compare(q.Addr()), cmp.Compare(p.Bits(), q.Bits()))
	})
	var out []Stretch
	var open []int32     // regions that hold the place where we are, the longest last
	var place netip.Addr // from here on nothing is said yet
	upTo := func(end netip.Addr, region int32) {
		if place.IsValid() && place.Compare(end) <= 0 {
			out = append(out, Stretch{place, end, c.regions[region].place.class, estate.Outside})
			place = end.Next()
		}
	}
	closeUntil := func(next netip.Addr) {
		for len(open) > 0 {
			top := open[len(open)-1]
			end := last(c.regions[top].prefix)
			if next.IsValid() && next.Compare(end) <= 0 && next.BitLen() == end.BitLen() {
				return
			}
			upTo(end, top)
			open = open[:len(open)-1]
		}
	}
	for _, r := range order {
		p := c.regions[r].prefix
		closeUntil(p.Addr())
		if len(open) > 0 {
			if before := p.Addr().Prev(); before.IsValid() {
				upTo(before, open[len(open)-1])
			}
		}
		place = p.Addr()
		open = append(open, r)
	}
	closeUntil(netip.Addr{})
	return out
}

// RulesAt calls f with the rules of which a side may hold a class, in their order: the
// server's, or the client's.
func (c *Compiled) RulesAt(class int32, server bool, f func(rule int32)) {
	side := c.rules.row(class).client
	if server {
		side = c.rules.row(class).server
	}
	side.each(f)
}
