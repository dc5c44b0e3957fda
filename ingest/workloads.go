package ingest

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/estate"
)

// WorkloadFile is what a workloads file says.
type WorkloadFile struct {
	Workloads []estate.Workload
	Keys      []string // tag keys that it has columns for
	Rows      int
	Errors    []RowError // rows that were left out
	Warnings  []string
}

// Workloads reads a workloads CSV (language, §5). Tags get the source. A row
// that cannot be used is reported and left out, as is the later of two
// workloads that claim one address from the same instant; whether that spoils
// the whole file is for the caller to say. err means that the file as a whole
// cannot be used.
func Workloads(in io.Reader, source string) (*WorkloadFile, error) {
	return readWorkloads(in, source, nil)
}

// WorkloadsOf is Workloads for a file that is to be stored, of another form: its
// columns say for each heading what it is, blank for one to leave out. Several
// headings may be addresses. A heading that the form does not name is read as it
// is. Text that no database takes spoils its row.
func WorkloadsOf(in io.Reader, source string, form Form) (*WorkloadFile, error) {
	return readWorkloads(in, source, &form)
}

func readWorkloads(in io.Reader, source string, form *Form) (*WorkloadFile, error) {
	t, err := newTable(in, form)
	if err != nil {
		return nil, err
	}
	var mapping Mapping
	w := &workloadReader{table: t, source: source, first: map[string]*firstRow{},
		out: &WorkloadFile{Keys: []string{}}}
	if form != nil {
		mapping, t.stored = form.Columns, true
		if !form.plain() || len(mapping) > 0 {
			if w.foreign, err = newForeign(form); err != nil {
				return nil, err
			}
		}
		for _, name := range t.header {
			if reason := unstorable(name); reason != "" {
				return nil, errHeader{RowError{Line: 1, Reason: "the header: " + reason}}
			}
		}
	}
	if err := mapping.apply(t, columns, true, "addresses"); err != nil {
		return nil, err
	}
	if err := t.require("id"); err != nil {
		return nil, err
	}
	for _, name := range t.header {
		key, isTag := strings.CutPrefix(name, "tag:")
		if isTag && key != "" {
			w.out.Keys = append(w.out.Keys, key)
		}
		if name != "" && !(isTag && key != "") &&
			!slices.Contains([]string{"id", "name", "addresses", "os", "kind", "from", "until", guardColumn}, name) {
			t.Warnings = append(t.Warnings, fmt.Sprintf("column %q is not known and was ignored", name))
		}
	}
	for {
		cells, err := t.next()
		if err == io.EOF {
			break
		}
		var bad *RowError
		if err == nil {
			bad = w.row(cells)
		} else if e, ok := err.(*RowError); ok {
			bad = e
		} else {
			return nil, err
		}
		if bad != nil {
			w.out.Errors = append(w.out.Errors, *bad)
		}
	}
	w.out.Rows, w.out.Warnings = t.row, t.Warnings
	w.out.dropConflicts(w.first)
	return w.out, nil
}

type workloadReader struct {
	*table
	source  string
	foreign *foreign // nil: cells are read as they stand
	first   map[string]*firstRow
	out     *WorkloadFile
}

// firstRow remembers what the later rows of an id have to agree with.
type firstRow struct {
	index int
	line  int
	lines []int // of each lease
}

func (w *workloadReader) row(cells []string) *RowError {
	bad := func(column, format string, args ...any) *RowError {
		return &RowError{w.line, column, fmt.Sprintf(format, args...)}
	}
	var row estate.Workload
	from, until := estate.Beginning, estate.End
	var addrs []netip.Addr
	for i, name := range w.header {
		cell := cells[i]
		if w.foreign != nil {
			cell = w.foreign.workloadCell(name, cell)
		}
		if cell == "" {
			continue
		}
		var err error
		switch name {
		case "id":
			row.ID = cell
		case "name":
			row.Name = cell
		case "os":
			row.OS = cell
		case "kind":
			row.Kind = cell
		case "from":
			from, err = estate.ParseInstant(cell)
		case "until":
			until, err = estate.ParseInstant(cell)
		case "addresses":
			for _, s := range strings.FieldsFunc(cell, func(r rune) bool { return r == ' ' || r == '\t' }) {
				a, ok := parseAddr(s)
				if !ok {
					return bad(name, "found %q, expected IP addresses separated by blanks", s)
				}
				addrs = append(addrs, a)
			}
		default:
			if key, ok := strings.CutPrefix(name, "tag:"); ok && key != "" {
				row.Tags = append(row.Tags, estate.Tag{Key: key, Value: cell, Source: w.source})
			}
		}
		if err != nil {
			return bad(name, "%s", err)
		}
	}
	if row.ID == "" {
		return bad("id", "found it blank, expected the id of a workload")
	}
	estate.SortTags(row.Tags)
	f := w.first[row.ID]
	if f == nil {
		f = &firstRow{index: len(w.out.Workloads), line: w.line}
		w.first[row.ID] = f
		w.out.Workloads = append(w.out.Workloads, row)
	} else if column, was, is := disagree(&w.out.Workloads[f.index], &row); column != "" {
		return bad(column, "found %q for workload %q, expected it blank or %q as on line %d", is, row.ID, was, f.line)
	}
	have := &w.out.Workloads[f.index]
	for _, a := range addrs {
		have.Leases = append(have.Leases, estate.Lease{Addr: a, From: from, Until: until})
		f.lines = append(f.lines, w.line)
	}
	return nil
}

// workloadCell makes a cell of a file of another form ours.
func (x *foreign) workloadCell(column, cell string) string {
	switch column {
	case "from", "until":
		return x.clock.read(strings.TrimSpace(cell))
	case "addresses": // separated by other signs, in a network of their own, or none
		fields := strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(" \t\r\n,;|", r) })
		for i, f := range fields {
			fields[i], _, _ = strings.Cut(strings.Trim(f, "[](){}\"'"), "/")
		}
		return strings.Join(slices.DeleteFunc(fields, func(f string) bool { return f == "" || f == "-" }), " ")
	case "id", "name", "os", "kind":
		return strings.TrimSpace(cell)
	}
	return cell
}

// disagree finds a field in which a later row has a value that the first row
// of the same id has not.
func disagree(first, row *estate.Workload) (column, was, is string) {
	for _, f := range [][3]string{{"name", first.Name, row.Name}, {"os", first.OS, row.OS},
		{"kind", first.Kind, row.Kind}} {
		if f[2] != "" && f[2] != f[1] {
			return f[0], f[1], f[2]
		}
	}
	for _, t := range row.Tags {
		if have, _ := first.Tag(t.Key); have.Value != t.Value {
			return "tag:" + t.Key, have.Value, t.Value
		}
	}
	return "", "", ""
}

// dropConflicts reports addresses claimed twice from one instant and drops the
// later workload's lease.
func (out *WorkloadFile) dropConflicts(first map[string]*firstRow) {
	e, conflicts := estate.New(out.Workloads)
	for _, c := range conflicts {
		a, _ := e.ByID(c.A)
		b, _ := e.ByID(c.B)
		late := max(a, b)
		wl := &out.Workloads[late]
		f := first[wl.ID]
		for i := len(wl.Leases) - 1; i >= 0; i-- {
			if l := wl.Leases[i]; l.Addr == c.Addr && l.From == c.From && !l.Empty() {
				out.Errors = append(out.Errors, RowError{f.lines[i], "addresses", c.Error()})
				wl.Leases = slices.Delete(wl.Leases, i, i+1)
				f.lines = slices.Delete(f.lines, i, i+1)
				break
			}
		}
	}
	slices.SortStableFunc(out.Errors, func(a, b RowError) int { return a.Line - b.Line })
}

// parseAddr reads an address without a zone; IPv4-mapped IPv6 is IPv4.
func parseAddr(s string) (netip.Addr, bool) {
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, false
	}
	return a.Unmap(), true
}
