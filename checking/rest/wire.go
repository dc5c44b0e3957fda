package rest

import "time"

// Probe is a question about traffic with the verdict that is expected.
type Probe struct {
	Question string    `json:"question" doc:"client -> server service"`
	Want     string    `json:"want" enum:"permit,reject,uncovered"`
	Reason   string    `json:"reason"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
}
