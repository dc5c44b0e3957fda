package decide

import (
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Walk decides by asking the rules one by one, in order. It remembers what
// groups said of endpoints and is not safe for use by several goroutines.
type Walk struct {
	estate  *estate.Estate
	policy  *policy.Policy
	asOf    estate.Instant
	members map[member]expr.Truth
	points  map[*policy.Rule]service.Set
}

type member struct {
	group string
	ep    estate.Endpoint
}

// NewWalk prepares to decide. asOf is the instant that "until" is compared with.
func NewWalk(e *estate.Estate, p *policy.Policy, asOf estate.Instant) *Walk {
	return &Walk{e, p, asOf, map[member]expr.Truth{}, map[*policy.Rule]service.Set{}}
}

// Decide returns the first rule that matches, or nil.
func (w *Walk) Decide(client, server estate.Endpoint, pt service.Point) *policy.Rule {
	for _, r := range w.policy.Rules {
		if w.mismatch(r, client, server, pt) == matches {
			return r
		}
	}
	return nil
}

// Subject is the endpoint as expressions see it.
func Subject(e *estate.Estate, ep estate.Endpoint) expr.Subject {
	s := expr.Subject{Addr: ep.Addr}
	if ep.Workload != estate.Outside {
		s.Workload = e.Workload(ep.Workload)
	}
	return s
}

// Group returns what a group says of an endpoint: exclude beats include beats
// the expression. A group that nothing defines says no.
func (w *Walk) Group(name string, ep estate.Endpoint) expr.Truth {
	key := member{name, ep}
	if t, ok := w.members[key]; ok {
		return t
	}
	t := expr.No
	if g := w.policy.Groups[name]; g != nil {
		t = groupSays(g, Subject(w.estate, ep), func(n string) expr.Truth { return w.Group(n, ep) })
	}
	w.members[key] = t
	return t
}

// groupSays returns what one group says of a subject.
func groupSays(g *policy.Group, s expr.Subject, m expr.Members) expr.Truth {
	if s.Workload != nil {
		if slices.Contains(g.Exclude, s.Workload.ID) {
			return expr.No
		}
		if slices.Contains(g.Include, s.Workload.ID) {
			return expr.Yes
		}
	}
	return g.Expr.Eval(s, m)
}

// part is what of a rule keeps it from matching a flow.
type part uint8

const (
	matches part = iota
	isOff
	expired
	clientList
	serverList
	services
	within
	area
	same
	across
	apartGroups
)

// mismatch returns the first part of a rule that does not agree with the flow.
func (w *Walk) mismatch(r *policy.Rule, client, server estate.Endpoint, pt service.Point) part {
	if r.Off {
		return isOff
	}
	if r.Until != nil && r.Until.Past(w.asOf) {
		return expired
	}
	if r.Action == policy.Apart {
		if !w.apart(r.Groups, client, server) {
			return apartGroups
		}
	} else {
		if !w.InList(r.Left, client) {
			return clientList
		}
		if !w.InList(r.Right, server) {
			return serverList
		}
		pts, ok := w.points[r]
		if !ok {
			pts = w.policy.Points(r.On)
			w.points[r] = pts
		}
		if !pts.Contains(pt) {
			return services
		}
	}
	return w.clauses(r.Clauses, client, server)
}

// apart reports whether the client is in one group of the list and the server
// in one with another name.
func (w *Walk) apart(groups []policy.Ref, client, server estate.Endpoint) bool {
	for _, a := range groups {
		if w.Group(a.Name, client) != expr.Yes {
			continue
		}
		for _, b := range groups {
			if a.Name != b.Name && w.Group(b.Name, server) == expr.Yes {
				return true
			}
		}
	}
	return false
}

// InList reports whether the endpoint is in some item of the list.
func (w *Walk) InList(l policy.List, ep estate.Endpoint) bool {
	return l.Any || slices.ContainsFunc(l.Items, func(o policy.Operand) bool { return w.inOperand(o, ep) })
}

func (w *Walk) inOperand(o policy.Operand, ep estate.Endpoint) bool {
	switch o.Kind {
	case policy.IsOutside:
		return ep.Workload == estate.Outside
	case policy.InPrefix:
		return o.Prefix.Contains(ep.Addr)
	case policy.IsWorkload:
		return ep.Workload != estate.Outside && w.estate.Workload(ep.Workload).ID == o.Name
	}
	return w.Group(o.Name, ep) == expr.Yes
}

func (w *Walk) clauses(c policy.Clauses, client, server estate.Endpoint) part {
	if c.Within != nil && (w.Group(c.Within.Name, client) != expr.Yes || w.Group(c.Within.Name, server) != expr.Yes) {
		return within
	}
	if c.Area != nil {
		a := w.policy.Areas[c.Area.Name]
		if a == nil || w.Group(a.Group.Name, client) != expr.Yes && w.Group(a.Group.Name, server) != expr.Yes {
			return area
		}
	}
	for _, k := range c.Same {
		if a, b, ok := w.values(k, client, server); !ok || a != b {
			return same
		}
	}
	for _, k := range c.Across {
		if a, b, ok := w.values(k, client, server); !ok || a == b {
			return across
		}
	}
	return matches
}

// values returns what client and server have for a key, folded; ok says that both
// are workloads that have it.
func (w *Walk) values(k expr.Key, client, server estate.Endpoint) (a, b string, ok bool) {
	if client.Workload == estate.Outside || server.Workload == estate.Outside {
		return "", "", false
	}
	a, okA := k.Of(w.estate.Workload(client.Workload))
	b, okB := k.Of(w.estate.Workload(server.Workload))
	return expr.Fold(a), expr.Fold(b), okA && okB
}

// Matches reports whether one rule matches a flow, whatever stands before it.
func (w *Walk) Matches(r *policy.Rule, client, server estate.Endpoint, pt service.Point) bool {
	return w.mismatch(r, client, server, pt) == matches
}
