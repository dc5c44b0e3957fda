package reach

import (
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// aggregator keeps conversations added up by what they are told apart by.
type aggregator struct{ *View }

// aggregate is the conversations that no row of a ledger and no filter but those of
// each conversation tells apart: the rows are put together from them. There may
// be about as many as there are conversations.
type aggregate struct {
	aggregateKey
	conversations int32
	connections   int64
	bytes         int64
	first, last   flow.Micros
	spark         [sparkBins]uint32
}

type aggregateKey struct {
	client, server int32 // labels
	point          service.Point
	rule           int32          // index, or -1
	was            decide.Verdict // in the view that this one is compared with
	odd            Fate           // a leak or a choke
}

// aggregates is all aggregates of a view, in parts that were gathered side by side.
type aggregates struct {
	parts [][]aggregate
	of    []int32 // by conversation: the number of its aggregate; nil unless all were gathered
}

// each calls f with every aggregate that has conversations, and its number.
func (c *aggregates) each(f func(n int32, c *aggregate)) {
	for part, all := range c.parts {
		for i := range all {
			if all[i].conversations > 0 {
				f(int32(i*len(c.parts)+part), &all[i])
			}
		}
	}
}

func (c *aggregates) at(n int32) *aggregate {
	return &c.parts[int(n)%len(c.parts)][int(n)/len(c.parts)]
}

func (c *aggregates) len() (n int) {
	for _, all := range c.parts {
		n += len(all)
	}
	return n
}

// seen returns all aggregates of the view, whose sides are called by a tag.
func (v aggregator) seen(by string) *aggregates {
	return v.cache.aggregates.get(by, func() *aggregates {
		if v.carry != nil {
			if from := v.carry.from[by]; from != nil {
				return v.regather(from, namer(v).naming(by))
			}
		}
		return v.gather(Query{By: by})
	})
}

// carry is what of a view can be used in the one after an edit, in which all ends
// are called as before: its aggregates, but for those of some conversations.
type carry struct {
	from    map[string]*aggregates // by what ends are called by
	changed []int32                // conversations that another rule decides, or none
	rules   []int32                // the index of each rule from before, or -1
}

// carryOn returns what can be carried to the view after an edit, if not too much has
// changed.
func (v aggregator) carryOn(changed []int32, rules []int32) *carry {
	if v.Against != nil {
		return nil
	}
	from := v.cache.aggregates.all()
	if len(from) == 0 && v.carry != nil { // it was never asked: what it could have used
		composed := make([]int32, len(v.carry.rules))
		for i, r := range v.carry.rules {
			if composed[i] = r; r >= 0 {
				composed[i] = rules[r]
			}
		}
		from, rules, changed = v.carry.from, composed, slices.Concat(v.carry.changed, changed)
	}
	if len(changed) > v.Len()/4+16 {
		return nil
	}
	kept := map[string]*aggregates{}
	for by, c := range from {
		if by != ByArea && by != ByOwner && c.of != nil {
			kept[by] = c
		}
	}
	return &carry{kept, changed, rules}
}

// regather makes the aggregates of a view from those of the one before: the aggregates that
// a conversation has left are summed up anew, all others stay.
func (v aggregator) regather(from *aggregates, names *naming) *aggregates {
	parts := len(from.parts)
	base := make([]int32, parts+1) // where the aggregates of each part begin now
	for i, p := range from.parts {
		base[i+1] = base[i] + int32(len(p))
	}
	number := func(n int32) int32 { return base[int(n)%parts] + n/int32(parts) }
	t := &aggregateTable{all: slices.Concat(from.parts...)}
	dirty := make([]bool, len(t.all))
	for _, i := range v.carry.changed {
		dirty[number(from.of[i])] = true
	}
	for n := range t.all {
		c := &t.all[n]
		if c.rule >= 0 {
			if c.rule = v.carry.rules[c.rule]; c.rule < 0 {
				c.rule = goneRule // its conversations have all changed
			}
		}
		if v.Against != nil && c.rule != goneRule {
			c.was = v.verdict[c.rule+1] // those that have another are among the changed
		}
		if dirty[n] {
			*c = aggregate{aggregateKey: c.aggregateKey}
		}
	}
	t.reindex()
	out := &aggregates{of: make([]int32, v.Len())}
	decide.Parallel(workers, (v.Len()+stretch-1)/stretch, func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
			out.of[i] = number(from.of[i])
		}
	})
	for _, i := range v.carry.changed {
		out.of[i] = -1
	}
	for _, i := range v.carry.changed {
		if out.of[i] >= 0 {
			continue // it is among them twice
		}
		k := v.keyOf(names, int(i))
		n := t.number(&k, k.hash())
		out.of[i] = n
		if int(n) >= len(dirty) || !dirty[n] {
			t.all[n].add(v.View, int(i))
		}
	}
	again := make([][]int32, (v.Len()+stretch-1)/stretch)
	decide.Parallel(workers, len(again), func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
			if n := out.of[i]; int(n) < len(dirty) && dirty[n] {
				again[part] = append(again[part], int32(i))
			}
		}
	})
	for _, list := range again {
		for _, i := range list {
			t.all[out.of[i]].add(v.View, int(i))
		}
	}
	out.parts = [][]aggregate{t.all}
	return out
}

// goneRule is in the keys of aggregates that no conversation has any more.
const goneRule = -2

// keyOf returns the key of a conversation's aggregate.
func (v aggregator) keyOf(names *naming, i int) aggregateKey {
	k := aggregateKey{client: names.of[v.cols.Client[i]], server: names.of[v.cols.Server[i]], point: v.cols.Point[i],
		rule: v.rules[i], odd: v.odd(i)}
	if v.Against != nil {
		k.was = v.Against.Verdict(i)
	}
	return k
}

// hash spreads the aggregates of two labels on a service.
func (k *aggregateKey) hash() uint64 {
	h := (uint64(uint32(k.client))<<32 | uint64(uint32(k.server))) * 0x9e3779b97f4a7c15
	h = (h ^ h>>29 ^ uint64(k.point)<<20 ^ uint64(uint32(k.rule))) * 0xbf58476d1ce4e5b9
	return h ^ h>>31
}

// aggregateTable finds aggregates by their keys: an open hash table of indexes.
type aggregateTable struct {
	index []int32 // plus 1
	all   []aggregate
}

// number finds the aggregate of a key, a new one if need be.
func (t *aggregateTable) number(k *aggregateKey, h uint64) int32 {
	if 2*len(t.all) >= len(t.index) {
		t.reindex()
	}
	for i := h; ; i++ {
		at := &t.index[i&uint64(len(t.index)-1)]
		if *at == 0 {
			t.all = append(t.all, aggregate{aggregateKey: *k})
			*at = int32(len(t.all))
		}
		if t.all[*at-1].aggregateKey == *k {
			return *at - 1
		}
	}
}

// reindex makes the table anew, with room for as many aggregates again.
func (t *aggregateTable) reindex() {
	size := 1024
	for size < 4*len(t.all) {
		size *= 2
	}
	t.index = make([]int32, size)
	for n := range t.all {
		if t.all[n].rule == goneRule {
			continue
		}
		i := t.all[n].hash()
		for t.index[i&uint64(len(t.index)-1)] != 0 {
			i++
		}
		t.index[i&uint64(len(t.index)-1)] = int32(n + 1)
	}
}

// gather puts the conversations that a query's filters select into aggregates: on all
// processors, each with keys of its own.
func (v aggregator) gather(q Query) *aggregates {
	names := namer(v).naming(q.By)
	chosen := v.chosen(q)
	out := &aggregates{parts: make([][]aggregate, workers)}
	if chosen == nil {
		out.of = make([]int32, len(v.rules))
	}
	decide.Parallel(workers, workers, func(_, part int) {
		t := &aggregateTable{}
		for i, r := range v.rules {
			k := aggregateKey{client: names.of[v.cols.Client[i]], server: names.of[v.cols.Server[i]],
				point: v.cols.Point[i], rule: r}
			h := k.hash()
			if int(h>>32%workers) != part || chosen != nil && !chosen(i) {
				continue
			}
			k.odd = v.odd(i)
			if v.Against != nil {
				k.was = v.Against.Verdict(i)
			}
			n := t.number(&k, h)
			t.all[n].add(v.View, i)
			if chosen == nil {
				out.of[i] = n*workers + int32(part)
			}
		}
		out.parts[part] = t.all
	})
	return out
}

// odd returns whether a conversation is a leak or a choke: by what the points held, or,
// before anything was released, by the policy of the view.
func (v aggregator) odd(i int) Fate {
	if fates := v.Fates(); fates != nil {
		return fates[i]
	}
	switch {
	case v.Verdict(i) == decide.Reject && v.carried[i] > 0:
		return Leak
	case v.Verdict(i) == decide.Permit && v.dropped[i] > 0:
		return Choke
	}
	return Fine
}

func (c *aggregate) add(v *View, i int) {
	first, last := flow.MicrosOfInstant(v.first[i]), flow.MicrosOfInstant(v.last[i])
	if c.conversations == 0 || first < c.first {
		c.first = first
	}
	if c.conversations == 0 || last > c.last {
		c.last = last
	}
	c.conversations++
	c.connections += v.cols.Connections[i]
	c.bytes += v.bytes[i]
	span := max(1, int(v.To-v.From))
	for k := v.cols.Starts[i]; k < v.cols.Starts[i+1]; k++ {
		c.spark[int(v.cols.When[k])*sparkBins/span] += uint32(v.parts[k].amount)
	}
}
