// Package history is the list of changes that people can undo and redo, whatever
// step of the work made them.
//
// It knows no step: each registers how the parts of its changes are set back
// (history/sql). Its types are values; start reading at Change.
package history

import (
	"encoding/json"
	"errors"
	"time"
)

// Change is something that can be undone or redone as one.
type Change struct {
	ID     int64           `db:"id"`
	Kind   string          `db:"kind"`
	Words  string          `db:"words"`
	Author string          `db:"author"`
	At     time.Time       `db:"at"`
	Before json.RawMessage `db:"before"`
	After  json.RawMessage `db:"after"`
	State  string          `db:"state"`
	// What undoing, or doing again, had to leave out.
	Note string `db:"-"`
}

// ErrNothing reports that there is nothing to undo or redo.
var ErrNothing = errors.New("there is nothing to undo or redo")

// Setting is what a change sets: the state before it, or after it. Each part has
// a name that one step registered; a part that is absent is not touched.
type Setting map[string]any
