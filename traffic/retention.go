package traffic

import (
	"slices"
	"strings"
	"time"
)

// Retention says for how long traffic is kept. 0 is without bound.
type Retention struct {
	ConversationDays int   `json:"conversationDays"`
	RecordDays       int   `json:"recordDays"`
	MostBytes        int64 `json:"mostBytes"` // on disk, of conversations and records together
}

// defaultRetention is what holds until somebody chooses.
var defaultRetention = Retention{ConversationDays: 400, RecordDays: 30}

// Day is what is kept of one day (UTC).
type Day struct {
	Table string    // conversations or records
	Day   time.Time // its start
	Bytes int64     // on disk, with indexes
	Rows  int64     // as the database estimates
}

// Over returns the days that are over the bounds at now: what Drop would delete.
// By size, records go first, and of each the oldest; the newest day of
// conversations stays.
func (r Retention) Over(days []Day, now time.Time) []Day {
	var over []Day
	var kept []Day
	var size int64
	for _, d := range days {
		most := r.ConversationDays
		if d.Table == "records" {
			most = r.RecordDays
		}
		if most > 0 && d.Day.Before(now.UTC().Truncate(24*time.Hour).AddDate(0, 0, -most)) {
			over = append(over, d)
			continue
		}
		kept = append(kept, d)
		size += d.Bytes
	}
	if r.MostBytes <= 0 {
		return over
	}
	slices.SortStableFunc(kept, func(a, b Day) int { return strings.Compare(b.Table, a.Table) })
	for i, d := range kept {
		if size <= r.MostBytes || i == len(kept)-1 && d.Table == "conversations" {
			break
		}
		over = append(over, d)
		size -= d.Bytes
	}
	return over
}
