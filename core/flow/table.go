package flow

import (
	"cmp"
	"math"
	"slices"
	"sort"

	"lucidorchard/core/service"
)

// Chunk is the buckets of one hour in columns, a row for each: 49 octets. The
// rows of a pair lie together, in the order of outcomes and times. It is not
// changed.
type Chunk struct {
	Hour                        Hour
	Pair                        []uint32 // numbers of pairs, rising
	Outcome                     []Outcome
	Connections, Bytes, Packets []int64
	Unsure                      []uint32
	First, Last                 []Micros
	Observer                    []uint32 // numbers of names
}

// Draft is the buckets of one hour in the order in which they come.
type Draft struct {
	Chunk                   // but for the pairs
	Client, Server []uint32 // numbers of addresses
	Point          []service.Point
}

// Add appends a bucket, whatever its hour.
func (d *Draft) Add(dict *Dictionary, b *Bucket) {
	d.Client, d.Server = append(d.Client, dict.Number(b.Client)), append(d.Server, dict.Number(b.Server))
	d.Point, d.Outcome = append(d.Point, b.Point), append(d.Outcome, b.Outcome)
	d.Connections, d.Bytes, d.Packets = append(d.Connections, b.Connections), append(d.Bytes, b.Bytes),
		append(d.Packets, b.Packets)
	d.Unsure = append(d.Unsure, uint32(min(b.Unsure, 1<<32-1)))
	d.First, d.Last = append(d.First, MicrosOfInstant(b.First)), append(d.Last, MicrosOfInstant(b.Last))
	d.Observer = append(d.Observer, dict.Observer(b.Observer))
}

// Pack numbers the pairs and puts the rows in their order.
func (d *Draft) Pack(dict *Dictionary) *Chunk {
	pairs := dict.numberPairs(d.Client, d.Server, d.Point)
	keys := make([]uint64, len(pairs))
	for i, p := range pairs {
		keys[i] = uint64(p)<<32 | uint64(i)
	}
	slices.Sort(keys)
	order := make([]int32, len(keys))
	for i, k := range keys {
		order[i] = int32(uint32(k))
	}
	for from := 0; from < len(keys); {
		to := from + 1
		for to < len(keys) && keys[to]>>32 == keys[from]>>32 {
			to++
		}
		if to > from+1 {
			d.inTime(order[from:to])
		}
		from = to
	}
	d.Pair = pairs
	return d.ordered(order)
}

// Len returns the number of rows.
func (c *Chunk) Len() int { return len(c.Pair) }

// Table is buckets in columns, by the hour. It is not changed: With gives
// another one, which shares what stays. The zero value has no rows and cannot
// be added to; start with NewTable or Pack.
type Table struct {
	Dict   *Dictionary
	Chunks []*Chunk // rising hours, none empty
	starts []int    // rows before each chunk, and at the end all
}

// NewTable makes one without rows.
func NewTable() *Table { return &Table{Dict: &Dictionary{}, starts: []int{0}} }

// Pack makes a table of buckets.
func Pack(buckets []Bucket) *Table {
	t := NewTable()
	var all []*Chunk
	for _, d := range drafts(buckets, t.Dict) {
		all = append(all, d.Pack(t.Dict))
	}
	return t.With(all, nil)
}

// With returns the table with the chunks of some hours put in place of those it
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
	out := &Table{Dict: t.Dict}
	for _, c := range byHour {
		if c.Len() > 0 {
			out.Chunks = append(out.Chunks, c)
		}
	}
	slices.SortFunc(out.Chunks, func(a, b *Chunk) int { return cmp.Compare(a.Hour, b.Hour) })
	return out.count().compact()
}

// Plus returns the table with more rows, beside those that it has.
func (t *Table) Plus(buckets []Bucket) *Table {
	if len(buckets) == 0 {
		return t
	}
	var put []*Chunk
	have := map[Hour]*Chunk{}
	for _, c := range t.Chunks {
		have[c.Hour] = c
	}
	for _, d := range drafts(buckets, t.Dict) {
		more := d.Pack(t.Dict)
		if c := have[more.Hour]; c != nil {
			more = c.plus(more)
		}
		put = append(put, more)
	}
	return t.With(put, nil)
}

// drafts returns buckets by their hours.
func drafts(buckets []Bucket, dict *Dictionary) (out []*Draft) {
	byHour := map[Hour]*Draft{}
	for i := range buckets {
		d := byHour[buckets[i].Hour]
		if d == nil {
			d = &Draft{Chunk: Chunk{Hour: buckets[i].Hour}}
			byHour[d.Hour] = d
			out = append(out, d)
		}
		d.Add(dict, &buckets[i])
	}
	return out
}

// plus returns the rows of two chunks of an hour.
func (c *Chunk) plus(o *Chunk) *Chunk {
	all := Chunk{
		Hour: c.Hour, Pair: slices.Concat(c.Pair, o.Pair), Outcome: slices.Concat(c.Outcome, o.Outcome),
		Connections: slices.Concat(c.Connections, o.Connections), Bytes: slices.Concat(c.Bytes, o.Bytes),
		Packets: slices.Concat(c.Packets, o.Packets), Unsure: slices.Concat(c.Unsure, o.Unsure),
		First: slices.Concat(c.First, o.First),
		Last:  slices.Concat(c.Last, o.Last), Observer: slices.Concat(c.Observer, o.Observer),
	}
	order := make([]int32, 0, len(all.Pair))
	i, k := 0, c.Len()
	for i < c.Len() || k < all.Len() {
		if k == all.Len() || i < c.Len() && c.Pair[i] < all.Pair[k] {
			order, i = append(order, int32(i)), i+1
			continue
		}
		from, p := len(order), all.Pair[k]
		for ; i < c.Len() && all.Pair[i] == p; i++ {
			order = append(order, int32(i))
		}
		for ; k < all.Len() && all.Pair[k] == p; k++ {
			order = append(order, int32(k))
		}
		all.inTime(order[from:])
	}
	return all.ordered(order)
}

// inTime puts rows of one pair in the order of outcomes and times.
func (c *Chunk) inTime(rows []int32) {
	slices.SortStableFunc(rows, func(a, b int32) int {
		return cmp.Or(cmp.Compare(c.Outcome[a], c.Outcome[b]), cmp.Compare(c.First[a], c.First[b]))
	})
}

// ordered returns some rows, in an order.
func (c *Chunk) ordered(rows []int32) *Chunk {
	return &Chunk{
		Hour: c.Hour, Pair: inOrder(c.Pair, rows), Outcome: inOrder(c.Outcome, rows),
		Connections: inOrder(c.Connections, rows),
		Bytes:       inOrder(c.Bytes, rows), Packets: inOrder(c.Packets, rows), Unsure: inOrder(c.Unsure, rows),
		First: inOrder(c.First, rows), Last: inOrder(c.Last, rows), Observer: inOrder(c.Observer, rows),
	}
}

// spare is how many pairs a table may know that none of its rows is of.
const spare = 1 << 20

// compact forgets the pairs and addresses of rows that are gone, once they are
// most of what is known: so that what comes and goes does not grow for ever.
func (t *Table) compact() *Table {
	pairs := t.Dict.Pairs()
	if len(pairs) <= spare+2*t.Len() {
		return t
	}
	const gone = 1<<32 - 1
	number := make([]uint32, len(pairs)) // of the pair from now on
	for i := range number {
		number[i] = gone
	}
	for _, c := range t.Chunks {
		for _, p := range c.Pair {
			number[p] = 0
		}
	}
	out := &Table{Dict: t.Dict.withoutPairs(), Chunks: make([]*Chunk, len(t.Chunks)), starts: t.starts}
	addrs := t.Dict.Addresses()
	var clients, servers []uint32
	var points []service.Point
	for i, p := range pairs {
		if number[i] != gone {
			number[i] = uint32(len(clients))
			clients, servers, points = append(clients, out.Dict.Number(addrs[p.Client])),
				append(servers, out.Dict.Number(addrs[p.Server])), append(points, p.Point)
		}
	}
	out.Dict.numberPairs(clients, servers, points)
	for i, c := range t.Chunks {
		next := *c
		next.Pair = make([]uint32, len(c.Pair))
		for k, p := range c.Pair {
			next.Pair[k] = number[p] // still rising
		}
		out.Chunks[i] = &next
	}
	return out
}

func (t *Table) count() *Table {
	t.starts = make([]int, len(t.Chunks)+1)
	for i, c := range t.Chunks {
		t.starts[i+1] = t.starts[i] + c.Len()
	}
	return t
}

// Between returns the part whose hours are in [from, to).
func (t *Table) Between(from, to Hour) *Table {
	i := sort.Search(len(t.Chunks), func(i int) bool { return t.Chunks[i].Hour >= from })
	k := sort.Search(len(t.Chunks), func(i int) bool { return t.Chunks[i].Hour >= to })
	return (&Table{Dict: t.Dict, Chunks: t.Chunks[i:max(i, k)]}).count()
}

// Len returns the number of rows.
func (t *Table) Len() int { return t.starts[len(t.starts)-1] }

// Span returns the hours of the table, half open; both 0 if it has none.
func (t *Table) Span() (from, to Hour) {
	if len(t.Chunks) == 0 {
		return 0, 0
	}
	return t.Chunks[0].Hour, t.Chunks[len(t.Chunks)-1].Hour + 1
}

// Starts returns the number of the first row of each chunk, and at the end that of
// all rows. The slice must not be changed.
func (t *Table) Starts() []int { return t.starts }

// Changed returns the numbers of the pairs of which one table has other rows than another, rising.
// Both have the same dictionary.
func (t *Table) Changed(was *Table) []uint32 {
	var out []uint32
	a, b := was.Chunks, t.Chunks
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].Hour < b[0].Hour:
			out, a = append(out, a[0].Pair...), a[1:]
		case len(a) == 0 || b[0].Hour < a[0].Hour:
			out, b = append(out, b[0].Pair...), b[1:]
		default:
			if a[0] != b[0] {
				out = a[0].changed(b[0], out)
			}
			a, b = a[1:], b[1:]
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// changed appends the pairs of which two chunks of an hour have other rows.
func (c *Chunk) changed(now *Chunk, out []uint32) []uint32 {
	i, k := 0, 0
	for i < c.Len() || k < now.Len() {
		p := uint32(math.MaxUint32)
		if i < c.Len() {
			p = c.Pair[i]
		}
		if k < now.Len() {
			p = min(p, now.Pair[k])
		}
		same := true
		for i < c.Len() && c.Pair[i] == p && k < now.Len() && now.Pair[k] == p {
			same = same && c.sameRow(i, now, k)
			i, k = i+1, k+1
		}
		for ; i < c.Len() && c.Pair[i] == p; i++ {
			same = false
		}
		for ; k < now.Len() && now.Pair[k] == p; k++ {
			same = false
		}
		if !same {
			out = append(out, p)
		}
	}
	return out
}

func (c *Chunk) sameRow(i int, o *Chunk, k int) bool {
	return c.Connections[i] == o.Connections[k] && c.Last[i] == o.Last[k] && c.Outcome[i] == o.Outcome[k] &&
		c.First[i] == o.First[k] &&
		c.Bytes[i] == o.Bytes[k] && c.Packets[i] == o.Packets[k] && c.Unsure[i] == o.Unsure[k] &&
		c.Observer[i] == o.Observer[k]
}

// Only returns the rows of some pairs, whose numbers rise. The table has a dictionary of its own, in
// which each pair has the place among them as its number.
func (t *Table) Only(pairs []uint32) *Table {
	dict := t.Dict.withoutPairs()
	addrs, all := t.Dict.Addresses(), t.Dict.Pairs()
	number := map[uint32]uint32{} // of addresses, so that each is hashed once
	numbered := func(n uint32) uint32 {
		m, ok := number[n]
		if !ok {
			m = dict.Number(addrs[n])
			number[n] = m
		}
		return m
	}
	clients, servers, points := make([]uint32, len(pairs)), make([]uint32, len(pairs)),
		make([]service.Point, len(pairs))
	for i, n := range pairs {
		clients[i], servers[i], points[i] = numbered(all[n].Client), numbered(all[n].Server), all[n].Point
	}
	dict.numberPairs(clients, servers, points)
	out := &Table{Dict: dict}
	for _, c := range t.Chunks {
		if only := c.only(pairs); only.Len() > 0 {
			out.Chunks = append(out.Chunks, only)
		}
	}
	return out.count()
}

// only returns the rows of some pairs, numbered by their places.
func (c *Chunk) only(pairs []uint32) *Chunk {
	var rows []int32
	var number []uint32
	at := 0
	for n, p := range pairs {
		// The next one is near where most of the chunk's pairs are asked for, and far where few are.
		step := 1
		for at+step < c.Len() && c.Pair[at+step] < p {
			step *= 2
		}
		found, _ := slices.BinarySearch(c.Pair[at:min(at+step+1, c.Len())], p)
		for at += found; at < c.Len() && c.Pair[at] == p; at++ {
			rows, number = append(rows, int32(at)), append(number, uint32(n))
		}
	}
	out := c.ordered(rows)
	out.Pair = number
	return out
}

// Row returns where a row is: its chunk, and its place there.
func (t *Table) Row(row int) (*Chunk, int) {
	k := sort.SearchInts(t.starts, row+1) - 1
	return t.Chunks[k], row - t.starts[k]
}

// Bucket returns a row.
func (t *Table) Bucket(row int) Bucket {
	c, i := t.Row(row)
	addrs, p := t.Dict.Addresses(), t.Dict.Pairs()[c.Pair[i]]
	return Bucket{
		Hour: c.Hour, Client: addrs[p.Client], Server: addrs[p.Server], Point: p.Point, Outcome: c.Outcome[i],
		Connections: c.Connections[i], Bytes: c.Bytes[i], Packets: c.Packets[i], Unsure: int64(c.Unsure[i]),
		First: c.First[i].Instant(), Last: c.Last[i].Instant(), Observer: t.Dict.ObserverName(c.Observer[i]),
	}
}

func inOrder[T any](column []T, order []int32) []T {
	out := make([]T, len(order))
	for i, k := range order {
		out[i] = column[k]
	}
	return out
}
