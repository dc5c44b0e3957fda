package inventory

import (
	"cmp"
	"fmt"
	"time"
)

// SourceValue is what one source says of one tag.
type SourceValue struct {
	Workload string    `db:"workload" json:"workload"`
	Key      string    `db:"key" json:"key"`
	Source   string    `db:"source" json:"source"`
	Value    string    `db:"value" json:"value"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// FormerValue is what a source or a person said of a tag before.
type FormerValue struct {
	SourceValue
	Until time.Time `db:"until" json:"until"`
}

// SaidValue is a value with the span in which it was said.
type SaidValue struct {
	SourceValue
	Until *time.Time `db:"until"`
	Rank  int        `db:"rank"`
}

// RefusedTag is a suggestion that somebody said is wrong.
type RefusedTag struct {
	Workload string    `db:"workload" json:"workload"`
	Key      string    `db:"key" json:"key"`
	Value    string    `db:"value" json:"value"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// TagEdit sets a tag by hand; an empty value says that the workload does not
// have it.
type TagEdit struct {
	Workload string  `json:"workload"`
	Key      string  `json:"key"`
	Value    *string `json:"value"` // nil: nothing is set by hand
	// Was is the value that counted when the edit was made, "" for none; nil: it does
	// not matter. Where another one counts by now, nothing is set: see ChangedError.
	Was *string `json:"-"`
}

// ChangedError says that somebody else was faster.
type ChangedError struct {
	TagEdit
	Now    string // the value that counts now
	Source string
	Author string
}

func (e *ChangedError) Error() string {
	name := func(v string) string {
		if v == "" {
			return "missing"
		}
		return v
	}
	by := cmp.Or(e.Author, e.Source, "nobody")
	return fmt.Sprintf("somebody has changed this meanwhile. %s of %s was %s; now it is %s, by %s. Nothing was "+
		"changed", e.Key, e.Workload, name(*e.Was), name(e.Now), by)
}
