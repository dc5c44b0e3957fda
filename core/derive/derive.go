// Package derive proposes permit rules from conversations that a policy leaves uncovered.
//
// # Input and output
//
// [Derive] takes a compiled policy and all conversations of a window: those that the policy leaves
// uncovered, or decides only in its closing layer, are to be explained; the others tell what is usual.
// Balance, from 0 (tightest) to 1 (shortest), is how many words are spent. It returns proposals with
// their evidence, the groups that they name, and what was set aside, with the reason. Each conversation
// that was looked at is behind a proposal or set aside. The same input returns the same result.
//
//	booking-entry-01 -> booking-logic-02 tcp/8443, on 6 of 7 days     permit booking-entry ->
//	booking-entry-03 -> booking-logic-01 tcp/8443, on 5 of 7 days     booking-logic on tcp/8443
//	...                                                               "14 of 64 pairs seen, 7 days"
//	tides-logic-04 -> 198.51.100.9 tcp/4444, on one day               set aside: only one pair
//
// # How
//
// Machines are gathered in sets that rules can speak of (sets.go), by the tags that they are
// meant to have (strays.go); what was seen becomes edges of services (observe.go, services.go). For
// each service, the rules are taken that save most bits: what they say, without their words and
// what they open (describe.go, candidates.go, cover.go, choose.go). What never happens inside a
// rule narrows it: tags that bind (bound.go), machines that stay idle (idle.go). What is left is set
// aside, with its signs (aside.go).
//
// The package must not know of files or screens. Derive is safe for concurrent use. Start reading at
// Derive.
package derive

import (
	"math/bits"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// DefaultBalance is the point between tightest (0) and shortest (1) that is
// proposed first.
const DefaultBalance = 0.5

// Conversation is what was seen between two endpoints on one service.
type Conversation struct {
	Client, Server decide.Placed
	Point          service.Point
	Connections    int64 // that were not dropped
	Dropped        int64
	Bytes          int64 // both ways; 0: not known
	Days           Days
	First, Last    estate.Instant
}

// Days is a set of days, by their number modulo 64: exact for windows of up to
// 64 days.
type Days uint64

// Add adds the day of an instant.
func (d *Days) Add(t estate.Instant) { *d |= 1 << (uint64(t.Sec/86400) & 63) }

// Count returns how many days there are.
func (d Days) Count() int { return bits.OnesCount64(uint64(d)) }

// Input is what rules are derived from. All conversations of the window belong
// in it: those that the policy decides and those that were dropped tell what
// is usual.
type Input struct {
	Compiled      *decide.Compiled
	Conversations []Conversation
	Balance       float64
	// Scope limits what is proposed to conversations that it agrees with; the
	// others still tell what is usual. Nil: everything.
	Scope func(client, server decide.Placed) bool
	// Judged asks for what a person needs to judge the proposals: narrower and
	// wider rules, the proposals at every balance, and what would be too wide.
	Judged   bool
	Progress func(done float64) (goOn bool) // may be nil
}

// Result is what is proposed, and what is not.
type Result struct {
	Proposals  []Proposal
	Groups     []*policy.Group // that the proposals name and the policy lacks
	Aside      []aside
	Considered int // conversations that were looked at
	Covered    int // of those, conversations that the proposals permit
	Curve      []CurvePoint
	Path       []pathPoint  // with Judged: as Curve
	Wide       []Proposal   // with Judged: rules that one should not take as they are
	Tags       []MissingTag // worth setting: those that settle most first
}

// exactUpTo is from how many conversations on the numbers of rules on the curve are near, not exact,
// but at the balance itself: what they rest on would take more room than there is.
const exactUpTo = 1_000_000

// CurvePoint is one balance between tight and short.
type CurvePoint struct {
	Balance float64 `json:"balance"`
	Rules   int     `json:"rules"`
	Opened  float64 `json:"opened"` // pairs × services opened, per one that was seen
}

// Proposal is a rule with its evidence.
type Proposal struct {
	Rule          *policy.Rule
	Groups        []*policy.Group // of Result.Groups, those that the rule names
	Conversations []int           // indexes into Input.Conversations, in order
	Pairs, Opened int             // pairs × services that were seen, and that the rule opens
	Connections   int64
	Days          int
	First, Last   estate.Instant
	Warnings      []string
	Clients       int    // distinct
	Why           string // this width: who takes part
	Alone         string // why it is never merged with others, nor taken with them; blank: it may be
	Shape         string // the same for rules that say the same of other applications

	Narrower, Wider []Alternative // with Input.Judged
}

// Fill is the share of what the rule opens that was seen.
func (p *Proposal) Fill() float64 {
	if p.Opened == 0 {
		return 1
	}
	return min(1, float64(p.Pairs)/float64(p.Opened))
}

// Derive proposes rules for the conversations that were not dropped and that
// the policy leaves uncovered or decides only in its closing layer. The same
// input returns the same result. With a nil result, Progress said stop.
func Derive(in Input) *Result {
	d := newDeriver(in)
	if !d.observe() {
		return nil
	}
	if in.Judged {
		proposer{d}.findDropped()
	}
	out := &Result{Considered: d.considered}
	balances := curveBalances(in.Balance)
	said := func(share float64) bool { return in.Progress == nil || in.Progress(share) }
	exact := in.Judged || len(in.Conversations) <= exactUpTo
	all := coverer{d}.cover(balances, func(b float64) bool { return exact || b == in.Balance },
		func(share float64) bool { return said(0.3 + 0.5*share) })
	if all == nil {
		return nil
	}
	for n, b := range balances {
		rules := all[n]
		if b == in.Balance {
			proposer{d}.propose(rules, out)
			out.Aside = d.setAside(rules)
			out.Tags = proposer{d}.worth(rules)
		}
		pt := CurvePoint{Balance: b, Rules: len(rules)}
		seen, opened := 0, 0
		for _, r := range rules {
			seen += proposer{d}.pairs(r)
			opened += max(proposer{d}.pairs(r), proposer{d}.openedPairs(r))
		}
		if seen > 0 {
			pt.Opened = float64(opened) / float64(seen)
		}
		out.Curve = append(out.Curve, pt)
		if in.Judged {
			at := out
			if b != in.Balance {
				at = &Result{}
				proposer{d}.propose(rules, at)
			}
			out.Path = append(out.Path, pathPoint{pt, at.Proposals})
		}
		if !said(0.8 + 0.2*float64(n+1)/float64(len(balances))) {
			return nil
		}
	}
	return out
}

func curveBalances(own float64) []float64 {
	var out []float64
	done := false
	for _, b := range []float64{0, 0.15, 0.3, 0.5, 0.65, 0.8, 1} {
		if !done && own <= b {
			if own < b {
				out = append(out, own)
			}
			done = true
		}
		out = append(out, b)
	}
	return out
}
