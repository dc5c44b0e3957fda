package reach

import (
	"math"
	"net/netip"
	"slices"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Window is what was seen in a stretch of time, resolved against the leases of
// an estate, in columns: a row for each conversation, which is what went on
// between two endpoints on one service. It knows neither tags nor policy, so
// that all views of the same traffic share it.
type Window struct {
	From, To flow.Hour   // half open
	Table    *flow.Table // of the window
	// Structural are the tag keys that say where a workload belongs, for what an
	// end is called that no group fits; set before the window is shown.
	Structural []string
	// Inapplicable has the workloads that lack one of them without missing it.
	Inapplicable decide.Inapplicable

	whole        *flow.Table // what the window was cut from
	beforeOnce   sync.Once
	before       []bool // by conversation: seen before the window
	byPairOnce   sync.Once
	pairOrder    []int32 // conversations in the order of clients and servers
	byServerOnce sync.Once
	serverOrder  []int32
	beginsOnce   sync.Once
	beginning    []int32 // by pair of the dictionary: its first conversation plus 1
	judge        *Judge  // nil: leaks and chokes go by the policy of each view
	judged       judged

	ends    []sighting
	pair    []uint32       // by conversation: number of its pair; rising
	cols    decide.Columns // When is hours since From
	parts   []rowPart      // by place in cols.When
	bytes   []int64
	carried []int64 // connections of each outcome; the rest is unknown
	dropped []int64
	unsure  []int64 // connections that may be the wrong way round
	first   []estate.Instant
	last    []estate.Instant
}

// rowPart is a row of Table with its connections, as far as 2^31-1.
type rowPart struct{ row, amount int32 }

// sighting is an end: an address, and when it was first seen with the workload
// that held it then.
type sighting struct {
	estate.Endpoint
	at estate.Instant
}

// NewWindow resolves the rows of a table whose hour is in [from, to). The
// conversations are in the order of their pairs, and of when they were first
// seen.
func NewWindow(e *estate.Estate, table *flow.Table, from, to flow.Hour) *Window {
	w := &Window{From: from, To: to, Structural: Structural, Table: table.Between(from, to), whole: table}
	w.split(newResolver(e, w.Table.Dict, w), w.gather())
	return w
}

// sum is what is known of one conversation.
type sum struct {
	connections, bytes, unsure, carried, dropped int64
	first, last                                  flow.Micros
	latest                                       flow.Micros // start of a row
	pair                                         uint32
	rows                                         int32
}

// block is how many pairs are gathered at a time, so that what is known of them
// stays in the processor's cache.
const block = 1 << 13

// gather puts the rows of each pair together, and sums them up: on all
// processors, a block of pairs at a time. The rows of a block lie together in
// each chunk. The sums are in the order of the pairs.
func (w *Window) gather() []sum {
	pairs, chunks := len(w.Table.Dict.Pairs()), w.Table.Chunks
	blocks := (pairs + block - 1) / block
	starts := w.Table.Starts()
	cuts := make([][]int32, blocks+1) // by block and chunk: the first row of the block
	for b := range cuts {
		cuts[b] = make([]int32, len(chunks))
	}
	decide.Parallel(workers, len(chunks), func(_, k int) {
		b := 0
		for i, p := range chunks[k].Pair {
			for ; b <= int(p)/block; b++ {
				cuts[b][k] = int32(i)
			}
		}
		for ; b <= blocks; b++ {
			cuts[b][k] = int32(chunks[k].Len())
		}
	})
	w.cols.When, w.parts = make([]int32, w.Table.Len()), make([]rowPart, w.Table.Len())
	found := make([][]sum, blocks)
	scratch := make([][]sum, workers)
	next := make([][]int32, workers) // by pair: where its next row goes
	decide.Parallel(workers, blocks, func(worker, b int) {
		if scratch[worker] == nil {
			scratch[worker], next[worker] = make([]sum, block), make([]int32, block)
		}
		sums, next := scratch[worker], next[worker]
		clear(sums)
		base, at := uint32(b*block), int32(0)
		for k, ch := range chunks {
			at += cuts[b][k]
			for _, p := range ch.Pair[cuts[b][k]:cuts[b+1][k]] {
				sums[p-base].rows++
			}
		}
		some := 0
		for p := range sums {
			next[p] = at
			at += sums[p].rows
			if sums[p].rows > 0 {
				some++
			}
			sums[p].rows = 0
		}
		for k, ch := range chunks {
			hour, start := int32(ch.Hour-w.From), int32(starts[k])
			for i := int(cuts[b][k]); i < int(cuts[b+1][k]); i++ {
				p := ch.Pair[i] - base
				sums[p].add(ch, i)
				w.cols.When[next[p]], w.parts[next[p]] = hour,
					rowPart{start + int32(i), int32(min(ch.Connections[i], math.MaxInt32))}
				next[p]++
			}
		}
		found[b] = make([]sum, 0, some)
		for p := range sums {
			if sums[p].rows > 0 {
				sums[p].pair = base + uint32(p)
				found[b] = append(found[b], sums[p])
			}
		}
	})
	return slices.Concat(found...)
}

// split makes conversations of what was summed up by pairs: one each, but for
// those of which an address changed hands.
func (w *Window) split(r *resolver, sums []sum) {
	pairs := w.Table.Dict.Pairs()
	clients, servers := make([]int32, 0, len(sums)), make([]int32, 0, len(sums))
	at := int32(0)
	var done []sum // once a pair was split
	for i := range sums {
		s := sums[i]
		p := pairs[s.pair]
		client, server := r.held(p.Client, s.first), r.held(p.Server, s.first)
		if s.latest < client.until && s.latest < server.until {
			clients, servers = append(clients, client.end), append(servers, server.end)
			if done != nil {
				done = append(done, s)
			}
		} else {
			if done == nil {
				done = append(make([]sum, 0, len(sums)+len(sums)/8), sums[:i]...)
			}
			for _, part := range w.splitPair(r, p, at, at+s.rows) {
				part.pair = s.pair
				done = append(done, part.sum)
				clients, servers = append(clients, part.client), append(servers, part.server)
			}
		}
		at += s.rows
	}
	if done != nil {
		sums = done
	}
	w.columns(sums, pairs, clients, servers)
}

// partOfPair is what went on of a pair while its addresses had the same holders.
type partOfPair struct {
	sum
	client, server int32
	when           []int32
	rows           []rowPart
}

// splitPair puts the rows of a pair, from one place to another, in the order of
// the holders of its addresses, and sums up what each had.
func (w *Window) splitPair(r *resolver, p flow.Pair, from, to int32) []*partOfPair {
	var parts []*partOfPair
	for k := from; k < to; k++ {
		ch, i := w.Table.Row(int(w.parts[k].row))
		client, server := r.held(p.Client, ch.First[i]).end, r.held(p.Server, ch.First[i]).end
		n := slices.IndexFunc(parts, func(x *partOfPair) bool { return x.client == client && x.server == server })
		if n < 0 {
			n = len(parts)
			parts = append(parts, &partOfPair{client: client, server: server})
		}
		parts[n].add(ch, i)
		parts[n].when, parts[n].rows = append(parts[n].when, w.cols.When[k]), append(parts[n].rows, w.parts[k])
	}
	for _, x := range parts {
		copy(w.cols.When[from:], x.when)
		from += int32(copy(w.parts[from:], x.rows))
	}
	return parts
}

// columns keeps what is known of the conversations.
func (w *Window) columns(sums []sum, pairs []flow.Pair, clients, servers []int32) {
	n := len(sums)
	w.cols.Client, w.cols.Server, w.cols.Point = clients, servers, make([]service.Point, n)
	w.cols.Connections, w.bytes, w.unsure = make([]int64, n), make([]int64, n), make([]int64, n)
	w.carried, w.dropped = make([]int64, n), make([]int64, n)
	w.first, w.last, w.pair = make([]estate.Instant, n), make([]estate.Instant, n), make([]uint32, n)
	w.cols.Starts = make([]int32, n+1)
	for c := range sums {
		w.cols.Starts[c+1] = w.cols.Starts[c] + sums[c].rows
	}
	decide.Parallel(workers, (n+stretch-1)/stretch, func(_, part int) {
		for c := part * stretch; c < min((part+1)*stretch, n); c++ {
			s := &sums[c]
			w.cols.Point[c], w.pair[c] = pairs[s.pair].Point, s.pair
			w.cols.Connections[c], w.bytes[c], w.unsure[c] = s.connections, s.bytes, s.unsure
			w.carried[c], w.dropped[c] = s.carried, s.dropped
			w.first[c], w.last[c] = s.first.Instant(), s.last.Instant()
		}
	})
}

func (s *sum) add(ch *flow.Chunk, i int) {
	s.connections = flow.Sum(s.connections, ch.Connections[i])
	s.bytes = flow.Sum(s.bytes, ch.Bytes[i])
	s.unsure += int64(ch.Unsure[i])
	// A part of a connection that goes on is of no new one: it counts as one here.
	n := max(1, ch.Connections[i])
	switch ch.Outcome[i] {
	case flow.Carried:
		s.carried = flow.Sum(s.carried, n)
	case flow.Dropped:
		s.dropped = flow.Sum(s.dropped, n)
	}
	if s.rows == 0 || ch.First[i] < s.first {
		s.first = ch.First[i]
	}
	if s.rows == 0 || ch.First[i] > s.latest {
		s.latest = ch.First[i]
	}
	if s.rows == 0 || ch.Last[i] > s.last {
		s.last = max(ch.Last[i], s.first)
	}
	s.rows++
}

// resolver finds who held an address, and remembers for how long.
type resolver struct {
	estate *estate.Estate
	window *Window
	addrs  []netip.Addr
	last   []held            // by the number of the address: what was found last
	others map[uint32][]held // what was found before, of addresses that changed hands
	index  map[estate.Endpoint]int32
}

// held is an end with the span in which it holds its address.
type held struct {
	from, until flow.Micros
	end         int32
}

func newResolver(e *estate.Estate, dict *flow.Dictionary, w *Window) *resolver {
	r := &resolver{estate: e, window: w, addrs: dict.Addresses(), others: map[uint32][]held{},
		index: make(map[estate.Endpoint]int32, len(w.ends))}
	r.last = make([]held, len(r.addrs))
	for i := range w.ends {
		r.index[w.ends[i].Endpoint] = int32(i)
	}
	return r
}

// held returns who held an address at a time.
func (r *resolver) held(addr uint32, at flow.Micros) held {
	if h := r.last[addr]; at >= h.from && at < h.until {
		return h
	}
	for _, h := range r.others[addr] {
		if at >= h.from && at < h.until {
			return h
		}
	}
	t := at.Instant()
	ep := r.estate.At(r.addrs[addr], t)
	end, ok := r.index[ep]
	if !ok {
		end = int32(len(r.window.ends))
		r.index[ep] = end
		r.window.ends = append(r.window.ends, sighting{ep, t})
	}
	// It is the same until a claim begins or ends.
	h := held{math.MinInt64, math.MaxInt64, end}
	for _, c := range r.estate.Claims(r.addrs[addr].Unmap()) {
		for _, bound := range [2]estate.Instant{c.From, c.Until} {
			if !bound.IsBound() {
				continue
			}
			m := flow.MicrosOfInstant(bound)
			if bound.Nsec%1000 != 0 {
				m++ // the first microsecond that is not before it
			}
			if m <= at {
				h.from = max(h.from, m)
			} else {
				h.until = min(h.until, m)
			}
		}
	}
	if h.from != math.MinInt64 || h.until != math.MaxInt64 {
		r.others[addr] = append(r.others[addr], h)
	}
	r.last[addr] = h
	return h
}

// Len returns how many conversations there are.
func (w *Window) Len() int { return len(w.cols.Client) }

// Pair returns the number that the pair of a conversation has in the table's dictionary.
func (w *Window) Pair(i int) uint32 { return w.pair[i] }

// RowsOf returns the rows of Table that a conversation was gathered from.
func (w *Window) RowsOf(i int) []int32 {
	out := make([]int32, 0, w.cols.Starts[i+1]-w.cols.Starts[i])
	for _, r := range w.parts[w.cols.Starts[i]:w.cols.Starts[i+1]] {
		out = append(out, r.row)
	}
	return out
}

// Observer names who reported a conversation last.
func (w *Window) Observer(i int) string {
	last, name := flow.Micros(math.MinInt64), ""
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		if ch, row := w.Table.Row(int(w.parts[k].row)); ch.Last[row] >= last {
			last, name = ch.Last[row], w.Table.Dict.ObserverName(ch.Observer[row])
		}
	}
	return name
}

// Spread adds the connections of a conversation to bins that cut the window.
func (w *Window) Spread(i int, bins []int) {
	span := max(1, int(w.To-w.From))
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		bins[int(w.cols.When[k])*len(bins)/span] += int(w.parts[k].amount)
	}
}
