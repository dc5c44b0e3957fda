package decide

import (
	"cmp"
	"encoding/binary"
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

// Stretches gives the whole line of addresses at an instant, IPv4 first, in their
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

// regionLine gives the addresses as if nobody held any, cut by the prefixes of the
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

// reaches reports whether a rule may match from one class to another, on its
// services; one that is off, or over, never does.
func (c *Compiled) reaches(rule, client, server int32) bool {
	classes := c.interner.classes.all()
	return c.rules.row(client).client.has(rule) && c.rules.row(server).server.has(rule) &&
		c.rules.rules[rule].agrees(classes[client], classes[server])
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

// paired reports whether a rule has clauses, so that it hangs on both ends together
// which it matches.
func (c *Compiled) paired(rule int32) bool {
	m := &c.rules.rules[rule]
	return m.apart != nil || m.within >= 0 || m.area >= 0 || len(m.same) > 0 || len(m.across) > 0
}

// bearing is the same for classes with which a rule that is Paired has the same peers:
// all that its clauses ask of one end.
func (c *Compiled) bearing(rule, class int32) string {
	m, x := &c.rules.rules[rule], c.interner.classes.all()[class]
	var b []byte
	bit := func(in bool) {
		if in {
			b = append(b, 1)
		} else {
			b = append(b, 0)
		}
	}
	if m.within >= 0 {
		bit(x.atoms.has(m.within))
	}
	if m.area >= 0 {
		bit(x.atoms.has(m.area))
	}
	for _, keys := range [][]int{m.same, m.across} {
		for _, k := range keys {
			b = binary.AppendUvarint(b, uint64(x.value(k)))
		}
	}
	for _, g := range m.apart {
		bit(x.atoms.has(g))
	}
	return string(b)
}
