package ingest

import (
	"encoding/csv"
	"io"
	"strings"
)

// CSV writes CSV that is harmless to open in a spreadsheet: a cell that one
// would take for a formula gets an apostrophe before it, which a spreadsheet does
// not show.
type CSV struct {
	w   *csv.Writer
	row []string
}

// NewCSV makes one. Flush it at the end.
func NewCSV(w io.Writer) *CSV { return &CSV{w: csv.NewWriter(w)} }

// Write writes a row.
func (c *CSV) Write(row []string) error {
	c.row = c.row[:0]
	for _, cell := range row {
		c.row = append(c.row, guard(cell))
	}
	return c.w.Write(c.row)
}

// Flush writes what is held back, and returns the first error there was.
func (c *CSV) Flush() error {
	c.w.Flush()
	return c.w.Error()
}

// A file that is read back by this program says in a column of its own that its
// cells are guarded: an apostrophe in front of them is then no part of them.
const (
	guardColumn = "guarded"
	guardedRow  = "yes"
)

// formulaic are the characters with which a spreadsheet lets a formula begin; an
// apostrophe is guarded too, so that unguard knows one from the other.
const formulaic = "=+-@\t\r'"

func guard(cell string) string {
	if cell != "" && strings.IndexByte(formulaic, cell[0]) >= 0 {
		return "'" + cell
	}
	return cell
}

func unguard(cell string) string {
	if len(cell) > 1 && cell[0] == '\'' && strings.IndexByte(formulaic, cell[1]) >= 0 {
		return cell[1:]
	}
	return cell
}
