// Package reach answers "who reaches this?": it resolves the conversations of
// a window against an estate, gives each the verdict of a policy, and gathers
// them in the rows of the reach ledger.
//
// It must not know of databases or screens. Start reading at NewWindow and Window.Under.
package reach

import (
	"maps"
	"net/netip"
	"slices"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/service"
)

// mover follows ends of conversations that change hands.
type mover struct{ *View }

// View is the conversations of a window under one policy. It is not changed:
// With returns another one.
type View struct {
	*Window
	Compiled *decide.Compiled
	Against  *View // what it is compared with, over the same window; or nil

	places []decide.Placed // by end
	rules  []int32         // by conversation: index of the deciding rule, or -1

	cache   *viewCache
	carry   *carry           // of the view that this one was made from; or nil
	verdict []decide.Verdict // of no rule, then of each rule
}

// viewCache is what was found of a view, by what was asked for.
type viewCache struct {
	namings    remembered[*naming] // by the tag that ends are called by; blank: by groups
	aggregates remembered[*aggregates]
	placings   remembered[*placing]
	rows       remembered[[]Row]
	maps       remembered[terraceMap]
	totals     remembered[Totals]
	pairs      remembered[Counts]
	accepted   remembered[[]bool]
	evidence   remembered[[]prove.Evidence]
	uses       remembered[[]GroupUse]
	members    remembered[[]bool]
}

// remembered keeps the answers to the last few questions. The zero value is
// ready to use.
type remembered[T any] struct {
	mu      sync.Mutex
	answers map[string]T
	asked   []string // in their order
}

// answersKept is how many answers of one kind a view remembers.
const answersKept = 12

// get returns the answer to a question, found if need be.
func (r *remembered[T]) get(question string, find func() T) T {
	r.mu.Lock()
	answer, known := r.answers[question]
	r.mu.Unlock()
	if known {
		return answer
	}
	answer = find()
	r.mu.Lock()
	defer r.mu.Unlock()
	if have, known := r.answers[question]; known {
		return have // somebody else found it meanwhile
	}
	if r.answers == nil {
		r.answers = map[string]T{}
	}
	if r.asked = append(r.asked, question); len(r.asked) > answersKept {
		delete(r.answers, r.asked[0])
		r.asked = r.asked[1:]
	}
	r.answers[question] = answer
	return answer
}

// all returns what is remembered, by question.
func (r *remembered[T]) all() map[string]T {
	r.mu.Lock()
	defer r.mu.Unlock()
	return maps.Clone(r.answers)
}

// New resolves the buckets whose hour is in [from, to) and decides them.
func New(c *decide.Compiled, buckets []flow.Bucket, from, to flow.Hour) *View {
	return NewWindow(c.Estate, flow.Pack(buckets), from, to).Under(c)
}

// Under decides the conversations of a window. c is compiled against an estate
// with the leases that the window was resolved with.
func (w *Window) Under(c *decide.Compiled) *View {
	v := &View{Window: w, Compiled: c, places: make([]decide.Placed, len(w.ends)), rules: make([]int32, w.Len())}
	for i := range w.ends {
		v.places[i] = c.At(w.ends[i].Addr, w.ends[i].at)
	}
	c.Evaluate(decide.Columns{Client: w.cols.Client, Server: w.cols.Server, Point: w.cols.Point},
		decide.Ends{Class: mover{v}.classes()}, v.rules, 0)
	return v.ready()
}

// Warm finds what is otherwise found when first asked for.
func (v *View) Warm() {
	v.Totals(Query{})
	aggregator{v}.seen("")
}

func (v mover) classes() []int32 {
	out := make([]int32, len(v.places))
	for i := range out {
		out[i] = v.places[i].Class
	}
	return out
}

// ready prepares what is found when first asked for.
func (v *View) ready() *View {
	v.verdict = make([]decide.Verdict, len(v.Compiled.Policy.Rules)+1)
	for i, r := range v.Compiled.Policy.Rules {
		v.verdict[i+1] = decide.VerdictOf(r)
	}
	v.cache = &viewCache{}
	return v
}

// With returns the view after an update: only conversations that it can change
// are decided anew.
func (v *View) With(u *decide.Update) *View {
	if u.Nothing() {
		next := *v
		next.Compiled = u.After
		return &next
	}
	if (mover{v}).changesHands(u) {
		w := NewWindow(u.After.Estate, v.whole, v.From, v.To)
		w.Structural, w.Inapplicable, w.judge = v.Structural, v.Inapplicable, v.judge
		return w.Under(u.After)
	}
	next := &View{Window: v.Window, Compiled: u.After, places: v.places, rules: v.rules}
	moved := mover{v}.moved(next, u)
	changed := map[[2]int32]service.Set{}
	for _, p := range u.Pairs() {
		changed[[2]int32{p.Client, p.Server}] = p.Rule
	}
	next.rules = make([]int32, len(v.rules))
	same := true
	for i, now := range u.Rules {
		same = same && int32(i) == now
	}
	others := make([][]int32, (len(v.rules)+stretch-1)/stretch)
	clients := make([]bool, u.After.Classes())
	for k := range changed {
		clients[k[0]] = true
	}
	// Of most clients nothing changes: that is looked up first.
	touched := make([]bool, len(next.places))
	for i := range touched {
		touched[i] = clients[next.places[i].Class] || moved != nil
	}
	decide.Parallel(workers, len(others), func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, len(v.rules)); i++ {
			a := v.cols.Client[i]
			r := v.rules[i]
			if !same && r >= 0 {
				r = u.Rules[r]
			}
			gone := v.rules[i] >= 0 && r < 0
			was := r
			if touched[a] {
				b := v.cols.Server[i]
				if moved != nil && (moved[a] || moved[b]) {
					r = u.After.Rule(next.places[a], next.places[b], v.cols.Point[i])
				} else if s, ok := changed[[2]int32{next.places[a].Class, next.places[b].Class}]; ok &&
					s.Contains(v.cols.Point[i]) {
					r = u.After.Rule(next.places[a], next.places[b], v.cols.Point[i])
				}
			}
			next.rules[i] = r
			if gone || r != was {
				others[part] = append(others[part], int32(i))
			}
		}
	})
	next.ready()
	if u.Before.SameGroups(u.After) {
		next.carry = aggregator{v}.carryOn(slices.Concat(others...), u.Rules)
		for by, n := range v.cache.namings.all() {
			if by != ByArea && by != ByOwner {
				next.cache.namings.get(by, func() *naming { return n })
			}
		}
		for text, in := range v.cache.members.all() {
			next.cache.members.get(text, func() []bool { return in })
		}
	}
	return next
}

// changesHands reports whether an address that was seen has another holder after
// an update: then the conversations are others.
func (v mover) changesHands(u *decide.Update) bool {
	addrs := map[netip.Addr]bool{}
	for _, m := range u.Moved {
		if m.Before.Workload != m.After.Workload {
			addrs[m.Where.Addr()] = true
		}
	}
	if len(addrs) == 0 {
		return false
	}
	return slices.ContainsFunc(v.ends, func(e sighting) bool { return addrs[e.Addr] })
}

const (
	workers = 4
	stretch = 1 << 15
)

// moved finds the ends whose class or groups the update changes, and places all
// in the next view; nil is none.
func (v mover) moved(next *View, u *decide.Update) []bool {
	if u.Before.Policy != u.After.Policy && len(v.ends) > 0 {
		// Groups may be numbered anew: every end is placed again.
		next.places = make([]decide.Placed, len(v.ends))
		decide.Parallel(workers, (len(v.ends)+stretch-1)/stretch, func(_, part int) {
			for i := part * stretch; i < min((part+1)*stretch, len(v.ends)); i++ {
				next.places[i] = u.After.At(v.ends[i].Addr, v.ends[i].at)
			}
		})
	} else if len(u.Moved) > 0 {
		workloads := map[int32]bool{}
		for _, m := range u.Moved {
			workloads[m.Before.Workload] = true
		}
		next.places = append([]decide.Placed(nil), v.places...)
		for i := range v.ends {
			if workloads[v.ends[i].Workload] {
				next.places[i] = u.After.At(v.ends[i].Addr, v.ends[i].at)
			}
		}
	}
	var out []bool
	for i := range next.places {
		if next.places[i].Class != v.places[i].Class {
			if out == nil {
				out = make([]bool, len(v.places))
			}
			out[i] = true
		}
	}
	return out
}

// Compared returns the view with another one, of the same window, as what it is
// compared with.
func (v *View) Compared(against *View) *View {
	out := (&View{Window: v.Window, Compiled: v.Compiled, Against: against, places: v.places, rules: v.rules}).ready()
	for by, n := range v.cache.namings.all() {
		out.cache.namings.get(by, func() *naming { return n })
	}
	others := make([][]int32, (v.Len()+stretch-1)/stretch)
	decide.Parallel(workers, len(others), func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
			if v.Verdict(i) != against.Verdict(i) {
				others[part] = append(others[part], int32(i))
			}
		}
	})
	same := make([]int32, len(v.Compiled.Policy.Rules))
	for i := range same {
		same[i] = int32(i)
	}
	out.carry = aggregator{v}.carryOn(slices.Concat(others...), same)
	return out
}

// Conversation is what was seen in the window between two endpoints on one
// service.
type Conversation struct {
	Client, Server decide.Placed
	Point          service.Point
	Connections    int64
	Bytes          int64
	Carried        int64 // connections of each outcome; the rest is unknown
	Dropped        int64
	Unsure         int64 // connections that may be the wrong way round
	First, Last    estate.Instant
	Rule           *policy.Rule // that decides; nil if none does
	Verdict        decide.Verdict
}

// At returns a conversation.
func (v *View) At(i int) Conversation {
	c := Conversation{
		Client: v.places[v.cols.Client[i]], Server: v.places[v.cols.Server[i]], Point: v.cols.Point[i],
		Connections: v.cols.Connections[i], Bytes: v.bytes[i], Carried: v.carried[i], Dropped: v.dropped[i],
		Unsure: v.unsure[i],
		First:  v.first[i], Last: v.last[i], Verdict: v.Verdict(i),
	}
	if r := v.rules[i]; r >= 0 {
		c.Rule = v.Compiled.Policy.Rules[r]
	}
	return c
}

// Client returns the client of a conversation.
func (v *View) Client(i int) decide.Placed { return v.places[v.cols.Client[i]] }

// Server returns the server of a conversation.
func (v *View) Server(i int) decide.Placed { return v.places[v.cols.Server[i]] }

// Point returns the service of a conversation.
func (v *View) Point(i int) service.Point { return v.cols.Point[i] }

// Verdict returns the verdict of a conversation.
func (v *View) Verdict(i int) decide.Verdict { return v.verdict[v.rules[i]+1] }

// WouldLeak reports whether the policy rejects what the network carried.
func (c *Conversation) WouldLeak() bool { return c.Verdict == decide.Reject && c.Carried > 0 }

// Evidence gives, for each rule by its index, what was seen of what it decides.
// It must not be changed.
func (v *View) Evidence() []prove.Evidence {
	return v.cache.evidence.get("", mover{v}.findEvidence)
}

func (v mover) findEvidence() []prove.Evidence {
	out := make([]prove.Evidence, len(v.Compiled.Policy.Rules))
	// Which client, and which server to it, a rule was last seen with, plus 1.
	client, server := make([]int32, len(out)), make([]int32, len(out))
	for _, i := range v.byPair() {
		r := v.rules[i]
		if r < 0 {
			continue
		}
		e, a, b := &out[r], v.cols.Client[i]+1, v.cols.Server[i]+1
		e.Conversations++
		if client[r] != a {
			e.Clients = append(e.Clients, v.places[a-1])
			client[r], server[r] = a, 0
		}
		if server[r] != b {
			e.Pairs++
			server[r] = b
		}
	}
	clear(server)
	for _, i := range v.byServer() {
		r, b := v.rules[i], v.cols.Server[i]+1
		if r >= 0 && server[r] != b {
			out[r].Servers = append(out[r].Servers, v.places[b-1])
			server[r] = b
		}
	}
	return out
}

// Change is a conversation that two views decide differently.
type Change struct {
	Index         int // of the conversation in both
	Before, After decide.Verdict
	AfterRule     *policy.Rule // that decides then; nil if none does
}

// Changes returns the conversations whose verdict differs in another view of the
// same window.
func (v *View) Changes(after *View) []Change {
	var out []Change
	for i := range v.rules {
		was, is := v.Verdict(i), after.Verdict(i)
		if was == is {
			continue
		}
		ch := Change{Index: i, Before: was, After: is}
		if r := after.rules[i]; r >= 0 {
			ch.AfterRule = after.Compiled.Policy.Rules[r]
		}
		out = append(out, ch)
	}
	return out
}
