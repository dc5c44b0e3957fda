// Package transfer moves a whole estate but for its traffic to another database.
//
// Start reading at Format.
package transfer

import (
	"errors"
	"fmt"

	"lucidorchard/refuse"
)

// Format names what Export writes: JSON Lines, see docs/estate.md. The first
// line is the header; each other line is an object whose member line says what
// it is.
const (
	Format        = "lucid-orchard-estate"
	FormatVersion = 1
)

// ErrNotEmpty reports that an estate can be restored only where there is none.
var ErrNotEmpty = errors.New("there are workloads or a policy already; restore into an empty data directory or " +
	"database")

// LineError is what is wrong with a line of an export.
type LineError struct {
	Line   int
	Reason string
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Reason) }

// Unwrap returns the error as a problem that whoever asked can put right.
func (e *LineError) Unwrap() error { return &refuse.Problem{Kind: refuse.IsInvalid, Detail: e.Error()} }
