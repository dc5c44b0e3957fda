// Package jobs runs long work in the background: it can be left and come back to, cancelled,
// and its result stays. Work whose server has ended is given up by another one.
//
// It must not know what the work is. A Runner is safe for concurrent use. Start reading at
// Runner.Start.
package jobs

import (
	"encoding/json"
	"time"
)

// Job is long work: it can be left and come back to, and its result stays.
type Job struct {
	ID       int64            `db:"id" json:"id"`
	Kind     string           `db:"kind" json:"kind"`
	Title    string           `db:"title" json:"title"`
	State    string           `db:"state" json:"state" enum:"running,done,failed,cancelled"`
	Done     float64          `db:"done" json:"done" doc:"Share that is done, 0 to 1"`
	Message  string           `db:"message" json:"message"`
	Result   *json.RawMessage `db:"result" json:"result,omitempty"`
	Started  time.Time        `db:"started" json:"started"`
	Finished *time.Time       `db:"finished" json:"finished,omitempty"`
}
