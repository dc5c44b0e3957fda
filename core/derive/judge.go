package derive

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// judge finds what else a proposal could be: narrower, wider, or in other words.
type judge struct{ *deriver }

// Alternative is another rule that a person may take instead of a proposal.
type Alternative struct {
	Words         string // in what it differs
	Rule          *policy.Rule
	Groups        []*policy.Group
	Opened        int   // pairs × services that it opens
	Unseen        int   // of these, those that were not seen
	Conversations []int // of the proposal's, those that it permits
}

// pathPoint is the proposals at one balance.
type pathPoint struct {
	CurvePoint
	Proposals []Proposal
}

// Bounds on what is offered.
const (
	mostListed = 10  // machines that a narrower rule lists
	dominates  = 0.8 // share of the connections from which one client, or group, is offered alone
)

// share is what one machine contributes to a proposal.
type share struct {
	member        int32
	connections   int64
	conversations int
}

// shares counts a proposal's evidence by machine: its clients or its servers,
// busiest first.
func (d judge) shares(p *Proposal, clients bool) []share {
	index := map[int32]int{}
	var out []share
	for _, i := range p.Conversations {
		m := d.ends[i][1]
		if clients {
			m = d.ends[i][0]
		}
		k, ok := index[m]
		if !ok {
			k = len(out)
			index[m] = k
			out = append(out, share{member: m})
		}
		out[k].connections += min(d.in.Conversations[i].Connections, 1<<40)
		out[k].conversations++
	}
	slices.SortFunc(out, func(a, b share) int {
		return cmp.Or(cmp.Compare(b.connections, a.connections), d.addrOf(a.member).Compare(d.addrOf(b.member)))
	})
	return out
}

// addrOf returns an address of a machine.
func (d judge) addrOf(m int32) netip.Addr {
	if d.isOutside(m) {
		return d.outside[m-d.workloads]
	}
	for _, l := range d.c.Estate.Workload(m).Leases {
		if !l.Empty() {
			return l.Addr
		}
	}
	return netip.Addr{}
}

func (d judge) nameOf(s share) string {
	if d.isOutside(s.member) {
		return d.addrOf(s.member).String()
	}
	return d.c.Estate.Workload(s.member).Label()
}

// alternatives finds narrower and wider rules for a proposal that a draft made.
func (d judge) alternatives(n *namer, r *draft, p *Proposal) {
	clients, servers := d.shares(p, true), d.shares(p, false)
	width := func(items []item) (members int) {
		for i := range items {
			members += d.size(&items[i], 0)
		}
		return members
	}
	add := func(to *[]Alternative, words string, left, right []item, side int, holds func(m int32) bool) {
		d.alternative(n, r, p, to, words, left, right, side, holds)
	}
	if len(clients) > 1 || r.anyone {
		top := clients[0]
		if part := float64(top.connections) / float64(max(1, p.Connections)); part >= dominates {
			add(&p.Narrower, fmt.Sprintf("only %s, which made %s of it", d.nameOf(top), percent(part)),
				[]item{{m: top.member}}, r.right, 0, func(m int32) bool { return m == top.member })
		}
		if g, part := d.groupOf(clients, p.Connections, width(r.left), r.anyone); g != nil {
			add(&p.Narrower, fmt.Sprintf("only members of %s (%d), which made %s of it", g.group, len(g.members),
				percent(part)), []item{{set: g}}, r.right, 0,
				func(m int32) bool { return !d.isOutside(m) && g.has(m) })
		}
	}
	if r.anyone {
		for _, g := range d.administrators(r.points[0].Lo) {
			add(&p.Narrower, "only members of "+g.group+", from which others are administered", []item{{set: g}},
				r.right, 0,
				func(m int32) bool { return !d.isOutside(m) && g.has(m) })
		}
	}
	only := func(all []share) (out []item) {
		for _, s := range all {
			out = append(out, item{m: s.member})
		}
		return out
	}
	outside := len(r.left) == 1 && d.size(&r.left[0], 0) == 0
	if len(clients) <= mostListed && (r.anyone || width(r.left) > len(clients) || outside) {
		add(&p.Narrower, fmt.Sprintf("only the %s that were seen", plural.Of(len(clients), "client")), only(clients),
			r.right,
			0, nil)
	}
	if len(servers) <= mostListed && width(r.right) > len(servers) && !r.anyone {
		add(&p.Narrower, fmt.Sprintf("only to the %s that were reached", plural.Of(len(servers), "server")), r.left,
			only(servers), 1, nil)
	}
	p.Narrower = narrowing(p.Narrower, p.Opened-p.Pairs)
	if r.anyone {
		return
	}
	d.widen(r.left, len(r.same) > 0, "from", func(words string, to *set) {
		add(&p.Wider, words, []item{{set: to}}, r.right, 0, nil)
	})
	d.widen(r.right, len(r.same) > 0, "to", func(words string, to *set) {
		add(&p.Wider, words, r.left, []item{{set: to}}, 1, nil)
	})
}

// alternative adds a rule with other sides in the place of r, unless it is there already.
// holds reports which conversations it permits, by the end on a side; nil: all of them.
func (d judge) alternative(n *namer, r *draft, p *Proposal, to *[]Alternative, words string, left, right []item,
	side int,
	holds func(m int32) bool) {
	with := *r
	with.left, with.right, with.anyone, with.strays, with.standIns = left, right, false, [2][]int32{}, [2][]standIn{}
	for k, items := range [2][]item{left, right} {
		for _, m := range r.strays[k] { // those that the new side holds, too
			if len(items)+len(with.strays[k]) < mostItems && d.anyHolds(items, m) && !proposer(d).tagHolds(items, m) {
				with.strays[k] = append(with.strays[k], m)
			}
		}
	}
	if to == &p.Narrower {
		with.edges = nil
		for _, x := range r.edges {
			if d.anyHolds(left, x.client) && d.anyHolds(right, x.server) {
				with.edges = append(with.edges, x)
			}
		}
	}
	a := Alternative{Words: words, Conversations: p.Conversations}
	a.Rule, a.Groups = proposer(d).rule(n, &with)
	if holds != nil {
		a.Conversations = nil
		for _, i := range p.Conversations {
			if holds(d.ends[i][side]) {
				a.Conversations = append(a.Conversations, i)
			}
		}
	}
	a.Opened = max(proposer(d).openedPairs(&with), len(a.Conversations))
	a.Unseen = a.Opened - min(a.Opened, d.pairsOf(a.Conversations))
	a.Rule.Note = p.note() + ", " + words
	if key := bare(a.Rule); key != bare(p.Rule) && !slices.ContainsFunc(*to,
		func(x Alternative) bool { return bare(x.Rule) == key }) {
		*to = append(*to, a)
	}
}

// pairsOf counts the pairs × services of some conversations.
func (d judge) pairsOf(conversations []int) int {
	type pair struct {
		ends [2]int32
		svc  int32
	}
	seen := map[pair]bool{}
	for _, i := range conversations {
		seen[pair{d.ends[i], d.svcOf[i]}] = true
	}
	return len(seen)
}

// narrowing puts narrower rules in the order in which they are stepped through: each opens fewer pairs
// that were not seen than the one before, the first fewer than the proposal itself. Of those that open as
// many, the one that permits more of the evidence stays.
func narrowing(all []Alternative, unseen int) (out []Alternative) {
	slices.SortStableFunc(all, func(a, b Alternative) int {
		return cmp.Or(b.Unseen-a.Unseen, len(b.Conversations)-len(a.Conversations))
	})
	for _, a := range all {
		if a.Unseen < unseen {
			out, unseen = append(out, a), a.Unseen
		}
	}
	return out
}

func (d judge) anyHolds(items []item, m int32) bool {
	return slices.ContainsFunc(items, func(x item) bool { return d.holds(&x, m) })
}

// widen calls add with what one side of a rule can be widened to.
func (d judge) widen(items []item, same bool, way string, add func(words string, to *set)) {
	if len(items) != 1 {
		return
	}
	x := &items[0]
	switch {
	case x.set != nil && x.set.group == "" && len(x.set.members) > 0 && x.set.mask&3 == 3 && !same:
		if s := coverer(d).setWith(x.set.members[0], x.set.mask&5); s != nil &&
			len(s.members) > len(x.set.members) {
			add(way+" the whole application", s)
		}
		if x.set.mask&4 != 0 && d.envCount > 1 {
			if s := coverer(d).setWith(x.set.members[0], 4); s != nil {
				add(way+" the whole environment", s)
			}
		}
	case x.set == nil && !x.all && x.group == "" && !x.prefix.IsValid() && !d.isOutside(x.m):
		if s := coverer(d).setWith(x.m, 7); s != nil && len(s.members) > 1 &&
			proposer(d).tagged(x.m, s) {
			add(way+" all that are tagged like it", s)
		}
	}
}

// bare returns a rule without its note.
func bare(r *policy.Rule) string {
	x := *r
	x.Note = ""
	return x.String()
}

// groupOf finds the smallest group of the policy whose members made most of the
// connections, and that is smaller than who is let in now.
func (d judge) groupOf(clients []share, all int64, width int, anyone bool) (best *set, part float64) {
	if d.isOutside(clients[0].member) {
		return nil, 0
	}
	for _, g := range setMaker(d).groupsOf(clients[0].member) {
		size := len(g.members)
		if !anyone && size >= width || best != nil && (size > len(best.members) || size == len(best.members) &&
			g.group > best.group) {
			continue
		}
		var n int64
		for _, s := range clients {
			if !d.isOutside(s.member) && g.has(s.member) {
				n += s.connections
			}
		}
		if p := float64(n) / float64(max(1, all)); p >= dominates {
			best, part = g, p
		}
	}
	if best != nil && anyone && len(best.members) > d.c.Estate.Len()/4 {
		return nil, 0 // hardly narrower than everybody
	}
	return best, part
}

// administrators returns the smallest groups of the policy that hold those from
// whom others are administered on a service.
func (d judge) administrators(p service.Point) []*set {
	var out []*set
	seen := map[[3]string]bool{}
	for w := range d.c.Estate.All() {
		t := d.meant[w]
		if seen[t] || !d.present[w] || !d.shared(w, true, p) || len(d.callers[sharedKey{t[0], t[2], false, p}]) > 1 {
			continue
		}
		seen[t] = true
		like := 0
		for other := range d.c.Estate.All() {
			if d.meant[other] == t {
				like++
			}
		}
		var best *set
		for _, g := range setMaker(d).groupsOf(w) {
			if n := len(g.members); n <= 4*like && (best == nil || n < len(best.members) || n == len(best.members) &&
				g.group < best.group) {
				best = g
			}
		}
		if best != nil && !slices.Contains(out, best) {
			out = append(out, best)
		}
	}
	slices.SortFunc(out, func(a, b *set) int { return strings.Compare(a.group, b.group) })
	return out
}

// wide reports what was set aside of administration services as the rule that one
// would write without looking: anybody may reach an application on it. It is
// not proposed, but shown to be narrowed.
func (d judge) wide(n *namer, covered []bool) []Proposal {
	type key struct {
		app    string
		points service.Range
	}
	byKey := map[key]*draft{}
	var order []key
	for svc := range d.edges {
		if !service.Administration.Contains(d.points[svc].Lo) {
			continue
		}
		for i := range d.edges[svc] {
			x := &d.edges[svc][i]
			app := d.tags(x.server)[0]
			if !x.open || app == "" || d.isOutside(x.server) || covered[int(d.order[x.first])] {
				continue
			}
			k := key{app, d.points[svc]}
			r := byKey[k]
			if r == nil {
				s := &set{tests: []test{{expr.Key{Name: d.keys[0]}, app}}, mask: 1}
				everybody := &set{}
				for w := range d.c.Estate.All() {
					if d.present[w] && d.meant[w][0] == app {
						s.members = append(s.members, w)
					}
					everybody.members = append(everybody.members, w)
				}
				r = &draft{anyone: true, left: []item{{set: everybody}}, right: []item{{set: s}},
					points: service.Set{d.points[svc]},
					alone:  aloneAdmin}
				byKey[k] = r
				order = append(order, k)
			}
			r.edges = append(r.edges, x)
		}
	}
	slices.SortFunc(order, func(a, b key) int {
		return cmp.Or(strings.Compare(a.app, b.app), cmp.Compare(a.points.Lo, b.points.Lo))
	})
	var out []Proposal
	for _, k := range order {
		total := int64(0)
		for _, x := range byKey[k].edges {
			total += d.connections(x)
		}
		if total <= 5 {
			continue
		}
		p := proposer(d).proposal(n, byKey[k])
		top := d.shares(&p, true)[0]
		p.Warnings = append([]string{fmt.Sprintf("anybody could reach it; %s made %s of it", d.nameOf(top),
			percent(float64(top.connections)/float64(max(1, p.Connections))))}, p.Warnings...)
		out = append(out, p)
	}
	return out
}

// Gone returns the indexes of permit rules of the layer for allowances that
// nothing in the window needed: none of the conversations is decided by them.
func Gone(in Input) []int {
	c := in.Compiled
	used := map[*policy.Rule]bool{}
	for i := range in.Conversations {
		v := &in.Conversations[i]
		if r := c.Decide(v.Client, v.Server, v.Point); r != nil {
			used[r] = true
		}
	}
	var out []int
	for i, r := range c.Policy.Rules {
		over := r.Off || r.Until != nil && r.Until.Past(c.AsOf)
		if !used[r] && r.Action == policy.Permit && !over && r.Layer != nil && r.Layer.Name == policy.Allowances {
			out = append(out, i)
		}
	}
	return out
}
