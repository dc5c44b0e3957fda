package derive

import (
	"fmt"
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// propose turns drafts into proposals with evidence.
func (d *deriver) propose(rules []*draft, out *Result) {
	n := d.newNamer()
	for _, r := range rules {
		p := d.proposal(n, r)
		out.Covered += len(p.Conversations)
		out.Proposals = append(out.Proposals, p)
	}
	if d.in.Judged {
		out.Wide = d.wide(n)
	}
	out.Groups = n.added
}

// proposal turns one draft into a proposal.
func (d *deriver) proposal(n *namer, r *draft) Proposal {
	var p Proposal
	p.Rule, p.Groups = d.rule(n, r)
	d.evidence(r, &p)
	p.Opened = max(p.Pairs, r.opened(d))
	p.Warnings = d.warnings(r, &p)
	p.Rule.Note = p.note()
	if d.in.Judged {
		d.alternatives(n, r, &p)
	}
	return p
}

// rule says a draft as a rule, with the groups that it names and the policy
// lacks.
func (d *deriver) rule(n *namer, r *draft) (rule *policy.Rule, groups []*policy.Group) {
	rule = &policy.Rule{}
	if r.anyone {
		rule.Left.Any = true
	} else {
		rule.Left, groups = d.list(n, r.left, groups)
	}
	rule.Right, groups = d.list(n, r.right, groups)
	for _, rng := range r.points {
		rule.On.Specs = append(rule.On.Specs, policy.Spec{Range: rng})
	}
	if r.sameEnv {
		rule.Same = append(rule.Same, expr.Key{Name: d.keys[2]})
	}
	return rule, groups
}

func (d *deriver) list(n *namer, ss []side, groups []*policy.Group) (policy.List, []*policy.Group) {
	var l policy.List
	for _, s := range ss {
		switch {
		case s.addr != "":
			a := netip.MustParseAddr(s.addr)
			l.Items = append(l.Items, policy.Operand{Kind: policy.InPrefix, Prefix: netip.PrefixFrom(a, a.BitLen())})
		case s.role != nil && s.role.outside && s.role.group != "":
			l.Items = append(l.Items, policy.Operand{Name: s.role.group})
		case s.role != nil && s.role.outside:
			l.Items = append(l.Items, policy.Operand{Kind: policy.IsOutside})
		case s.role != nil:
			l.Items = append(l.Items, policy.Operand{Kind: policy.IsWorkload,
				Name: d.c.Estate.Workload(s.role.workload).ID})
		default:
			g, ref := n.group(s)
			l.Items = append(l.Items, policy.Operand{Name: ref.Name})
			if g != nil && !slices.Contains(groups, g) {
				groups = append(groups, g)
			}
		}
	}
	return l, groups
}

func (d *deriver) evidence(r *draft, p *Proposal) {
	var days Days
	clients := map[int32]bool{}
	first := true
	for _, pat := range r.patterns {
		p.Conversations = append(p.Conversations, pat.conversations...)
		days |= pat.days
		for m := range pat.clients {
			clients[m] = true
		}
	}
	slices.Sort(p.Conversations)
	for _, i := range p.Conversations {
		c := &d.in.Conversations[i]
		p.Connections = flow.Sum(p.Connections, c.Connections)
		if first || c.First.Before(p.First) {
			p.First = c.First
		}
		if first || p.Last.Before(c.Last) {
			p.Last = c.Last
		}
		first = false
	}
	p.Pairs, p.Days, p.Clients = len(p.Conversations), days.Count(), len(clients)
}

// warnings says what a person should look at before taking a proposal.
func (d *deriver) warnings(r *draft, p *Proposal) []string {
	var out []string
	crossing, admin, database, untagged := false, false, false, false
	for _, pat := range r.patterns {
		untagged = untagged || pat.client.workload >= 0 || pat.server.workload >= 0
		crossing = crossing || pat.client.env != "" && pat.server.env != "" && pat.client.env != pat.server.env
		admin = admin || service.Administration.Contains(pat.points.Lo)
		database = database || service.Databases.Contains(pat.points.Lo) && pat.client.app != pat.server.app
	}
	if untagged {
		out = append(out, "names a machine that lacks a tag: tag it instead")
	}
	if crossing {
		out = append(out, "crosses environments")
	}
	if admin {
		out = append(out, "administration service")
	}
	if database {
		out = append(out, "database reached from another application")
	}
	if d.days >= 3 && p.Days*3 <= d.days {
		out = append(out, fmt.Sprintf("seen on %s of %d only", days(p.Days), d.days))
	}
	if f := p.Fill(); f < 0.05 {
		out = append(out, fmt.Sprintf("wide: %s of what it opens was seen", percent(f)))
	}
	return out
}

func (p *Proposal) note() string {
	return fmt.Sprintf("Derived from %s: %d seen of %d opened (fill %s), %s",
		count(len(p.Conversations), "conversation"), p.Pairs, p.Opened, percent(p.Fill()), days(p.Days))
}

func days(n int) string { return count(n, "day") }

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func percent(f float64) string {
	if f > 0 && f < 0.01 {
		return "under 1 %"
	}
	return fmt.Sprintf("%d %%", int(f*100))
}

// Lines gives the statements that put the result into a policy text.
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

// Gather adds flow records to conversations: one for each client endpoint,
// server endpoint and service, in the order in which they appear.
type Gather struct {
	Conversations []Conversation
	index         map[gatherKey]int
}

type gatherKey struct {
	client, server estate.Endpoint
	point          uint32
}

// Observed makes a conversation of one flow record. A record that was not
// dropped counts as one connection at least.
func Observed(c *decide.Compiled, r flow.Record) Conversation {
	v := Conversation{Client: c.At(r.Client, r.Start), Server: c.At(r.Server, r.Start), Point: r.Point,
		First: r.Start, Last: r.End}
	v.Days.Add(r.Start)
	if n := max(1, r.Connections); r.Outcome == flow.Dropped {
		v.Dropped = n
	} else {
		v.Connections = n
	}
	return v
}

// Add adds one observation to its conversation.
func (g *Gather) Add(c Conversation) {
	if g.index == nil {
		g.index = map[gatherKey]int{}
	}
	k := gatherKey{c.Client.Endpoint, c.Server.Endpoint, uint32(c.Point)}
	i, ok := g.index[k]
	if !ok {
		g.index[k] = len(g.Conversations)
		g.Conversations = append(g.Conversations, c)
		return
	}
	have := &g.Conversations[i]
	have.Connections = flow.Sum(have.Connections, c.Connections)
	have.Dropped = flow.Sum(have.Dropped, c.Dropped)
	have.Days |= c.Days
	if c.First.Before(have.First) {
		have.First = c.First
	}
	if have.Last.Before(c.Last) {
		have.Last = c.Last
	}
}
