package whatif

import (
	"cmp"
	"context"
	"runtime"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

type policyGroup = policy.Group

// Answer is what a policy does with all traffic that a question speaks of.
type Answer struct {
	Pairs int           // of a client and a server, by address; the outside counts by its parts
	Of    decide.Counts // pairs whose points all get one verdict
	Mixed int           // pairs of which it depends on the point
	Parts []Part        // uncovered first, then reject, then permit; most pairs first
}

// Part is the pairs, and their points, that one rule decides, or none.
type Part struct {
	Verdict          decide.Verdict
	Rule             *policy.Rule // nil: uncovered
	Pairs            int
	Points           service.Set // of some pair
	Clients, Servers []End       // the ends of these pairs
	Client, Server   End         // of an example
	Point            service.Point
	Whole            bool // every point of every pair of the part
}

// One returns the verdict that all pairs and points get, if they get one.
func (a *Answer) One() (decide.Verdict, bool) {
	for v, n := range a.Of {
		if n > 0 && n == a.Pairs {
			return decide.Verdict(v), true
		}
	}
	return decide.Uncovered, false
}

// Verdict says the one verdict that all of it gets, several, or nothing if there
// are no two endpoints.
func (a *Answer) Verdict() string {
	if v, one := a.One(); one {
		return v.String()
	}
	if a.Pairs == 0 {
		return "nothing"
	}
	return "several"
}

// As reports whether all that a question speaks of gets the verdict that it
// expects: there is something, and members that a group cannot tell are none.
func (q *Question) As(a *Answer) bool {
	v, one := a.One()
	return q.Want != nil && one && v == *q.Want
}

// AnswerAll answers questions on all processors.
func (c *Census) AnswerAll(qs []Question) []*Answer {
	out := make([]*Answer, len(qs))
	_ = c.EachAnswer(context.Background(), qs, func(i int, a *Answer) { out[i] = a })
	return out
}

// EachAnswer answers questions on all processors, and calls f with each and the number of its
// question, in any order and several at once. It keeps none: answers are as large as what
// is asked about. It ends early with the context, and returns its error then.
func (c *Census) EachAnswer(ctx context.Context, qs []Question, f func(i int, a *Answer)) error {
	decide.Parallel(runtime.GOMAXPROCS(0), len(qs), func(_, i int) {
		if ctx.Err() == nil {
			f(i, c.Answer(&qs[i]))
		}
	})
	return ctx.Err()
}

// Answer decides every point between every two endpoints of a question. Traffic
// of a workload with itself is left out.
func (c *Census) Answer(q *Question) *Answer {
	clients, servers := q.Client.sorted(), q.Server.sorted()
	parts := map[*policy.Rule]*found{}
	pieces := map[*decide.Table][]decide.Piece{}
	out := &Answer{}
	var same map[[2]int32]int // pairs of one workload with itself
	if q.Client.Text == q.Server.Text {
		same = q.Client.within()
	} else {
		same = together(q.Client.Ends, q.Server.Ends)
	}
	for _, ca := range clients.order {
		for _, cb := range servers.order {
			as, bs := clients.ends[ca], servers.ends[cb]
			n := len(as)*len(bs) - same[[2]int32{ca, cb}]
			if n == 0 {
				continue
			}
			t := c.compiled.Table(ca, cb)
			list, known := pieces[t]
			if !known {
				list = c.compiled.Pieces(t, q.Points)
				pieces[t] = list
			}
			if len(list) == 0 {
				continue // no such point
			}
			out.Pairs += n
			out.count(list, n)
			note(parts, list, t, [2]int32{ca, cb}, as, bs, n)
		}
	}
	for _, p := range parts {
		for _, k := range clients.order {
			if p.clients[k] {
				p.Clients = append(p.Clients, clients.ends[k]...)
			}
		}
		for _, k := range servers.order {
			if p.servers[k] {
				p.Servers = append(p.Servers, servers.ends[k]...)
			}
		}
		out.Parts = append(out.Parts, p.Part)
	}
	rank := [3]int{decide.Uncovered: 0, decide.Reject: 1, decide.Permit: 2}
	line := func(r *policy.Rule) int {
		if r == nil {
			return 0
		}
		return r.Line
	}
	slices.SortFunc(out.Parts, func(a, b Part) int {
		return cmp.Or(rank[a.Verdict]-rank[b.Verdict], b.Pairs-a.Pairs, line(a.Rule)-line(b.Rule))
	})
	return out
}

// found is a part of an answer that is being gathered.
type found struct {
	Part
	clients, servers map[int32]bool // classes
	points           map[*decide.Table]bool
}

// count adds n pairs whose verdict is that of some pieces.
func (out *Answer) count(list []decide.Piece, n int) {
	verdict, mixed := decide.VerdictOf(list[0].Rule), false
	for i := range list {
		mixed = mixed || decide.VerdictOf(list[i].Rule) != verdict
	}
	if mixed {
		out.Mixed += n
	} else {
		out.Of[verdict] += n
	}
}

// note adds what the rules of some pieces decide between two classes, with n pairs.
func note(parts map[*policy.Rule]*found, list []decide.Piece, t *decide.Table, of [2]int32, as, bs []End, n int) {
	seen := map[*policy.Rule]bool{}
	for i := range list {
		p := parts[list[i].Rule]
		if p == nil {
			p = &found{Part: Part{Verdict: decide.VerdictOf(list[i].Rule), Rule: list[i].Rule,
				Point: list[i].Points[0].Lo, Whole: true}, clients: map[int32]bool{},
				servers: map[int32]bool{}, points: map[*decide.Table]bool{}}
			p.Client, p.Server = apart(as, bs)
			parts[list[i].Rule] = p
		}
		if !seen[list[i].Rule] {
			seen[list[i].Rule] = true
			p.Pairs += n
		}
		if !p.points[t] {
			p.Points = p.Points.Union(list[i].Points)
		}
		p.Whole = p.Whole && len(list) == 1
		p.clients[of[0]], p.servers[of[1]] = true, true
	}
	for r := range seen {
		parts[r].points[t] = true
	}
}

// classes is endpoints by their class.
type classes struct {
	order []int32
	ends  map[int32][]End
}

func byClass(ends []End) classes {
	out := classes{ends: map[int32][]End{}}
	for _, e := range ends {
		if out.ends[e.Class] == nil {
			out.order = append(out.order, e.Class)
		}
		out.ends[e.Class] = append(out.ends[e.Class], e)
	}
	slices.Sort(out.order)
	return out
}

// together counts, by classes, the pairs of one workload with itself.
func together(clients, servers []End) map[[2]int32]int {
	of := map[int32][]int32{} // classes of a workload, by address
	for _, e := range clients {
		if e.Workload != estate.Outside {
			of[e.Workload] = append(of[e.Workload], e.Class)
		}
	}
	out := map[[2]int32]int{}
	for _, e := range servers {
		if e.Workload != estate.Outside {
			for _, class := range of[e.Workload] {
				out[[2]int32{class, e.Class}]++
			}
		}
	}
	return out
}

// apart returns a client and a server that are not one workload.
func apart(as, bs []End) (End, End) {
	for _, a := range as {
		for _, b := range bs {
			if a.Workload != b.Workload || a.Workload == estate.Outside {
				return a, b
			}
		}
	}
	return as[0], bs[0]
}
