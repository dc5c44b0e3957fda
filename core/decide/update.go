package decide

import (
	"context"
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Update is the step from one compilation to the next: what changed by it.
type Update struct {
	Before, After *Compiled
	Moved         []Moved
	// Rules has, for each rule before, its index afterwards; -1 for one that was
	// removed, or that matches other flows or stands elsewhere among the others.
	Rules []int32
	fresh []int32 // rules afterwards that no rule before is
	alike map[[2]int32]bool
}

// Moved is addresses whose endpoints have another class, other groups or another
// workload than before, during the span [From, Until): one address, or all of a
// region that no workload holds.
type Moved struct {
	Where         netip.Prefix
	Outside       bool // all addresses outside whose region it is
	From, Until   estate.Instant
	Before, After Placed
}

// PairChange is a pair of classes for which some points get another answer.
type PairChange struct {
	Client, Server int32
	Verdict        service.Set // points with another verdict
	Rule           service.Set // points that another rule decides, or one that was changed; those of Verdict included
}

// Worn reports whether updates have left so much behind that a new compilation
// is due.
func (c *Compiled) Worn() bool {
	classes := 0
	c.inUse().each(func(int32) { classes++ })
	return c.Classes() > 2*classes+1024 || len(c.membership.truths.all()) > 2*c.Estate.Len()+4096
}

// inUse returns the classes that have endpoints.
func (c *Compiled) inUse() bitset {
	out := newBitset(c.Classes())
	for i := range c.places.Len() {
		for _, p := range *c.places.At(i) {
			if p.class >= 0 {
				out.set(p.class)
			}
		}
	}
	for _, r := range c.regions {
		if !r.empty {
			out.set(r.place.class)
		}
	}
	return out
}

// WithEstate compiles the same policy against an estate that was made from this
// one by With; touched are the workloads that With put or removed. Only they are
// looked at, and only groups that read a key that changed.
func (c *Compiled) WithEstate(e *estate.Estate, touched []int32) *Update {
	next := *c
	next.Estate = e
	var keys []expr.Key
	var carried, known []int32 // groups that do not read the keys, for all and for the workload at hand
	m := divider{&next}.newPlacer(func(ep estate.Endpoint, before int32) int32 {
		if before < 0 || known == nil {
			return divider{&next}.signNew(ep, -1)
		}
		return next.membership.sign(e, ep, divider{&next}.regionNumber(ep.Addr), known,
			next.membership.truths.all()[before])
	})
	places := c.places.Edit()
	var addrs []netip.Addr
	for _, i := range touched {
		for int(i) >= places.Len() {
			places.Append(nil)
		}
		var was *estate.Workload
		if int(i) < c.Estate.Bound() {
			was = c.Estate.Workload(i)
		}
		is := e.Workload(i)
		known = nil
		if was != nil && is != nil && slices.Equal(was.Leases, is.Leases) {
			if changed := changedKeys(was, is); carried == nil || !slices.Equal(changed, keys) {
				keys, carried = changed, c.membership.carryAll(changed)
			}
			known = carried
		}
		places.Set(int(i), m.workload(i, *places.At(int(i))))
		for _, w := range []*estate.Workload{was, is} {
			if w != nil {
				for _, l := range w.Leases {
					addrs = append(addrs, l.Addr)
				}
			}
		}
	}
	next.places = places.Done()
	u := &Update{Before: c, After: &next, Rules: identity(len(c.Policy.Rules))}
	u.moved(addrs)
	return u
}

func identity(n int) []int32 {
	out := make([]int32, n)
	for i := range out {
		out[i] = int32(i)
	}
	return out
}

// SameGroups reports whether the groups of both say the same of every endpoint,
// and the estate is the same.
func (c *Compiled) SameGroups(d *Compiled) bool {
	return c.membership == d.membership && c.Estate == d.Estate
}

// Nothing reports whether estate and policy are the same ones, and the later
// instant changes nothing either.
func (u *Update) Nothing() bool {
	return u.Before.Estate == u.After.Estate && u.Before.Policy == u.After.Policy && len(u.Moved) == 0 &&
		len(u.fresh) == 0 && len(u.gone()) == 0
}

// changedKeys returns the keys of which two states of a workload differ.
func changedKeys(a, b *estate.Workload) []expr.Key {
	var out []expr.Key
	for _, t := range a.Tags {
		if have, _ := b.Tag(t.Key); have.Value != t.Value {
			out = append(out, expr.Key{Name: t.Key})
		}
	}
	for _, t := range b.Tags {
		if have, _ := a.Tag(t.Key); have.Value != t.Value && !slices.Contains(out, expr.Key{Name: t.Key}) {
			out = append(out, expr.Key{Name: t.Key})
		}
	}
	for _, f := range []struct {
		name string
		same bool
	}{{"id", a.ID == b.ID}, {"name", a.Name == b.Name}, {"os", a.OS == b.OS}, {"kind", a.Kind == b.Kind}} {
		if !f.same {
			out = append(out, expr.Key{Name: f.name, Field: true})
		}
	}
	return out
}

// WithPolicy compiles another policy, or the same at another instant, against
// the same estate. Groups that say the same are not asked again, and tables are
// taken over where no rule that changed can match.
func (c *Compiled) WithPolicy(p *policy.Policy, asOf estate.Instant) *Update {
	u, _ := c.WithPolicyUntil(context.Background(), p, asOf)
	return u
}

// WithPolicyUntil is WithPolicy, given up with the error of ctx once ctx has ended.
func (c *Compiled) WithPolicyUntil(ctx context.Context, p *policy.Policy, asOf estate.Instant) (*Update, error) {
	next := *c
	next.Policy, next.AsOf = p, asOf
	if p == c.Policy && c.rules.sameAt(asOf) {
		return &Update{Before: c, After: &next, Rules: identity(len(c.Policy.Rules))}, nil
	}
	next.rules = newRules(c.interner, p, asOf)
	var atoms bitset
	atoms, next.values = next.rules.operands()
	next.atoms = slices.Clone(c.atoms)
	for len(next.atoms) < len(atoms) {
		next.atoms = append(next.atoms, 0)
	}
	next.atoms.unite(atoms)
	next.values = union(c.values, next.values)

	keep := func(_ estate.Endpoint, before int32) int32 { return before }
	sign, groups := keep, !c.membership.same(p)
	var known []int32
	if groups {
		next.membership = newMembership(p)
		known = next.membership.carryFrom(c.membership)
		sign = next.membership.resigner(c.Estate, c.membership, known, divider{&next}.regionNumber)
	}
	fresh := divider{&next}.divide(divider{&next}.mentioned())
	next.regions = slices.Clone(next.regions)
	m := divider{&next}.newPlacer(sign)
	for i := range next.regions {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		addr, ok := divider{&next}.firstIn(i, func(netip.Addr) bool { return true })
		if !ok {
			next.regions[i].empty = true
			continue
		}
		m.region(i, c.regions[divider{c}.regionOf(addr)].place.signature)
	}
	u := &Update{Before: c, After: &next}
	if stale := next.stale(c, groups); stale != nil {
		places := c.places.Edit()
		var addrs []netip.Addr
		for i := range c.places.Len() {
			was := *c.places.At(i)
			if !stale(int32(i), was) {
				continue
			}
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			is := m.workload(int32(i), was)
			if !slices.Equal(was, is) {
				places.Set(i, is)
			}
			for j := range is {
				if is[j].class >= 0 && !u.stays(was[j], is[j]) {
					addrs = append(addrs, c.Estate.Workload(int32(i)).Leases[j].Addr)
				}
			}
		}
		next.places = places.Done()
		u.moved(addrs)
	}
	u.outside(fresh)
	u.follow()
	next.rules.before.Store(&older{rules: c.rules, now: u.Rules, changed: [2][]int32{u.gone(), u.fresh},
		renamed: map[*Table]*Table{}})
	c.rules.before.Store(nil) // one step back is enough
	return u, nil
}

// stale reports which workloads another policy may place elsewhere: all if groups
// changed; else those that its new operands hold. nil: none.
func (c *Compiled) stale(before *Compiled, groups bool) func(workload int32, places []place) bool {
	if groups || len(c.values) > len(before.values) {
		return func(int32, []place) bool { return true }
	}
	atoms := c.interner.atoms.all()
	truths := c.membership.truths.all()
	signatures := newBitset(len(truths))
	var others []policy.Operand
	found := false
	c.atoms.each(func(a int32) {
		if before.atoms.has(a) {
			return
		}
		found = true
		if atoms[a].Kind != policy.InGroup {
			others = append(others, atoms[a])
			return
		}
		if g, ok := c.membership.index[atoms[a].Name]; ok {
			for sig, t := range truths {
				if t[g] == expr.Yes {
					signatures.set(int32(sig))
				}
			}
		}
	})
	if !found {
		return nil
	}
	return func(i int32, places []place) bool {
		if slices.ContainsFunc(places, func(p place) bool {
			return p.signature >= 0 &&
				signatures.has(p.signature)
		}) {
			return true
		}
		w := c.Estate.Workload(i)
		return w != nil && slices.ContainsFunc(others, func(o policy.Operand) bool {
			return o.Kind == policy.IsWorkload && o.Name == w.ID || o.Kind == policy.InPrefix &&
				slices.ContainsFunc(w.Leases, func(l estate.Lease) bool { return o.Prefix.Contains(l.Addr) })
		})
	}
}

func union(a, b []int) []int {
	out := slices.Clone(a)
	for _, x := range b {
		if !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	slices.Sort(out)
	return out
}
