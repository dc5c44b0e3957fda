package answers

import (
	"time"

	"lucidorchard/history"
	"lucidorchard/model"
)

// Change is something that can be undone or redone as one.
type Change struct {
	ID     int64     `json:"id"`
	Kind   string    `json:"kind" enum:"policy,tags,judging,probes,workloads,flows"`
	Words  string    `json:"words"`
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	// What undoing, or doing again, had to leave out.
	Note string `json:"note,omitempty" doc:"What had to be left as it is, and why"`
}

// Revision is one state of the policy document.
type Revision struct {
	No     int       `json:"no"`
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	Words  string    `json:"words"`
}

// NewChange returns what an answer says of a change; of nil, nil.
func NewChange(c *history.Change) *Change {
	if c == nil {
		return nil
	}
	return &Change{ID: c.ID, Kind: c.Kind, Words: c.Words, Author: c.Author, At: c.At, Note: c.Note}
}

// NewRevision returns what an answer says of a revision: all but its text.
func NewRevision(r model.Revision) Revision {
	return Revision{No: r.No, Author: r.Author, At: r.At, Words: r.Words}
}
