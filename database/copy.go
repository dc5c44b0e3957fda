package database

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"

	"github.com/jackc/pgx/v5"

	"lucidorchard/core/flow"
)

// rowsOut writes rows in the binary format of COPY (PostgreSQL documentation,
// COPY, Binary Format): conversations come by the million, and pgx makes an
// interface value of each cell.
type rowsOut struct {
	b       []byte
	columns int16
}

// CopyHeader begins what COPY writes and reads in its binary format.
var CopyHeader = []byte("PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00")

// sinceY2K is from 1970-01-01 to PostgreSQL's zero time, 2000-01-01.
const sinceY2K = 946_684_800_000_000

// NewRowsOut returns a writer for about so many rows of so many columns.
func NewRowsOut(columns, rows int) *rowsOut {
	return &rowsOut{append(make([]byte, 0, 20+rows*columns*12), CopyHeader...), int16(columns)}
}

// Row begins a row. Its cells follow, one call for each column.
func (r *rowsOut) Row() { r.b = binary.BigEndian.AppendUint16(r.b, uint16(r.columns)) }

// Int2 writes a smallint.
func (r *rowsOut) Int2(n int16) {
	r.b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint32(r.b, 2), uint16(n))
}

// Int4 writes an integer.
func (r *rowsOut) Int4(n int32) {
	r.b = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(r.b, 4), uint32(n))
}

// Int8 writes a bigint.
func (r *rowsOut) Int8(n int64) {
	r.b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(r.b, 8), uint64(n))
}

// Time writes a timestamptz.
func (r *rowsOut) Time(t flow.Micros) { r.Int8(int64(t) - sinceY2K) }

// Text writes a text.
func (r *rowsOut) Text(s string) {
	r.b = append(binary.BigEndian.AppendUint32(r.b, uint32(len(s))), s...)
}

// Inet writes a host address: family (2 or 3), prefix length, not a network,
// octets.
func (r *rowsOut) Inet(a netip.Addr) {
	if a.Is4() {
		x := a.As4()
		r.b = append(append(binary.BigEndian.AppendUint32(r.b, 8), 2, 32, 0, 4), x[:]...)
		return
	}
	x := a.As16()
	r.b = append(append(binary.BigEndian.AppendUint32(r.b, 20), 3, 128, 0, 16), x[:]...)
}

// End returns all rows, as CopyTo takes them.
func (r *rowsOut) End() []byte { return append(r.b, 0xff, 0xff) }

// RowsIn reads rows that COPY writes in its binary format.
type RowsIn struct {
	r    *bufio.Reader
	cell []byte
	err  error
	seen map[string]string // texts, each kept once
}

// NewRowsIn reads from the answer to COPY TO STDOUT. It is not safe for concurrent use.
func NewRowsIn(r io.Reader) *RowsIn {
	return &RowsIn{r: bufio.NewReaderSize(r, 1<<18), cell: make([]byte, 0, 64), seen: map[string]string{}}
}

func (r *RowsIn) read(n int) []byte {
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

// Start reads the header, which comes before the first row.
func (r *RowsIn) Start() {
	head := r.read(len(CopyHeader))
	if r.err == nil && string(head[:11]) != string(CopyHeader[:11]) {
		r.err = errors.New("the database's answer is not in the binary format of COPY")
	}
}

// Next reports whether there is another row.
func (r *RowsIn) Next() bool {
	n := int16(binary.BigEndian.Uint16(r.read(2)))
	return r.err == nil && n >= 0
}

// Cell returns the octets of the next cell, until the next call of any method.
func (r *RowsIn) Cell() []byte { return r.read(r.size()) }

// Err returns why reading ended early; nil: it did not.
func (r *RowsIn) Err() error { return r.err }

func (r *RowsIn) size() int { return max(0, int(int32(binary.BigEndian.Uint32(r.read(4))))) }

// Int reads a smallint, an integer or a bigint. A NULL is 0.
func (r *RowsIn) Int() int64 {
	switch b := r.Cell(); len(b) {
	case 2:
		return int64(int16(binary.BigEndian.Uint16(b)))
	case 4:
		return int64(int32(binary.BigEndian.Uint32(b)))
	case 8:
		return int64(binary.BigEndian.Uint64(b))
	}
	return 0
}

// Time reads a timestamptz.
func (r *RowsIn) Time() flow.Micros { return flow.Micros(r.Int() + sinceY2K) }

// Text reads a text.
func (r *RowsIn) Text() string {
	b := r.Cell()
	s, ok := r.seen[string(b)]
	if !ok {
		s = string(b)
		if len(r.seen) < 10_000 {
			r.seen[s] = s
		}
	}
	return s
}

// Inet reads a host address.
func (r *RowsIn) Inet() netip.Addr { return AddrOf(r.Cell()) }

// AddrOf reads an inet: what inet writes.
func AddrOf(b []byte) netip.Addr {
	if len(b) < 8 {
		return netip.Addr{}
	}
	a, _ := netip.AddrFromSlice(b[4:])
	return a
}

// CopyTo stores rows that RowsOut has written.
func CopyTo(ctx context.Context, tx pgx.Tx, table, columns string, rows []byte) error {
	return CopyFrom(ctx, tx, table, columns, bytes.NewReader(rows))
}

// CopyFrom stores rows in the binary format of COPY as they are read.
func CopyFrom(ctx context.Context, tx pgx.Tx, table, columns string, rows io.Reader) error {
	_, err := tx.Conn().PgConn().CopyFrom(ctx, rows,
		fmt.Sprintf(`COPY %s (%s) FROM STDIN (FORMAT binary)`, table, columns))
	return err
}

// CopyOut is CopyRows in a transaction of its own that only reads.
func (d *DB) CopyOut(ctx context.Context, query string, row func(*RowsIn)) error {
	return d.Read(ctx, func(tx pgx.Tx) error { return CopyRows(ctx, tx, query, row) })
}

// CopyRows reads the result of a query within a transaction, row by row. row reads every cell.
func CopyRows(ctx context.Context, tx pgx.Tx, query string, row func(*RowsIn)) error {
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		rows := NewRowsIn(r)
		rows.Start()
		for rows.Next() {
			row(rows)
		}
		r.CloseWithError(rows.err)
		done <- rows.err
	}()
	_, err := tx.Conn().PgConn().CopyTo(ctx, w, `COPY (`+query+`) TO STDOUT (FORMAT binary)`)
	w.CloseWithError(err)
	if read := <-done; err == nil {
		err = read
	}
	return err
}

// Collect returns the rows of a query within a transaction, as structs by the place of their
// columns.
func Collect[T any](ctx context.Context, tx pgx.Tx, query string) ([]T, error) {
	rows, err := tx.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[T])
}
