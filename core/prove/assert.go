// Package prove answers questions about all traffic that is possible, seen or not: whether
// an assertion holds for every endpoint and service, and which statements of a policy can have
// no effect.
//
// # Input and output
//
// [Assertions] takes a compiled policy and returns a Result for each assertion, in their order. A
// point is a client endpoint, a server endpoint and a service; an assertion is about all points that
// its lists and services contain, over every workload and every address outside, but not about what a
// workload does with itself.
//
//	never L -> R on S    holds: every point is rejected; broken: one is permitted; else open
//	always L -> R on S   holds: every point is permitted; broken: one is rejected; else open
//	only L -> R on S     holds: whatever else reaches R on S is rejected
//
// A Result that does not hold has a counterexample: of the points against it, always the same one for
// the same input. An assertion without points holds.
//
// It decides no traffic one by one: endpoints with the same memberships are one class, and so are
// services between two limits of rules. The answer is exact, not sampled.
//
// [Findings] returns what a policy says in vain (shadowed, redundant, mergeable, empty), with
// the edit that mends it.
//
// The package must not know of flows that were seen. All of it is safe for concurrent use.
// Start reading at Assertions.
package prove

import (
	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Outcome is what is found of an assertion.
type Outcome uint8

// The outcomes, see the language, §4.
const (
	Holds Outcome = iota
	Open
	Broken
)

func (o Outcome) String() string { return [...]string{"holds", "open", "broken"}[o] }

// Result is the outcome of one assertion, with a counterexample if it does not
// hold.
type Result struct {
	Assert         *policy.Assert
	Outcome        Outcome
	Client, Server decide.Placed
	Point          service.Point
	Rule           *policy.Rule // that decided the counterexample; nil if none did
}

// Assertions proves every assertion of the compiled policy over all points at
// its instant. The same input gives the same counterexamples.
func Assertions(c *decide.Compiled) []Result {
	people := c.Population(c.AsOf)
	var out []Result
	for i, a := range c.Policy.Asserts {
		out = append(out, assertion(c, people, i, a))
	}
	return out
}

// Assertion proves one of them, by its index in Policy.Asserts.
func Assertion(c *decide.Compiled, i int) Result {
	return assertion(c, c.Population(c.AsOf), i, c.Policy.Asserts[i])
}

func assertion(c *decide.Compiled, people [][]decide.Placed, i int, a *policy.Assert) Result {
	left, right, agrees, points := c.AssertClasses(i)
	points = points.Real()
	wrong := decide.Permit
	if a.Kind == policy.Always {
		wrong = decide.Reject
	}
	var clients, servers []int32
	for k := range people {
		if len(people[k]) == 0 {
			continue
		}
		if left(int32(k)) != (a.Kind == policy.Only) {
			clients = append(clients, int32(k))
		}
		if right(int32(k)) {
			servers = append(servers, int32(k))
		}
	}
	out := Result{Assert: a}
	// What a table says of the points is found once: many pairs share one.
	found := map[*decide.Table]*decide.Piece{}
	for _, ca := range clients {
		for _, cb := range servers {
			if !agrees(ca, cb) {
				continue
			}
			t := c.Table(ca, cb)
			p, known := found[t]
			if !known {
				p = worst(c.Pieces(t, points), wrong)
				found[t] = p
			}
			if p == nil || out.Outcome == Open && p.Rule == nil {
				continue
			}
			client, server, ok := decide.TwoApart(people[ca], people[cb])
			if !ok {
				continue
			}
			out.Client, out.Server, out.Point, out.Rule = client, server, p.Points[0].Lo, p.Rule
			if p.Rule != nil {
				out.Outcome = Broken
				return out
			}
			out.Outcome = Open
		}
	}
	return out
}

// worst returns the first piece with the wrong verdict, else the first that is
// uncovered, else nil.
func worst(pieces []decide.Piece, wrong decide.Verdict) *decide.Piece {
	var open *decide.Piece
	for i := range pieces {
		switch decide.VerdictOf(pieces[i].Rule) {
		case wrong:
			return &pieces[i]
		case decide.Uncovered:
			if open == nil {
				open = &pieces[i]
			}
		}
	}
	return open
}
