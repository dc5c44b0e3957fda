package rest

import (
	"time"

	"lucidorchard/auditing"
)

// EvidenceKept is evidence that was made.
type EvidenceKept struct {
	ID       int64     `json:"id"`
	Promise  string    `json:"promise" doc:"An assertion, or group and its name"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to" doc:"The period ends before it"`
	Made     time.Time `json:"made"`
	Author   string    `json:"author"`
	Sentence string    `json:"sentence" doc:"The answer"`
	Schedule *int64    `json:"schedule,omitempty" doc:"That made it; none: somebody"`
}

// EvidenceSchedule makes evidence by itself, when a month or a quarter is over.
type EvidenceSchedule struct {
	ID      int64      `json:"id"`
	Promise string     `json:"promise"`
	Every   string     `json:"every" enum:"month,quarter"`
	Author  string     `json:"author"`
	At      time.Time  `json:"at"`
	Problem string     `json:"problem,omitempty" doc:"Why the last was not made"`
	Last    *time.Time `json:"last,omitempty" doc:"The start of the newest period that it made"`
}

func newEvidenceKept(e auditing.EvidenceKept) EvidenceKept {
	return EvidenceKept{e.ID, e.Promise, e.From, e.To, e.Made, e.Author, e.Sentence, e.Schedule}
}
