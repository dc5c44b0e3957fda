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
	ID       int64            `db:"id"`
	Kind     string           `db:"kind"`
	Title    string           `db:"title"`
	State    string           `db:"state"`
	Done     float64          `db:"done"`
	Message  string           `db:"message"`
	Result   *json.RawMessage `db:"result"`
	Started  time.Time        `db:"started"`
	Finished *time.Time       `db:"finished"`
}
