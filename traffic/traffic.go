package traffic

import "time"

// Storing is the progress of storing a file: first its records go to the database, then the
// conversation-hours that they come to, then new days get their indexes.
type Storing struct {
	Records          int
	Hours, MostHours int     // at most so many
	Indexed          float64 // share of the new days
}

// Added is what became of a batch.
type Added struct {
	Before  *time.Time // when it was counted before; then nothing was changed
	Hours   int64      // conversation-hours that it speaks of
	Version int64      // of the conversations, with it
}
