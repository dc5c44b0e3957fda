package decide

import (
	"encoding/binary"
	"slices"
	"sync"
	"sync/atomic"

	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// rules is the rules and assertions of a policy with, for pairs of classes, the
// tables that were asked for. All compilations with the same policy share it.
type rules struct {
	interner       *interner
	policy         *policy.Policy
	rules, asserts []matcher
	always         [2]bitset // rules whose left, or right, side is any
	byAtom         [2]map[int32]bitset

	mu     sync.Mutex
	rows   grow[*row]        // by class
	tables map[string]*Table // by the rules they are made of
	arena  grow[uint32]      // all tables one after the other, see store
	stored map[uint32]*Table // by place in the arena
	before atomic.Pointer[older]
}

// row is what the rules say of one class.
type row struct {
	client, server bitset                          // the rules whose left, or right, side holds it
	tables         atomic.Pointer[[]atomic.Uint32] // by the server's class: place in the arena, 0 for none yet
}

// older is the rules before an update, from which tables are taken over where
// no rule that changed can match.
type older struct {
	*rules
	now     []int32 // index of each of its rules today, or -1
	changed [2][]int32
	renamed map[*Table]*Table
}

func newRules(b *interner, p *policy.Policy, asOf estate.Instant) *rules {
	rs := &rules{interner: b, policy: p, tables: map[string]*Table{}, stored: map[uint32]*Table{}}
	rs.arena.add(0) // a place is not 0
	for _, r := range p.Rules {
		m := rs.matcher(r.Clauses)
		m.never = over(r, asOf)
		m.points = p.Points(r.On)
		if r.Action == policy.Apart {
			for _, g := range r.Groups {
				if a := rs.group(g.Name); !slices.Contains(m.apart, a) {
					m.apart = append(m.apart, a)
				}
			}
			m.left, m.right = side{atoms: m.apart}, side{atoms: m.apart}
		} else {
			m.left, m.right = rs.side(r.Left), rs.side(r.Right)
		}
		rs.rules = append(rs.rules, m)
	}
	for _, a := range p.Asserts {
		m := rs.matcher(a.Clauses)
		m.left, m.right, m.points = rs.side(a.Left), rs.side(a.Right), p.Points(a.On)
		rs.asserts = append(rs.asserts, m)
	}
	n := len(rs.rules)
	rs.always = [2]bitset{newBitset(n), newBitset(n)}
	rs.byAtom = [2]map[int32]bitset{{}, {}}
	for r, m := range rs.rules {
		if m.never {
			continue
		}
		for k, s := range [2]side{m.left, m.right} {
			if s.any {
				rs.always[k].set(int32(r))
			}
			for _, a := range s.atoms {
				if rs.byAtom[k][a] == nil {
					rs.byAtom[k][a] = newBitset(n)
				}
				rs.byAtom[k][a].set(int32(r))
			}
		}
	}
	return rs
}

// over reports whether a rule matches nothing at an instant: it is off, or its
// last day is over.
func over(r *policy.Rule, at estate.Instant) bool { return r.Off || r.Until != nil && r.Until.Past(at) }

// sameAt reports whether the same rules are over at another instant.
func (rs *rules) sameAt(at estate.Instant) bool {
	for i, r := range rs.policy.Rules {
		if rs.rules[i].never != over(r, at) {
			return false
		}
	}
	return true
}

func (rs *rules) group(name string) int32 { return rs.interner.atom(policy.Operand{Name: name}) }

func (rs *rules) side(l policy.List) side {
	s := side{any: l.Any}
	for _, o := range l.Items {
		s.atoms = append(s.atoms, rs.interner.atom(o))
	}
	return s
}

func (rs *rules) matcher(c policy.Clauses) matcher {
	m := matcher{within: -1, area: -1}
	if c.Within != nil {
		m.within = rs.group(c.Within.Name)
	}
	if c.Area != nil {
		if a := rs.policy.Areas[c.Area.Name]; a != nil {
			m.area = rs.group(a.Group.Name)
		}
	}
	for _, k := range c.Same {
		m.same = append(m.same, rs.interner.valueKey(k))
	}
	for _, k := range c.Across {
		m.across = append(m.across, rs.interner.valueKey(k))
	}
	return m
}

// operands returns the atoms and the value keys that the rules and assertions use.
func (rs *rules) operands() (atoms bitset, keys []int) {
	use := func(a int32) {
		for int(a>>6) >= len(atoms) {
			atoms = append(atoms, 0)
		}
		atoms.set(a)
	}
	for _, list := range [][]matcher{rs.rules, rs.asserts} {
		for i := range list {
			m := &list[i]
			for _, a := range slices.Concat(m.left.atoms, m.right.atoms, m.apart) {
				use(a)
			}
			for _, a := range []int32{m.within, m.area} {
				if a >= 0 {
					use(a)
				}
			}
			for _, k := range slices.Concat(m.same, m.across) {
				if !slices.Contains(keys, k) {
					keys = append(keys, k)
				}
			}
		}
	}
	slices.Sort(keys)
	return atoms, keys
}

// row returns what the rules say of a class.
func (rs *rules) row(class int32) *row {
	if rows := rs.rows.all(); int(class) < len(rows) {
		return rows[class]
	}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	for _, c := range rs.interner.classes.all()[len(rs.rows.all()):] {
		r := &row{client: slices.Clone(rs.always[0]), server: slices.Clone(rs.always[1])}
		c.atoms.each(func(a int32) {
			if s := rs.byAtom[0][a]; s != nil {
				r.client.unite(s)
			}
			if s := rs.byAtom[1][a]; s != nil {
				r.server.unite(s)
			}
		})
		rs.rows.add(r)
	}
	return rs.rows.all()[class]
}

// decide returns the index of the rule that decides a point for two classes, or
// -1. It is the inner loop of everything that decides much.
func (rs *rules) decide(client, server int32, pt service.Point) int32 {
	if place := rs.placeOf(rs.rows.all(), client, server); place != 0 {
		t := rs.arena.all()[place:]
		return ruleIn(t, t[0], uint32(pt))
	}
	return rs.makePair(client, server).at(pt)
}

// placeOf returns where the table of two classes stands in the arena; 0: it does not
// yet.
func (rs *rules) placeOf(rows []*row, client, server int32) uint32 {
	if int(client) < len(rows) {
		if ts := rows[client].tables.Load(); ts != nil && int(server) < len(*ts) {
			return (*ts)[server].Load()
		}
	}
	return 0
}

// few is up to how many pieces are counted through instead of halved: that needs
// no jump that a processor would have to guess.
const few = 12

// ruleIn finds the rule for a point in a table of n pieces in the arena.
func ruleIn(t []uint32, n, pt uint32) int32 {
	from := t[1 : 1+n]
	i := 0
	if n <= few {
		for _, f := range from[1:] {
			one := 0
			if f <= pt {
				one = 1
			}
			i += one
		}
	} else {
		i = search(from, pt)
	}
	return int32(t[1+n+uint32(i)])
}

// block is how many rows are looked up side by side.
const block = 256

// lookups is what is looked up for a block of rows.
type lookups struct {
	a, b   [block]int32 // classes
	tables [block][]atomic.Uint32
	places [block]uint32 // in the arena; 0: the table is not there yet
	sizes  [block]uint32 // pieces of the table
}

// find looks a block up. Each step is done for all rows before the next one is:
// so what the memory takes long to bring is waited for once, not row by row. It
// gives the arena.
func (l *lookups) find(rs *rules, clients, servers, classes []int32) []uint32 {
	for i := range clients {
		l.a[i], l.b[i] = classes[clients[i]], classes[servers[i]]
	}
	rows := rs.rows.all()
	for i := range clients {
		l.tables[i] = nil
		if int(l.a[i]) < len(rows) {
			if ts := rows[l.a[i]].tables.Load(); ts != nil {
				l.tables[i] = *ts
			}
		}
	}
	for i := range clients {
		l.places[i] = 0
		if ts := l.tables[i]; int(l.b[i]) < len(ts) {
			l.places[i] = ts[l.b[i]].Load()
		}
	}
	arena := rs.arena.all()
	for i := range clients {
		l.sizes[i] = arena[l.places[i]]
	}
	return arena
}

// decideAll decides rows of columns into rules.
func (rs *rules) decideAll(cols Columns, classes, rules []int32) {
	var l lookups
	for from := 0; from < len(cols.Client); from += block {
		to := min(from+block, len(cols.Client))
		arena := l.find(rs, cols.Client[from:to], cols.Server[from:to], classes)
		out := rules[from:to]
		for i, pt := range cols.Point[from:to] {
			if l.places[i] != 0 {
				out[i] = ruleIn(arena[l.places[i]:], l.sizes[i], uint32(pt))
			} else {
				out[i] = rs.makePair(l.a[i], l.b[i]).at(pt)
			}
		}
	}
}

// search returns the last place whose value is not above x, in a rising list whose
// first is not.
func search(from []uint32, x uint32) int {
	i, j := 0, len(from)
	for i+1 < j {
		if m := (i + j) / 2; from[m] <= x {
			i = m
		} else {
			j = m
		}
	}
	return i
}

// store writes a table into the arena: how many pieces it has, where each
// begins, and the rule of each. The lock is held.
func (rs *rules) store(t *Table) {
	words := make([]uint32, 0, 1+2*len(t.from))
	words = append(words, uint32(len(t.from)))
	for _, f := range t.from {
		words = append(words, uint32(f))
	}
	for _, r := range t.rule {
		words = append(words, uint32(r))
	}
	t.place = uint32(rs.arena.add(words...))
	rs.stored[t.place] = t
}

// makePair finds the table of two classes and remembers it.
func (rs *rules) makePair(client, server int32) *Table {
	t := rs.carried(client, server)
	if t == nil {
		t = rs.table(client, server)
	}
	r := rs.row(client)
	rs.mu.Lock()
	defer rs.mu.Unlock()
	ts := r.tables.Load()
	if ts == nil || int(server) >= len(*ts) {
		n := max(len(rs.interner.classes.all()), int(server)+1)
		next := make([]atomic.Uint32, n+n/16)
		if ts != nil {
			for i := range *ts {
				next[i].Store((*ts)[i].Load())
			}
		}
		r.tables.Store(&next)
		ts = &next
	}
	if t.place == 0 {
		rs.store(t)
	}
	(*ts)[server].Store(t.place)
	return t
}

// table merges the rules that can match for a pair of classes. Pairs for which
// the same rules can match have the same table. It remembers nothing about the
// pair.
func (rs *rules) table(client, server int32) *Table {
	classes := rs.interner.classes.all()
	a, b := classes[client], classes[server]
	var which []int32
	var room [256]byte
	name := room[:0]
	eachBoth(rs.row(client).client, rs.row(server).server, func(r int32) bool {
		if rs.rules[r].agrees(a, b) {
			which = append(which, r)
			name = binary.LittleEndian.AppendUint32(name, uint32(r))
			// What comes after a rule on any cannot decide.
			return !rs.policy.Rules[r].On.Any
		}
		return true
	})
	rs.mu.Lock()
	defer rs.mu.Unlock()
	t := rs.tables[string(name)]
	if t == nil {
		t = rs.merge(which)
		rs.tables[string(name)] = t
	}
	return t
}

// carried takes the table of a pair over from the rules before the update, if
// it was made then and none of the rules that changed can match for the pair.
func (rs *rules) carried(client, server int32) *Table {
	o := rs.before.Load()
	if o == nil {
		return nil
	}
	rows := o.rows.all()
	if int(client) >= len(rows) || int(server) >= len(rows) {
		return nil
	}
	ts := rows[client].tables.Load()
	if ts == nil || int(server) >= len(*ts) {
		return nil
	}
	place := (*ts)[server].Load()
	if place == 0 || o.touches(o.changed[0], client, server) || rs.touches(o.changed[1], client, server) {
		return nil
	}
	o.mu.Lock()
	t := o.stored[place]
	o.mu.Unlock()
	rs.mu.Lock()
	defer rs.mu.Unlock()
	have, ok := o.renamed[t]
	if !ok {
		have = &Table{from: t.from, rule: slices.Clone(t.rule)}
		for i, r := range have.rule {
			if r >= 0 {
				have.rule[i] = o.now[r]
			}
		}
		o.renamed[t] = have
	}
	return have
}

// touches reports whether one of the rules can match for a pair of classes.
func (rs *rules) touches(which []int32, client, server int32) bool {
	if len(which) == 0 {
		return false
	}
	classes := rs.interner.classes.all()
	c, s := rs.row(client), rs.row(server)
	return slices.ContainsFunc(which, func(r int32) bool {
		return c.client.has(r) && s.server.has(r) && rs.rules[r].agrees(classes[client], classes[server])
	})
}

// merge cuts the line of points by the rules, the first one first.
func (rs *rules) merge(which []int32) *Table {
	type piece struct {
		service.Range
		rule int32
	}
	var pieces []piece
	rest := service.All
	for _, r := range which {
		for _, cut := range rest.Intersect(rs.rules[r].points) {
			pieces = append(pieces, piece{cut, r})
		}
		if rest = rest.Minus(rs.rules[r].points); len(rest) == 0 {
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
