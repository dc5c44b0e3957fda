package derive

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// proposer makes proposals of the rules that were chosen.
type proposer struct{ *deriver }

// propose turns drafts into proposals with evidence.
func (d proposer) propose(rules []*draft, out *Result) {
	n := d.newNamer()
	covered := make([]bool, len(d.ends))
	all := make([]Proposal, len(rules))
	for k, r := range rules { // names are given in the order of the rules
		all[k].Rule, all[k].Groups = d.rule(n, r)
	}
	decide.Parallel(2, len(rules), func(_, k int) { d.complete(rules[k], &all[k]) })
	for k, r := range rules {
		if d.in.Judged {
			judge(d).alternatives(n, r, &all[k])
		}
		for _, i := range all[k].Conversations {
			if !covered[i] {
				covered[i] = true
				out.Covered++
			}
		}
	}
	out.Proposals = append(out.Proposals, all...)
	if d.in.Judged {
		out.Wide = judge(d).wide(n, covered)
	}
	out.Groups = n.added
}

// proposal turns one draft into a proposal.
func (d proposer) proposal(n *namer, r *draft) Proposal {
	var p Proposal
	p.Rule, p.Groups = d.rule(n, r)
	d.complete(r, &p)
	if d.in.Judged {
		judge(d).alternatives(n, r, &p)
	}
	return p
}

// complete adds to a proposal that has its rule what speaks for it.
func (d proposer) complete(r *draft, p *Proposal) {
	d.evidence(r, p)
	p.Opened = max(p.Pairs, d.openedPairs(r))
	d.standsAlone(r, p)
	p.Warnings = d.warnings(r, p)
	p.Why, p.Alone, p.Shape = d.why(r, p), r.alone, d.shape(r)
	p.Rule.Note = p.note()
}

// standsAlone marks what a person has to look at by itself.
func (d proposer) standsAlone(r *draft, p *Proposal) {
	wide := 0
	for _, x := range r.left {
		wide += d.size(&x, 0)
	}
	switch {
	case r.alone != "":
	case service.Administration.Contains(r.points[0].Lo) && wide > 8:
		r.alone = aloneAdmin
	case p.Days == 1 && d.days >= 4:
		r.alone = aloneOneDay
	}
}

// rule says a draft as a rule, with the groups that it names and the policy
// lacks.
func (d proposer) rule(n *namer, r *draft) (rule *policy.Rule, groups []*policy.Group) {
	rule = &policy.Rule{}
	if r.anyone {
		rule.Left.Any = true
	} else {
		rule.Left, groups = d.list(n, r, true, groups)
	}
	rule.Right, groups = d.list(n, r, false, groups)
	for _, rng := range r.points {
		rule.On.Specs = append(rule.On.Specs, policy.Spec{Range: rng})
	}
	rule.Same = r.same
	return rule, groups
}

// list says a side. Machines whose tags do not say yet where they belong stand
// beside the group that they belong to, if they were seen.
func (d proposer) list(n *namer, r *draft, left bool, groups []*policy.Group) (policy.List, []*policy.Group) {
	items := r.right
	if left {
		items = r.left
	}
	strays := r.strays[1]
	if left {
		strays = r.strays[0]
	}
	var l policy.List
	for i := range items {
		x := items[i]
		if s := d.onlyOf(&x); s != nil {
			x = item{set: s}
		}
		switch {
		case x.set != nil:
			g, ref := n.group(x.set)
			l.Items = append(l.Items, policy.Operand{Name: ref.Name})
			if g != nil && !slices.Contains(groups, g) {
				groups = append(groups, g)
			}
		case x.all:
			l.Items = append(l.Items, policy.Operand{Kind: policy.IsOutside})
		case x.group != "":
			l.Items = append(l.Items, policy.Operand{Name: x.group})
		case x.prefix.IsValid():
			l.Items = append(l.Items, policy.Operand{Kind: policy.InPrefix, Prefix: x.prefix})
		case d.isOutside(x.m):
			a := d.outside[x.m-d.workloads]
			l.Items = append(l.Items, policy.Operand{Kind: policy.InPrefix, Prefix: netip.PrefixFrom(a, a.BitLen())})
		default:
			l.Items = append(l.Items, policy.Operand{Kind: policy.IsWorkload, Name: d.c.Estate.Workload(x.m).ID})
		}
	}
	standIns := r.standIns[1]
	if left {
		standIns = r.standIns[0]
	}
	for _, s := range standIns {
		g, ref := n.standIn(s)
		l.Items = append(l.Items, policy.Operand{Name: ref.Name})
		if g != nil && !slices.Contains(groups, g) {
			groups = append(groups, g)
		}
	}
	for _, m := range strays {
		if !slices.ContainsFunc(standIns, func(s standIn) bool { return slices.Contains(s.members, m) }) {
			l.Items = append(l.Items, policy.Operand{Kind: policy.IsWorkload, Name: d.c.Estate.Workload(m).ID})
		}
	}
	// The same items are said in the same order, whichever weighed more this time.
	slices.SortFunc(l.Items, func(a, b policy.Operand) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), strings.Compare(a.String(), b.String()))
	})
	return l, groups
}

// onlyOf returns what says of a machine by its application, tier and environment, or by a group
// of the policy, that it is meant: where no other has the same. Nil: nothing does.
func (d proposer) onlyOf(x *item) *set {
	if x.set != nil || x.all || x.group != "" || x.prefix.IsValid() || d.isOutside(x.m) {
		return nil
	}
	for _, id := range d.setsOf[x.m] {
		s := d.sets[id]
		if len(s.members) == 1 && (s.group != "" || d.tagged(x.m, s) &&
			!slices.ContainsFunc(s.tests, func(t test) bool {
				return t.key.Field || !slices.Contains(d.keys[:], t.key.Name)
			})) {
			return s
		}
	}
	return nil
}

// settled names the machines of a rule whose tags do not say yet where they belong
// beside the groups that they belong to, as long as there is room, and keeps of
// its evidence what the rule then permits.
func (d proposer) settled(r *draft) {
	exact := len(r.same) == 0
	for k, items := range [2][]item{r.left, r.right} {
		seen := map[int32]bool{}
		var strays []int32
		for _, x := range r.edges {
			m := [2]int32{x.client, x.server}[k]
			if seen[m] {
				continue
			}
			seen[m] = true
			if d.tagHolds(items, m) {
				continue
			}
			exact = false
			if d.agrees(r, m) {
				strays = append(strays, m)
			}
		}
		slices.SortFunc(strays, func(a, b int32) int {
			return strings.Compare(d.c.Estate.Workload(a).ID, d.c.Estate.Workload(b).ID)
		})
		r.strays[k] = d.withRoom(items, strays)
	}
	if exact {
		return
	}
	r.edges = slices.DeleteFunc(slices.Clone(r.edges), func(x *edge) bool { return !d.permits(r, x) })
	// What the policy permits to the groups already is not proposed again for them.
	for k := range r.strays {
		if len(r.strays[k]) == 0 || slices.ContainsFunc(r.edges, func(x *edge) bool {
			return x.open && !slices.Contains(r.strays[k], [2]int32{x.client, x.server}[k])
		}) {
			continue
		}
		var only []item
		for _, m := range r.strays[k] {
			only = append(only, item{m: m})
		}
		if k == 0 {
			r.left = only
		} else {
			r.right = only
		}
		r.strays[k] = nil
		r.edges = slices.DeleteFunc(r.edges, func(x *edge) bool { return !d.permits(r, x) })
	}
}

// tagHolds reports whether a side holds a machine by the tags that it has now.
func (d proposer) tagHolds(items []item, m int32) bool {
	return slices.ContainsFunc(items, func(x item) bool {
		if x.set != nil && x.set.group == "" {
			return !d.isOutside(m) && x.set.has(m) && d.tagged(m, x.set)
		}
		return d.holds(&x, m)
	})
}

// agrees reports whether a machine has the tags that the clauses of a rule are
// about.
func (d proposer) agrees(r *draft, m int32) bool {
	for _, k := range r.same {
		if d.isOutside(m) || d.realTag(m, k) != setMaker(d).tagOf(m, k) || d.realTag(m, k) == "" {
			return false
		}
	}
	return true
}

func (d proposer) realTag(m int32, k expr.Key) string {
	w := d.c.Estate.Workload(m)
	if k.Field {
		return expr.Fold(w.Kind)
	}
	t, _ := w.Tag(k.Name)
	return expr.Fold(t.Value)
}

// permits reports whether a rule, as it will be written, permits an edge.
func (d proposer) permits(r *draft, x *edge) bool {
	for k, items := range [2][]item{r.left, r.right} {
		m := [2]int32{x.client, x.server}[k]
		if r.anyone && k == 0 {
			continue
		}
		if !d.tagHolds(items, m) && !slices.Contains(r.strays[k], m) {
			return false
		}
	}
	for _, k := range r.same {
		if !d.agrees(r, x.client) || !d.agrees(r, x.server) || setMaker(d).tagOf(x.client,
			k) != setMaker(d).tagOf(x.server, k) {
			return false
		}
	}
	return true
}

// tagged reports whether a workload has the tags of a set as it is now.
func (d proposer) tagged(m int32, s *set) bool {
	for _, t := range s.tests {
		if d.realTag(m, t.key) != t.value {
			return false
		}
	}
	return true
}

// worth returns the tags that proposals stand on and that machines lack, with what
// each settles.
func (d proposer) worth(rules []*draft) []MissingTag {
	settles := map[string]int{}
	for _, r := range rules {
		for _, x := range r.edges {
			if !x.open {
				continue
			}
			for _, m := range [2]int32{x.client, x.server} {
				if !d.isOutside(m) {
					settles[d.c.Estate.Workload(m).ID] += int(x.n)
				}
			}
		}
	}
	out := slices.Clone(d.hints)
	for i := range out {
		out[i].Settles = settles[out[i].Workload]
	}
	slices.SortStableFunc(out, func(a, b MissingTag) int {
		return cmp.Or(b.Settles-a.Settles, strings.Compare(a.Workload, b.Workload), strings.Compare(a.Key, b.Key))
	})
	return out
}

// pairs counts the conversations that a draft covers.
func (d proposer) pairs(r *draft) (n int) {
	if r.edges == nil {
		return r.n
	}
	for _, x := range r.edges {
		if x.open {
			n += int(x.n)
		}
	}
	return n
}

// openedPairs counts the pairs times services that a draft opens. A part of the
// outside counts with the addresses that were seen, a range of ports once.
func (d proposer) openedPairs(r *draft) int {
	sides := [2]map[int32]bool{{}, {}}
	for k, items := range [2][]item{r.left, r.right} {
		for i := range items {
			if s := items[i].set; s != nil {
				for _, m := range s.members {
					sides[k][m] = true
				}
			} else if !items[i].all && items[i].group == "" && !items[i].prefix.IsValid() {
				sides[k][items[i].m] = true
			}
		}
	}
	for _, x := range r.edges {
		for k, m := range [2]int32{x.client, x.server} {
			if d.isOutside(m) {
				sides[k][m] = true
			}
		}
	}
	n := 0
	if len(r.same) == 0 && len(r.edges) == 0 { // not kept whole
		for k := range sides {
			if len(sides[k]) == 0 {
				for m := range r.took[k] {
					sides[k][d.workloads+int32(m)] = true
				}
			}
		}
	}
	if len(r.same) == 0 {
		for m := range sides[0] {
			n += len(sides[1])
			if sides[1][m] {
				n-- // nobody to itself
			}
		}
	} else {
		agree := func(m int32) string {
			out := ""
			for _, k := range r.same {
				if d.isOutside(m) {
					return ""
				}
				v := setMaker(d).tagOf(m, k)
				if v == "" {
					return ""
				}
				out += v + "\x00"
			}
			return out
		}
		servers := map[string]int{}
		for m := range sides[1] {
			servers[agree(m)]++
		}
		for m := range sides[0] {
			if v := agree(m); v != "" {
				n += servers[v]
				if sides[1][m] {
					n--
				}
			}
		}
	}
	return n * max(1, len(r.points))
}

// Lines returns the statements that put the result into a policy text.
func (r *Result) Lines() []string {
	var out []string
	for _, g := range r.Groups {
		out = append(out, g.String())
	}
	for _, p := range r.Proposals {
		out = append(out, p.Rule.String())
	}
	return out
}
