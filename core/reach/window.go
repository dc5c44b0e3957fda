package reach

import (
	"net/netip"

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
	From, To flow.Hour     // half open
	Buckets  []flow.Bucket // of the window
	// Structural are the tag keys that say where a workload belongs, for what an
	// end is called that no group fits; set before the window is shown.
	Structural []string

	ends    []sighting
	cols    decide.Columns // When is hours since From
	bucket  []int32        // by place in cols.When: index into Buckets
	amount  []int64        // by place in cols.When: connections
	bytes   []int64
	carried []int64 // connections of each outcome; the rest is unknown
	dropped []int64
	first   []estate.Instant
	last    []estate.Instant
}

// sighting is an end: an address, and when it was first seen with the workload
// that held it then.
type sighting struct {
	estate.Endpoint
	at estate.Instant
}

// NewWindow resolves the buckets whose hour is in [from, to). The conversations
// are in the order in which they were first seen.
func NewWindow(e *estate.Estate, buckets []flow.Bucket, from, to flow.Hour) *Window {
	w := &Window{From: from, To: to, Structural: Structural}
	ends := map[estate.Endpoint]int32{}
	end := func(addr netip.Addr, at estate.Instant) int32 {
		ep := e.At(addr, at)
		i, ok := ends[ep]
		if !ok {
			i = int32(len(w.ends))
			ends[ep] = i
			w.ends = append(w.ends, sighting{ep, at})
		}
		return i
	}
	type key struct {
		client, server int32
		point          service.Point
	}
	index := map[key]int32{}
	var of []int32 // conversation of each bucket
	var hours []int32
	for i := range buckets {
		b := &buckets[i]
		if b.Hour < from || b.Hour >= to {
			continue
		}
		k := key{end(b.Client, b.First), end(b.Server, b.First), b.Point}
		c, ok := index[k]
		if !ok {
			c = int32(len(w.cols.Client))
			index[k] = c
			w.cols.Client, w.cols.Server, w.cols.Point = append(w.cols.Client, k.client), append(w.cols.Server, k.server), append(w.cols.Point, k.point)
			w.cols.Connections, w.bytes = append(w.cols.Connections, 0), append(w.bytes, 0)
			w.carried, w.dropped = append(w.carried, 0), append(w.dropped, 0)
			w.first, w.last = append(w.first, b.First), append(w.last, b.Last)
			hours = append(hours, 0)
		}
		w.add(c, b)
		of = append(of, c)
		hours[c]++
		w.Buckets = append(w.Buckets, *b)
	}
	w.cols.Starts = make([]int32, len(hours)+1)
	for c, n := range hours {
		w.cols.Starts[c+1] = w.cols.Starts[c] + n
	}
	w.cols.When, w.bucket, w.amount = make([]int32, len(of)), make([]int32, len(of)), make([]int64, len(of))
	next := append([]int32(nil), w.cols.Starts...)
	for i, c := range of {
		k := next[c]
		next[c]++
		w.cols.When[k], w.bucket[k], w.amount[k] = int32(w.Buckets[i].Hour-from), int32(i), w.Buckets[i].Connections
	}
	return w
}

func (w *Window) add(c int32, b *flow.Bucket) {
	w.cols.Connections[c] += b.Connections
	w.bytes[c] += b.Bytes
	switch b.Outcome {
	case flow.Carried:
		w.carried[c] += b.Connections
	case flow.Dropped:
		w.dropped[c] += b.Connections
	}
	if b.First.Before(w.first[c]) {
		w.first[c] = b.First
	}
	if w.last[c].Before(b.Last) {
		w.last[c] = b.Last
	}
}

// Len gives how many conversations there are.
func (w *Window) Len() int { return len(w.cols.Client) }

// BucketsOf gives the buckets of a conversation, as indexes into Buckets.
func (w *Window) BucketsOf(i int) []int32 {
	return w.bucket[w.cols.Starts[i]:w.cols.Starts[i+1]]
}

// Spread adds the connections of a conversation to bins that cut the window.
func (w *Window) Spread(i int, bins []int) {
	span := max(1, int(w.To-w.From))
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		bins[int(w.cols.When[k])*len(bins)/span] += int(w.amount[k])
	}
}
