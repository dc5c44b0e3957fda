package watch

import (
	"maps"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
)

// Follower gathers a stretch of time again and again as its traffic grows, and looks only at what
// has changed since. What it gives is what Gather gives of all of it. It is not safe for
// concurrent use.
type Follower struct {
	view    func(*flow.Table) *reach.View
	watched Watched

	table   *flow.Table          // what was gathered last
	was     *flow.Table          // what was before; nil: table was looked at as a whole
	whole   *reach.View          // of table, where it was looked at as a whole
	fresh   *reach.View          // of what has changed in it, where it was not
	changed []uint32             // numbers of the pairs in fresh
	in      []uint32             // pairs with conversations that are in matters
	asked   map[string]*selected // by name
	hours   map[flow.Hour]*Hour
	callers map[Caller]estate.Instant
}

// selected is the pairs of which something was chosen from a table.
type selected struct {
	of    *flow.Table
	pairs []uint32
}

// NewFollower makes one that has seen nothing yet. view judges the rows of a table: each pair by its
// rows alone, and the same way every time.
func NewFollower(view func(*flow.Table) *reach.View, watched Watched) *Follower {
	return &Follower{view: view, watched: watched, asked: map[string]*selected{}}
}

// Gather gathers what a table holds, and returns the view that the conversations of the matters are
// of: of those pairs alone that have some.
func (f *Follower) Gather(t *flow.Table) (Gathered, *reach.View) {
	maps.DeleteFunc(f.asked, func(_ string, s *selected) bool { return s.of != f.table }) // nobody asks any more
	if f.grown(t) {
		return f.told()
	}
	f.table, f.was, f.whole, f.fresh, f.changed = t, nil, f.view(t), nil, nil
	g := Gather(f.whole, f.watched)
	f.hours, f.callers, f.in = g.Hours, g.Callers, nil
	for i := range g.Matters {
		f.in = append(f.in, pairsOf(f.whole, g.Matters[i].Conversations)...)
	}
	f.in = rising(f.in)
	return f.told()
}

// Rest forgets what is of use only as long as the same table is asked about.
func (f *Follower) Rest() { f.whole, f.fresh = nil, nil }

// grown looks at what has changed since the last time; false: all has to be looked at.
func (f *Follower) grown(t *flow.Table) bool {
	if f.table == nil || f.table.Dict != t.Dict {
		return false
	}
	changed := t.Changed(f.table)
	if 3*len(changed) > t.Len() {
		return false
	}
	was, fresh := newGathering(f.view(f.table.Only(changed))), newGathering(f.view(t.Only(changed)))
	before, now := was.sort(f.watched), fresh.sort(f.watched)
	for c, at := range before.Callers {
		if first, still := now.Callers[c]; f.callers[c] == at && (!still || at.Before(first)) {
			return false // perhaps others called then, too
		}
	}
	hours := map[flow.Hour]*Hour{}
	for hour, n := range f.hours {
		sum := *n
		hours[hour] = &sum
	}
	for _, ch := range f.table.Chunks {
		if hours[ch.Hour] != nil &&
			!slices.ContainsFunc(t.Chunks, func(x *flow.Chunk) bool { return x.Hour == ch.Hour }) {
			return false
		}
	}
	for hour, n := range before.Hours {
		if !hours[hour].take(n) {
			return false
		}
	}
	for hour, n := range now.Hours {
		if hours[hour] == nil {
			hours[hour] = &Hour{}
		}
		hours[hour].Add(*n)
	}
	f.hours = hours
	for c, at := range now.Callers {
		if first, known := f.callers[c]; !known || at.Before(first) {
			f.callers[c] = at
		}
	}
	f.table, f.was, f.whole, f.fresh, f.changed = t, f.table, nil, fresh.v, changed
	var in []uint32
	for _, list := range fresh.of {
		in = append(in, pairsOf(fresh.v, list)...)
	}
	f.in = replaced(f.in, changed, numbered(changed, in))
	return true
}

// told gathers those that are in matters, and puts in what is of all others, too.
func (f *Follower) told() (Gathered, *reach.View) {
	v := f.view(f.table.Only(f.in))
	g := Gather(v, f.watched)
	g.Callers = maps.Clone(f.callers)
	g.Hours = make(map[flow.Hour]*Hour, len(f.hours))
	for hour, n := range f.hours {
		sum := *n
		g.Hours[hour] = &sum
	}
	return g, v
}

// Chosen returns what choose selects of the table that was gathered last, and the view that it is of.
// choose goes by what a conversation is alone, and is the same every time under a name.
func (f *Follower) Chosen(name string, choose func(*reach.View) []int) (*reach.View, []int) {
	s := f.asked[name]
	if s == nil || f.fresh == nil || s.of != f.was {
		if f.whole == nil {
			f.whole = f.view(f.table)
		}
		v := f.whole
		list := choose(v)
		f.asked[name] = &selected{f.table, rising(pairsOf(v, list))}
		return v, list
	}
	s.of, s.pairs = f.table, replaced(s.pairs, f.changed, numbered(f.changed, pairsOf(f.fresh, choose(f.fresh))))
	v := f.view(f.table.Only(s.pairs))
	return v, choose(v)
}

func pairsOf[N int | int32](v *reach.View, conversations []N) []uint32 {
	out := make([]uint32, len(conversations))
	for i, c := range conversations {
		out[i] = v.Pair(int(c))
	}
	return out
}

// numbered returns the numbers that places stand for, rising.
func numbered(numbers, places []uint32) []uint32 {
	out := make([]uint32, len(places))
	for i, p := range places {
		out[i] = numbers[p]
	}
	return rising(out)
}

func rising(numbers []uint32) []uint32 {
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

// replaced returns a rising list without some, and with others.
func replaced(list, without, with []uint32) []uint32 {
	out := make([]uint32, 0, len(list)+len(with))
	for _, n := range list {
		for len(without) > 0 && without[0] < n {
			without = without[1:]
		}
		if len(without) == 0 || without[0] != n {
			out = append(out, n)
		}
	}
	return rising(append(out, with...))
}
