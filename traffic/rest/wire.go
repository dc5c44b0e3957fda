package rest

import "time"

// RefusedBatch is a batch that the database refused for what it holds.
type RefusedBatch struct {
	ID        string    `json:"id"`
	Collector string    `json:"collector"`
	At        time.Time `json:"at"`
	Reason    string    `json:"reason"`
	Rows      int       `json:"rows" doc:"Records that it has"`
}
