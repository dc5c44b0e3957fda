package traffic

import "time"

// RefusedBatch is a batch that the database refused for what it holds.
type RefusedBatch struct {
	ID        string    `db:"id" json:"id"`
	Collector string    `db:"collector" json:"collector"`
	At        time.Time `db:"at" json:"at"`
	Reason    string    `db:"reason" json:"reason"`
	Rows      int       `db:"rows" json:"rows" doc:"Records that it has"`
}
