package drafting

import (
	"time"

	"lucidorchard/model"
)

// Edit is what people change in one step: all of it is stored, or nothing, and
// it is undone as one.
type Edit struct {
	Words, Author string
	Revision      *model.Revision // made from its predecessor; if another came first, Apply gives ErrMoved
	Refusals      []RefusalEdit
	Probes        []ProbeEdit
}

// RefusalEdit sets the refusal of a rule, or takes it away.
type RefusalEdit struct {
	Rule    string   `json:"rule"`
	Refusal *Refusal `json:"refusal"`
}

// ProbeEdit sets a probe, or drops it.
type ProbeEdit struct {
	Question string       `json:"question"`
	Probe    *model.Probe `json:"probe"`
}

// Refusal is a proposal that somebody refused.
type Refusal struct {
	Rule   string    `db:"rule" json:"rule" doc:"The proposed rule without its note"`
	Reason string    `db:"reason" json:"reason"`
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
	// What was behind it then; 0 is not known.
	Conversations int `db:"conversations" json:"conversations"`
	Callers       int `db:"callers" json:"callers"`
	// The sentence of the rule that was taken instead; while it stands in the
	// draft, the refusal holds. Blank: it was refused for good.
	Instead string `db:"instead" json:"instead,omitempty"`
}
