package store

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"

	"lucidorchard/core/flow"
)

// rowsOut writes rows in the binary format of COPY (PostgreSQL documentation,
// COPY, Binary Format): conversations come by the million, and pgx makes an
// interface value of each cell.
type rowsOut struct {
	b       []byte
	columns int16
}

var copyHeader = []byte("PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00")

// sinceY2K is from 1970-01-01 to PostgreSQL's zero time, 2000-01-01.
const sinceY2K = 946_684_800_000_000

func newRowsOut(columns, rows int) *rowsOut {
	return &rowsOut{append(make([]byte, 0, 20+rows*columns*12), copyHeader...), int16(columns)}
}

func (r *rowsOut) row() { r.b = binary.BigEndian.AppendUint16(r.b, uint16(r.columns)) }

func (r *rowsOut) int2(n int16) {
	r.b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint32(r.b, 2), uint16(n))
}

func (r *rowsOut) int4(n int32) {
	r.b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(r.b, 4), uint32(n))
}

func (r *rowsOut) int8(n int64) {
	r.b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(r.b, 8), uint64(n))
}

func (r *rowsOut) time(t flow.Micros) { r.int8(int64(t) - sinceY2K) }

func (r *rowsOut) text(s string) {
	r.b = append(binary.BigEndian.AppendUint32(r.b, uint32(len(s))), s...)
}

// inet writes a host address: family (2 or 3), prefix length, not a network,
// octets.
func (r *rowsOut) inet(a netip.Addr) {
	if a.Is4() {
		x := a.As4()
		r.b = append(append(binary.BigEndian.AppendUint32(r.b, 8), 2, 32, 0, 4), x[:]...)
		return
	}
	x := a.As16()
	r.b = append(append(binary.BigEndian.AppendUint32(r.b, 20), 3, 128, 0, 16), x[:]...)
}

func (r *rowsOut) end() []byte { return append(r.b, 0xff, 0xff) }

// rowsIn reads rows that COPY writes in its binary format.
type rowsIn struct {
	r    *bufio.Reader
	cell []byte
	err  error
	seen map[string]string // texts, each kept once
}

func newRowsIn(r io.Reader) *rowsIn {
	return &rowsIn{r: bufio.NewReaderSize(r, 1<<18), cell: make([]byte, 0, 64), seen: map[string]string{}}
}

func (r *rowsIn) read(n int) []byte {
	if r.err != nil {
		return make([]byte, n)
	}
	if cap(r.cell) < n {
		r.cell = make([]byte, n)
	}
	r.cell = r.cell[:n]
	if _, err := io.ReadFull(r.r, r.cell); err != nil {
		r.err = fmt.Errorf("the database's answer was cut off: %w", err)
		clear(r.cell)
	}
	return r.cell
}

func (r *rowsIn) start() {
	head := r.read(len(copyHeader))
	if r.err == nil && string(head[:11]) != string(copyHeader[:11]) {
		r.err = errors.New("the database's answer is not in the binary format of COPY")
	}
}

// next reports whether there is another row.
func (r *rowsIn) next() bool {
	n := int16(binary.BigEndian.Uint16(r.read(2)))
	return r.err == nil && n >= 0
}

func (r *rowsIn) size() int { return max(0, int(int32(binary.BigEndian.Uint32(r.read(4))))) }

func (r *rowsIn) int() int64 {
	switch b := r.read(r.size()); len(b) {
	case 2:
		return int64(int16(binary.BigEndian.Uint16(b)))
	case 4:
		return int64(int32(binary.BigEndian.Uint32(b)))
	case 8:
		return int64(binary.BigEndian.Uint64(b))
	}
	return 0
}

func (r *rowsIn) time() flow.Micros { return flow.Micros(r.int() + sinceY2K) }

func (r *rowsIn) text() string {
	b := r.read(r.size())
	s, ok := r.seen[string(b)]
	if !ok {
		s = string(b)
		if len(r.seen) < 10_000 {
			r.seen[s] = s
		}
	}
	return s
}

func (r *rowsIn) inet() netip.Addr { return addrOf(r.read(r.size())) }

// addrOf reads an inet: what inet writes.
func addrOf(b []byte) netip.Addr {
	if len(b) < 8 {
		return netip.Addr{}
	}
	a, _ := netip.AddrFromSlice(b[4:])
	return a
}
