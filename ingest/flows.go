package ingest

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

var flowColumns = []string{"start", "src", "dst", "proto", "dport", "end", "sport", "bytes", "packets", "connections",
	"outcome", "observer"}

// Flows reads a flows CSV (language, §5) row by row.
type Flows struct {
	*table
	columns  []int // in the order of flowColumns; -1 is missing
	Warnings []string
	observer string
	foreign  bool // cells are read more freely: see plainCell
}

// NewFlows reads the header. An error means that the file cannot be used.
func NewFlows(in io.Reader) (*Flows, error) {
	return mappedFlows(in, nil)
}

// Usable reports why a file of flows with these headings cannot be read with a
// mapping; nil if it can.
func Usable(headings []string, m Mapping) error {
	t := &table{header: slices.Clone(headings)}
	if err := m.apply(t, flowColumns, false, ""); err != nil {
		return err
	}
	return t.require(flowColumns[:4]...)
}

func mappedFlows(in io.Reader, mapping Mapping) (*Flows, error) {
	t, err := newTable(in)
	if err != nil {
		return nil, err
	}
	own := slices.Clone(t.header)
	if err := mapping.apply(t, flowColumns, false, ""); err != nil {
		return nil, err
	}
	if err := t.require(flowColumns[:4]...); err != nil {
		return nil, err
	}
	if err := t.require(flowColumns[:5]...); err != nil && mapping == nil {
		return nil, err
	}
	t.stored = mapping != nil
	f := &Flows{table: t, foreign: !slices.Equal(own, t.header)}
	for _, name := range flowColumns {
		f.columns = append(f.columns, slices.Index(t.header, name))
	}
	for _, name := range t.header {
		if !slices.Contains(flowColumns, name) && mapping == nil {
			f.Warnings = append(f.Warnings, fmt.Sprintf("column %q is not known and was ignored", name))
		}
	}
	return f, nil
}

// Row is the number of the data row that Next read last, from 1.
func (f *Flows) Row() int { return f.row }

// Next reads one row. A *RowError speaks of this row only; io.EOF and any
// other error end the file.
func (f *Flows) Next() (flow.Record, error) {
	var r flow.Record
	cells, err := f.next()
	if err != nil {
		return r, err
	}
	for i, col := range f.columns {
		cell := ""
		if col >= 0 {
			cell = cells[col]
		}
		if f.foreign {
			cell = plainCell(flowColumns[i], cell)
		}
		if reason := f.cell(&r, i, cell); reason != "" {
			return r, &RowError{f.line, flowColumns[i], reason}
		}
	}
	return r, nil
}

// cell reads one column into the record and gives the reason if it cannot.
func (f *Flows) cell(r *flow.Record, i int, cell string) string {
	switch flowColumns[i] {
	case "start":
		t, err := estate.ParseInstant(cell)
		if err != nil {
			return err.Error()
		}
		r.Start, r.End = t, t
	case "end":
		if cell == "" {
			break
		}
		t, err := estate.ParseInstant(cell)
		if err != nil {
			return err.Error()
		}
		r.End = t
	case "src", "dst":
		a, ok := parseAddr(cell)
		if !ok {
			return fmt.Sprintf("found %q, expected an IP address", cell)
		}
		if flowColumns[i] == "src" {
			r.Client = a
		} else {
			r.Server = a
		}
	case "proto":
		proto, ok := parseProto(cell)
		if !ok {
			return fmt.Sprintf("found %q, expected tcp, udp, sctp, icmp, icmp6 or a number from 0 to 255", cell)
		}
		r.Point = service.PointOf(proto, 0)
	case "dport":
		proto := r.Point.Proto()
		if cell == "" {
			if service.IsICMP(proto) {
				r.Point = service.PointOf(proto, service.UnknownType)
			}
			break
		}
		n, ok := parseCount(cell, 65535)
		if !ok {
			return fmt.Sprintf("found %q, expected a number from 0 to 65535", cell)
		}
		r.Point = service.PointOf(proto, uint32(n))
	case "sport":
		n, ok := parseCount(cell, 65535)
		if cell != "" && !ok {
			return fmt.Sprintf("found %q, expected a number from 0 to 65535", cell)
		}
		r.SourcePort = uint16(n)
	case "bytes":
		return count(&r.Bytes, cell, 0)
	case "packets":
		return count(&r.Packets, cell, 0)
	case "connections":
		return count(&r.Connections, cell, 1)
	case "outcome":
		o, ok := flow.ParseOutcome(cell)
		if !ok {
			return fmt.Sprintf("found %q, expected carried, dropped or blank", cell)
		}
		r.Outcome = o
	case "observer":
		if cell != f.observer { // most rows have that of the row before
			f.observer = strings.Clone(cell)
		}
		r.Observer = f.observer
	}
	return ""
}

func count(to *int64, cell string, missing int64) string {
	*to = missing
	if cell == "" {
		return ""
	}
	n, ok := parseCount(cell, math.MaxInt64)
	if !ok {
		return fmt.Sprintf("found %q, expected a whole number from 0 to 9223372036854775807", cell)
	}
	*to = n
	return ""
}

func parseProto(s string) (uint8, bool) {
	if n, ok := parseCount(s, 255); ok {
		return uint8(n), true
	}
	return service.ProtoNumber(strings.ToLower(s))
}

// parseCount reads decimal digits, leading zeros allowed, up to most.
func parseCount(s string, most int64) (int64, bool) {
	if s == "" {
		return 0, false
	}
	var n int64
	for i := 0; i < len(s); i++ {
		d := int64(s[i] - '0')
		if s[i] < '0' || s[i] > '9' || n > (most-d)/10 {
			return 0, false
		}
		n = n*10 + d
	}
	return n, true
}
