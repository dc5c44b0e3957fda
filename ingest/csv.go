// Package ingest turns files into workloads and flow records, and says of
// everything that it cannot read on which line it stands and why.
//
// It must not know of policies or databases. Start reading at Workloads.
package ingest

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// RowError is what is wrong with one row of a file.
type RowError struct {
	Line   int    `json:"line" doc:"Line of the file on which the row begins, from 1"`
	Column string `json:"column,omitempty" doc:"Column, if one is to blame"`
	Reason string `json:"reason"`
}

func (e RowError) Error() string {
	if e.Column != "" {
		return fmt.Sprintf("%d: column %s: %s", e.Line, e.Column, e.Reason)
	}
	return fmt.Sprintf("%d: %s", e.Line, e.Reason)
}

// table reads the rows of a file with a header: of a CSV (RFC 4180), or as a form
// says. Cells are not trimmed, blank lines are no rows, a byte order mark is
// dropped.
type table struct {
	rows    rowReader
	header  []string
	row     int // number of the row that next gave, from 1
	line    int
	guarded int  // column that says that cells are guarded (see CSV); -1: none
	stored  bool // cells are to be stored: what no database takes is refused
	foreign bool // a form says how it is written
	// Warnings are complete at the end of the file.
	Warnings []string
}

// rowReader returns the cells of one row after the other, valid until the next, and
// the line on which it begins. A *RowError speaks of one row only.
type rowReader interface {
	read() (cells []string, line int, err error)
}

// Bounds of a file, so that none can exhaust the memory.
const (
	mostColumns = 5000
	mostRow     = 16 << 20 // octets
	mostCell    = 10_000   // characters of a cell that is to be stored
)

// bounded fails where a row goes on for too long: a quote that is never closed
// would else take up the whole file.
type bounded struct {
	r              io.Reader
	given, rowsEnd int64
}

var errLongRow = errors.New("found a row of more than 16 MB, expected shorter ones; a quoted cell in it may lack " +
	"its closing quote, or the file is no table")

func (r *bounded) Read(p []byte) (int, error) {
	if r.given-r.rowsEnd > mostRow {
		return 0, errLongRow
	}
	n, err := r.r.Read(p)
	r.given += int64(n)
	return n, err
}

// csvRows reads a CSV.
type csvRows struct {
	r     *csv.Reader
	in    *bounded
	above int // lines before the header
}

func newCSVRows(in io.Reader, f *Form) (*csvRows, error) {
	b := bufio.NewReaderSize(in, 1<<16)
	c := &csvRows{in: &bounded{r: b}}
	if f != nil {
		for range f.Header - 1 {
			if _, err := b.ReadSlice('\n'); err != nil && err != bufio.ErrBufferFull {
				return nil, errHeader{RowError{Line: c.above + 1,
					Reason: fmt.Sprintf("found the end of the file, expected the header on line %d", f.Header)}}
			}
			c.above++
		}
	}
	c.r = csv.NewReader(c.in)
	if f != nil && f.Delimiter != "" {
		c.r.Comma, c.r.LazyQuotes = rune(f.Delimiter[0]), f.Loose
	}
	c.r.FieldsPerRecord = -1
	c.r.ReuseRecord = true
	return c, nil
}

func (c *csvRows) read() (cells []string, line int, err error) {
	cells, err = c.r.Read()
	if err == io.EOF {
		return nil, 0, io.EOF
	}
	c.in.rowsEnd = c.r.InputOffset()
	if err != nil {
		var parse *csv.ParseError
		if errors.As(err, &parse) {
			e := rowError(err, parse.StartLine)
			e.Line += c.above
			return nil, e.Line, &e
		}
		return nil, 0, err
	}
	line, _ = c.r.FieldPos(0)
	return cells, line + c.above, nil
}

// errHeader reports that the file as a whole cannot be used.
type errHeader struct{ RowError }

// newTable reads the header. Without a form, the file is a CSV in UTF-8.
func newTable(in io.Reader, f *Form) (*table, error) {
	t := &table{guarded: -1, foreign: f != nil}
	if f == nil {
		f = &Form{}
	}
	text := f.text(in)
	var err error
	line := 1
	if f.Pointer != "" {
		var j *jsonRows
		if j, err = newJSONRows(text, f.Pointer); err != nil {
			return nil, errHeader{RowError{Line: 1, Reason: err.Error()}}
		}
		t.rows, t.header = j, j.order
	} else {
		if t.rows, err = newCSVRows(text, f); err != nil {
			return nil, err
		}
		var head []string
		head, line, err = t.rows.read()
		if err == io.EOF {
			return nil, errHeader{RowError{Line: 1,
				Reason: "found an empty file, expected a header line with the names of the columns"}}
		}
		if err != nil {
			var bad *RowError
			if errors.As(err, &bad) {
				return nil, errHeader{*bad}
			}
			return nil, errHeader{RowError{Line: 1, Reason: err.Error()}}
		}
		t.header = slices.Clone(head)
	}
	if n := len(t.header); n > mostColumns {
		return nil, errHeader{RowError{Line: line,
			Reason: fmt.Sprintf("found a header of %d columns, expected at most %d; is it the line with the names "+
				"of the columns?", n, mostColumns)}}
	}
	first := make(map[string]int, len(t.header))
	for i, name := range t.header {
		if !utf8.ValidString(name) {
			return nil, errHeader{RowError{Line: line,
				Reason: fmt.Sprintf("found a header that is not UTF-8 (%q), expected text in UTF-8", name)}}
		}
		if _, twice := first[name]; twice && t.foreign {
			for n := 2; ; n++ {
				if name = fmt.Sprintf("%s (%d)", t.header[i], n); !slices.Contains(t.header, name) {
					break
				}
			}
			t.header[i] = name
		} else if twice {
			return nil, errHeader{RowError{Line: line, Column: name,
				Reason: "found the column twice, expected each once"}}
		}
		first[name] = i
		if name == guardColumn {
			t.guarded = i
		}
	}
	return t, nil
}

// require finds the columns that a file must have.
func (t *table) require(names ...string) error {
	for _, n := range names {
		if !slices.Contains(t.header, n) {
			return errHeader{RowError{Line: 1, Column: n,
				Reason: fmt.Sprintf("found the header %q without it, expected the columns %s",
					strings.Join(t.header, ","), strings.Join(names, ", "))}}
		}
	}
	return nil
}

// next returns the cells of the next row, valid until the next call. A *RowError
// speaks of this row only; any other error ends the file.
func (t *table) next() ([]string, error) {
	cells, line, err := t.rows.read()
	if err == io.EOF {
		if j, ok := t.rows.(*jsonRows); ok && j.warning() != "" {
			t.Warnings = append(t.Warnings, j.warning())
		}
		return nil, io.EOF
	}
	t.row++
	if t.line = line; err != nil {
		return nil, err
	}
	if t.foreign { // a delimiter behind the last cell, or none for blank ones
		for len(cells) > len(t.header) && cells[len(cells)-1] == "" {
			cells = cells[:len(cells)-1]
		}
		for len(cells) > 1 && len(cells) < len(t.header) {
			cells = append(cells, "")
		}
	}
	if len(cells) != len(t.header) {
		return nil, &RowError{Line: t.line, Reason: fmt.Sprintf("found %d cells, expected %d as in the header",
			len(cells), len(t.header))}
	}
	for i, c := range cells {
		if !utf8.ValidString(c) {
			return nil, &RowError{Line: t.line, Column: t.header[i],
				Reason: "found bytes that are not UTF-8, expected text in UTF-8"}
		}
		if reason := unstorable(c); t.stored && reason != "" {
			return nil, &RowError{Line: t.line, Column: t.header[i], Reason: reason}
		}
	}
	if t.guarded >= 0 && cells[t.guarded] == guardedRow {
		for i := range cells {
			cells[i] = unguard(cells[i])
		}
	}
	return cells, nil
}

// unstorable returns the reason why no database takes a text; blank if it does.
func unstorable(text string) string {
	if i := strings.IndexByte(text, 0); i >= 0 {
		return fmt.Sprintf("found a NUL character, as character %d, expected text",
			utf8.RuneCountInString(text[:i])+1)
	}
	if len(text) > mostCell {
		if n := utf8.RuneCountInString(text); n > mostCell {
			return fmt.Sprintf("found %d characters, expected at most %d", n, mostCell)
		}
	}
	return ""
}

func rowError(err error, line int) RowError {
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		reason := parse.Err.Error()
		switch parse.Err {
		case csv.ErrQuote:
			reason = `found a " that neither ends its quoted cell nor is doubled, or a quoted cell that never ends (RFC 4180)`
		case csv.ErrBareQuote:
			reason = `found a " in the middle of a cell without quotes, expected the cell in quotes and the " doubled (RFC 4180)`
		}
		return RowError{Line: parse.StartLine, Reason: reason}
	}
	return RowError{Line: line, Reason: err.Error()}
}
