package rows

import (
	"bufio"
	"bytes"
	"cmp"
	"container/heap"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/database"
)

// Part is some of the rows of a file of traffic, as the database takes them, but for the
// beginning and the end of the format; it is read more than once.
type Part struct {
	Hours   []flow.Hour       // with conversations, each once
	Days    []partDay         // with records, in order
	Count   int               // of Records
	Rows    int               // of Buckets
	Records io.ReaderAt       // in the order of hours and keys
	Buckets *io.SectionReader // in the order of their keys, so that those of all parts can be Merged
}

// partDay is where the records of one day are among those of a part.
type partDay struct {
	Day          int64 // since 1970-01-01
	From, Octets int64
}

// PartOf makes records of a file ready, which it puts in another order. changes is that of
// flow.Buckets. What is in its Part is still to be put where records and buckets are kept.
func PartOf(file int, all []flow.Joined, changes func(netip.Addr, estate.Instant) (estate.Instant, bool)) (p Part,
	records, buckets []byte) {
	gathered := flow.Buckets{Changes: changes}
	type place struct {
		hour flow.Hour
		key  int64
		at   int32
	}
	order := make([]place, len(all))
	for i := range all {
		gathered.AddJoined(&all[i])
		order[i] = place{flow.HourOf(all[i].Start), KeyOf(&all[i].Record), int32(i)}
	}
	// Neighbours in the index of records are stored as neighbours.
	slices.SortFunc(order, func(a, b place) int {
		return cmp.Or(cmp.Compare(a.hour, b.hour), cmp.Compare(a.key, b.key), cmp.Compare(a.at, b.at))
	})
	sorted := make([]flow.Joined, len(all))
	for i, o := range order {
		sorted[i] = all[o.at]
	}
	for from := 0; from < len(order); {
		day, to := DayOf(order[from].hour), from+1
		for to < len(order) && DayOf(order[to].hour) == day {
			to++
		}
		rows := inner(RecordRows(sorted[from:to], file))
		p.Days = append(p.Days, partDay{day, int64(len(records)), int64(len(rows))})
		records = append(records, rows...)
		from = to
	}
	hours := map[flow.Hour]bool{}
	conversations := gathered.All()
	for i := range conversations {
		hours[conversations[i].Hour] = true
	}
	p.Hours, p.Count, p.Rows = slices.Sorted(maps.Keys(hours)), len(all), len(conversations)
	return p, records, sortRows(inner(BucketRows(conversations, file)))
}

// inner takes the beginning and the end of the format away.
func inner(rows []byte) []byte { return rows[len(database.CopyHeader) : len(rows)-len(copyTrailer)] }

var copyTrailer = []byte{0xff, 0xff}

// Outer returns rows with the beginning and the end of the format.
func Outer(rows io.Reader) io.Reader {
	return io.MultiReader(bytes.NewReader(database.CopyHeader), rows, bytes.NewReader(copyTrailer))
}

// What a row of a bucket begins with: hour, client, server, point, outcome, part. Its
// octets tell it apart from others, and in their order it is stored.
const keyColumns = 6

// rowAt finds where a row at the beginning of b has its key, and where it ends; whole says
// whether all of it is there.
func rowAt(b []byte) (key, end int, whole bool) {
	if len(b) < 2 {
		return 0, 0, false
	}
	columns := int(binary.BigEndian.Uint16(b))
	at := 2
	for c := range columns {
		if len(b) < at+4 {
			return 0, 0, false
		}
		if at += 4 + int(binary.BigEndian.Uint32(b[at:])); c == keyColumns-1 {
			key = at
		}
	}
	return key, at, len(b) >= at
}

func sortRows(rows []byte) []byte {
	type row struct{ from, key, to int }
	var all []row
	for at := 0; at < len(rows); {
		key, n, _ := rowAt(rows[at:])
		all = append(all, row{at, at + key, at + n})
		at += n
	}
	slices.SortFunc(all, func(a, b row) int { return bytes.Compare(rows[a.from:a.key], rows[b.from:b.key]) })
	out := make([]byte, 0, len(rows))
	for _, r := range all {
		out = append(out, rows[r.from:r.to]...)
	}
	return out
}

// run is the rows of one part, of which one is looked at.
type run struct {
	r   *bufio.Reader
	row []byte
	key int
}

// next takes the next row; at the end it gives io.EOF.
func (r *run) next() error {
	for n := 256; ; n *= 2 {
		b, err := r.r.Peek(n)
		if key, end, whole := rowAt(b); whole {
			r.row, r.key = append(r.row[:0], b[:end]...), key
			_, err := r.r.Discard(end)
			return err
		}
		switch {
		case err == io.EOF && len(b) == 0:
			return io.EOF
		case err == io.EOF:
			return io.ErrUnexpectedEOF
		case err != nil:
			return err
		}
	}
}

// runs is a heap of runs by their rows.
type runs []*run

func (h runs) Len() int { return len(h) }

func (h runs) Less(a, b int) bool { return bytes.Compare(h[a].row[:h[a].key], h[b].row[:h[b].key]) < 0 }

func (h runs) Swap(a, b int) { h[a], h[b] = h[b], h[a] }

func (h *runs) Push(x any) { *h = append(*h, x.(*run)) }

func (h *runs) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// merged reads the buckets of several parts in one order, those of one day after the other;
// those of one conversation and hour are added up. Its memory is some for each part.
type merged struct {
	heap runs
	out  []byte // rows that are not read yet
	at   int
	Rows int   // that were made
	Day  int64 // that is read
	told func(rows int)
}

const runBuffer = 1 << 15

// MergeParts merges parts whose files stay as they are; told is called with the rows made
// so far. The result is not safe for concurrent use.
func MergeParts(parts []*Part, told func(rows int)) (*merged, error) {
	m := &merged{told: told}
	for _, p := range parts {
		if _, err := p.Buckets.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		r := &run{r: bufio.NewReaderSize(p.Buckets, runBuffer)}
		switch err := r.next(); err {
		case nil:
			m.heap = append(m.heap, r)
		case io.EOF:
		default:
			return nil, fmt.Errorf("rows that were put by cannot be read: %w", err)
		}
	}
	heap.Init(&m.heap)
	return m, nil
}

// Next goes to the next day; it reports whether there is one.
func (m *merged) Next() bool {
	if len(m.heap) > 0 {
		m.Day = m.heap[0].day()
	}
	return len(m.heap) > 0
}

// day returns the day of the row that is looked at, whose first column is the hour.
func (r *run) day() int64 { return DayOf(flow.Hour(int32(binary.BigEndian.Uint32(r.row[6:])))) }

func (m *merged) Read(p []byte) (int, error) {
	if m.at == len(m.out) {
		m.out, m.at = m.out[:0], 0
		if err := m.fill(len(p)); err != nil {
			return 0, err
		}
		if len(m.out) == 0 {
			return 0, io.EOF
		}
		m.told(m.Rows)
	}
	n := copy(p, m.out[m.at:])
	m.at += n
	return n, nil
}

// fill makes rows for about so many octets.
func (m *merged) fill(octets int) error {
	for len(m.heap) > 0 && len(m.out) < octets && m.heap[0].day() == m.Day {
		start := len(m.out)
		m.out = append(m.out, m.heap[0].row...)
		key := m.heap[0].key
		m.Rows++
		for {
			if err := m.heap[0].next(); err == io.EOF {
				heap.Pop(&m.heap)
			} else if err != nil {
				return fmt.Errorf("rows that were put by cannot be read: %w", err)
			} else {
				heap.Fix(&m.heap, 0)
			}
			if len(m.heap) == 0 || !bytes.Equal(m.heap[0].row[:m.heap[0].key], m.out[start:start+key]) {
				break
			}
			sum, err := addRows(m.out[start:], m.heap[0].row, key)
			if err != nil {
				return err
			}
			m.out = append(m.out[:start], sum...)
		}
	}
	return nil
}

// addRows returns a row with the sums of two of one key, which ends at key.
func addRows(a, b []byte, key int) ([]byte, error) {
	const numbers = 6 // connections, bytes, packets, unsure, first_at, last_at: 8 octets each after their length
	name := key + numbers*12
	if len(a) < name+4 || len(b) < name+4 {
		return nil, errors.New("rows that were put by are not of buckets")
	}
	out := slices.Clone(a)
	for i := range numbers {
		at := key + i*12 + 4
		x, y := int64(binary.BigEndian.Uint64(a[at:])), int64(binary.BigEndian.Uint64(b[at:]))
		switch i {
		case 4:
			x = min(x, y)
		case 5:
			x = max(x, y)
		default:
			x = flow.Sum(x, y)
		}
		binary.BigEndian.PutUint64(out[at:], uint64(x))
	}
	size := func(row []byte) int { return 4 + int(binary.BigEndian.Uint32(row[name:])) }
	if bytes.Compare(b[name+4:name+size(b)], a[name+4:name+size(a)]) > 0 { // the observer, and what follows it
		out = append(out[:name], b[name:]...)
	}
	return out, nil
}
