package decide

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/immutable"
	"lucidorchard/core/policy"
)

// divider divides endpoints into classes that no rule tells apart.
type divider struct{ *Compiled }

// Compiled is a policy compiled against an estate.
//
// An endpoint's signature is what all groups say of it. Endpoints that are in
// the same lists of the rules, with the same values of the keys that "same" and
// "across" read, form a class. Rules cannot tell the endpoints of a class apart,
// so each pair of classes needs one table from services to rules, made when
// first asked for.
//
// It is never changed and safe for use by several goroutines. WithEstate and
// WithPolicy give another one, which shares all that stays.
type Compiled struct {
	Estate *estate.Estate
	Policy *policy.Policy
	AsOf   estate.Instant

	interner   *interner
	membership *membership
	rules      *rules

	atoms  bitset // of the interner, in use: only they are in the classes
	values []int  // value keys of the interner, in use

	prefixes *bart.Table[int32] // region of each longest prefix
	regions  []region
	places   immutable.Vector[[]place] // by workload and lease
}

// place is what an endpoint is compiled to.
type place struct{ signature, class int32 }

// region is the addresses that a prefix holds and no longer one does.
type region struct {
	prefix netip.Prefix
	place  place // of its addresses outside
	empty  bool  // it has no addresses
}

// roots are the prefixes that hold everything.
var roots = []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}

// Compile compiles a policy, its assertions included.
func Compile(e *estate.Estate, p *policy.Policy, asOf estate.Instant) *Compiled {
	b := newInterner()
	c := &Compiled{Estate: e, Policy: p, AsOf: asOf, interner: b, membership: newMembership(p),
		rules: newRules(b, p, asOf), prefixes: new(bart.Table[int32])}
	c.atoms, c.values = c.rules.operands()
	divider{c}.divide(append(slices.Clone(roots), divider{c}.mentioned()...))
	m := divider{c}.newPlacer(divider{c}.signNew)
	for i := range c.regions {
		m.region(i, -1)
	}
	places := make([][]place, e.Bound())
	for i := range places {
		places[i] = m.workload(int32(i), nil)
	}
	c.places = immutable.VectorOf(places)
	return c
}

// mentioned returns the prefixes of the policy.
func (c divider) mentioned() []netip.Prefix {
	var out []netip.Prefix
	atoms := c.interner.atoms.all()
	c.atoms.each(func(a int32) {
		if atoms[a].Kind == policy.InPrefix {
			out = append(out, atoms[a].Prefix)
		}
	})
	for _, g := range c.Policy.GroupOrder {
		g.Expr.Walk(func(e *expr.Expr) {
			if e.Op == expr.AddressIn {
				out = append(out, e.Prefixes...)
			}
		})
	}
	return out
}

// divide adds regions for prefixes that have none yet, and reports which they
// are; the table is another one then.
func (c divider) divide(prefixes []netip.Prefix) (fresh []int) {
	var added []region
	for _, p := range prefixes {
		if _, ok := c.prefixes.Get(p); !ok {
			n := len(c.regions) + len(added)
			c.prefixes = c.prefixes.InsertPersist(p, int32(n))
			fresh = append(fresh, n)
			added = append(added, region{prefix: p})
		}
	}
	c.regions = append(slices.Clip(c.regions), added...)
	return fresh
}

// regionOf returns the region that holds an address.
func (c divider) regionOf(addr netip.Addr) int32 {
	i, _ := c.prefixes.Lookup(addr)
	return i
}

// Region returns the longest of the policy's prefixes that holds an address: the
// policy cannot tell addresses outside in one region apart.
func (c *Compiled) Region(addr netip.Addr) netip.Prefix {
	return c.regions[divider{c}.regionOf(addr)].prefix
}

// placer places endpoints. It remembers classes by what was read to find them.
type placer struct {
	*Compiled
	sign    func(ep estate.Endpoint, before int32) int32 // before: the signature it had, or -1
	groups  []int32                                      // by atom: the group to look at, or -1
	others  []int32                                      // atoms that are of outside
	blocks  map[netip.Prefix]int32                       // atoms that are prefixes
	lengths [2][]int                                     // of these, of IPv4 and of IPv6
	ids     map[string]int32                             // atoms that are workloads
	named   map[string]int32                             // workloads that rules name → 1, 2, …
	classes map[string]int32                             // signature, region, name and values → class
}

func (c divider) newPlacer(sign func(ep estate.Endpoint, before int32) int32) *placer {
	m := &placer{Compiled: c.Compiled, sign: sign, blocks: map[netip.Prefix]int32{}, ids: map[string]int32{},
		named: map[string]int32{}, classes: map[string]int32{}}
	atoms := c.interner.atoms.all()
	m.groups = make([]int32, len(atoms))
	for i := range m.groups {
		m.groups[i] = -1
	}
	c.atoms.each(func(a int32) {
		switch atoms[a].Kind {
		case policy.InGroup:
			if g, ok := c.membership.index[atoms[a].Name]; ok {
				m.groups[a] = g
			}
			return
		case policy.IsWorkload:
			m.named[atoms[a].Name] = int32(len(m.named) + 1)
			m.ids[atoms[a].Name] = a
			return
		case policy.InPrefix:
			p := atoms[a].Prefix
			m.blocks[p] = a
			if l := &m.lengths[family(p.Addr())]; !slices.Contains(*l, p.Bits()) {
				*l = append(*l, p.Bits())
			}
			return
		}
		m.others = append(m.others, a)
	})
	return m
}

// family is 0 for IPv4 and 1 for IPv6.
func family(a netip.Addr) int {
	if a.Is4() {
		return 0
	}
	return 1
}

// signNew asks the groups of which nothing is known yet.
func (c divider) signNew(ep estate.Endpoint, _ int32) int32 {
	return c.membership.sign(c.Estate, ep, c.regionNumber(ep.Addr), nil, nil)
}

// regionNumber returns a number of the address's region that no other prefix has
// along the line of updates.
func (c divider) regionNumber(addr netip.Addr) int32 {
	return c.interner.prefix(c.regions[c.regionOf(addr)].prefix)
}

// place finds the signature and class of an endpoint.
func (m *placer) place(ep estate.Endpoint, values []int32, before int32) place {
	sig := m.sign(ep, before)
	id := ""
	var room [64]byte
	key := binary.LittleEndian.AppendUint32(room[:0], uint32(sig))
	key = binary.LittleEndian.AppendUint32(key, uint32(divider{m.Compiled}.regionOf(ep.Addr)))
	if ep.Workload != estate.Outside {
		id = m.Estate.Workload(ep.Workload).ID
		key = binary.LittleEndian.AppendUint32(key, uint32(m.named[id]))
		for _, v := range values {
			key = binary.LittleEndian.AppendUint32(key, uint32(v))
		}
	}
	if cl, ok := m.classes[string(key)]; ok {
		return place{sig, cl}
	}
	atoms := newBitset(len(m.groups))
	truths := m.membership.truths.all()[sig]
	m.atoms.each(func(a int32) {
		if g := m.groups[a]; g >= 0 && truths[g] == expr.Yes {
			atoms.set(a)
		}
	})
	all := m.interner.atoms.all()
	for _, a := range m.others {
		switch all[a].Kind {
		case policy.IsOutside:
			if ep.Workload == estate.Outside {
				atoms.set(a)
			}
		}
	}
	if a, named := m.ids[id]; named && ep.Workload != estate.Outside {
		atoms.set(a)
	}
	for _, bits := range m.lengths[family(ep.Addr)] {
		if p, err := ep.Addr.Prefix(bits); err == nil {
			if a, ok := m.blocks[p]; ok {
				atoms.set(a)
			}
		}
	}
	cl := m.interner.class(atoms, values)
	m.classes[string(key)] = cl
	return place{sig, cl}
}

// workload places a workload at each of its leases; before is where it was.
func (m *placer) workload(i int32, before []place) []place {
	w := m.Estate.Workload(i)
	if w == nil {
		return nil
	}
	values := m.interner.values(w, m.values)
	out := make([]place, len(w.Leases))
	for j, l := range w.Leases {
		if l.Empty() {
			out[j] = place{-1, -1}
			continue
		}
		was := int32(-1)
		if j < len(before) {
			was = before[j].signature
		}
		out[j] = m.place(estate.Endpoint{Addr: l.Addr, Workload: i}, values, was)
	}
	return out
}

// region places the addresses outside in a region; before is the signature that
// they had.
func (m *placer) region(i int, before int32) {
	r := &m.regions[i]
	addr, ok := divider{m.Compiled}.firstIn(i, func(netip.Addr) bool { return true })
	if r.empty = !ok; ok {
		r.place = m.place(estate.Endpoint{Addr: addr, Workload: estate.Outside}, nil, before)
	}
}

// firstIn returns the first address of a region that is ok.
func (c divider) firstIn(r int, ok func(netip.Addr) bool) (netip.Addr, bool) {
	p := c.regions[r].prefix
	for a := p.Addr(); a.IsValid() && p.Contains(a); {
		if a.Is4In6() { // these are read as IPv4, so no IPv6 endpoint has one
			a = behindMapped
			continue
		}
		if longest := c.regionOf(a); longest != int32(r) {
			a = last(c.regions[longest].prefix).Next()
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

// last returns the highest address of a prefix.
func last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}
