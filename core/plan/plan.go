// Package plan says what one enforcement point has to hold for a policy: for the
// addresses that it guards, the rules that concern them, in order, with the
// addresses that these speak of.
//
// A plan says the same as the policy: for each packet that begins a conversation
// to or from a guarded workload, on the side that the point polices, it gives the
// verdict of core/decide. Rules that cannot concern what is guarded are not in it.
//
// It must not know of files, databases, kernels or screens. Start reading at
// Planner.
package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/service"
)

// Kind says where a point stands.
type Kind string

// A host is a machine that guards itself; a gate stands in the path of those that
// it guards.
const (
	Host Kind = "host"
	Gate Kind = "gate"
)

// Side says as what a point polices those that it guards.
type Side string

// The sides.
const (
	Server Side = "server"
	Client Side = "client"
	Both   Side = "both"
)

// Nobody in particular: the rule is for every address.
const Anybody = -1

// Plan is what one point has to hold.
type Plan struct {
	Kind    Kind    `json:"kind"`
	Side    Side    `json:"side"`
	Sets    []Set   `json:"sets"`
	Classes []Class `json:"classes"`
}

// Set is addresses that rules speak of.
type Set struct {
	Name      string    `json:"name"`  // the same as long as the policy says the same
	Words     string    `json:"words"` // what it holds, in the words of the policy
	Addresses Addresses `json:"addresses"`

	shared *sharedSet // what several points need of it
}

// sharedSet is found once for all plans with a set.
type sharedSet struct {
	digest   [sha256.Size]byte
	elements [2]string // of IPv4 and IPv6
}

func (s *Set) share() *sharedSet {
	if s.shared != nil {
		return s.shared
	}
	x := &sharedSet{}
	for k, six := range []bool{false, true} {
		var b strings.Builder
		for i, span := range s.Addresses.Family(six) {
			if i > 0 {
				b.WriteString(",\n")
			}
			b.WriteString(span.String())
		}
		x.elements[k] = b.String()
	}
	x.digest = sha256.Sum256([]byte(x.elements[0] + ";" + x.elements[1]))
	return x
}

// Elements gives the addresses of a family in words, a line each, with commas between.
func (s *Set) Elements(six bool) string {
	if six {
		return s.share().elements[1]
	}
	return s.share().elements[0]
}

// Class is guarded addresses that the rules cannot tell apart.
type Class struct {
	Name      string       `json:"name"`
	Addresses []netip.Addr `json:"addresses"`
	Workloads []string     `json:"workloads"` // ids, in order
	Server    []Rule       `json:"server"`    // where they are called; empty if that side is not policed
	Client    []Rule       `json:"client"`    // where they call
}

// Rule decides what no rule before it does: the services that it is on, with the
// peers that it is for.
type Rule struct {
	Line    int         `json:"line"` // of the statement in the policy's text
	Verdict Verdict     `json:"verdict"`
	Peers   int         `json:"peers"` // index of Sets, or Anybody
	Points  service.Set `json:"-"`
	On      []string    `json:"on"` // Points in words; empty: everything
	Words   string      `json:"words"`
	Until   int64       `json:"until,omitempty"` // the second, Unix, from which on it matches nothing; 0: it stays
	Log     bool        `json:"log,omitempty"`
}

// Verdict is permit or reject; what no rule decides is uncovered.
type Verdict string

// The verdicts.
const (
	Permit Verdict = "permit"
	Reject Verdict = "reject"
)

// Hash is the same for plans that hold the same.
func (p *Plan) Hash() string {
	sum := sha256.New()
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(sum, format, args...) }
	say("%s %s\n", p.Kind, p.Side)
	for i := range p.Sets {
		say("%q %x\n", p.Sets[i].Name, p.Sets[i].share().digest)
	}
	for _, c := range p.Classes {
		say("%s %v\n", c.Name, c.Addresses)
		for _, rules := range [][]Rule{c.Server, c.Client} {
			for _, r := range rules {
				say("%d %s %d %v %d %v\n", r.Line, r.Verdict, r.Peers, r.Points, r.Until, r.Log)
			}
			say("\n")
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// RulesHash is the same for plans between which only addresses come and go.
func (p *Plan) RulesHash() string {
	names := make([]string, len(p.Classes))
	for i, c := range p.Classes {
		names[i] = c.Name // says what its rules are
	}
	slices.Sort(names)
	sum := sha256.Sum256([]byte(fmt.Sprint(p.Kind, p.Side, names)))
	return hex.EncodeToString(sum[:])
}

// Decide gives what the plan does with the first packet of a conversation: the
// verdict, and the line of the rule that gives it, 0 for none. concerned is false
// where the point does not police it.
func (p *Plan) Decide(client, server netip.Addr, pt service.Point) (v decide.Verdict, line int, concerned bool) {
	if p.Side != Client {
		if c := p.classOf(server); c != nil {
			v, line = p.first(c.Server, client, pt)
			return v, line, true
		}
	}
	if p.Side != Server {
		if c := p.classOf(client); c != nil {
			v, line = p.first(c.Client, server, pt)
			return v, line, true
		}
	}
	return decide.Uncovered, 0, false
}

func (p *Plan) classOf(a netip.Addr) *Class {
	for i := range p.Classes {
		for _, have := range p.Classes[i].Addresses {
			if have == a {
				return &p.Classes[i]
			}
		}
	}
	return nil
}

func (p *Plan) first(rules []Rule, peer netip.Addr, pt service.Point) (decide.Verdict, int) {
	for i := range rules {
		r := &rules[i]
		if r.Points.Contains(pt) && (r.Peers == Anybody || p.Sets[r.Peers].Addresses.Contains(peer)) {
			if r.Verdict == Permit {
				return decide.Permit, r.Line
			}
			return decide.Reject, r.Line
		}
	}
	return decide.Uncovered, 0
}
