// Package decide returns the verdict of a policy on a flow, and the reason.
//
// # Input and output
//
// A decider is made of an estate, a policy and an instant, as of which "until" is compared. It takes
// two endpoints (a workload with the address that it held then, or an address outside) and a point (a
// protocol with a port, or an icmp type and code). It returns the first rule in the order of the text
// that matches, or nil; [VerdictOf] makes Permit, Reject or Uncovered of it.
//
//	estate  booking-entry-01 10.20.1.10 app=booking tier=entry env=live
//	        fares-store-01   10.20.6.18 app=fares   tier=store
//	policy  1 apart live, trial
//	        2 permit booking-entry -> fares-store on tcp/5432
//
//	10.20.1.10 -> 10.20.6.18 tcp/5432    rule 2: permit
//	10.20.1.10 -> 10.20.6.18 tcp/22      nil: uncovered
//	203.0.113.9 -> 10.20.6.18 tcp/5432   nil: uncovered
//
// An endpoint is in a group only where the group's expression says yes. Undecided is no match.
//
// # Two deciders
//
// Both return the same, which is tested over random policies:
//
//   - [Walk] asks the rules one by one, as the language is written down. It is the reference and
//     explains itself (Trace). It remembers what groups said, and is not for several goroutines.
//   - [Compiled] puts endpoints with the same memberships into classes and merges, for each pair of
//     classes, the rules that can match into one table of intervals of services. It is what everything
//     that decides much uses, and is safe for concurrent use. WithEstate and WithPolicy make the next
//     one of it, and tell what an edit changes.
//
// The package must not know of files, databases or screens. Start reading at Walk.
package decide

import "lucidorchard/core/policy"

// Verdict is what a policy says of a flow.
type Verdict uint8

// The verdicts. Uncovered is the zero value: no rule matches.
const (
	Uncovered Verdict = iota
	Permit
	Reject
)

func (v Verdict) String() string { return [...]string{"uncovered", "permit", "reject"}[v] }

// VerdictOf returns what a flow gets whose first matching rule is r; nil is none.
func VerdictOf(r *policy.Rule) Verdict {
	switch {
	case r == nil:
		return Uncovered
	case r.Action == policy.Permit:
		return Permit
	}
	return Reject
}

// Verdicts are in the order in which they are shown.
var Verdicts = []Verdict{Permit, Reject, Uncovered}
