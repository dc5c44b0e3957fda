package reach

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// surveyor lays conversations out on the map.
type surveyor struct{ *View }

// MapKeys are the tags that make the columns and the rows of the terrace map.
type MapKeys struct {
	Columns, Rows string
	All           bool // a row for each value; else the smaller ones are one row
}

// The places that are no column or row.
const (
	outsidePlace = "~outside" // no workload
	nowhere      = "~nowhere" // a workload without the tag, or with a value that hardly any has
	Others       = "~others"  // a workload with a value that has no place of its own
)

// terraceMap shows where traffic crosses a boundary: plots in columns and rows,
// channels inside a column, gates between columns.
type terraceMap struct {
	MapKeys
	Columns, Rows []Place // by their order on the map
	Plots         []Plot
	Channels      []Passage // between two rows of one column
	Gates         []Passage // between two columns, from or to outside, or from or to nowhere
	Unplaced      int       // workloads
}

// Place is a column or a row.
type Place struct {
	Name      string
	Workloads int
	Values    int // how many values of the tag it stands for
}

// Plot is what lies in a column and a row.
type Plot struct {
	Column, Row string
	Parts       []plotPart // by the first structural key that is neither's, largest first
}

// plotPart is workloads of a plot that belong together.
type plotPart struct {
	Name      string
	Workloads int
	Open      int // of these, those that lack a structural tag
}

// Passage is the traffic one way between two places.
type Passage struct {
	Path
	Counts Counts
	Top    [3]stream // by verdict: what it is most of
}

// stream is conversations between two labels.
type stream struct {
	Client, Server string
	Conversations  int
}

// mostColumns and mostRows have a place of their own; of all rows, mostOpen.
const mostColumns, mostRows, mostOpen = 5, 6, 200

// placing is where the ends of a view lie on a map.
type placing struct {
	columns, rows []string
	of            []spot // by end
	workload      []spot // by workload
}

// spot is a column and a row; -1 is nowhere, -2 outside.
type spot struct{ column, row int16 }

func (p *placing) is(s spot, column, row string) bool {
	return (column == "" || column == p.name(p.columns, s.column)) && (row == "" || row == p.name(p.rows, s.row))
}

func (p *placing) name(names []string, i int16) string {
	switch i {
	case -1:
		return nowhere
	case -2:
		return outsidePlace
	}
	return names[i]
}

// values assigns a place to each of the most frequent values of a key, and one to
// all others together. A value that hardly any workload has is among these,
// unless all are asked for.
func (v surveyor) values(key string, most int, all bool) []Place {
	counts := map[string]int{}
	total := 0
	for _, w := range v.Compiled.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		total++
		if t, ok := w.Tag(key); ok {
			counts[placeOf(t.Value)]++
		}
	}
	delete(counts, "")
	var out []Place
	for name, n := range counts {
		out = append(out, Place{name, n, 1})
	}
	slices.SortFunc(out, func(a, b Place) int {
		return cmp.Or(b.Workloads-a.Workloads, strings.Compare(a.Name, b.Name))
	})
	own := min(most, len(out))
	for !all && own > 0 && out[own-1].Workloads <= max(1, total/250) {
		own--
	}
	if own == len(out) {
		return out
	}
	others := Place{Name: Others}
	for _, x := range out[own:] {
		others.Workloads += x.Workloads
		others.Values++
	}
	return append(out[:own], others)
}

// placeOf returns the place of a tag's value: as expressions compare them, so that a
// map counts what a group for the value has. One of blanks alone has none.
func placeOf(value string) string {
	if strings.TrimSpace(value) == "" {
		return ""
	}
	return expr.Fold(value)
}

// columnPlaces and rowPlaces give the places of a map.
func (v surveyor) columnPlaces(k MapKeys) []Place {
	out := v.values(k.Columns, mostColumns, false)
	// Hardly anything is not worth a column: a value that somebody misspelt.
	if n := len(out) - 1; n > 0 && out[n].Name == Others && out[n].Workloads*50 < v.Compiled.Estate.Len() {
		return out[:n]
	}
	return out
}

func (v surveyor) rowPlaces(k MapKeys) []Place {
	if k.All {
		return v.values(k.Rows, mostOpen, true)
	}
	return v.values(k.Rows, mostRows, false)
}

// placed finds where everything lies, once for each pair of keys.
func (v surveyor) placed(k MapKeys) *placing {
	return v.cache.placings.get(k.question(), func() *placing { return v.place(k) })
}

func (v surveyor) place(k MapKeys) *placing {
	p := &placing{}
	index := [2]map[string]int16{{}, {}}
	for i, c := range v.columnPlaces(k) {
		p.columns = append(p.columns, c.Name)
		index[0][c.Name] = int16(i)
	}
	for i, r := range v.rowPlaces(k) {
		p.rows = append(p.rows, r.Name)
		index[1][r.Name] = int16(i)
	}
	at := func(w *estate.Workload, side int, key string) int16 {
		t, _ := w.Tag(key)
		value := placeOf(t.Value)
		if value == "" {
			return -1
		}
		for _, name := range [2]string{value, Others} {
			if i, ok := index[side][name]; ok {
				return i
			}
		}
		return -1
	}
	p.workload = make([]spot, v.Compiled.Estate.Bound())
	for i, w := range v.Compiled.Estate.All() {
		p.workload[i] = spot{at(w, 0, k.Columns), at(w, 1, k.Rows)}
	}
	p.of = make([]spot, len(v.places))
	for i, e := range v.places {
		if p.of[i] = (spot{-2, -2}); e.Workload != estate.Outside {
			p.of[i] = p.workload[e.Workload]
		}
	}
	return p
}

// Terrace draws up the map of the conversations that a query selects. What was
// asked before is remembered.
func (v *View) Terrace(q Query, k MapKeys) terraceMap {
	return v.cache.maps.get(k.question()+q.question(false), func() terraceMap { return surveyor{v}.terrace(q, k) })
}

func (k MapKeys) question() string { return fmt.Sprintf("%q %q %t ", k.Columns, k.Rows, k.All) }

func (v surveyor) terrace(q Query, k MapKeys) terraceMap {
	p := v.placed(k)
	m := terraceMap{MapKeys: k, Columns: v.columnPlaces(k), Rows: v.rowPlaces(k)}
	names := namer(v).naming("")
	ways := v.tallied(q, p, names)
	// Rows go from those that mostly call to those that are mostly called, whatever
	// the query.
	calls := make([]int, len(m.Rows))
	for i := range v.rules {
		a, b := p.of[v.cols.Client[i]], p.of[v.cols.Server[i]]
		if a.column == b.column && a.column >= 0 && a.row >= 0 && b.row >= 0 {
			calls[a.row]++
			calls[b.row]--
		}
	}
	for w, t := range ways {
		path := Path{ClientColumn: p.name(p.columns, w.a.column), ServerColumn: p.name(p.columns, w.b.column)}
		inside := w.a.column == w.b.column
		if inside && w.a.column >= 0 {
			path.ClientRow, path.ServerRow = p.name(p.rows, w.a.row), p.name(p.rows, w.b.row)
		}
		out := Passage{Path: path, Counts: t.counts}
		for verdict, streams := range t.streams {
			for pair, n := range streams {
				s := stream{names.all[pair[0]].Text, names.all[pair[1]].Text, n}
				if top := out.Top[verdict]; n > top.Conversations || n == top.Conversations &&
					s.Client+" "+s.Server < top.Client+" "+top.Server {
					out.Top[verdict] = s
				}
			}
		}
		if inside && w.a.column >= 0 {
			m.Channels = append(m.Channels, out)
		} else {
			m.Gates = append(m.Gates, out)
		}
	}
	for _, list := range []*[]Passage{&m.Channels, &m.Gates} {
		slices.SortFunc(*list, func(a, b Passage) int {
			return cmp.Or(strings.Compare(a.ClientColumn, b.ClientColumn),
				strings.Compare(a.ServerColumn, b.ServerColumn), strings.Compare(a.ClientRow, b.ClientRow),
				strings.Compare(a.ServerRow, b.ServerRow))
		})
	}
	m.Plots, m.Unplaced = v.plots(p, k)
	m.Rows = inCallingOrder(m.Rows, calls)
	return m
}

// way is where conversations go on the map.
type way struct{ a, b spot }

// tally is the conversations of a way, and by verdict those between each two names.
type tally struct {
	counts  Counts
	streams [3]map[[2]int32]int
}

// tallied adds the conversations of a query up by their ways.
func (v surveyor) tallied(q Query, p *placing, names *naming) map[way]*tally {
	chosen := v.chosen(q)
	ways := map[way]*tally{}
	for i := range v.rules {
		if !ledger(v).selects(q, i) || chosen != nil && !chosen(i) {
			continue
		}
		a, b := v.cols.Client[i], v.cols.Server[i]
		w := way{p.of[a], p.of[b]}
		// What leaves a column, or goes nowhere, is not told apart by rows.
		if w.a.column != w.b.column || w.a.column < 0 {
			w.a.row, w.b.row = 0, 0
		}
		t := ways[w]
		if t == nil {
			t = &tally{}
			for verdict := range t.streams {
				t.streams[verdict] = map[[2]int32]int{}
			}
			ways[w] = t
		}
		verdict := v.Verdict(i)
		t.counts[verdict]++
		t.streams[verdict][[2]int32{names.of[a], names.of[b]}]++
	}
	return ways
}

// inCallingOrder returns rows in the order of what they call more than they are called, the
// row of all others last.
func inCallingOrder(from []Place, calls []int) []Place {
	order := make([]int, len(from))
	for i := range order {
		order[i] = i
	}
	others := func(i int) int { // last
		if from[i].Name == Others {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Or(others(a)-others(b), calls[b]-calls[a]) })
	rows := make([]Place, len(order))
	for i, o := range order {
		rows[i] = from[o]
	}
	return rows
}

// plots counts what lies where.
func (v surveyor) plots(p *placing, k MapKeys) (out []Plot, unplaced int) {
	part := ""
	for _, key := range v.Structural {
		if key != k.Columns && key != k.Rows {
			part = key
			break
		}
	}
	lacking := v.lacking()
	byPlace := map[spot]map[string]*plotPart{}
	for i, w := range v.Compiled.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		s := p.workload[i]
		if s.column < 0 || s.row < 0 {
			unplaced++
			continue
		}
		name := ""
		if t, ok := w.Tag(part); ok {
			name = placeOf(t.Value)
		}
		parts := byPlace[s]
		if parts == nil {
			parts = map[string]*plotPart{}
			byPlace[s] = parts
		}
		x := parts[name]
		if x == nil {
			x = &plotPart{Name: name}
			parts[name] = x
		}
		x.Workloads++
		if lacking[i] {
			x.Open++
		}
	}
	for s, parts := range byPlace {
		plot := Plot{Column: p.columns[s.column], Row: p.rows[s.row]}
		for _, x := range parts {
			plot.Parts = append(plot.Parts, *x)
		}
		slices.SortFunc(plot.Parts, func(a, b plotPart) int {
			return cmp.Or(b.Workloads-a.Workloads, strings.Compare(a.Name, b.Name))
		})
		out = append(out, plot)
	}
	slices.SortFunc(out, func(a, b Plot) int {
		return cmp.Or(strings.Compare(a.Column, b.Column),
			strings.Compare(a.Row, b.Row))
	})
	return out, unplaced
}

// lacking are those that lack a structural tag.
func (v surveyor) lacking() []bool {
	out := make([]bool, v.Compiled.Estate.Bound())
	for i, w := range v.Compiled.Estate.All() {
		for _, key := range v.Structural {
			if _, ok := w.Tag(key); !ok && !v.Inapplicable.To(v.Compiled.Estate, i, key, v.Compiled.AsOf) {
				out[i] = true
			}
		}
	}
	return out
}
