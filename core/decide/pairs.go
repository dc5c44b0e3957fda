package decide

import (
	"net/netip"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Table maps every point to the rule that decides it: from[i] up to from[i+1]
// belongs to rule[i], -1 for none.
type Table struct {
	from  []service.Point
	rule  []int32
	place uint32 // in the arena of its rules; 0 before it is there
}

func (t *Table) at(p service.Point) int32 {
	i, j := 0, len(t.from)
	for i+1 < j {
		if m := (i + j) / 2; t.from[m] <= p {
			i = m
		} else {
			j = m
		}
	}
	return t.rule[i]
}

// Table returns what decides for a pair of classes. Pairs for which the same rules
// can match have the same Table. Unlike Rule it remembers nothing about the pair:
// for those who ask about all of them.
func (c *Compiled) Table(client, server int32) *Table { return c.rules.table(client, server) }

// Placed is an endpoint with the class that it was compiled to.
type Placed struct {
	estate.Endpoint
	Class     int32
	signature int32
}

func (p Placed) place() place { return place{p.signature, p.Class} }

// At resolves an address at an instant.
func (c *Compiled) At(addr netip.Addr, t estate.Instant) Placed {
	addr = addr.Unmap()
	if h := c.Estate.Holder(addr, t); h != nil {
		p := (*c.places.At(int(h.Workload)))[h.Lease]
		return Placed{estate.Endpoint{Addr: addr, Workload: h.Workload}, p.class, p.signature}
	}
	p := c.regions[divider{c}.regionOf(addr)].place
	return Placed{estate.Endpoint{Addr: addr, Workload: estate.Outside}, p.class, p.signature}
}

// Rule returns the index in Policy.Rules of the rule that decides, or -1.
func (c *Compiled) Rule(client, server Placed, pt service.Point) int32 {
	return c.rules.decide(client.Class, server.Class, pt)
}

// Decide returns the rule that decides, or nil.
func (c *Compiled) Decide(client, server Placed, pt service.Point) *policy.Rule {
	if r := c.Rule(client, server, pt); r >= 0 {
		return c.Policy.Rules[r]
	}
	return nil
}

// Group returns what a group says of an endpoint.
func (c *Compiled) Group(name string, ep Placed) expr.Truth {
	if g, ok := c.membership.index[name]; ok {
		return c.membership.truths.all()[ep.signature][g]
	}
	return expr.No
}

// Signature numbers what all groups say of the endpoint.
func (p Placed) Signature() int32 { return p.signature }

// Truths returns what each group says of an endpoint, in the order of the policy's
// GroupOrder. It must not be changed.
func (c *Compiled) Truths(ep Placed) []expr.Truth { return c.membership.truths.all()[ep.signature] }

// GroupSizes returns how many workloads are in each group, in the order of the
// policy's GroupOrder: each is asked at its first lease.
func (c *Compiled) GroupSizes() []int {
	truths := c.membership.truths.all()
	counts := make([]int, len(truths))
	for i := range c.places.Len() {
		for _, p := range *c.places.At(i) {
			if p.signature >= 0 {
				counts[p.signature]++
				break
			}
		}
	}
	out := make([]int, len(c.Policy.GroupOrder))
	for sig, n := range counts {
		if n == 0 {
			continue
		}
		for g, t := range truths[sig] {
			if t == expr.Yes {
				out[g] += n
			}
		}
	}
	return out
}

// GroupCount is how many workloads a group has, how many of these hold no address,
// and of how many workloads the group cannot tell.
type GroupCount struct{ In, Unaddressed, Undecided int }

func (n *GroupCount) add(t expr.Truth, workloads int, addressed bool) {
	switch t {
	case expr.Yes:
		n.In += workloads
		if !addressed {
			n.Unaddressed += workloads
		}
	case expr.Undecided:
		n.Undecided += workloads
	}
}

// GroupCounts counts the workloads that are not retired, in the order of the
// policy's GroupOrder: each is asked at the first address that it holds at an
// instant, or else without one.
func (c *Compiled) GroupCounts(at estate.Instant) []GroupCount {
	out := make([]GroupCount, len(c.Policy.GroupOrder))
	truths := c.membership.truths.all()
	counts := make([]int, len(truths))
	walk := NewWalk(c.Estate, c.Policy, c.AsOf)
each:
	for i, w := range c.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		for _, l := range w.Leases {
			if h := c.Estate.Holder(l.Addr, at); h != nil && h.Workload == i {
				counts[(*c.places.At(int(i)))[h.Lease].signature]++
				continue each
			}
		}
		for g, group := range c.Policy.GroupOrder {
			out[g].add(walk.Group(group.Name, estate.Endpoint{Workload: i}), 1, false)
		}
	}
	for sig, n := range counts {
		if n == 0 {
			continue
		}
		for g, t := range truths[sig] {
			out[g].add(t, n, true)
		}
	}
	return out
}

// EachGroup calls f with what each group says of an endpoint.
func (c *Compiled) EachGroup(ep Placed, f func(g *policy.Group, t expr.Truth)) {
	truths := c.membership.truths.all()[ep.signature]
	for i, g := range c.Policy.GroupOrder {
		f(g, truths[i])
	}
}

// Classes returns one more than the highest number of a class.
func (c *Compiled) Classes() int { return len(c.interner.classes.all()) }

// Piece is a stretch of points that one rule decides for a pair of classes;
// Rule is nil where none does.
type Piece struct {
	Points service.Set
	Rule   *policy.Rule
}

// Pieces returns what decides each of the points.
func (c *Compiled) Pieces(t *Table, points service.Set) []Piece {
	var out []Piece
	for i, from := range t.from {
		to := service.All[0].Hi
		if i+1 < len(t.from) {
			to = t.from[i+1] - 1
		}
		if s := points.Intersect(service.Set{{Lo: from, Hi: to}}); len(s) > 0 {
			p := Piece{Points: s}
			if t.rule[i] >= 0 {
				p.Rule = c.Policy.Rules[t.rule[i]]
			}
			out = append(out, p)
		}
	}
	return out
}

// AssertClasses returns the classes that an assertion's lists hold, and whether a
// pair of them is within its clauses.
func (c *Compiled) AssertClasses(assert int) (left, right func(class int32) bool,
	agrees func(client, server int32) bool, points service.Set) {
	m, classes := &c.rules.asserts[assert], c.interner.classes.all()
	left = func(i int32) bool { return m.left.holds(classes[i]) }
	right = func(i int32) bool { return m.right.holds(classes[i]) }
	agrees = func(a, b int32) bool { return m.agrees(classes[a], classes[b]) }
	return left, right, agrees, m.points
}

// Population gives, for each class, up to two endpoints that exist at an
// instant, of different workloads: held addresses first, in the order of
// addresses; then addresses of outside.
func (c *Compiled) Population(t estate.Instant) [][]Placed {
	out := make([][]Placed, c.Classes())
	add := func(p Placed) {
		if have := out[p.Class]; len(have) == 0 || len(have) == 1 && have[0].Workload != p.Workload {
			out[p.Class] = append(have, p)
		}
	}
	c.Estate.Held(t, func(ep estate.Endpoint) { add(c.At(ep.Addr, t)) })
	for _, p := range c.Outside(t) {
		add(p)
	}
	return out
}

// Outside gives, for each part of the outside that the policy's prefixes cut,
// one address that no workload holds at an instant, if there is one.
func (c *Compiled) Outside(t estate.Instant) []Placed {
	var out []Placed
	for i := range c.regions {
		free, ok := divider{c}.firstIn(i, func(a netip.Addr) bool { return c.Estate.Holder(a, t) == nil })
		if ok {
			p := c.regions[i].place
			out = append(out, Placed{estate.Endpoint{Addr: free, Workload: estate.Outside}, p.class, p.signature})
		}
	}
	return out
}
