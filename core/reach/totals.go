package reach

import (
	"net/netip"
	"runtime"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Counts has a number for each verdict.
type Counts = decide.Counts

// Totals sums up the conversations of a view that a query selects, whatever
// their verdicts.
type Totals struct {
	Conversations Counts
	Connections   [3]int64
	Bytes         [3]int64
	Outcomes      [3][3]int         // conversations by verdict, then by unknown, carried, dropped
	ByRule        []int             // conversations by the index of the deciding rule
	Leaks, Chokes int               // conversations
	Asking        int               // leaks of which nobody has said that it is right to reject them
	Accepted      int               // rejected, and somebody has said that this is right
	Counted       int               // uncovered, and the server agrees with the query's Count
	Difference    decide.Difference // by the verdict in the view that this one is compared with, and in this
}

func (t *Totals) add(u *Totals) {
	for v := range 3 {
		t.Conversations[v] += u.Conversations[v]
		t.Connections[v] = flow.Sum(t.Connections[v], u.Connections[v])
		t.Bytes[v] = flow.Sum(t.Bytes[v], u.Bytes[v])
		for o := range 3 {
			t.Outcomes[v][o] += u.Outcomes[v][o]
			t.Difference[v][o] += u.Difference[v][o]
		}
	}
	for r, n := range u.ByRule {
		t.ByRule[r] += n
	}
	t.Leaks += u.Leaks
	t.Chokes += u.Chokes
	t.Asking += u.Asking
	t.Accepted += u.Accepted
	t.Counted += u.Counted
}

// Totals counts the conversations that a query selects but for its verdicts and
// its rule. One that was both carried and dropped counts under both outcomes.
func (v *View) Totals(q Query) Totals {
	q = q.whatever()
	return v.cache.totals.get(q.question(false), func() Totals { return v.count(q) })
}

// whatever is the query without what tells apart how conversations are decided.
func (q Query) whatever() Query {
	q.Verdicts, q.Was, q.Leaks, q.Rule, q.Asking, q.By = [3]bool{}, [3]bool{}, false, 0, false, ""
	if q.Group == "" && q.Workload == nil {
		q.Turn = false // it is only asked which side the group is
	}
	return q
}

func (v *View) count(q Query) Totals {
	chosen, accepted, counted := v.chosen(q), v.accepted(q), v.members(q.Count)
	found := make([]Totals, runtime.GOMAXPROCS(0))
	for w := range found {
		found[w].ByRule = make([]int, len(v.Compiled.Policy.Rules))
	}
	decide.Parallel(len(found), (v.Len()+stretch-1)/stretch, func(worker, part int) {
		t := &found[worker]
		for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
			if chosen != nil && !chosen(i) {
				continue
			}
			rule := v.rules[i]
			verdict := v.verdict[rule+1]
			t.Conversations[verdict]++
			t.Connections[verdict] = flow.Sum(t.Connections[verdict], v.cols.Connections[i])
			t.Bytes[verdict] = flow.Sum(t.Bytes[verdict], v.bytes[i])
			if rule >= 0 {
				t.ByRule[rule]++
			}
			if v.Against != nil {
				t.Difference[v.Against.Verdict(i)][verdict]++
			}
			carried, dropped := v.carried[i] > 0, v.dropped[i] > 0
			if carried {
				t.Outcomes[verdict][flow.Carried]++
			}
			if dropped {
				t.Outcomes[verdict][flow.Dropped]++
			}
			if !carried && !dropped {
				t.Outcomes[verdict][flow.Unknown]++
			}
			switch (aggregator{v}).odd(i) {
			case Leak:
				t.Leaks++
			case Choke:
				t.Chokes++
			}
			if verdict == decide.Uncovered && counted != nil && counted[v.cols.Server[i]] {
				t.Counted++
			}
			if verdict == decide.Reject {
				if accepted != nil && accepted[i] {
					t.Accepted++
				} else if carried {
					t.Asking++
				}
			}
		}
	})
	t := Totals{ByRule: make([]int, len(v.Compiled.Policy.Rules))}
	for w := range found {
		t.add(&found[w])
	}
	return t
}

// Pairs counts the pairs of a client and a server, whatever the service, by the
// verdict of what goes on between them that asks for most: uncovered before
// reject before permit.
func (v *View) Pairs(q Query) Counts {
	q = q.whatever()
	return v.cache.pairs.get(q.question(false), func() Counts {
		chosen := v.chosen(q)
		var out Counts
		v.eachPair(func(conversations []int32) {
			worst := -1
			for _, i := range conversations {
				if chosen == nil || chosen(int(i)) {
					worst = max(worst, urgency[v.Verdict(int(i))])
				}
			}
			if worst >= 0 {
				out[byUrgency[worst]]++
			}
		})
		return out
	})
}

// urgency orders verdicts by how much they ask for.
var (
	urgency   = [3]int{decide.Permit: 0, decide.Reject: 1, decide.Uncovered: 2}
	byUrgency = [3]decide.Verdict{decide.Permit, decide.Reject, decide.Uncovered}
)

// eachPair calls f with the conversations of each client and server.
func (v *View) eachPair(f func(conversations []int32)) {
	order := v.byPair()
	for from := 0; from < len(order); {
		a, b := v.cols.Client[order[from]], v.cols.Server[order[from]]
		to := from + 1
		for to < len(order) && v.cols.Client[order[to]] == a && v.cols.Server[order[to]] == b {
			to++
		}
		f(order[from:to])
		from = to
	}
}

// byPair returns the conversations in the order of clients and servers.
func (w *Window) byPair() []int32 {
	w.byPairOnce.Do(func() {
		order := make([]int32, w.Len())
		for i := range order {
			order[i] = int32(i)
		}
		w.pairOrder = inOrderOf(w.cols.Client, len(w.ends), inOrderOf(w.cols.Server, len(w.ends), order))
	})
	return w.pairOrder
}

// byServer returns them in the order of servers and clients.
func (w *Window) byServer() []int32 {
	w.byServerOnce.Do(func() { w.serverOrder = inOrderOf(w.cols.Server, len(w.ends), w.byPair()) })
	return w.serverOrder
}

// inOrderOf puts conversations in the order of a column of numbers below n; those
// with the same number stay in theirs.
func inOrderOf(column []int32, n int, order []int32) []int32 {
	next := make([]int32, n+1)
	for _, x := range column {
		next[x+1]++
	}
	for x := range n {
		next[x+1] += next[x]
	}
	out := make([]int32, len(order))
	for _, i := range order {
		x := column[i]
		out[next[x]] = i
		next[x]++
	}
	return out
}

// The measures: conversations that were active, pairs of a client and a server
// that were, and bytes.
const (
	Conversations Measure = iota
	PairsOfEnds
	Bytes
)

// Accepted is traffic of which somebody has said that it is right to reject it.
type Accepted struct {
	Client, Server func(decide.Placed) bool
	Points         service.Set
}

// Acceptance is the conversations that are accepted, in a query: Key names the list.
type Acceptance struct {
	Key  string
	List []Accepted
}

// accepted reports each conversation whether it is rejected and that was
// accepted; nil: of none.
func (v *View) accepted(q Query) []bool {
	if q.Acceptance == nil || len(q.Acceptance.List) == 0 {
		return nil
	}
	return v.cache.accepted.get(q.Acceptance.Key, func() []bool {
		out := make([]bool, v.Len())
		// by end: what it is accepted in
		clients, servers := make([][]int32, len(v.places)), make([][]int32, len(v.places))
		for k, a := range q.Acceptance.List {
			for i, p := range v.places {
				if a.Client(p) {
					clients[i] = append(clients[i], int32(k))
				}
				if a.Server(p) {
					servers[i] = append(servers[i], int32(k))
				}
			}
		}
		decide.Parallel(workers, (v.Len()+stretch-1)/stretch, func(_, part int) {
			for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
				of := clients[v.cols.Client[i]]
				if len(of) == 0 || v.Verdict(i) != decide.Reject {
					continue
				}
				out[i] = slices.ContainsFunc(servers[v.cols.Server[i]], func(k int32) bool {
					return slices.Contains(of, k) && q.Acceptance.List[k].Points.Contains(v.cols.Point[i])
				})
			}
		})
		return out
	})
}

// Accepted reports each conversation whether it is rejected and that was accepted;
// nil: of none.
func (v *View) Accepted(s *Acceptance) []bool {
	return v.accepted(Query{Filter: Filter{Acceptance: s}})
}

// Rightly returns how many rejected conversations each of the list accepts.
func (v *View) Rightly(s *Acceptance) []int {
	out := make([]int, len(s.List))
	if len(out) == 0 {
		return out
	}
	for i, accepted := range v.accepted(Query{Filter: Filter{Acceptance: s}}) {
		if !accepted {
			continue
		}
		a, b := v.places[v.cols.Client[i]], v.places[v.cols.Server[i]]
		for k := range s.List {
			if s.List[k].Client(a) && s.List[k].Server(b) && s.List[k].Points.Contains(v.cols.Point[i]) {
				out[k]++
			}
		}
	}
	return out
}

// Between returns the conversations between two addresses on a service: more than
// one where an address changed hands in the window.
func (v *View) Between(client, server netip.Addr, pt service.Point) (out []int) {
	pair, ok := v.whole.Dict.Find(client.Unmap(), server.Unmap(), pt)
	if !ok {
		return nil
	}
	for i, _ := slices.BinarySearch(v.pair, pair); i < len(v.pair) && v.pair[i] == pair; i++ {
		out = append(out, i)
	}
	return out
}

// Find returns the index of the conversation between two endpoints on a service.
func (v *View) Find(client, server estate.Endpoint, pt service.Point) (int, bool) {
	for _, i := range v.Between(client.Addr, server.Addr, pt) {
		if v.ends[v.cols.Client[i]].Endpoint == client && v.ends[v.cols.Server[i]].Endpoint == server {
			return i, true
		}
	}
	return 0, false
}
