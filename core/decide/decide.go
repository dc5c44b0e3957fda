// Package decide gives the verdict of a policy on a flow, and the reason.
//
// There are two deciders with the same answers. Walk asks the rules one by one,
// as the language is written down: it is the reference and explains itself
// (Trace). Compiled puts endpoints with the same memberships into classes and
// merges, for each pair of classes, the rules that can match into one table of
// service intervals: it is what everything that decides much uses.
//
// It must not know of files, databases or screens. Start reading at Walk.
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
