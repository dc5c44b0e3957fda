package reach

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Query says which rows of the ledger are wanted.
type Query struct {
	Verdicts [3]bool // none set: all
	Leaks    bool    // only leaks and chokes
	Turn     bool    // what does this reach?, instead of who reaches it?
	Text     string  // in the names of the two sides, their groups, or the service

	// What is unfolded: a row of the level above.
	Near, Far string // keys of labels; Near is the served side (or the caller if turned)
	Point     *service.Point

	Rule int // only what the rule on this line decides; 0 is all
}

// Row is one line of the ledger: a served thing with its service, or one of
// its callers.
type Row struct {
	Label
	Point         service.Point
	Counts        Counts
	Conversations int
	Connections   int64
	Bytes         int64
	Leaks, Chokes int
	Others        []Other // the other side, most undecided first
	Spark         []int   // connections over the window
	Rules         []int   // lines of the deciding rules, most used first
	First, Last   estate.Instant
}

// Other is one on the other side of a row.
type Other struct {
	Label
	Counts Counts
}

// Served gives one row for each thing and service, most undecided first.
func (v *View) Served(q Query) []Row {
	return v.rows(q, func(c *Conversation) (near, far decide.Placed) { return v.ends(q, c) })
}

// Callers gives one row for each caller of the thing and service of the query.
func (v *View) Callers(q Query) []Row {
	return v.rows(q, func(c *Conversation) (near, far decide.Placed) {
		near, far = v.ends(q, c)
		return far, near
	})
}

func (v *View) ends(q Query, c *Conversation) (near, far decide.Placed) {
	if q.Turn {
		return c.Client, c.Server
	}
	return c.Server, c.Client
}

const sparkBins = 24

func (v *View) rows(q Query, ends func(*Conversation) (near, far decide.Placed)) []Row {
	type key struct {
		label Label
		point service.Point
	}
	type gather struct {
		Row
		others map[Label]*Other
		rules  map[int]int
	}
	index := map[key]*gather{}
	var order []*gather
	span := max(1, int(v.To-v.From))
	for i := range v.Conversations {
		c := &v.Conversations[i]
		if !v.matches(q, c) {
			continue
		}
		near, far := ends(c)
		k := key{v.labels.of(near), c.Point}
		g := index[k]
		if g == nil {
			g = &gather{Row{Label: k.label, Point: c.Point, First: c.First, Last: c.Last, Spark: make([]int, sparkBins)}, map[Label]*Other{}, map[int]int{}}
			index[k] = g
			order = append(order, g)
		}
		g.Counts[c.Verdict]++
		g.Conversations++
		g.Connections += c.Connections
		g.Bytes += c.Bytes
		if c.Leak() {
			g.Leaks++
		}
		if c.Choke() {
			g.Chokes++
		}
		if c.First.Before(g.First) {
			g.First = c.First
		}
		if g.Last.Before(c.Last) {
			g.Last = c.Last
		}
		if c.Rule != nil {
			g.rules[c.Rule.Line]++
		}
		for _, b := range c.Buckets {
			g.Spark[int(v.Buckets[b].Hour-v.From)*sparkBins/span] += int(v.Buckets[b].Connections)
		}
		l := v.labels.of(far)
		if g.others[l] == nil {
			g.others[l] = &Other{Label: l}
		}
		g.others[l].Counts[c.Verdict]++
	}
	out := make([]Row, len(order))
	for i, g := range order {
		for _, o := range g.others {
			g.Others = append(g.Others, *o)
		}
		slices.SortFunc(g.Others, func(a, b Other) int {
			return cmp.Or(b.Counts[decide.Uncovered]-a.Counts[decide.Uncovered], b.Counts.Sum()-a.Counts.Sum(), strings.Compare(a.Text, b.Text))
		})
		for line := range g.rules {
			g.Rules = append(g.Rules, line)
		}
		slices.SortFunc(g.Rules, func(a, b int) int { return cmp.Or(g.rules[b]-g.rules[a], a-b) })
		out[i] = g.Row
	}
	slices.SortStableFunc(out, func(a, b Row) int {
		return cmp.Or(b.Counts[decide.Uncovered]-a.Counts[decide.Uncovered], b.Counts[decide.Reject]-a.Counts[decide.Reject], b.Conversations-a.Conversations,
			strings.Compare(a.Text, b.Text), cmp.Compare(a.Point, b.Point))
	})
	return out
}

// Sum adds the numbers up.
func (c Counts) Sum() int { return c[0] + c[1] + c[2] }

// Select gives the indexes of the conversations of a query, most undecided and
// then busiest first.
func (v *View) Select(q Query) []int {
	var out []int
	for i := range v.Conversations {
		if v.matches(q, &v.Conversations[i]) {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int {
		x, y := &v.Conversations[a], &v.Conversations[b]
		return cmp.Or(boolFirst(x.Verdict == decide.Uncovered, y.Verdict == decide.Uncovered), boolFirst(x.Verdict == decide.Reject, y.Verdict == decide.Reject), cmp.Compare(y.Connections, x.Connections))
	})
	return out
}

func boolFirst(a, b bool) int {
	switch {
	case a && !b:
		return -1
	case b && !a:
		return 1
	}
	return 0
}

// Labels gives how the two ends of a conversation are called.
func (v *View) Labels(c *Conversation) (client, server Label) {
	return v.labels.of(c.Client), v.labels.of(c.Server)
}

// Name calls an endpoint by its workload, or by its address.
func (v *View) Name(p decide.Placed) string {
	if p.Workload == estate.Outside {
		return p.Addr.String()
	}
	return v.Compiled.Estate.Workloads[p.Workload].Label()
}

func (v *View) matches(q Query, c *Conversation) bool {
	if q.Verdicts != [3]bool{} && !q.Verdicts[c.Verdict] {
		return false
	}
	if q.Leaks && !c.Leak() && !c.Choke() {
		return false
	}
	if q.Rule != 0 && (c.Rule == nil || c.Rule.Line != q.Rule) {
		return false
	}
	if q.Point != nil && *q.Point != c.Point {
		return false
	}
	near, far := v.ends(q, c)
	if q.Near != "" && v.labels.of(near).Key() != q.Near || q.Far != "" && v.labels.of(far).Key() != q.Far {
		return false
	}
	return q.Text == "" || v.mentions(c, wordsOf(q.Text))
}

// mentions reports whether every word of the text is in the name of a side, of
// what it is called in the ledger, in its address, or in the service.
func (v *View) mentions(c *Conversation, words []string) bool {
	for _, w := range words {
		found := false
		for _, s := range []string{v.Name(c.Client), v.Name(c.Server), v.labels.of(c.Client).Text, v.labels.of(c.Server).Text, c.Client.Addr.String(), c.Server.Addr.String(), c.Point.String(), flow.ServiceName(c.Point)} {
			if strings.Contains(strings.ToLower(s), w) {
				found = true
				break
			}
		}
		if !found {
			return false
		}
	}
	return true
}

func wordsOf(text string) []string { return strings.Fields(strings.ToLower(text)) }
