package derive

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Alternative is another rule that a person may take instead of a proposal.
type Alternative struct {
	Words         string // in what it differs
	Rule          *policy.Rule
	Groups        []*policy.Group
	Opened        int // pairs × services that it opens
	Conversations int // of the proposal's, those that it permits
}

// PathPoint is the proposals at one balance.
type PathPoint struct {
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
	addr          netip.Addr
	connections   int64
	conversations int
}

// shares counts a proposal's evidence by machine: its clients or its servers,
// busiest first.
func (d *deriver) shares(p *Proposal, clients bool) []share {
	index := map[int32]int{}
	var out []share
	for _, i := range p.Conversations {
		c := &d.in.Conversations[i]
		end := c.Server
		if clients {
			end = c.Client
		}
		m := d.member(end)
		k, ok := index[m]
		if !ok {
			k = len(out)
			index[m] = k
			out = append(out, share{member: m, addr: end.Addr})
		}
		out[k].connections += c.Connections
		out[k].conversations++
	}
	slices.SortFunc(out, func(a, b share) int {
		return cmp.Or(cmp.Compare(b.connections, a.connections), a.addr.Compare(b.addr))
	})
	return out
}

// alone makes a side of one machine.
func (d *deriver) alone(s share) side {
	if s.member < 0 {
		return side{role: &role{key: "outside " + s.addr.String(), outside: true, workload: -1},
			addr: s.addr.String(), members: 1}
	}
	return side{role: &role{key: "workload " + d.c.Estate.Workload(s.member).ID, members: 1, workload: s.member},
		members: 1}
}

func (d *deriver) nameOf(s share) string {
	if s.member < 0 {
		return s.addr.String()
	}
	return d.c.Estate.Workload(s.member).Label()
}

// alternatives finds narrower and wider rules for a proposal that a draft made.
func (d *deriver) alternatives(n *namer, r *draft, p *Proposal) {
	clients, servers := d.shares(p, true), d.shares(p, false)
	width := func(ss []side) (members int) {
		for _, s := range ss {
			members += s.members
		}
		return members
	}
	add := func(to *[]Alternative, words string, left, right []side, group string, holds func(share) bool,
		of []share) {
		with := *r
		with.left, with.right, with.anyone, with.sameEnv = left, right, false, r.sameEnv
		a := Alternative{Words: words, Conversations: len(p.Conversations)}
		a.Rule, a.Groups = d.rule(n, &with)
		if group != "" {
			a.Rule.Left = policy.List{Items: []policy.Operand{{Name: group}}}
			a.Groups = nil
			_, a.Groups = d.list(n, right, nil)
		}
		if holds != nil {
			a.Conversations = 0
			for _, s := range of {
				if holds(s) {
					a.Conversations += s.conversations
				}
			}
		}
		a.Opened = max(with.opened(d), a.Conversations)
		a.Rule.Note = p.note() + ", " + words
		if key := bare(a.Rule); key != bare(p.Rule) && !slices.ContainsFunc(*to,
			func(x Alternative) bool { return bare(x.Rule) == key }) {
			*to = append(*to, a)
		}
	}
	right := r.right
	if len(clients) > 1 || r.anyone {
		top := clients[0]
		if part := float64(top.connections) / float64(max(1, p.Connections)); part >= dominates {
			add(&p.Narrower, fmt.Sprintf("only %s, which made %s of it", d.nameOf(top), percent(part)),
				[]side{d.alone(top)}, right, "", func(s share) bool { return s.member == top.member }, clients)
		}
		if name, members, part := d.groupOf(clients, p.Connections, width(r.left), r.anyone); name != "" {
			in := func(s share) bool { return d.inGroup(name, s) }
			add(&p.Narrower, fmt.Sprintf("only members of %s (%d), which made %s of it", name, members,
				percent(part)), []side{{members: members}}, right, name, in, clients)
		}
	}
	if r.anyone {
		for _, name := range d.administrators(r.points[0].Lo) {
			add(&p.Narrower, "only members of "+name+", from which others are administered",
				[]side{{members: d.groupSizes()[name]}}, right, name,
				func(s share) bool { return d.inGroup(name, s) }, clients)
		}
	}
	if listed := len(clients) <= mostListed && (r.anyone || width(r.left) > len(clients) || len(r.left) == 1 &&
		r.left[0].members == 0); listed {
		var only []side
		for _, s := range clients {
			only = append(only, d.alone(s))
		}
		add(&p.Narrower, fmt.Sprintf("only the %s that were seen", count(len(clients), "client")), only, right, "",
			func(share) bool { return true }, clients)
	}
	if len(servers) <= mostListed && width(r.right) > len(servers) && !r.anyone {
		var only []side
		for _, s := range servers {
			only = append(only, d.alone(s))
		}
		add(&p.Narrower, fmt.Sprintf("only to the %s that were reached", count(len(servers), "server")), r.left, only,
			"", func(share) bool { return true }, servers)
	}
	slices.SortStableFunc(p.Narrower, func(a, b Alternative) int {
		return cmp.Compare(b.Conversations, a.Conversations)
	})
	if r.anyone {
		return
	}
	d.widen(r.left, r.patterns[0].client, r.sameEnv, "from", func(words string, to side) {
		add(&p.Wider, words, []side{to}, right, "", nil, nil)
	})
	d.widen(r.right, r.patterns[0].server, r.sameEnv, "to", func(words string, to side) {
		add(&p.Wider, words, r.left, []side{to}, "", nil, nil)
	})
}

// widen gives what one side of a rule can be widened to.
func (d *deriver) widen(sides []side, seen *role, sameEnv bool, way string, add func(words string, to side)) {
	if len(sides) == 1 && sides[0].role == nil && sides[0].tags[1] != "" && !sameEnv && seen.workload < 0 &&
		!seen.outside {
		inEnv := sides[0].tags[2] != ""
		add(way+" the whole application", d.conjunction(seen, true, false, inEnv))
		if inEnv && d.environments > 1 {
			add(way+" the whole environment", d.conjunction(seen, false, false, true))
		}
	}
	if len(sides) > 0 && sides[0].role != nil && sides[0].role.workload >= 0 {
		if home := d.ofWorkload[sides[0].role.workload]; home.workload < 0 {
			add(way+" all that are tagged like it", d.conjunction(home, true, true, true))
		}
	}
}

// bare gives a rule without its note.
func bare(r *policy.Rule) string {
	x := *r
	x.Note = ""
	return x.String()
}

func (d *deriver) inGroup(name string, s share) bool {
	return s.member >= 0 && d.c.Group(name, d.c.At(s.addr, d.c.AsOf)) == expr.Yes
}

// groupOf finds the smallest group of the policy whose members made most of the
// connections, and that is smaller than who is let in now.
func (d *deriver) groupOf(clients []share, all int64, width int, anyone bool) (name string, members int,
	part float64) {
	if clients[0].member < 0 {
		return "", 0, 0
	}
	sizes := d.groupSizes()
	d.c.EachGroup(d.c.At(clients[0].addr, d.c.AsOf), func(g *policy.Group, t expr.Truth) {
		size := sizes[g.Name]
		if t != expr.Yes || size == 0 || !anyone && size >= width || name != "" &&
			(size > members || size == members && g.Name > name) {
			return
		}
		var n int64
		for _, s := range clients {
			if d.inGroup(g.Name, s) {
				n += s.connections
			}
		}
		if p := float64(n) / float64(max(1, all)); p >= dominates {
			name, members, part = g.Name, size, p
		}
	})
	if anyone && members > d.c.Estate.Len()/4 {
		return "", 0, 0 // hardly narrower than everybody
	}
	return name, members, part
}

// administrators gives the smallest groups of the policy that hold those from
// whom others are administered on a service.
func (d *deriver) administrators(p service.Point) []string {
	sizes := d.groupSizes()
	var out []string
	seen := map[*role]bool{}
	for i, w := range d.c.Estate.All() {
		r := d.ofWorkload[i]
		if seen[r] || len(w.Leases) == 0 || !d.administers(r, p) {
			continue
		}
		seen[r] = true
		best := ""
		d.c.EachGroup(d.c.At(w.Leases[0].Addr, d.c.AsOf), func(g *policy.Group, t expr.Truth) {
			if n := sizes[g.Name]; t == expr.Yes && n > 0 && n <= 4*r.members &&
				(best == "" || n < sizes[best] || n == sizes[best] && g.Name < best) {
				best = g.Name
			}
		})
		if best != "" && !slices.Contains(out, best) {
			out = append(out, best)
		}
	}
	slices.Sort(out)
	return out
}

func (d *deriver) groupSizes() map[string]int {
	if d.sizesOfGroups == nil {
		d.sizesOfGroups = map[string]int{}
		for i, n := range d.c.GroupSizes() {
			d.sizesOfGroups[d.c.Policy.GroupOrder[i].Name] = n
		}
	}
	return d.sizesOfGroups
}

// wide says what was set aside of administration services as the rule that one
// would write without looking: anybody may reach an application on it. It is
// not proposed, but shown to be narrowed.
func (d *deriver) wide(n *namer) []Proposal {
	type key struct {
		app    string
		points service.Range
	}
	byKey := map[key]*draft{}
	var order []key
	for _, pat := range d.doubtful {
		if pat.server.app == "" || pat.server.workload >= 0 {
			continue
		}
		k := key{pat.server.app, pat.points}
		r := byKey[k]
		if r == nil {
			r = &draft{anyone: true, left: []side{{members: d.c.Estate.Len()}},
				right: []side{d.conjunction(pat.server, true, false, false)}, points: service.Set{pat.points}}
			byKey[k] = r
			order = append(order, k)
		}
		r.patterns = append(r.patterns, pat)
	}
	slices.SortFunc(order, func(a, b key) int {
		return cmp.Or(strings.Compare(a.app, b.app), cmp.Compare(a.points.Lo, b.points.Lo))
	})
	var out []Proposal
	for _, k := range order {
		p := d.proposal(n, byKey[k])
		top := d.shares(&p, true)[0]
		p.Warnings = append([]string{fmt.Sprintf("anybody could reach it; %s made %s of it", d.nameOf(top),
			percent(float64(top.connections)/float64(max(1, p.Connections))))}, p.Warnings...)
		out = append(out, p)
	}
	return out
}

// Gone gives the indexes of permit rules of the layer for allowances that
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
