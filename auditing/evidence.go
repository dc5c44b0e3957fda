package auditing

import "time"

// EvidenceKept is evidence that was made.
type EvidenceKept struct {
	ID       int64     `db:"id" json:"id"`
	Promise  string    `db:"promise" json:"promise" doc:"An assertion, or group and its name"`
	From     time.Time `db:"from_at" json:"from"`
	To       time.Time `db:"to_at" json:"to" doc:"The period ends before it"`
	Made     time.Time `db:"made" json:"made"`
	Author   string    `db:"author" json:"author"`
	Sentence string    `db:"sentence" json:"sentence" doc:"The answer"`
	Schedule *int64    `db:"schedule" json:"schedule,omitempty" doc:"That made it; none: somebody"`
	Body     []byte    `db:"body" json:"-"` // signed JSON
}

// EvidenceSchedule makes evidence by itself, when a month or a quarter is over.
type EvidenceSchedule struct {
	ID      int64      `db:"id" json:"id"`
	Promise string     `db:"promise" json:"promise"`
	Every   string     `db:"every" json:"every" enum:"month,quarter"`
	Author  string     `db:"author" json:"author"`
	At      time.Time  `db:"at" json:"at"`
	Problem string     `db:"problem" json:"problem,omitempty" doc:"Why the last was not made"`
	Last    *time.Time `db:"last" json:"last,omitempty" doc:"The start of the newest period that it made"`
}
