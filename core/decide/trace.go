package decide

import (
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Trace is the reason for the verdict of a flow.
type Trace struct {
	Rule           *policy.Rule // that decides; nil if none does
	Client, Server []Membership // why each is in the operands that decided
	Steps          []Step       // every rule up to and including the one that decides, in order
	Closest        *Step        // without a rule: the one that agreed with most of the flow
}

// Step is one rule that was considered.
type Step struct {
	Rule    *policy.Rule
	Matches bool
	Failed  string       // the part that did not agree, in words; empty if all did
	Because []Membership // for a side or clause that did not agree, what its groups say
	near    float64      // how much of the flow the rule agrees with
}

// Membership is what one group says of one endpoint, and why.
type Membership struct {
	Group   string
	Server  bool // of the server, else of the client
	Truth   expr.Truth
	Listed  string // "include" or "exclude" where the group names the workload
	Reasons []expr.Reason
}

var partWords = map[part]string{
	isOff: "the rule is off", expired: "its last day has passed", clientList: "the client is not in its left side",
	serverList: "the server is not in its right side", services: "the service differs",
	within: "not both are within the group",
	area:   "neither is in its area", same: "the two differ in a key of same",
	across:      "the two agree in the keys of across",
	apartGroups: "both are in the same group of it",
}

// Trace decides as Decide does and says why.
func (w *Walk) Trace(client, server estate.Endpoint, pt service.Point) Trace {
	var t Trace
	for _, r := range w.policy.Rules {
		failed := w.mismatch(r, client, server, pt)
		s := Step{Rule: r, Matches: failed == matches, Failed: partWords[failed]}
		if s.Matches {
			t.Rule = r
			t.Client, t.Server = w.held(r, client, server)
			t.Steps = append(t.Steps, s)
			return t
		}
		s.Because = w.because(r, failed, client, server)
		s.near = w.nearness(r, client, server, pt)
		t.Steps = append(t.Steps, s)
	}
	const enough = 4 // two parts that agree and are no mere any, or one and a missing tag
	for i := range t.Steps {
		if s := &t.Steps[i]; s.near >= enough && (t.Closest == nil || s.near > t.Closest.near) {
			t.Closest = s
		}
	}
	return t
}

// nearness scores how much of a flow a rule that does not match agrees with: 2
// for each part that names what the flow has, 1 for any, and 1.5 for a side
// whose groups cannot tell, because a tag away from matching is close.
func (w *Walk) nearness(r *policy.Rule, client, server estate.Endpoint, pt service.Point) float64 {
	if r.Off || r.Until != nil && r.Until.Past(w.asOf) {
		return 0
	}
	side := func(l policy.List, ep estate.Endpoint) float64 {
		switch {
		case l.Any:
			return 1
		case w.InList(l, ep):
			return 2
		}
		for _, o := range l.Items {
			if o.Kind == policy.InGroup && ep.Workload != estate.Outside && w.Group(o.Name, ep) == expr.Undecided {
				return 1.5
			}
		}
		return 0
	}
	var left, right policy.List
	if r.Action == policy.Apart {
		for _, g := range r.Groups {
			left.Items = append(left.Items, policy.Operand{Name: g.Name})
		}
		right = left
	} else {
		left, right = r.Left, r.Right
	}
	on := 0.0
	if r.On.Any {
		on = 1
	} else if w.policy.Points(r.On).Contains(pt) {
		on = 2
	}
	return side(left, client) + side(right, server) + on
}

// because explains the groups of the part that did not agree.
func (w *Walk) because(r *policy.Rule, failed part, client, server estate.Endpoint) []Membership {
	var out []Membership
	switch failed {
	case clientList:
		out = w.operands(r.Left, client, false)
	case serverList:
		out = w.operands(r.Right, server, true)
	case within:
		out = append(out, w.Explain(r.Within.Name, client, false), w.Explain(r.Within.Name, server, true))
	case area:
		if a := w.policy.Areas[r.Area.Name]; a != nil {
			out = append(out, w.Explain(a.Group.Name, client, false), w.Explain(a.Group.Name, server, true))
		}
	case apartGroups:
		for _, g := range r.Groups {
			out = append(out, w.Explain(g.Name, client, false), w.Explain(g.Name, server, true))
		}
	}
	return out
}

func (w *Walk) operands(l policy.List, ep estate.Endpoint, server bool) []Membership {
	var out []Membership
	for _, o := range l.Items {
		if o.Kind == policy.InGroup {
			out = append(out, w.Explain(o.Name, ep, server))
		}
	}
	return out
}

// held explains the operands through which a rule holds a flow.
func (w *Walk) held(r *policy.Rule, client, server estate.Endpoint) (cs, ss []Membership) {
	keep := func(all []Membership) []Membership {
		var out []Membership
		for _, m := range all {
			if m.Truth == expr.Yes {
				out = append(out, m)
			}
		}
		return out
	}
	if r.Action == policy.Apart {
		for _, g := range r.Groups {
			cs = append(cs, w.Explain(g.Name, client, false))
			ss = append(ss, w.Explain(g.Name, server, true))
		}
	} else {
		cs, ss = w.operands(r.Left, client, false), w.operands(r.Right, server, true)
	}
	if r.Within != nil {
		cs, ss = append(cs, w.Explain(r.Within.Name, client, false)),
			append(ss, w.Explain(r.Within.Name, server, true))
	}
	return keep(cs), keep(ss)
}

// Explain reports what a group says of an endpoint, and why: the reasons of each group once,
// where it is first named.
func (w *Walk) Explain(group string, ep estate.Endpoint, server bool) Membership {
	m := Membership{Group: group, Server: server, Truth: w.Group(group, ep)}
	m.Listed, m.Reasons = w.reasons(group, ep, map[string]bool{})
	return m
}

// reasons returns why a group says what it says. A group that others name by several ways is
// told once: two of each level that name both of the next would else be told 2ⁿ times.
func (w *Walk) reasons(group string, ep estate.Endpoint, told map[string]bool) (listed string, out []expr.Reason) {
	g := w.policy.Groups[group]
	if g == nil || told[group] {
		return "", nil
	}
	told[group] = true
	s := Subject(w.estate, ep)
	if s.Workload != nil {
		for _, id := range g.Exclude {
			if id == s.Workload.ID {
				return "exclude", nil
			}
		}
		for _, id := range g.Include {
			if id == s.Workload.ID {
				return "include", nil
			}
		}
	}
	return "", g.Expr.Explain(s, func(n string) expr.Truth { return w.Group(n, ep) }, func(n string) []expr.Reason {
		_, rs := w.reasons(n, ep, told)
		return rs
	})
}
