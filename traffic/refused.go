package traffic

import "time"

// RefusedBatch is a batch that the database refused for what it holds.
type RefusedBatch struct {
	ID        string    `db:"id"`
	Collector string    `db:"collector"`
	At        time.Time `db:"at"`
	Reason    string    `db:"reason"`
	Rows      int       `db:"rows"`
}
