package reach

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
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

	Group    string // only where a member of this group is the near side
	Workload *int32 // only where this workload is the near side

	Filter
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
	return v.rows(q, q.Turn)
}

// Callers gives one row for each caller of the thing and service of the query.
func (v *View) Callers(q Query) []Row {
	return v.rows(q, !q.Turn)
}

// sparkBins is into how many stretches a row cuts the window.
const sparkBins = 24

// cell is the conversations that no row of a ledger and no filter but the text
// tells apart: the rows are put together from them.
type cell struct {
	cellKey
	conversations int
	connections   int64
	bytes         int64
	first, last   estate.Instant
	spark         [sparkBins]int
}

type cellKey struct {
	client, server int32 // labels
	point          service.Point
	rule           int32          // index, or -1
	was            decide.Verdict // in the view that this one is compared with
	odd            bool           // a leak or a choke
}

// cells is all cells of a view.
type cells struct{ all []cell }

// seen gives all cells of the view, whose sides are called by a tag.
func (v *View) seen(by string) *cells {
	v.cache.mu.Lock()
	c := v.cache.cells[by]
	v.cache.mu.Unlock()
	if c == nil {
		c = v.gather(Query{By: by})
		v.cache.mu.Lock()
		v.cache.cells[by] = c
		v.cache.mu.Unlock()
	}
	return c
}

// gather puts the conversations that a query's text selects into cells.
func (v *View) gather(q Query) *cells {
	names := v.naming(q.By)
	chosen := v.chosen(q)
	type part struct {
		index map[cellKey]int32
		all   []cell
	}
	parts := make([]part, workers)
	for i := range parts {
		parts[i].index = map[cellKey]int32{}
	}
	decide.Parallel(workers, (len(v.rules)+stretch-1)/stretch, func(worker, step int) {
		p := &parts[worker]
		for i := step * stretch; i < min((step+1)*stretch, len(v.rules)); i++ {
			if chosen != nil && !chosen(i) {
				continue
			}
			k := cellKey{client: names.of[v.cols.Client[i]], server: names.of[v.cols.Server[i]], point: v.cols.Point[i], rule: v.rules[i], odd: v.odd(i)}
			if v.Against != nil {
				k.was = v.Against.Verdict(i)
			}
			c, ok := p.index[k]
			if !ok {
				c = int32(len(p.all))
				p.index[k] = c
				p.all = append(p.all, cell{cellKey: k, first: v.first[i], last: v.last[i]})
			}
			p.all[c].add(v, i)
		}
	})
	out := parts[0]
	for _, p := range parts[1:] {
		for i := range p.all {
			x := &p.all[i]
			c, ok := out.index[x.cellKey]
			if !ok {
				out.index[x.cellKey] = int32(len(out.all))
				out.all = append(out.all, *x)
				continue
			}
			out.all[c].merge(x)
		}
	}
	return &cells{out.all}
}

// odd reports whether a conversation is a leak or a choke.
func (v *View) odd(i int) bool {
	switch v.Verdict(i) {
	case decide.Reject:
		return v.carried[i] > 0
	case decide.Permit:
		return v.dropped[i] > 0
	}
	return false
}

func (c *cell) add(v *View, i int) {
	c.conversations++
	c.connections += v.cols.Connections[i]
	c.bytes += v.bytes[i]
	c.span(v.first[i], v.last[i])
	v.Spread(i, c.spark[:])
}

func (c *cell) merge(d *cell) {
	c.conversations += d.conversations
	c.connections += d.connections
	c.bytes += d.bytes
	c.span(d.first, d.last)
	for i, n := range d.spark {
		c.spark[i] += n
	}
}

func (c *cell) span(first, last estate.Instant) {
	if first.Before(c.first) {
		c.first = first
	}
	if c.last.Before(last) {
		c.last = last
	}
}

// rows gathers the cells of a query by the label of one side: the clients' or
// the servers'.
func (v *View) rows(q Query, byClient bool) []Row {
	var found *cells
	if q.Text == "" && q.Group == "" && q.Workload == nil && q.Filter.all() {
		found = v.seen(q.By)
	} else {
		found = v.gather(q)
	}
	names := v.naming(q.By)
	type key struct {
		label int32
		point service.Point
	}
	type row struct {
		Row
		others map[int32]*Other
		rules  map[int]int
	}
	index := map[key]*row{}
	var order []*row
	for i := range found.all {
		c := &found.all[i]
		if !v.cellMatches(q, c, names) {
			continue
		}
		near, far := c.server, c.client
		if byClient {
			near, far = far, near
		}
		k := key{near, c.point}
		g := index[k]
		if g == nil {
			g = &row{Row{Label: names.all[near], Point: c.point, First: c.first, Last: c.last, Spark: make([]int, sparkBins)}, map[int32]*Other{}, map[int]int{}}
			index[k] = g
			order = append(order, g)
		}
		verdict := v.verdict[c.rule+1]
		g.Counts[verdict] += c.conversations
		g.Conversations += c.conversations
		g.Connections += c.connections
		g.Bytes += c.bytes
		if v.Against != nil && c.was != verdict {
			g.Changed += c.conversations
		}
		if c.odd && verdict == decide.Reject {
			g.Leaks += c.conversations
		}
		if c.odd && verdict == decide.Permit {
			g.Chokes += c.conversations
		}
		if c.first.Before(g.First) {
			g.First = c.first
		}
		if g.Last.Before(c.last) {
			g.Last = c.last
		}
		if c.rule >= 0 {
			g.rules[v.Compiled.Policy.Rules[c.rule].Line] += c.conversations
		}
		for b, n := range c.spark {
			g.Spark[b] += n
		}
		o := g.others[far]
		if o == nil {
			o = &Other{Label: names.all[far]}
			g.others[far] = o
		}
		o.Counts[verdict] += c.conversations
	}
	out := make([]Row, len(order))
	for i, g := range order {
		for _, o := range g.others {
			g.Others = append(g.Others, *o)
		}
		slices.SortFunc(g.Others, func(a, b Other) int {
			return cmp.Or(b.Counts[decide.Uncovered]-a.Counts[decide.Uncovered], b.Counts.Sum()-a.Counts.Sum(), strings.Compare(a.Text, b.Text), strings.Compare(a.Key(), b.Key()))
		})
		for line := range g.rules {
			g.Rules = append(g.Rules, line)
		}
		slices.SortFunc(g.Rules, func(a, b int) int { return cmp.Or(g.rules[b]-g.rules[a], a-b) })
		out[i] = g.Row
	}
	slices.SortFunc(out, func(a, b Row) int {
		return cmp.Or(b.Counts[decide.Uncovered]-a.Counts[decide.Uncovered], b.Counts[decide.Reject]-a.Counts[decide.Reject], b.Conversations-a.Conversations,
			strings.Compare(a.Text, b.Text), cmp.Compare(a.Point, b.Point), strings.Compare(a.Key(), b.Key()))
	})
	return out
}

// cellMatches reports whether a query, but for its text, selects a cell.
func (v *View) cellMatches(q Query, c *cell, names *naming) bool {
	verdict := v.verdict[c.rule+1]
	if q.Verdicts != [3]bool{} && !q.Verdicts[verdict] || q.Was != [3]bool{} && !q.Was[c.was] || q.Leaks && !c.odd {
		return false
	}
	if q.Rule != 0 && (c.rule < 0 || v.Compiled.Policy.Rules[c.rule].Line != q.Rule) || q.Point != nil && *q.Point != c.point {
		return false
	}
	near, far := c.server, c.client
	if q.Turn {
		near, far = far, near
	}
	return (q.Near == "" || names.all[near].Key() == q.Near) && (q.Far == "" || names.all[far].Key() == q.Far)
}

// Select gives the indexes of the conversations of a query, most undecided and
// then busiest first.
func (v *View) Select(q Query) []int {
	names := v.naming(q.By)
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
			for i, l := range names.all {
				sides[side][i] = l.Key() == key
			}
		}
	}
	var out []int
	for i := range v.rules {
		switch {
		case !v.selects(q, i),
			sides[0] != nil && !sides[0][names.of[v.cols.Client[i]]],
			sides[1] != nil && !sides[1][names.of[v.cols.Server[i]]],
			chosen != nil && !chosen(i):
		default:
			out = append(out, i)
		}
	}
	rank := [3]int{decide.Uncovered: 0, decide.Reject: 1, decide.Permit: 2}
	slices.SortFunc(out, func(a, b int) int {
		return cmp.Or(rank[v.Verdict(a)]-rank[v.Verdict(b)], cmp.Compare(v.cols.Connections[b], v.cols.Connections[a]), a-b)
	})
	return out
}

// selects reports whether a query's verdicts, rule and service select a
// conversation.
func (v *View) selects(q Query, i int) bool {
	r := v.rules[i]
	switch {
	case q.Verdicts != [3]bool{} && !q.Verdicts[v.verdict[r+1]],
		q.Point != nil && *q.Point != v.cols.Point[i],
		q.Leaks && !v.odd(i),
		q.Rule != 0 && (r < 0 || v.Compiled.Policy.Rules[r].Line != q.Rule),
		q.Was != [3]bool{} && v.Against != nil && !q.Was[v.Against.Verdict(i)]:
		return false
	}
	return true
}

// near gives the ends that a query wants on the near side; nil: any.
func (v *View) near(q Query) []bool {
	if q.Group == "" && q.Workload == nil {
		return nil
	}
	out := make([]bool, len(v.places))
	for i, p := range v.places {
		out[i] = (q.Workload == nil || p.Workload == *q.Workload) && (q.Group == "" || v.Compiled.Group(q.Group, p) == expr.Yes)
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
func (v *View) texts(text string) texts {
	var out texts
	for _, word := range strings.Fields(strings.ToLower(text)) {
		w := textWord{make([]bool, len(v.places)), map[service.Point]bool{}}
		has := func(s string) bool { return strings.Contains(strings.ToLower(s), word) }
		names := v.naming("")
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
