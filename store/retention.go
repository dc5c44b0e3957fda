package store

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
)

// Retention says for how long traffic is kept. 0 is without bound.
type Retention struct {
	ConversationDays int   `json:"conversationDays"`
	RecordDays       int   `json:"recordDays"`
	MostBytes        int64 `json:"mostBytes"` // on disk, of conversations and records together
}

// DefaultRetention is what holds until somebody chooses.
var DefaultRetention = Retention{ConversationDays: 400, RecordDays: 30}

// Day is what is kept of one day (UTC).
type Day struct {
	Table string    // conversations or records
	Day   time.Time // its start
	Bytes int64     // on disk, with indexes
	Rows  int64     // as the database estimates
}

// Days gives what is kept, oldest first, records before conversations.
func (s *Store) Days(ctx context.Context) ([]Day, error) {
	var rows []struct {
		Name  string
		Bytes *int64
		Rows  float64
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT c.relname AS name, pg_total_relation_size(c.oid) AS bytes, greatest(c.reltuples, coalesce(t.n_live_tup, 0), 0)::float8 AS rows
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid LEFT JOIN pg_stat_user_tables t ON t.relid = c.oid
		WHERE i.inhparent IN ('conversations'::regclass, 'records'::regclass)`)
	if err != nil {
		return nil, err
	}
	var out []Day
	for _, r := range rows {
		table, day, _ := strings.Cut(r.Name, "_day_")
		n, err := strconv.ParseInt(day, 10, 64)
		if err != nil || r.Bytes == nil {
			continue // a table of somebody else; or one that has been deleted since the catalogue was read
		}
		out = append(out, Day{table, time.Unix(n*86400, 0).UTC(), *r.Bytes, int64(r.Rows)})
	}
	slices.SortFunc(out, func(a, b Day) int {
		if c := a.Day.Compare(b.Day); c != 0 {
			return c
		}
		return strings.Compare(b.Table, a.Table)
	})
	return out, nil
}

// Over gives the days that are over the bounds at now: what Drop would delete.
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

// Drop deletes days.
func (s *Store) Drop(ctx context.Context, days []Day) error {
	if len(days) == 0 {
		return nil
	}
	return s.WriteRows(database.MakingRoom(ctx), database.TrafficLock, func(tx pgx.Tx) error {
		for _, d := range days {
			n := d.Day.Unix() / 86400
			if _, err := tx.Exec(ctx, `DROP TABLE IF EXISTS `+partition(d.Table, n)); err != nil {
				return fmt.Errorf("the %s of %s cannot be deleted: %w", d.Table, d.Day.Format(time.DateOnly), err)
			}
			if d.Table == "conversations" {
				if _, err := tx.Exec(ctx, `DELETE FROM hours WHERE hour >= $1 AND hour < $2`, n*24,
					n*24+24); err != nil {
					return err
				}
			}
		}
		// Batches of collectors are never sent again after so long.
		if _, err := tx.Exec(ctx,
			`DELETE FROM batches WHERE id LIKE 'collector %' AND at < now() - interval '40 days'`); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, database.BumpConversations)
		return err
	})
}
