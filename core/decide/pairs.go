package decide

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"sync/atomic"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Table maps every point to the rule that decides it: from[i] up to from[i+1]
// belongs to rule[i], -1 for none.
type Table struct {
	from []service.Point
	rule []int32
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

// pair gives the table of two classes.
func (c *Compiled) pair(client, server int32) *Table {
	if c.rows[client].Load() {
		if t := c.pairs[client][server].Load(); t != nil {
			return t
		}
	}
	return c.makePair(client, server)
}

// makePair finds the table of two classes and remembers it.
func (c *Compiled) makePair(client, server int32) *Table {
	t := c.Table(client, server)
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.rows[client].Load() {
		c.pairs[client] = make([]atomic.Pointer[Table], len(c.classes))
		c.rows[client].Store(true)
	}
	c.pairs[client][server].Store(t)
	return t
}

// Table merges the rules that can match for a pair of classes. Pairs for which
// the same rules can match have the same Table. Unlike Rule it remembers nothing
// about the pair: for those who ask about all of them.
func (c *Compiled) Table(client, server int32) *Table {
	a, b := &c.classes[client], &c.classes[server]
	var which []int32
	var room [256]byte
	name := room[:0]
	eachBoth(a.client, b.server, func(r int32) bool {
		if c.rules[r].agrees(a, b) {
			which = append(which, r)
			name = binary.LittleEndian.AppendUint32(name, uint32(r))
			// What comes after a rule on any cannot decide.
			return !c.Policy.Rules[r].On.Any
		}
		return true
	})
	c.mu.Lock()
	defer c.mu.Unlock()
	t := c.tables[string(name)]
	if t == nil {
		t = c.merge(which)
		c.tables[string(name)] = t
	}
	return t
}

// agrees reports whether the clauses, and for a separation the groups, hold for
// a pair of classes that the two sides of the rule hold.
func (m *matcher) agrees(a, b *class) bool {
	if m.within >= 0 && !(a.atoms.has(m.within) && b.atoms.has(m.within)) {
		return false
	}
	if m.area >= 0 && !a.atoms.has(m.area) && !b.atoms.has(m.area) {
		return false
	}
	for _, k := range m.same {
		if a.values[k] == 0 || a.values[k] != b.values[k] {
			return false
		}
	}
	for _, k := range m.across {
		if a.values[k] == 0 || b.values[k] == 0 || a.values[k] == b.values[k] {
			return false
		}
	}
	if m.apart == nil {
		return true
	}
	for _, g := range m.apart {
		if !a.atoms.has(g) {
			continue
		}
		for _, h := range m.apart {
			if g != h && b.atoms.has(h) {
				return true
			}
		}
	}
	return false
}

// merge cuts the line of points by the rules, the first one first.
func (c *Compiled) merge(which []int32) *Table {
	type piece struct {
		service.Range
		rule int32
	}
	var pieces []piece
	rest := service.All
	for _, r := range which {
		for _, cut := range rest.Intersect(c.rules[r].points) {
			pieces = append(pieces, piece{cut, r})
		}
		if rest = rest.Minus(c.rules[r].points); len(rest) == 0 {
			break
		}
	}
	for _, r := range rest {
		pieces = append(pieces, piece{r, -1})
	}
	slices.SortFunc(pieces, func(a, b piece) int { return int(int64(a.Lo) - int64(b.Lo)) })
	t := &Table{}
	for _, p := range pieces {
		if n := len(t.rule); n > 0 && t.rule[n-1] == p.rule {
			continue
		}
		t.from = append(t.from, p.Lo)
		t.rule = append(t.rule, p.rule)
	}
	return t
}

// Placed is an endpoint with the class that it was compiled to.
type Placed struct {
	estate.Endpoint
	Class     int32
	signature int32
}

// At resolves an address at an instant.
func (c *Compiled) At(addr netip.Addr, t estate.Instant) Placed {
	addr = addr.Unmap()
	ss := c.slots[addr]
	for k := len(ss) - 1; k >= 0; k-- {
		if s := &ss[k]; !t.Before(s.from) && t.Before(s.until) {
			return Placed{estate.Endpoint{Addr: addr, Workload: s.workload}, s.class, s.signature}
		}
	}
	longest, _ := c.prefixes.Lookup(addr)
	s := &c.outside[longest]
	return Placed{estate.Endpoint{Addr: addr, Workload: estate.Outside}, s.class, s.signature}
}

// Rule gives the index in Policy.Rules of the rule that decides, or -1.
func (c *Compiled) Rule(client, server Placed, pt service.Point) int32 {
	return c.pair(client.Class, server.Class).at(pt)
}

// Decide gives the rule that decides, or nil.
func (c *Compiled) Decide(client, server Placed, pt service.Point) *policy.Rule {
	if r := c.Rule(client, server, pt); r >= 0 {
		return c.Policy.Rules[r]
	}
	return nil
}

// Group gives what a group says of an endpoint.
func (c *Compiled) Group(name string, ep Placed) expr.Truth {
	if g, ok := c.groupIndex[name]; ok {
		return c.truths[ep.signature][g]
	}
	return expr.No
}

// EachGroup calls f with what each group says of an endpoint.
func (c *Compiled) EachGroup(ep Placed, f func(g *policy.Group, t expr.Truth)) {
	for i, g := range c.Policy.GroupOrder {
		f(g, c.truths[ep.signature][i])
	}
}

// Classes gives how many classes the endpoints fall into.
func (c *Compiled) Classes() int { return len(c.classes) }

// Piece is a stretch of points that one rule decides for a pair of classes;
// Rule is nil where none does.
type Piece struct {
	Points service.Set
	Rule   *policy.Rule
}

// Pieces gives what decides each of the points.
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

// AssertClasses gives the classes that an assertion's lists hold, and whether a
// pair of them is within its clauses.
func (c *Compiled) AssertClasses(assert int) (left, right func(class int32) bool, agrees func(client, server int32) bool, points service.Set) {
	m := &c.asserts[assert]
	left = func(i int32) bool { return m.left.holds(&c.classes[i]) }
	right = func(i int32) bool { return m.right.holds(&c.classes[i]) }
	agrees = func(a, b int32) bool { return m.agrees(&c.classes[a], &c.classes[b]) }
	return left, right, agrees, m.points
}

// Population gives, for each class, up to two endpoints that exist at an
// instant, of different workloads: held addresses first, in the order of
// addresses; then addresses of outside.
func (c *Compiled) Population(t estate.Instant) [][]Placed {
	out := make([][]Placed, len(c.classes))
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
	for i, p := range c.prefixList {
		free, ok := c.firstIn(p, func(a netip.Addr) bool { return c.Estate.At(a, t).Workload == estate.Outside })
		if ok {
			out = append(out, Placed{estate.Endpoint{Addr: free, Workload: estate.Outside}, c.outside[i].class, c.outside[i].signature})
		}
	}
	return out
}
