// Package plan finds what one enforcement point has to load for a policy: for the addresses
// that it guards, the rules that concern them, in order, with the addresses that these speak of.
//
// # Input and output
//
// A [Planner] takes a compiled policy, and for a point the workloads that it guards and the [Side] on
// which it polices them. It returns a [Plan]: sets of addresses, and rules over these sets and
// services, each with its line in the policy and a verdict. Back ends (nft, k8s, acl) write a plan in
// the words of a device; this package knows none of them.
//
// # What is promised
//
// For each packet that begins a conversation to or from a guarded workload, on the side that the
// point polices, the plan has the verdict of package decide. Rules that cannot concern what is guarded are
// not in it. What no rule decides is carried, and counted as uncovered.
//
//	policy  1 apart live, trial
//	        2 permit booking-entry -> booking-logic on tcp/8443
//	guarded booking-logic, as server
//
//	plan    reject trial -> live; permit 10.20.1.10-10.20.1.19 -> 10.20.2.10-10.20.2.19 tcp/8443
//
// After an edit, what changes of a plan is found without making it anew (Moves): addresses that enter
// and leave sets, and rules.
//
// The package must not know of files, databases, kernels or screens. Start reading at Planner.
package plan

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"lucidorchard/core/service"
)

// Kind is where a point stands.
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
	Kept      bool      `json:"kept,omitempty"` // Addresses are left out: they are those of another plan; see Short

	shared *sharedSet // what several points need of it
}

// sharedSet is found once for all plans with a set. Where the addresses came from
// others by a move it says which, so that the two need not be compared.
type sharedSet struct {
	addresses      Addresses
	number         int64 // no other has it
	counted, said  sync.Once
	sum            digest
	elements       [2]string // of IPv4 and IPv6
	before         int64     // number of the one that it was made from
	added, removed Addresses // since then
}

// digest is the sum, in four parts, of the hashes of a set's spans: a span that comes or
// goes changes it without a look at the others.
type digest [4]uint64

func (d *digest) add(s Span, sign uint64) {
	first, last := s.First.As16(), s.Last.As16()
	sum := sha256.Sum256(append(append([]byte{byte(s.First.BitLen())}, first[:]...), last[:]...))
	for i := range d {
		d[i] += sign * binary.LittleEndian.Uint64(sum[8*i:])
	}
}

const minusOne = ^uint64(0)

var numbers atomic.Int64

func sharedOf(a Addresses) *sharedSet { return &sharedSet{addresses: a, number: numbers.Add(1)} }

func (x *sharedSet) digest() digest {
	x.counted.Do(func() {
		for _, s := range x.addresses {
			x.sum.add(s, 1)
		}
	})
	return x.sum
}

func (s *Set) share() *sharedSet {
	if s.shared != nil {
		return s.shared
	}
	return sharedOf(s.Addresses) // not kept here: several goroutines may ask
}

// UnmarshalJSON reads a set.
func (s *Set) UnmarshalJSON(text []byte) error {
	type plain Set
	if err := json.Unmarshal(text, (*plain)(s)); err != nil {
		return err
	}
	s.shared = s.share()
	return nil
}

// Elements returns the addresses of a family in words, a line each, with commas between.
func (s *Set) Elements(six bool) string {
	x := s.share()
	x.said.Do(func() {
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
	})
	if six {
		return x.elements[1]
	}
	return x.elements[0]
}

// Class is guarded addresses that the rules cannot tell apart.
type Class struct {
	Name      string       `json:"name"`
	Addresses []netip.Addr `json:"addresses"`
	Workloads []string     `json:"workloads"` // ids, in order
	Server    []Rule       `json:"server"`    // where they are called; empty if that side is not policed
	Client    []Rule       `json:"client"`    // where they call
}

// Rule decides what no rule before it does: the services that it is on, with the peers
// that it is for. These are in some set of Peers, in every set of Within, and in none of
// Except.
type Rule struct {
	Line    int         `json:"line"` // of the statement in the policy's text
	Verdict Verdict     `json:"verdict"`
	Peers   []int       `json:"peers,omitempty"`  // indexes of Sets; none: every address
	Within  []int       `json:"within,omitempty"` // likewise
	Except  []int       `json:"except,omitempty"` // likewise
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

// Hash is the same for plans that hold the same, in whatever order their sets and
// classes stand.
func (p *Plan) Hash() string {
	parts := make([]string, 0, len(p.Sets)+len(p.Classes))
	for i := range p.Sets {
		part := append([]byte(p.Sets[i].Name), 0)
		for _, x := range p.Sets[i].share().digest() {
			part = binary.LittleEndian.AppendUint64(part, x)
		}
		parts = append(parts, string(part))
	}
	for i := range p.Classes {
		c := &p.Classes[i]
		b := append([]byte(c.Name), 0)
		for _, a := range c.Addresses {
			b = append(b, a.AsSlice()...)
		}
		for _, rules := range [][]Rule{c.Server, c.Client} {
			b = append(b, 0)
			for k := range rules {
				b = rules[k].append(binary.AppendVarint(b, int64(rules[k].Line)), p.Sets)
			}
		}
		parts = append(parts, string(b))
	}
	slices.Sort(parts)
	sum := sha256.New()
	_, _ = sum.Write([]byte(p.Kind + "/" + Kind(p.Side)))
	for _, part := range parts {
		_, _ = sum.Write(binary.AppendUvarint(nil, uint64(len(part))))
		_, _ = sum.Write([]byte(part))
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// Anybody reports whether the rule is for every address.
func (r *Rule) Anybody() bool { return len(r.Peers)+len(r.Within)+len(r.Except) == 0 }

// Covers returns the sets outside of which the rule has no peers; none: it may have some
// anywhere.
func (r *Rule) Covers() []int {
	if len(r.Peers) > 0 || len(r.Within) == 0 {
		return r.Peers
	}
	return r.Within[:1]
}

// includes reports whether an address is among the peers of a rule of the plan.
func (p *Plan) includes(r *Rule, peer netip.Addr) bool {
	in := func(set int) bool { return p.Sets[set].Addresses.Contains(peer) }
	return (len(r.Peers) == 0 || slices.ContainsFunc(r.Peers, in)) && !slices.ContainsFunc(r.Except, in) &&
		!slices.ContainsFunc(r.Within, func(set int) bool { return !in(set) })
}

// PeersOf returns the addresses of the peers of a rule of the plan.
func (p *Plan) PeersOf(r *Rule) Addresses {
	out := Everywhere
	if len(r.Peers) > 0 {
		var all []Addresses
		for _, set := range r.Peers {
			all = append(all, p.Sets[set].Addresses)
		}
		out = Union(all...)
	}
	for _, set := range r.Within {
		out = out.Intersect(p.Sets[set].Addresses)
	}
	for _, set := range r.Except {
		out = out.Minus(p.Sets[set].Addresses)
	}
	return out
}

// append adds to b what the rule does.
func (r *Rule) append(b []byte, sets []Set) []byte {
	b = append(append(b, 0), r.Verdict...)
	for _, x := range r.Points {
		b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(x.Lo)), uint64(x.Hi))
	}
	for _, list := range [][]int{r.Peers, r.Within, r.Except} {
		for _, set := range list {
			b = append(append(b, sets[set].Name...), 0)
		}
		b = append(b, 1)
	}
	b = binary.AppendVarint(b, r.Until)
	if r.Log {
		b = append(b, 1)
	}
	return append(b, 0)
}

// RulesHash is the same for plans between which only addresses come and go, and
// whose rules a kernel is told in the same words.
func (p *Plan) RulesHash() string {
	names := make([]string, 0, len(p.Classes)+len(p.Sets))
	for i := range p.Classes {
		c := &p.Classes[i] // its name says what its rules are
		names = append(names, fmt.Sprint(c.Name, c.Has(false), c.Has(true)))
	}
	for i := range p.Sets {
		s := &p.Sets[i]
		names = append(names, fmt.Sprint(s.Name, s.Addresses.Whole(false), s.Addresses.Whole(true)))
	}
	slices.Sort(names)
	sum := sha256.Sum256([]byte(fmt.Sprint(p.Kind, p.Side, names)))
	return hex.EncodeToString(sum[:])
}

// Has reports whether the class has addresses of a family.
func (c *Class) Has(six bool) bool {
	return slices.ContainsFunc(c.Addresses, func(a netip.Addr) bool { return a.Is6() == six })
}

// UnmarshalJSON reads a rule, with the services of its words.
func (r *Rule) UnmarshalJSON(text []byte) error {
	type plain Rule
	if err := json.Unmarshal(text, (*plain)(r)); err != nil {
		return err
	}
	if r.Points = service.All; len(r.On) == 0 {
		return nil
	}
	var all []service.Range
	for _, word := range r.On {
		from, to, two := strings.Cut(word, " to ")
		x, ok, err := service.ParseSpec(from)
		if two && ok && err == nil {
			var end service.Range
			end, ok, err = service.ParseSpec(to)
			x.Hi = end.Hi
		}
		if err != nil {
			return err
		}
		if !ok {
			return fmt.Errorf("found the service %q, expected a protocol with ports", word)
		}
		all = append(all, x)
	}
	r.Points = service.NewSet(all...)
	return nil
}
