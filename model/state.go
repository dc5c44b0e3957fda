package model

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/database"
)

// Revision is one state of the policy document.
type Revision struct {
	No     int       `db:"no"`
	Text   string    `db:"text"`
	Blame  Blame     `db:"blame"` // for each line, the revision that wrote it
	Author string    `db:"author"`
	At     time.Time `db:"at"`
	Words  string    `db:"words"`
}

// Blame has, for each line of a text, the revision that wrote it.
type Blame []int

// Value stores the numbers as JSON.
func (b Blame) Value() (driver.Value, error) {
	text, err := json.Marshal([]int(b))
	return string(text), err
}

// Scan reads what Value stored.
func (b *Blame) Scan(v any) error {
	text, ok := v.([]byte)
	if !ok {
		return fmt.Errorf("a blame is stored as %T", v)
	}
	return json.Unmarshal(text, (*[]int)(b))
}

// Probe is a question about traffic with the verdict that is expected.
type Probe struct {
	Question string    `db:"question"`
	Want     string    `db:"want"`
	Reason   string    `db:"reason"`
	Author   string    `db:"author"`
	At       time.Time `db:"at"`
}

// State is one state of all that answers hang on, but for the conversations: it
// is read in one transaction that sees nothing of what others write meanwhile.
type State struct {
	database.Versions
	Head       *Revision // nil: as it was
	Probes     []Probe
	Guarding   *Guarding // nil: as it was
	Structural []string  // tag keys that say where a workload belongs; nil: nothing was chosen
	// Inapplicable has expressions by tag key, as decide.ParseInapplicable reads them.
	Inapplicable map[string]string
	// Workloads are all of them if Whole, else those that were changed since; Gone
	// are the ids of those that are no more.
	Workloads []estate.Workload
	Gone      []string
	Whole     bool
}

// Exemption is a workload that no point guards.
type Exemption struct {
	Workload string    `db:"workload"`
	Reason   string    `db:"reason"`
	Owner    string    `db:"owner"`
	Ends     time.Time `db:"ends"`
	Author   string    `db:"author"`
	At       time.Time `db:"at"`
}

// Guarding is what says which point guarded what, and what it held when.
type Guarding struct {
	Points     []Guard
	Periods    []Held // by point, in the order of time
	Releases   []ReleaseText
	Exemptions []Exemption
}

// Guard is what a point guards.
type Guard struct{ Name, Side, Guards string }

// Held is what a point holds since a time.
type Held struct {
	Point   string
	At      time.Time
	Release int
	Mode    string
}

// ReleaseText is a release with its policy.
type ReleaseText struct {
	No       int
	Revision int
	Text     string
}
