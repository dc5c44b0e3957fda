package reach

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// ledger gathers conversations into rows.
type ledger struct{ *View }

// Query selects rows of the ledger.
type Query struct {
	Verdicts [3]bool // none set: all
	Leaks    bool    // only leaks and chokes
	Turn     bool    // what does this reach?, instead of who reaches it?
	Text     string  // in the names of the two sides, their groups, or the service

	// What is unfolded: a row of the level above.
	Near, Far string // keys of labels; Near is the served side (or the caller if turned)
	Point     *service.Point

	Rule int // only what the rule on this line decides; 0 is all

	Group    string // only where a member of this group is the near side
	Workload *int32 // only where this workload is the near side

	Filter
	Count *expr.Expr // Totals counts apart what is uncovered and whose server agrees with it

	By string // the tag that sides are called by; blank: their groups

	Was [3]bool // verdicts in the view that this one is compared with; none set: all
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
	Changed       int     // conversations with another verdict in the view that this one is compared with
	Others        []other // the other side, most undecided first; the first of them
	OtherCount    int     // of all
	Spark         []int   // connections over the window
	Rules         []int   // lines of the deciding rules, most used first
	First, Last   estate.Instant

	rank int32 // of its label
}

// other is one on the other side of a row.
type other struct {
	Label
	Counts Counts
}

// othersKept is how many a row names.
const othersKept = 8

// Served returns one row for each thing and service, most undecided first.
func (v *View) Served(q Query) []Row {
	return ledger{v}.rows(q, q.Turn)
}

// Callers returns one row for each caller of the thing and service of the query.
func (v *View) Callers(q Query) []Row {
	return ledger{v}.rows(q, !q.Turn)
}

// sparkBins is into how many stretches a row cuts the window.
const sparkBins = 24

// question names a query among those of a view.
func (q *Query) question(byClient bool) string {
	text := func(e *expr.Expr) string {
		if e == nil {
			return ""
		}
		return e.String()
	}
	flat := *q
	flat.Point, flat.Workload, flat.Client, flat.Server, flat.Part, flat.Acceptance, flat.Count = nil, nil, nil, nil,
		nil, nil, nil
	part, acceptance := Part{}, ""
	if q.Part != nil {
		part = *q.Part
	}
	if q.Acceptance != nil && len(q.Acceptance.List) > 0 {
		acceptance = q.Acceptance.Key
	}
	if len(q.Paths) == 0 {
		flat.Map = MapKeys{} // it only says what paths mean
	}
	point, workload := int64(-1), int64(-1)
	if q.Point != nil {
		point = int64(*q.Point)
	}
	if q.Workload != nil {
		workload = int64(*q.Workload)
	}
	return fmt.Sprintf("%v %+v %d %d %q %q %+v %s %q", byClient, flat, point, workload, text(q.Client),
		text(q.Server), part, acceptance, text(q.Count))
}

// rows gathers the aggregates of a query by the label of one side: the clients' or
// the servers'. What was asked before is remembered.
func (v ledger) rows(q Query, byClient bool) []Row {
	return v.cache.rows.get(q.question(byClient), func() []Row { return v.rowsOf(q, byClient) })
}

func (v ledger) rowsOf(q Query, byClient bool) []Row {
	var found *aggregates
	if q.Text == "" && q.Group == "" && q.Workload == nil && q.Filter.all() {
		found = aggregator(v).seen(q.By)
	} else {
		found = aggregator(v).gather(q)
	}
	names := namer(v).naming(q.By)
	// The aggregates of a row lie together, and in it those of each other side.
	entries := make([]entry, 0, found.len())
	nearKey, farKey := int32(-1), int32(-1)
	for i, k := range names.keys {
		if k == q.Near {
			nearKey = int32(i)
		}
		if k == q.Far {
			farKey = int32(i)
		}
	}
	found.each(func(i int32, c *aggregate) {
		near, far := c.server, c.client
		if q.Turn {
			near, far = far, near
		}
		if q.Near != "" && near != nearKey || q.Far != "" && far != farKey || !v.aggregateMatches(q, c) {
			return
		}
		e := entry{uint64(uint32(c.server))<<32 | uint64(c.point), c.client, i}
		if byClient {
			e = entry{uint64(uint32(c.client))<<32 | uint64(c.point), c.server, i}
		}
		entries = append(entries, e)
	})
	slices.SortFunc(entries, func(a, b entry) int {
		return cmp.Or(cmp.Compare(a.near, b.near),
			cmp.Compare(a.far, b.far))
	})
	w := rowWriter{ledger: v, found: found, names: names, byClient: byClient, rules: map[int]int{}}
	var out []Row
	for from := 0; from < len(entries); {
		to := from
		for to < len(entries) && entries[to].near == entries[from].near {
			to++
		}
		out = append(out, w.row(entries[from:to]))
		from = to
	}
	slices.SortFunc(out, func(a, b Row) int {
		return cmp.Or(b.Counts[decide.Uncovered]-a.Counts[decide.Uncovered],
			b.Counts[decide.Reject]-a.Counts[decide.Reject], b.Conversations-a.Conversations,
			strings.Compare(a.Text, b.Text), cmp.Compare(a.Point, b.Point), cmp.Compare(a.rank, b.rank))
	})
	return out
}

// entry is an aggregate in the order of rows: those of a row lie together, and in it those
// of each other side.
type entry struct {
	near      uint64 // label and service
	far       int32
	aggregate int32
}

// rowWriter adds aggregates up to rows, one after the other.
type rowWriter struct {
	ledger
	found    *aggregates
	names    *naming
	byClient bool
	rules    map[int]int // conversations of the row by the line of their rule
	others   []entry     // of the row: far, and index into counts
	counts   []Counts
}

// row adds the aggregates of one row up.
func (w *rowWriter) row(entries []entry) Row {
	first := w.found.at(entries[0].aggregate)
	near := first.server
	if w.byClient {
		near = first.client
	}
	g := Row{Label: w.names.all[near], Point: first.point, Spark: make([]int, sparkBins)}
	firstAt, lastAt := first.first, first.last
	clear(w.rules)
	others, counts := w.others[:0], w.counts[:0]
	for _, e := range entries {
		c := w.found.at(e.aggregate)
		n := int(c.conversations)
		verdict := w.verdict[c.rule+1]
		g.Counts[verdict] += n
		g.Conversations += n
		g.Connections = flow.Sum(g.Connections, c.connections)
		g.Bytes = flow.Sum(g.Bytes, c.bytes)
		if w.Against != nil && c.was != verdict {
			g.Changed += n
		}
		switch c.odd {
		case Leak:
			g.Leaks += n
		case Choke:
			g.Chokes += n
		}
		firstAt, lastAt = min(firstAt, c.first), max(lastAt, c.last)
		if c.rule >= 0 {
			w.rules[w.Compiled.Policy.Rules[c.rule].Line] += n
		}
		for b, n := range c.spark {
			g.Spark[b] += int(n)
		}
		if len(others) == 0 || others[len(others)-1].far != e.far {
			others = append(others, entry{far: e.far, aggregate: int32(len(counts))})
			counts = append(counts, Counts{})
		}
		counts[len(counts)-1][verdict] += n
	}
	g.First, g.Last = firstAt.Instant(), lastAt.Instant()
	g.OtherCount = len(others)
	compare := func(a, b entry) int {
		x, y := &counts[a.aggregate], &counts[b.aggregate]
		return cmp.Or(y[decide.Uncovered]-x[decide.Uncovered], y.Sum()-x.Sum(),
			cmp.Compare(w.names.rank[a.far], w.names.rank[b.far]))
	}
	for range min(othersKept, len(others)) {
		best := 0
		for k := range others {
			if compare(others[k], others[best]) < 0 {
				best = k
			}
		}
		g.Others = append(g.Others, other{w.names.all[others[best].far], counts[others[best].aggregate]})
		others[best] = others[len(others)-1]
		others = others[:len(others)-1]
	}
	for line := range w.rules {
		g.Rules = append(g.Rules, line)
	}
	slices.SortFunc(g.Rules, func(a, b int) int { return cmp.Or(w.rules[b]-w.rules[a], a-b) })
	g.rank = w.names.rank[near]
	w.others, w.counts = others, counts
	return g
}

// aggregateMatches reports whether a query, but for its sides and what is asked of
// each conversation, selects an aggregate.
func (v ledger) aggregateMatches(q Query, c *aggregate) bool {
	verdict := v.verdict[c.rule+1]
	if q.Verdicts != [3]bool{} && !q.Verdicts[verdict] || q.Was != [3]bool{} && !q.Was[c.was] || q.Leaks &&
		c.odd == Fine {
		return false
	}
	return (q.Rule == 0 || c.rule >= 0 && v.Compiled.Policy.Rules[c.rule].Line == q.Rule) &&
		(q.Point == nil || *q.Point == c.point)
}

// Select returns the indexes of the conversations of a query, most undecided and
// then busiest first.
func (v *View) Select(q Query) []int {
	out := v.Chosen(q)
	rank := [3]int{decide.Uncovered: 0, decide.Reject: 1, decide.Permit: 2}
	slices.SortFunc(out, func(a, b int) int {
		return cmp.Or(rank[v.Verdict(a)]-rank[v.Verdict(b)],
			cmp.Compare(v.cols.Connections[b], v.cols.Connections[a]), a-b)
	})
	return out
}

// Chosen returns the indexes of the conversations of a query, rising.
func (v *View) Chosen(q Query) []int {
	names := namer{v}.naming(q.By)
	chosen := v.chosen(q)
	// Which labels the two sides may have, so that a row is a few looks.
	sides := [2][]bool{}
	near, far := 1, 0
	if q.Turn {
		near, far = 0, 1
	}
	for side, key := range map[int]string{near: q.Near, far: q.Far} {
		if key != "" {
			sides[side] = make([]bool, len(names.all))
			for i := range names.all {
				sides[side][i] = names.keys[i] == key
			}
		}
	}
	found := make([][]int, (v.Len()+stretch-1)/stretch)
	decide.Parallel(workers, len(found), func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
			switch {
			case !ledger{v}.selects(q, i),
				sides[0] != nil && !sides[0][names.of[v.cols.Client[i]]],
				sides[1] != nil && !sides[1][names.of[v.cols.Server[i]]],
				chosen != nil && !chosen(i):
			default:
				found[part] = append(found[part], i)
			}
		}
	})
	return slices.Concat(found...)
}

// selects reports whether a query's verdicts, rule and service select a
// conversation.
func (v ledger) selects(q Query, i int) bool {
	r := v.rules[i]
	switch {
	case q.Verdicts != [3]bool{} && !q.Verdicts[v.verdict[r+1]],
		q.Point != nil && *q.Point != v.cols.Point[i],
		q.Leaks && aggregator(v).odd(i) == Fine,
		q.Rule != 0 && (r < 0 || v.Compiled.Policy.Rules[r].Line != q.Rule),
		q.Was != [3]bool{} && v.Against != nil && !q.Was[v.Against.Verdict(i)]:
		return false
	}
	return true
}

// near returns the ends that a query wants on the near side; nil: any.
func (v ledger) near(q Query) []bool {
	if q.Group == "" && q.Workload == nil {
		return nil
	}
	out := make([]bool, len(v.places))
	for i, p := range v.places {
		out[i] = (q.Workload == nil || p.Workload == *q.Workload) &&
			(q.Group == "" || v.Compiled.Group(q.Group, p) == expr.Yes)
	}
	return out
}

// texts is, for each word of a text, which ends and services it is found in.
type texts []textWord

type textWord struct {
	ends   []bool
	points map[service.Point]bool
}

// texts looks every word up in the names of the ends, in what they are called in
// the ledger, in their addresses, and in the services; nil for no words.
func (v ledger) texts(text string) texts {
	var out texts
	for _, word := range strings.Fields(strings.ToLower(text)) {
		w := textWord{make([]bool, len(v.places)), map[service.Point]bool{}}
		has := func(s string) bool { return strings.Contains(strings.ToLower(s), word) }
		names := namer(v).naming("")
		for i, p := range v.places {
			w.ends[i] = has(v.Name(p)) || has(names.all[names.of[i]].Text) || has(p.Addr.String())
		}
		for _, pt := range v.cols.Point {
			if _, known := w.points[pt]; !known {
				w.points[pt] = has(pt.String()) || has(flow.ServiceName(pt))
			}
		}
		out = append(out, w)
	}
	return out
}

// in reports whether every word is found in a conversation.
func (t texts) in(v *View, i int) bool {
	for _, w := range t {
		if !w.ends[v.cols.Client[i]] && !w.ends[v.cols.Server[i]] && !w.points[v.cols.Point[i]] {
			return false
		}
	}
	return true
}
