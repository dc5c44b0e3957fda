// Package reach answers "who reaches this?": it resolves the conversations of
// a window against an estate, gives each the verdict of a policy, and gathers
// them in the rows of the reach ledger.
//
// It must not know of databases or screens. Start reading at New.
package reach

import (
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

// View is the conversations of a window under one policy. It is not changed:
// With gives another one.
type View struct {
	*Window
	Compiled *decide.Compiled
	Against  *View // what it is compared with, over the same window; or nil

	places []decide.Placed // by end
	rules  []int32         // by conversation: index of the deciding rule, or -1

	tally   func() decide.Tally
	cache   *viewCache
	verdict []decide.Verdict // of no rule, then of each rule
}

// viewCache is what was found of a view, by what was asked for.
type viewCache struct {
	namings  remembered[*naming] // by the tag that ends are called by; blank: by groups
	cells    remembered[*cells]
	placings remembered[*placing]
	rows     remembered[[]Row]
	maps     remembered[TerraceMap]
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

// get gives the answer to a question, found if need be.
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
	c.Evaluate(decide.Columns{Client: w.cols.Client, Server: w.cols.Server, Point: w.cols.Point}, decide.Ends{Class: v.classes()}, v.rules, 0)
	return v.ready()
}

// Warm finds what is otherwise found when first asked for.
func (v *View) Warm() {
	v.tally()
	v.seen("")
}

func (v *View) classes() []int32 {
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
	v.tally = sync.OnceValue(func() decide.Tally { return v.Compiled.Tally(v.cols, v.rules, max(0, int(v.To-v.From))) })
	v.cache = &viewCache{}
	return v
}

// With gives the view after an update: only conversations that it can change
// are decided anew.
func (v *View) With(u *decide.Update) *View {
	if u.Nothing() {
		next := *v
		next.Compiled = u.After
		return &next
	}
	if v.changesHands(u) {
		w := NewWindow(u.After.Estate, v.whole, v.From, v.To)
		w.Structural = v.Structural
		return w.Under(u.After)
	}
	next := &View{Window: v.Window, Compiled: u.After, places: v.places, rules: v.rules}
	moved := v.moved(next, u)
	changed := map[[2]int32]service.Set{}
	for _, p := range u.Pairs() {
		changed[[2]int32{p.Client, p.Server}] = p.Rule
	}
	next.rules = make([]int32, len(v.rules))
	same := true
	for i, now := range u.Rules {
		same = same && int32(i) == now
	}
	clients := make([]bool, u.After.Classes())
	for k := range changed {
		clients[k[0]] = true
	}
	decide.Parallel(workers, (len(v.rules)+stretch-1)/stretch, func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, len(v.rules)); i++ {
			a, b := v.cols.Client[i], v.cols.Server[i]
			r := v.rules[i]
			if !same && r >= 0 {
				r = u.Rules[r]
			}
			if moved != nil && (moved[a] || moved[b]) {
				r = u.After.Rule(next.places[a], next.places[b], v.cols.Point[i])
			} else if clients[next.places[a].Class] {
				if s, ok := changed[[2]int32{next.places[a].Class, next.places[b].Class}]; ok && s.Contains(v.cols.Point[i]) {
					r = u.After.Rule(next.places[a], next.places[b], v.cols.Point[i])
				}
			}
			next.rules[i] = r
		}
	})
	return next.ready()
}

// changesHands reports whether an address that was seen has another holder after
// an update: then the conversations are others.
func (v *View) changesHands(u *decide.Update) bool {
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
func (v *View) moved(next *View, u *decide.Update) []bool {
	if u.Before.Policy != u.After.Policy && len(v.ends) > 0 {
		// Groups may be numbered anew: every end is placed again.
		next.places = make([]decide.Placed, len(v.ends))
		for i := range v.ends {
			next.places[i] = u.After.At(v.ends[i].Addr, v.ends[i].at)
		}
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

// Compared gives the view with another one, of the same window, as what it is
// compared with.
func (v *View) Compared(against *View) *View {
	out := &View{Window: v.Window, Compiled: v.Compiled, Against: against, places: v.places, rules: v.rules}
	return out.ready()
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

// At gives a conversation.
func (v *View) At(i int) Conversation {
	c := Conversation{
		Client: v.places[v.cols.Client[i]], Server: v.places[v.cols.Server[i]], Point: v.cols.Point[i],
		Connections: v.cols.Connections[i], Bytes: v.bytes[i], Carried: v.carried[i], Dropped: v.dropped[i], Unsure: v.unsure[i],
		First: v.first[i], Last: v.last[i], Verdict: v.Verdict(i),
	}
	if r := v.rules[i]; r >= 0 {
		c.Rule = v.Compiled.Policy.Rules[r]
	}
	return c
}

// Verdict gives the verdict of a conversation.
func (v *View) Verdict(i int) decide.Verdict { return v.verdict[v.rules[i]+1] }

// Leak reports whether the policy rejects what the network carried.
func (c *Conversation) Leak() bool { return c.Verdict == decide.Reject && c.Carried > 0 }

// Choke reports whether the policy permits what the network dropped.
func (c *Conversation) Choke() bool { return c.Verdict == decide.Permit && c.Dropped > 0 }

// Find gives the index of the conversation between two endpoints on a service.
func (v *View) Find(client, server estate.Endpoint, pt service.Point) (int, bool) {
	a, b := int32(-1), int32(-1)
	for i := range v.ends {
		if v.ends[i].Endpoint == client {
			a = int32(i)
		}
		if v.ends[i].Endpoint == server {
			b = int32(i)
		}
	}
	if a < 0 || b < 0 {
		return 0, false
	}
	for i, end := range v.cols.Client {
		if end == a && v.cols.Server[i] == b && v.cols.Point[i] == pt {
			return i, true
		}
	}
	return 0, false
}

// Counts has a number for each verdict.
type Counts = decide.Counts

// Totals sums up a view.
type Totals struct {
	Conversations Counts
	Connections   [3]int64
	Bytes         [3]int64
	Outcomes      [3][3]int // conversations by verdict, then by unknown, carried, dropped
	ByRule        []int     // conversations by the index of the deciding rule
	Leaks, Chokes int
}

// Totals counts the conversations. One that was both carried and dropped
// counts under both outcomes.
func (v *View) Totals() Totals {
	pass := v.tally()
	t := Totals{Conversations: pass.Rows, Connections: pass.Connections, ByRule: pass.Rules}
	for i := range v.rules {
		verdict := v.Verdict(i)
		t.Bytes[verdict] += v.bytes[i]
		carried, dropped := v.carried[i] > 0, v.dropped[i] > 0
		if !carried && !dropped {
			t.Outcomes[verdict][flow.Unknown]++
			continue
		}
		if carried {
			t.Outcomes[verdict][flow.Carried]++
		}
		if dropped {
			t.Outcomes[verdict][flow.Dropped]++
		}
	}
	t.Leaks, t.Chokes = t.Outcomes[decide.Reject][flow.Carried], t.Outcomes[decide.Permit][flow.Dropped]
	return t
}

// Evidence gives, for each rule by its index, what was seen of what it decides.
func (v *View) Evidence() []prove.Evidence {
	out := make([]prove.Evidence, len(v.Compiled.Policy.Rules))
	type pair struct{ rule, a, b int32 }
	pairs, ends := map[pair]bool{}, map[pair]bool{}
	once := func(m map[pair]bool, k pair) bool {
		known := m[k]
		m[k] = true
		return !known
	}
	for i, r := range v.rules {
		if r < 0 {
			continue
		}
		e, a, b := &out[r], v.cols.Client[i], v.cols.Server[i]
		e.Conversations++
		if once(pairs, pair{r, a, b}) {
			e.Pairs++
		}
		if once(ends, pair{r, a, 0}) {
			e.Clients = append(e.Clients, v.places[a])
		}
		if once(ends, pair{r, b, 1}) {
			e.Servers = append(e.Servers, v.places[b])
		}
	}
	return out
}

// RuleUse is what one rule decides of the window.
type RuleUse struct {
	Conversations int
	Connections   int64
	Last          estate.Instant // of the newest conversation
	Spark         [sparkBins]int // connections over the window
}

// RuleUses gives the use of each rule by its index.
func (v *View) RuleUses() []RuleUse {
	out := make([]RuleUse, len(v.Compiled.Policy.Rules))
	v.seen("").each(func(_ int32, c *cell) {
		if c.rule < 0 {
			return
		}
		u := &out[c.rule]
		u.Conversations += int(c.conversations)
		u.Connections += c.connections
		if last := c.last.Instant(); u.Last.Before(last) {
			u.Last = last
		}
		for b, n := range c.spark {
			u.Spark[b] += int(n)
		}
	})
	return out
}

// Bin is a stretch of the window with the conversations that were active in it.
type Bin struct {
	Hour   flow.Hour
	Counts Counts
}

// Strip cuts the window into at most n stretches of whole hours and counts
// the conversations that were active in each, by verdict.
func (v *View) Strip(n int) []Bin {
	hours := max(1, int(v.To-v.From))
	width := (hours + n - 1) / n
	bins := make([]Bin, (hours+width-1)/width)
	for i := range bins {
		bins[i].Hour = v.From + flow.Hour(i*width)
	}
	if width == 1 && v.Len() > 0 {
		for i, c := range v.tally().Bins {
			bins[i].Counts = c
		}
		return bins
	}
	for i := range v.rules {
		last := -1
		verdict := v.Verdict(i)
		for _, h := range v.cols.When[v.cols.Starts[i]:v.cols.Starts[i+1]] {
			if k := int(h) / width; k != last {
				bins[k].Counts[verdict]++
				last = k
			}
		}
	}
	return bins
}

// Difference counts the conversations by their verdict in the view that this
// one is compared with, and in this one.
func (v *View) Difference() decide.Difference {
	if v.Against == nil {
		return decide.Difference{}
	}
	return decide.Differ(v.Against.Compiled, v.Against.rules, v.Compiled, v.rules)
}

// Change is a conversation that two views decide differently.
type Change struct {
	Index         int // of the conversation in both
	Before, After decide.Verdict
	AfterRule     *policy.Rule // that decides then; nil if none does
}

// Changes gives the conversations whose verdict differs in another view of the
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
