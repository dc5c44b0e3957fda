package ingest

import (
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

var flowColumns = []string{"start", "src", "dst", "proto", "dport", "end", "sport", "bytes", "packets", "connections",
	"outcome", "observer"}

const endColumn = 5 // of flowColumns

// combined are columns of other files that say what ours say in another way:
// protocol and port in one (tcp/443), how many of the connections were dropped, the
// day of a start that is a time of the day only, and what came back from the server.
var combined = []string{"service", "dropped", "date", "reply bytes", "reply packets"}

// Flows reads a table of flows (language, §5) row by row.
type Flows struct {
	*table
	columns  []int // in the order of flowColumns; -1 is missing
	observer string
	foreign  *foreign // how cells are read more freely; nil: as they stand
	freely   *foreign // how a cell is read that cannot be read as it stands; nil: it cannot be read
	service  int      // the column that combines protocol and port; -1: none
	dropped  int      // the column of dropped connections; -1: none
	date     int      // the column of the day; -1: none
	replies  [2]int   // the columns of what came back, in bytes and in packets; -1: none

	rest *flow.Record // the dropped part of the row before, where part of it was
}

// NewFlows reads the header. An error means that the file cannot be used.
func NewFlows(in io.Reader) (*Flows, error) { return readFlows(in, nil) }

// FlowsOf is NewFlows for a file of another form, whose columns are said.
func FlowsOf(in io.Reader, f Form) (*Flows, error) { return readFlows(in, &f) }

// Usable reports why a file of flows with these headings cannot be read with a
// mapping; nil if it can.
func Usable(headings []string, m Mapping) error {
	t := &table{header: slices.Clone(headings)}
	if err := m.apply(t, slices.Concat(flowColumns, combined), false, ""); err != nil {
		return err
	}
	return t.flows()
}

// flows finds the columns that flows must have.
func (t *table) flows() error {
	if slices.Contains(t.header, "service") {
		return t.require(flowColumns[:3]...)
	}
	return t.require(flowColumns[:4]...)
}

func readFlows(in io.Reader, form *Form) (*Flows, error) {
	t, err := newTable(in, form)
	if err != nil {
		return nil, err
	}
	own := slices.Clone(t.header)
	f := &Flows{table: t, service: -1, dropped: -1, date: -1, replies: [2]int{-1, -1}}
	if form != nil {
		if err := form.Columns.apply(t, slices.Concat(flowColumns, combined), false, ""); err != nil {
			return nil, err
		}
		t.stored = true
		f.service, f.dropped = slices.Index(t.header, "service"), slices.Index(t.header, "dropped")
		f.date = slices.Index(t.header, "date")
		f.replies = [2]int{slices.Index(t.header, "reply bytes"), slices.Index(t.header, "reply packets")}
		if err := t.flows(); err != nil {
			return nil, err
		}
	} else if err := t.require(flowColumns[:4]...); err != nil {
		return nil, err
	}
	if form == nil {
		if err := t.require(flowColumns[:5]...); err != nil {
			return nil, err
		}
	} else {
		if f.freely, err = newForeign(form); err != nil {
			return nil, err
		}
		if !form.plain() || !slices.Equal(own, t.header) {
			f.foreign, f.freely = f.freely, nil
		}
	}
	for _, name := range flowColumns {
		f.columns = append(f.columns, slices.Index(t.header, name))
	}
	for _, name := range t.header {
		if !slices.Contains(flowColumns, name) && form == nil {
			f.Warnings = append(f.Warnings, fmt.Sprintf("column %q is not known and was ignored", name))
		}
	}
	return f, nil
}

// Row is the number of the data row that Next read last, from 1.
func (f *Flows) Row() int { return f.row }

// Rest returns what Next has left of its row: of a conversation that was dropped in
// part, the part that was; nil: nothing.
func (f *Flows) Rest() *flow.Record {
	r := f.rest
	f.rest = nil
	return r
}

// Next reads one row. A *RowError speaks of this row only; io.EOF and any
// other error end the file.
func (f *Flows) Next() (flow.Record, error) {
	var r flow.Record
	f.rest = nil
	cells, err := f.next()
	if err != nil {
		return r, err
	}
	proto, port := "", ""
	if f.service >= 0 {
		var ok bool
		if proto, port, ok = serviceParts(cells[f.service]); !ok {
			return r, &RowError{f.line, "service",
				fmt.Sprintf("found %q, expected a protocol and a port such as tcp/443",
					cells[f.service])}
		}
	}
	for i, col := range f.columns {
		cell := ""
		if col >= 0 {
			cell = cells[col]
		} else if f.service >= 0 && flowColumns[i] == "proto" {
			cell = proto
		} else if f.service >= 0 && flowColumns[i] == "dport" {
			cell = port
		}
		if f.date >= 0 && cell != "" && (flowColumns[i] == "start" || flowColumns[i] == "end") {
			cell = onDay(cells[f.date], cell)
		}
		if f.foreign != nil {
			cell = f.foreign.cell(flowColumns[i], cell)
		}
		reason := f.cell(&r, i, cell)
		if reason != "" && f.freely != nil {
			reason = f.cell(&r, i, f.freely.cell(flowColumns[i], cell))
		}
		if reason != "" {
			return r, &RowError{f.line, flowColumns[i], reason}
		}
	}
	for i, col := range f.replies {
		if col < 0 {
			continue
		}
		var n int64
		if reason := count(&n, plainNumber(strings.TrimSpace(cells[col])), 0); reason != "" {
			return r, &RowError{f.line, combined[3+i], reason}
		}
		to := [2]*int64{&r.Bytes, &r.Packets}[i]
		*to = flow.Sum(*to, n)
	}
	if end := f.columns[endColumn]; f.date >= 0 && end >= 0 && timeOfDay.MatchString(cells[end]) &&
		r.End.Before(r.Start) { // it ended after midnight
		r.End.Sec += 86400
	}
	if f.dropped >= 0 {
		return f.part(r, cells[f.dropped])
	}
	return r, nil
}

// timeOfDay is a time without a day: hours, minutes, seconds with their parts, half of the day, zone.
var timeOfDay = regexp.MustCompile(`^\s*(\d{1,2})[:.](\d{2})(?:[:.](\d{2}(?:[.,]\d+)?))?\s*` +
	`(?:([AaPp])\.?[Mm]\.?)?\s*(Z|[+-]\d{2}:?\d{2})?\s*$`)

// midnight is what some write behind a day.
var midnight = regexp.MustCompile(`[T ]0?0:00(:00(\.0+)?)?Z?$`)

// onDay puts a day before a time of the day; another time stays as it is.
func onDay(day, cell string) string {
	m := timeOfDay.FindStringSubmatch(cell)
	if m == nil {
		return cell
	}
	hour, _ := strconv.Atoi(m[1])
	if m[4] != "" && hour == 12 {
		hour = 0
	}
	if strings.EqualFold(m[4], "p") {
		hour += 12
	}
	seconds := "00"
	if m[3] != "" {
		seconds = strings.Replace(m[3], ",", ".", 1)
	}
	day = midnight.ReplaceAllString(strings.TrimSpace(day), "")
	return fmt.Sprintf("%s %02d:%s:%s%s", day, hour, m[2], seconds, m[5])
}

// part reports which of a row's connections were dropped.
func (f *Flows) part(r flow.Record, cell string) (flow.Record, error) {
	var dropped int64
	if reason := count(&dropped, plainNumber(strings.TrimSpace(cell)), 0); reason != "" {
		return r, &RowError{f.line, "dropped", reason}
	}
	switch {
	case dropped >= r.Connections && dropped > 0:
		r.Outcome = flow.Dropped
	case dropped > 0:
		rest := r
		rest.Connections, rest.Outcome, rest.Bytes, rest.Packets = dropped, flow.Dropped, 0, 0
		r.Connections -= dropped
		f.rest = &rest
	}
	return r, nil
}

// serviceParts cuts tcp/443, 443/udp and icmp in two.
func serviceParts(cell string) (proto, port string, ok bool) {
	a, b, both := strings.Cut(strings.ToLower(strings.TrimSpace(cell)), "/")
	if _, first := parseCount(a, 65535); first && both {
		a, b = b, a
	}
	if a == "proto" {
		a, b = b, ""
	}
	if typ, code, icmp := strings.Cut(b, "."); icmp {
		t, ok := parseCount(typ, 255)
		c, fine := parseCount(code, 255)
		if !ok || !fine {
			return "", "", false
		}
		b = strconv.FormatInt(t<<8|c, 10)
	}
	_, ok = parseProto(a)
	return a, b, ok
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
