package reach

import (
	"math"
	"net/netip"
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

	whole      *flow.Table // what the window was cut from
	beforeOnce sync.Once
	before     []bool // by conversation: seen before the window

	ends    []sighting
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
// conversations are in the order in which they were first seen.
func NewWindow(e *estate.Estate, table *flow.Table, from, to flow.Hour) *Window {
	w := &Window{From: from, To: to, Structural: Structural, Table: table.Between(from, to), whole: table}
	r := resolver{estate: e, window: w, addrs: w.Table.Addrs.All(), index: map[estate.Endpoint]int32{}}
	r.held = make([]held, len(r.addrs))
	n := w.Table.Len()
	clients, servers, points := make([]int32, n), make([]int32, n), make([]service.Point, n)
	row := 0
	for _, ch := range w.Table.Chunks {
		for i := range ch.Client {
			clients[row], servers[row], points[row] = r.end(ch.Client[i], ch.First[i]), r.end(ch.Server[i], ch.First[i]), ch.Point[i]
			row++
		}
	}
	of, firsts := number(clients, servers, points)
	w.gather(of, firsts)
	return w
}

// number gives each row the number of its conversation, in the order in which
// they come first, and what each conversation is between. Every worker numbers
// those that are its own; then the numbers are put in order.
func number(clients, servers []int32, points []service.Point) (of []int32, firsts []pairKey) {
	of = make([]int32, len(clients))
	parts := min(workers, 1+len(clients)/100_000)
	first := make([][]int32, parts) // by worker and its number: the first row
	decide.Parallel(parts, parts, func(_, part int) {
		seen := newPairs(len(clients) / 8 / parts)
		for row := range clients {
			h := pairHash(clients[row], servers[row], points[row])
			if int(h>>56)%parts != part {
				continue
			}
			c, fresh := seen.number(h, clients[row], servers[row], points[row])
			if fresh {
				first[part] = append(first[part], int32(row))
			}
			of[row] = c*int32(parts) + int32(part)
		}
	})
	total := 0
	for _, f := range first {
		total += len(f)
	}
	numbers := make([][]int32, parts) // by worker and its number
	next := make([]int, parts)
	for part := range first {
		numbers[part] = make([]int32, len(first[part]))
	}
	for n := range total {
		best := -1
		for part, f := range first {
			if next[part] < len(f) && (best < 0 || f[next[part]] < first[best][next[best]]) {
				best = part
			}
		}
		row := first[best][next[best]]
		numbers[best][next[best]] = int32(n)
		next[best]++
		firsts = append(firsts, pairKey{clients[row], servers[row], points[row], 0})
	}
	decide.Parallel(parts, parts, func(_, part int) {
		for row := part * len(of) / parts; row < (part+1)*len(of)/parts; row++ {
			of[row] = numbers[of[row]%int32(parts)][of[row]/int32(parts)]
		}
	})
	return of, firsts
}

// sum is what is known of one conversation, in one line of the cache.
type sum struct {
	connections, bytes, unsure, carried, dropped int64
	first, last                                  flow.Micros
	rows                                         int32
}

// gather puts the rows of each conversation together: on all processors, each
// with conversations of its own.
func (w *Window) gather(of []int32, firsts []pairKey) {
	n, conversations := len(of), len(firsts)
	sums := make([]sum, conversations)
	w.cols.Starts = make([]int32, conversations+1)
	parts := min(workers, 1+conversations/1024)
	// eachRow gives every worker the rows of its part of the conversations.
	eachRow := func(f func(c, row int32, ch *flow.Chunk, i int)) {
		decide.Parallel(parts, parts, func(_, part int) {
			lo, hi := int32(part*conversations/parts), int32((part+1)*conversations/parts)
			row := int32(0)
			for _, ch := range w.Table.Chunks {
				for i := range ch.Client {
					if c := of[row]; c >= lo && c < hi {
						f(c, row, ch, i)
					}
					row++
				}
			}
		})
	}
	eachRow(func(c, _ int32, ch *flow.Chunk, i int) { sums[c].add(ch, i) })
	w.cols.Client, w.cols.Server, w.cols.Point = make([]int32, conversations), make([]int32, conversations), make([]service.Point, conversations)
	w.cols.Connections, w.bytes, w.unsure = make([]int64, conversations), make([]int64, conversations), make([]int64, conversations)
	w.carried, w.dropped = make([]int64, conversations), make([]int64, conversations)
	w.first, w.last = make([]estate.Instant, conversations), make([]estate.Instant, conversations)
	next := make([]int32, conversations)
	for c := range sums {
		s, k := &sums[c], &firsts[c]
		w.cols.Client[c], w.cols.Server[c], w.cols.Point[c] = k.client, k.server, k.point
		w.cols.Connections[c], w.bytes[c], w.unsure[c] = s.connections, s.bytes, s.unsure
		w.carried[c], w.dropped[c] = s.carried, s.dropped
		w.first[c], w.last[c] = s.first.Instant(), s.last.Instant()
		next[c] = w.cols.Starts[c]
		w.cols.Starts[c+1] = w.cols.Starts[c] + s.rows
	}
	w.cols.When, w.parts = make([]int32, n), make([]rowPart, n)
	eachRow(func(c, row int32, ch *flow.Chunk, i int) {
		k := next[c]
		next[c]++
		w.cols.When[k], w.parts[k] = int32(ch.Hour-w.From), rowPart{row, int32(min(ch.Connections[i], math.MaxInt32))}
	})
}

func (s *sum) add(ch *flow.Chunk, i int) {
	s.connections += ch.Connections[i]
	s.bytes += ch.Bytes[i]
	s.unsure += int64(ch.Unsure[i])
	// A part of a connection that goes on is of no new one: it counts as one here.
	n := max(1, ch.Connections[i])
	switch ch.Outcome[i] {
	case flow.Carried:
		s.carried += n
	case flow.Dropped:
		s.dropped += n
	}
	if s.rows == 0 || ch.First[i] < s.first {
		s.first = ch.First[i]
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
	held   []held // by the number of the address: what was found last
	index  map[estate.Endpoint]int32
}

// held is an end with the span in which it holds its address.
type held struct {
	from, until flow.Micros
	end         int32
}

func (r *resolver) end(addr uint32, at flow.Micros) int32 {
	h := &r.held[addr]
	if at >= h.from && at < h.until {
		return h.end
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
	*h = held{math.MinInt64, math.MaxInt64, end}
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
	return end
}

// pairs numbers what goes on between two ends on a service: an open hash table.
type pairs struct {
	keys []pairKey
	used int
}

type pairKey struct {
	client, server int32
	point          service.Point
	number         int32 // plus 1; 0 is free
}

func newPairs(n int) *pairs {
	size := 1 << 10
	for size < 2*n {
		size *= 2
	}
	return &pairs{keys: make([]pairKey, size)}
}

func pairHash(client, server int32, point service.Point) uint64 {
	h := (uint64(uint32(client))<<32 | uint64(uint32(server))) * 0x9e3779b97f4a7c15
	return (h ^ h>>29 ^ uint64(point)*0xd6e8feb86659fd93) * 0xbf58476d1ce4e5b9
}

func (p *pairs) place(h uint64, client, server int32, point service.Point) *pairKey {
	for i := h >> 24; ; i++ {
		k := &p.keys[i&uint64(len(p.keys)-1)]
		if k.number == 0 || k.client == client && k.server == server && k.point == point {
			return k
		}
	}
}

func (p *pairs) number(h uint64, client, server int32, point service.Point) (n int32, fresh bool) {
	k := p.place(h, client, server, point)
	if k.number != 0 {
		return k.number - 1, false
	}
	if 2*p.used > len(p.keys) {
		old := p.keys
		p.keys = make([]pairKey, 2*len(old))
		for _, x := range old {
			if x.number != 0 {
				*p.place(pairHash(x.client, x.server, x.point), x.client, x.server, x.point) = x
			}
		}
		k = p.place(h, client, server, point)
	}
	p.used++
	*k = pairKey{client, server, point, int32(p.used)}
	return k.number - 1, true
}

// Len gives how many conversations there are.
func (w *Window) Len() int { return len(w.cols.Client) }

// RowsOf gives the rows of Table that a conversation was gathered from.
func (w *Window) RowsOf(i int) []int32 {
	out := make([]int32, 0, w.cols.Starts[i+1]-w.cols.Starts[i])
	for _, r := range w.parts[w.cols.Starts[i]:w.cols.Starts[i+1]] {
		out = append(out, r.row)
	}
	return out
}

// Spread adds the connections of a conversation to bins that cut the window.
func (w *Window) Spread(i int, bins []int) {
	span := max(1, int(w.To-w.From))
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		bins[int(w.cols.When[k])*len(bins)/span] += int(w.parts[k].amount)
	}
}
