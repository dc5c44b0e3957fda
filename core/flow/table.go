package flow

import (
	"cmp"
	"net/netip"
	"slices"
	"sort"
	"sync"

	"lucidorchard/core/service"
)

// Addresses numbers addresses, and the names of those who observed, from 0 in
// the order in which they come. It only grows, and is safe for concurrent use.
type Addresses struct {
	mu        sync.RWMutex
	index     map[netip.Addr]uint32
	all       []netip.Addr
	observers map[string]uint32
	names     []string
}

// Observer gives the number of a name, a new one if need be.
func (a *Addresses) Observer(name string) uint32 {
	a.mu.Lock()
	defer a.mu.Unlock()
	n, ok := a.observers[name]
	if !ok {
		if a.observers == nil {
			a.observers = map[string]uint32{}
		}
		n = uint32(len(a.names))
		a.observers[name] = n
		a.names = append(a.names, name)
	}
	return n
}

// ObserverName gives the name of a number.
func (a *Addresses) ObserverName(n uint32) string {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.names[n]
}

// Number gives the number of an address, a new one if need be.
func (a *Addresses) Number(addr netip.Addr) uint32 {
	a.mu.RLock()
	n, ok := a.index[addr]
	a.mu.RUnlock()
	if ok {
		return n
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if n, ok := a.index[addr]; ok {
		return n
	}
	if a.index == nil {
		a.index = map[netip.Addr]uint32{}
	}
	n = uint32(len(a.all))
	a.index[addr] = n
	a.all = append(a.all, addr)
	return n
}

// All gives the addresses by their numbers. The slice must not be changed.
func (a *Addresses) All() []netip.Addr {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.all[:len(a.all):len(a.all)]
}

// Chunk is the buckets of one hour in columns, a row for each: 61 octets.
// It is not changed once it is in a table.
type Chunk struct {
	Hour                        Hour
	Client, Server              []uint32 // numbers of addresses
	Point                       []service.Point
	Outcome                     []Outcome
	Connections, Bytes, Packets []int64
	Unsure                      []uint32
	First, Last                 []Micros
	Observer                    []uint32 // numbers of names
}

// Add appends a bucket, whatever its hour.
func (c *Chunk) Add(addrs *Addresses, b *Bucket) {
	c.Client, c.Server = append(c.Client, addrs.Number(b.Client)), append(c.Server, addrs.Number(b.Server))
	c.Point, c.Outcome = append(c.Point, b.Point), append(c.Outcome, b.Outcome)
	c.Connections, c.Bytes, c.Packets = append(c.Connections, b.Connections), append(c.Bytes, b.Bytes), append(c.Packets, b.Packets)
	c.Unsure = append(c.Unsure, uint32(min(b.Unsure, 1<<32-1)))
	c.First, c.Last = append(c.First, MicrosOfInstant(b.First)), append(c.Last, MicrosOfInstant(b.Last))
	c.Observer = append(c.Observer, addrs.Observer(b.Observer))
}

// Len gives the number of rows.
func (c *Chunk) Len() int { return len(c.Client) }

// Table is buckets in columns, by the hour. It is not changed: With gives
// another one, which shares what stays. The zero value has no rows and cannot
// be added to; start with NewTable or Pack.
type Table struct {
	Addrs  *Addresses
	Chunks []*Chunk // rising hours, none empty
	starts []int    // rows before each chunk, and at the end all
}

// NewTable makes one without rows.
func NewTable() *Table { return &Table{Addrs: &Addresses{}, starts: []int{0}} }

// Pack makes a table of buckets, in their order within each hour.
func Pack(buckets []Bucket) *Table {
	t := NewTable()
	byHour := map[Hour]*Chunk{}
	for i := range buckets {
		c := byHour[buckets[i].Hour]
		if c == nil {
			c = &Chunk{Hour: buckets[i].Hour}
			byHour[c.Hour] = c
		}
		c.Add(t.Addrs, &buckets[i])
	}
	var all []*Chunk
	for _, c := range byHour {
		all = append(all, c)
	}
	return t.With(all, nil)
}

// With gives the table with the chunks of some hours put in place of those it
// had, and without some hours.
func (t *Table) With(put []*Chunk, gone []Hour) *Table {
	byHour := map[Hour]*Chunk{}
	for _, c := range t.Chunks {
		byHour[c.Hour] = c
	}
	for _, c := range put {
		byHour[c.Hour] = c
	}
	for _, h := range gone {
		delete(byHour, h)
	}
	out := &Table{Addrs: t.Addrs}
	for _, c := range byHour {
		if c.Len() > 0 {
			out.Chunks = append(out.Chunks, c)
		}
	}
	slices.SortFunc(out.Chunks, func(a, b *Chunk) int { return cmp.Compare(a.Hour, b.Hour) })
	return out.count()
}

func (t *Table) count() *Table {
	t.starts = make([]int, len(t.Chunks)+1)
	for i, c := range t.Chunks {
		t.starts[i+1] = t.starts[i] + c.Len()
	}
	return t
}

// Between gives the part whose hours are in [from, to).
func (t *Table) Between(from, to Hour) *Table {
	i := sort.Search(len(t.Chunks), func(i int) bool { return t.Chunks[i].Hour >= from })
	k := sort.Search(len(t.Chunks), func(i int) bool { return t.Chunks[i].Hour >= to })
	return (&Table{Addrs: t.Addrs, Chunks: t.Chunks[i:max(i, k)]}).count()
}

// Len gives the number of rows.
func (t *Table) Len() int { return t.starts[len(t.starts)-1] }

// Span gives the hours of the table, half open; both 0 if it has none.
func (t *Table) Span() (from, to Hour) {
	if len(t.Chunks) == 0 {
		return 0, 0
	}
	return t.Chunks[0].Hour, t.Chunks[len(t.Chunks)-1].Hour + 1
}

// Bucket gives a row.
func (t *Table) Bucket(row int) Bucket {
	k := sort.SearchInts(t.starts, row+1) - 1
	c, i := t.Chunks[k], row-t.starts[k]
	addrs := t.Addrs.All()
	return Bucket{
		Hour: c.Hour, Client: addrs[c.Client[i]], Server: addrs[c.Server[i]], Point: c.Point[i], Outcome: c.Outcome[i],
		Connections: c.Connections[i], Bytes: c.Bytes[i], Packets: c.Packets[i], Unsure: int64(c.Unsure[i]),
		First: c.First[i].Instant(), Last: c.Last[i].Instant(), Observer: t.Addrs.ObserverName(c.Observer[i]),
	}
}

// Sort puts the rows in the order of clients', servers' and services' numbers,
// and then of outcomes and times.
func (c *Chunk) Sort() {
	order := make([]int32, c.Len())
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		return cmp.Or(cmp.Compare(c.Client[a], c.Client[b]), cmp.Compare(c.Server[a], c.Server[b]), cmp.Compare(c.Point[a], c.Point[b]), cmp.Compare(c.Outcome[a], c.Outcome[b]), cmp.Compare(c.First[a], c.First[b]))
	})
	c.Client, c.Server, c.Point, c.Outcome = inOrder(c.Client, order), inOrder(c.Server, order), inOrder(c.Point, order), inOrder(c.Outcome, order)
	c.Connections, c.Bytes, c.Packets, c.Unsure = inOrder(c.Connections, order), inOrder(c.Bytes, order), inOrder(c.Packets, order), inOrder(c.Unsure, order)
	c.First, c.Last, c.Observer = inOrder(c.First, order), inOrder(c.Last, order), inOrder(c.Observer, order)
}

func inOrder[T any](column []T, order []int32) []T {
	out := make([]T, len(order))
	for i, k := range order {
		out[i] = column[k]
	}
	return out
}
