package decide

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/gaissmai/bart"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Compiled is a policy compiled against an estate.
//
// An endpoint's signature is what the tests of all groups say of its keys, and
// the longest of the policy's prefixes that holds its address: endpoints with
// one signature are in the same groups. Signatures that are in the same lists
// of the rules, with the same values of the keys that "same" and "across" read,
// form a class. Rules cannot tell the endpoints of a class apart, so each pair
// of classes needs one table from services to rules, made when first asked for.
//
// It is safe for use by several goroutines.
type Compiled struct {
	Estate *estate.Estate
	Policy *policy.Policy
	AsOf   estate.Instant

	groupIndex map[string]int32 // into policy.GroupOrder
	prefixes   *bart.Table[int32]
	prefixList []netip.Prefix // all of the policy's, and the two roots
	slots      map[netip.Addr][]slot
	outside    []slot // by index of the longest prefix

	truths  [][]expr.Truth // by signature, then by group
	classes []class
	rules   []matcher
	asserts []matcher

	pairs [][]atomic.Pointer[Table] // by the client's class, then the server's; rows are made when first asked for
	rows  []atomic.Bool

	mu     sync.Mutex
	tables map[string]*Table // by the rules they are made of
}

// slot is a lease with what it was compiled to.
type slot struct {
	from, until      estate.Instant
	workload         int32
	signature, class int32
}

// class is a set of endpoints that no rule can tell apart.
type class struct {
	atoms          bitset // which operands hold its endpoints
	values         []int32
	client, server bitset // the rules whose left, or right, side holds them
}

// matcher is a rule or an assertion with its names resolved.
type matcher struct {
	never        bool // off or expired
	left, right  side
	apart        []int32 // atoms of the groups kept apart, each once
	within, area int32   // atoms, or -1
	same, across []int   // indexes into class.values
	points       service.Set
}

// side is one list: any, or the atoms of its operands.
type side struct {
	any   bool
	atoms []int32
}

func (s side) holds(c *class) bool {
	return s.any || slices.ContainsFunc(s.atoms, c.atoms.has)
}

// Compile compiles a policy, its assertions included.
func Compile(e *estate.Estate, p *policy.Policy, asOf estate.Instant) *Compiled {
	c := &Compiled{
		Estate: e, Policy: p, AsOf: asOf,
		groupIndex: make(map[string]int32, len(p.GroupOrder)),
		prefixes:   new(bart.Table[int32]),
		slots:      make(map[netip.Addr][]slot, len(e.Workloads)),
		tables:     map[string]*Table{},
	}
	for i, g := range p.GroupOrder {
		c.groupIndex[g.Name] = int32(i)
	}
	b := &builder{Compiled: c, atomIndex: map[policy.Operand]int32{}, valued: map[expr.Key]int{}, keys: map[expr.Key]*keyIndex{}, ids: map[string]int32{}, signatures: map[string]int32{}, classIndex: map[string]int32{}, bySignature: map[string]int32{}}
	b.statements()
	b.tests()
	b.endpoints()
	b.sides()
	c.pairs, c.rows = make([][]atomic.Pointer[Table], len(c.classes)), make([]atomic.Bool, len(c.classes))
	return c
}

// builder holds what is needed only while compiling.
type builder struct {
	*Compiled
	atoms      []policy.Operand
	atomIndex  map[policy.Operand]int32
	valued     map[expr.Key]int // keys of same and across → index into class.values
	valueKeys  []expr.Key
	valueIDs   []map[string]int32
	keys       map[expr.Key]*keyIndex
	keyList    []*keyIndex
	ids        map[string]int32 // workload ids that the policy names, from 1
	signatures map[string]int32
	classIndex map[string]int32

	bySignature map[string]int32 // signature and values → class
}

// keyIndex sorts the values of one key by what the tests on the key say of them.
type keyIndex struct {
	key     expr.Key
	equal   map[string][]int32 // folded value → tests that are equalities with it
	others  []*expr.Expr
	tests   int
	classes map[string]int32 // answers of all tests → class of values, from 1
	values  map[string]int32 // value → class; missing is 0
}

func (b *builder) atom(o policy.Operand) int32 {
	o.Pos.Line, o.Pos.Col = 0, 0
	i, ok := b.atomIndex[o]
	if !ok {
		i = int32(len(b.atoms))
		b.atomIndex[o] = i
		b.atoms = append(b.atoms, o)
	}
	return i
}

func (b *builder) groupAtom(name string) int32 { return b.atom(policy.Operand{Name: name}) }

func (b *builder) side(l policy.List) side {
	s := side{any: l.Any}
	for _, o := range l.Items {
		s.atoms = append(s.atoms, b.atom(o))
	}
	return s
}

func (b *builder) valueIndex(keys []expr.Key) []int {
	var out []int
	for _, k := range keys {
		i, ok := b.valued[k]
		if !ok {
			i = len(b.valueKeys)
			b.valued[k] = i
			b.valueKeys = append(b.valueKeys, k)
			b.valueIDs = append(b.valueIDs, map[string]int32{})
		}
		out = append(out, i)
	}
	return out
}

func (b *builder) matcher(c policy.Clauses) matcher {
	m := matcher{within: -1, area: -1}
	if c.Within != nil {
		m.within = b.groupAtom(c.Within.Name)
	}
	if c.Area != nil {
		if a := b.Policy.Areas[c.Area.Name]; a != nil {
			m.area = b.groupAtom(a.Group.Name)
		}
	}
	m.same, m.across = b.valueIndex(c.Same), b.valueIndex(c.Across)
	return m
}

// statements resolves the names in rules and assertions to atoms.
func (b *builder) statements() {
	for _, r := range b.Policy.Rules {
		m := b.matcher(r.Clauses)
		m.never = r.Off || r.Until != nil && r.Until.Past(b.AsOf)
		m.points = b.Policy.Points(r.On)
		if r.Action == policy.Apart {
			for _, g := range r.Groups {
				if a := b.groupAtom(g.Name); !slices.Contains(m.apart, a) {
					m.apart = append(m.apart, a)
				}
			}
			m.left, m.right = side{atoms: m.apart}, side{atoms: m.apart}
		} else {
			m.left, m.right = b.side(r.Left), b.side(r.Right)
		}
		b.rules = append(b.rules, m)
	}
	for _, a := range b.Policy.Asserts {
		m := b.matcher(a.Clauses)
		m.left, m.right, m.points = b.side(a.Left), b.side(a.Right), b.Policy.Points(a.On)
		b.asserts = append(b.asserts, m)
	}
}

// tests collects the keys that groups test, the ids and the prefixes.
func (b *builder) tests() {
	prefix := func(p netip.Prefix) {
		if _, ok := b.prefixes.Get(p); !ok {
			b.prefixes.Insert(p, int32(len(b.prefixList)))
			b.prefixList = append(b.prefixList, p)
		}
	}
	id := func(s string) {
		if _, ok := b.ids[s]; !ok {
			b.ids[s] = int32(len(b.ids) + 1)
		}
	}
	prefix(netip.PrefixFrom(netip.IPv4Unspecified(), 0))
	prefix(netip.PrefixFrom(netip.IPv6Unspecified(), 0))
	for _, a := range b.atoms {
		switch a.Kind {
		case policy.InPrefix:
			prefix(a.Prefix)
		case policy.IsWorkload:
			id(a.Name)
		}
	}
	for _, g := range b.Policy.GroupOrder {
		for _, s := range g.Include {
			id(s)
		}
		for _, s := range g.Exclude {
			id(s)
		}
		g.Expr.Walk(func(e *expr.Expr) {
			switch {
			case e.Op == expr.AddressIn:
				for _, p := range e.Prefixes {
					prefix(p)
				}
			case e.IsTest():
				b.key(e.Key).add(e)
			}
		})
	}
}

func (b *builder) key(k expr.Key) *keyIndex {
	i := b.keys[k]
	if i == nil {
		i = &keyIndex{key: k, equal: map[string][]int32{}, classes: map[string]int32{}, values: map[string]int32{}}
		b.keys[k] = i
		b.keyList = append(b.keyList, i)
	}
	return i
}

func (k *keyIndex) add(e *expr.Expr) {
	switch e.Op {
	case expr.Has, expr.Lacks: // missing has a class of its own
	case expr.Is, expr.IsNot, expr.In, expr.NotIn:
		for _, v := range e.Folded() {
			k.equal[v] = append(k.equal[v], int32(k.tests))
		}
		k.tests++
	default:
		k.others = append(k.others, e)
	}
}

// class gives the class of a value that is not missing.
func (k *keyIndex) class(value string) int32 {
	if c, ok := k.values[value]; ok {
		return c
	}
	var answers []byte
	for _, t := range k.equal[expr.Fold(value)] {
		answers = binary.LittleEndian.AppendUint32(answers, uint32(t))
	}
	answers = append(answers, 0xff, 0xff, 0xff, 0xff)
	for _, e := range k.others {
		if e.Test(value) {
			answers = append(answers, 1)
		} else {
			answers = append(answers, 0)
		}
	}
	c, ok := k.classes[string(answers)]
	if !ok {
		c = int32(len(k.classes) + 1)
		k.classes[string(answers)] = c
	}
	k.values[value] = c
	return c
}

// endpoints gives every lease and every outside region its signature and class.
func (b *builder) endpoints() {
	var buf []byte
	for i := range b.Estate.Workloads {
		w := &b.Estate.Workloads[i]
		buf = buf[:0]
		for _, k := range b.keyList {
			var vc int32
			if v, ok := k.key.Of(w); ok {
				vc = k.class(v)
			}
			buf = binary.LittleEndian.AppendUint32(buf, uint32(vc))
		}
		buf = binary.LittleEndian.AppendUint32(buf, uint32(b.ids[w.ID]))
		values := b.valuesOf(w)
		done := map[netip.Addr]bool(nil)
		for j, l := range w.Leases {
			if l.Empty() || done[l.Addr] {
				continue
			}
			if len(w.Leases) > 1 && j < len(w.Leases)-1 {
				if done == nil {
					done = map[netip.Addr]bool{}
				}
				done[l.Addr] = true
			}
			longest, _ := b.prefixes.Lookup(l.Addr)
			ep := estate.Endpoint{Addr: l.Addr, Workload: int32(i)}
			sig := b.signature(binary.LittleEndian.AppendUint32(buf, uint32(longest)), ep)
			cl := b.class(sig, values, ep)
			for _, claim := range b.Estate.Claims(l.Addr) {
				if claim.Workload == int32(i) {
					b.slots[l.Addr] = append(b.slots[l.Addr], slot{claim.From, claim.Until, int32(i), sig, cl})
				}
			}
		}
	}
	for addr, ss := range b.slots {
		if len(ss) > 1 {
			slices.SortStableFunc(ss, func(x, y slot) int {
				switch {
				case x.from.Before(y.from):
					return -1
				case y.from.Before(x.from):
					return 1
				}
				return 0
			})
			b.slots[addr] = ss
		}
	}
	none := make([]int32, len(b.valueKeys))
	for i, p := range b.prefixList {
		s := slot{workload: estate.Outside}
		if addr, ok := b.firstIn(p, func(netip.Addr) bool { return true }); ok {
			ep := estate.Endpoint{Addr: addr, Workload: estate.Outside}
			key := append([]byte("outside"), binary.LittleEndian.AppendUint32(nil, uint32(i))...)
			s.signature = b.signature(key, ep)
			s.class = b.class(s.signature, none, ep)
		}
		b.outside = append(b.outside, s)
	}
}

func (b *builder) valuesOf(w *estate.Workload) []int32 {
	out := make([]int32, len(b.valueKeys))
	for i, k := range b.valueKeys {
		if v, ok := k.Of(w); ok {
			v = expr.Fold(v)
			id, known := b.valueIDs[i][v]
			if !known {
				id = int32(len(b.valueIDs[i]) + 1)
				b.valueIDs[i][v] = id
			}
			out[i] = id
		}
	}
	return out
}

// signature evaluates all groups for an endpoint, or finds that it was done for
// one that no test can tell from it.
func (b *builder) signature(key []byte, ep estate.Endpoint) int32 {
	if s, ok := b.signatures[string(key)]; ok {
		return s
	}
	s := int32(len(b.truths))
	b.signatures[string(key)] = s
	truths := make([]expr.Truth, len(b.Policy.GroupOrder))
	subject := Subject(b.Estate, ep)
	for i, g := range b.Policy.GroupOrder {
		truths[i] = GroupSays(g, subject, func(name string) expr.Truth {
			if j, ok := b.groupIndex[name]; ok {
				return truths[j]
			}
			return expr.No
		})
	}
	b.truths = append(b.truths, truths)
	return s
}

func (b *builder) class(sig int32, values []int32, ep estate.Endpoint) int32 {
	known := binary.LittleEndian.AppendUint32(make([]byte, 0, 4+4*len(values)), uint32(sig))
	for _, v := range values {
		known = binary.LittleEndian.AppendUint32(known, uint32(v))
	}
	c, ok := b.bySignature[string(known)]
	if !ok {
		c = b.newClass(sig, values, ep)
		b.bySignature[string(known)] = c
	}
	return c
}

// newClass finds or makes the class of a signature and values. A signature says
// all that the operands read, so any of its endpoints stands for the others.
func (b *builder) newClass(sig int32, values []int32, ep estate.Endpoint) int32 {
	atoms := newBitset(len(b.atoms))
	for i, a := range b.atoms {
		in := false
		switch a.Kind {
		case policy.InGroup:
			g, ok := b.groupIndex[a.Name]
			in = ok && b.truths[sig][g] == expr.Yes
		case policy.IsOutside:
			in = ep.Workload == estate.Outside
		case policy.InPrefix:
			in = a.Prefix.Contains(ep.Addr)
		case policy.IsWorkload:
			in = ep.Workload != estate.Outside && b.Estate.Workloads[ep.Workload].ID == a.Name
		}
		if in {
			atoms.set(int32(i))
		}
	}
	key := make([]byte, 0, 8*len(atoms)+4*len(values))
	for _, w := range atoms {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	for _, v := range values {
		key = binary.LittleEndian.AppendUint32(key, uint32(v))
	}
	c, ok := b.classIndex[string(key)]
	if !ok {
		c = int32(len(b.classes))
		b.classIndex[string(key)] = c
		b.classes = append(b.classes, class{atoms: atoms, values: slices.Clone(values)})
	}
	return c
}

// sides notes for each class the rules whose left and right side hold it.
func (b *builder) sides() {
	n := len(b.rules)
	always := [2]bitset{newBitset(n), newBitset(n)}
	byAtom := [2][]bitset{make([]bitset, len(b.atoms)), make([]bitset, len(b.atoms))}
	for r, m := range b.rules {
		if m.never {
			continue
		}
		for k, s := range [2]side{m.left, m.right} {
			if s.any {
				always[k].set(int32(r))
			}
			for _, a := range s.atoms {
				if byAtom[k][a] == nil {
					byAtom[k][a] = newBitset(n)
				}
				byAtom[k][a].set(int32(r))
			}
		}
	}
	for i := range b.classes {
		c := &b.classes[i]
		c.client, c.server = slices.Clone(always[0]), slices.Clone(always[1])
		for a := range b.atoms {
			if !c.atoms.has(int32(a)) {
				continue
			}
			if s := byAtom[0][a]; s != nil {
				c.client.unite(s)
			}
			if s := byAtom[1][a]; s != nil {
				c.server.unite(s)
			}
		}
	}
}

// firstIn gives the first address of a prefix that no longer prefix of the
// policy holds and that is ok.
func (c *Compiled) firstIn(p netip.Prefix, ok func(netip.Addr) bool) (netip.Addr, bool) {
	own, _ := c.prefixes.Get(p)
	for a := p.Addr(); a.IsValid() && p.Contains(a); {
		if a.Is4In6() { // these are read as IPv4, so no IPv6 endpoint has one
			a = behindMapped
			continue
		}
		longest, _ := c.prefixes.Lookup(a)
		if longest != own {
			a = last(c.prefixList[longest]).Next()
			continue
		}
		if ok(a) {
			return a, true
		}
		a = a.Next()
	}
	return netip.Addr{}, false
}

// behindMapped is the first address after ::ffff:0:0/96.
var behindMapped = netip.MustParseAddr("::1:0:0:0")

// last gives the highest address of a prefix.
func last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}
