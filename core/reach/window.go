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
	rows    []int32        // by place in cols.When: row of Table
	amount  []int64        // by place in cols.When: connections
	bytes   []int64
	carried []int64 // connections of each outcome; the rest is unknown
	dropped []int64
	unsure  []int64 // connections that may be the wrong way round
	first   []estate.Instant
	last    []estate.Instant
}

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
	of := make([]int32, 0, n) // conversation of each row
	var hours []int32
	seen := newPairs(n / 4)
	for _, ch := range w.Table.Chunks {
		for i := range ch.Client {
			a, b := r.end(ch.Client[i], ch.First[i]), r.end(ch.Server[i], ch.First[i])
			c, fresh := seen.number(a, b, ch.Point[i])
			if fresh {
				first := ch.First[i].Instant()
				w.cols.Client, w.cols.Server, w.cols.Point = append(w.cols.Client, a), append(w.cols.Server, b), append(w.cols.Point, ch.Point[i])
				w.cols.Connections, w.bytes = append(w.cols.Connections, 0), append(w.bytes, 0)
				w.carried, w.dropped, w.unsure = append(w.carried, 0), append(w.dropped, 0), append(w.unsure, 0)
				w.first, w.last = append(w.first, first), append(w.last, first)
				hours = append(hours, 0)
			}
			w.add(c, ch, i)
			of = append(of, c)
			hours[c]++
		}
	}
	w.cols.Starts = make([]int32, len(hours)+1)
	for c, n := range hours {
		w.cols.Starts[c+1] = w.cols.Starts[c] + n
	}
	w.cols.When, w.rows, w.amount = make([]int32, len(of)), make([]int32, len(of)), make([]int64, len(of))
	next := append([]int32(nil), w.cols.Starts...)
	row := 0
	for _, ch := range w.Table.Chunks {
		for i := range ch.Client {
			c := of[row]
			k := next[c]
			next[c]++
			w.cols.When[k], w.rows[k], w.amount[k] = int32(ch.Hour-from), int32(row), ch.Connections[i]
			row++
		}
	}
	return w
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

func (p *pairs) place(client, server int32, point service.Point) *pairKey {
	h := (uint64(uint32(client))<<32 | uint64(uint32(server))) * 0x9e3779b97f4a7c15
	h = (h ^ h>>29 ^ uint64(point)*0xd6e8feb86659fd93) * 0xbf58476d1ce4e5b9
	for i := h >> 32; ; i++ {
		k := &p.keys[i&uint64(len(p.keys)-1)]
		if k.number == 0 || k.client == client && k.server == server && k.point == point {
			return k
		}
	}
}

func (p *pairs) number(client, server int32, point service.Point) (n int32, fresh bool) {
	k := p.place(client, server, point)
	if k.number != 0 {
		return k.number - 1, false
	}
	if 2*p.used > len(p.keys) {
		old := p.keys
		p.keys = make([]pairKey, 2*len(old))
		for _, x := range old {
			if x.number != 0 {
				*p.place(x.client, x.server, x.point) = x
			}
		}
		k = p.place(client, server, point)
	}
	p.used++
	*k = pairKey{client, server, point, int32(p.used)}
	return k.number - 1, true
}

func (w *Window) add(c int32, ch *flow.Chunk, i int) {
	w.cols.Connections[c] += ch.Connections[i]
	w.bytes[c] += ch.Bytes[i]
	w.unsure[c] += int64(ch.Unsure[i])
	// A part of a connection that goes on is of no new one: it counts as one here.
	n := max(1, ch.Connections[i])
	switch ch.Outcome[i] {
	case flow.Carried:
		w.carried[c] += n
	case flow.Dropped:
		w.dropped[c] += n
	}
	if first := ch.First[i].Instant(); first.Before(w.first[c]) {
		w.first[c] = first
	}
	if last := ch.Last[i].Instant(); w.last[c].Before(last) {
		w.last[c] = last
	}
}

// Len gives how many conversations there are.
func (w *Window) Len() int { return len(w.cols.Client) }

// RowsOf gives the rows of Table that a conversation was gathered from.
func (w *Window) RowsOf(i int) []int32 {
	return w.rows[w.cols.Starts[i]:w.cols.Starts[i+1]]
}

// Spread adds the connections of a conversation to bins that cut the window.
func (w *Window) Spread(i int, bins []int) {
	span := max(1, int(w.To-w.From))
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		bins[int(w.cols.When[k])*len(bins)/span] += int(w.amount[k])
	}
}
