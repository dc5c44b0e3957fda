package sql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
	"lucidorchard/traffic"
)

// Days returns what is kept, oldest first, records before conversations.
func (s *Store) Days(ctx context.Context) ([]traffic.Day, error) {
	var rows []struct {
		Name  string
		Bytes *int64
		Rows  float64
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT c.relname AS name, pg_total_relation_size(c.oid) AS bytes,
		greatest(c.reltuples, coalesce(t.n_live_tup, 0), 0)::float8 AS rows
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid LEFT JOIN pg_stat_user_tables t ON t.relid = c.oid
		WHERE i.inhparent IN ('conversations'::regclass, 'records'::regclass)`)
	if err != nil {
		return nil, err
	}
	var out []traffic.Day
	for _, r := range rows {
		table, day, _ := strings.Cut(r.Name, "_day_")
		n, err := strconv.ParseInt(day, 10, 64)
		if err != nil || r.Bytes == nil {
			continue // a table of somebody else; or one that has been deleted since the catalogue was read
		}
		out = append(out, traffic.Day{Table: table, Day: time.Unix(n*86400, 0).UTC(), Bytes: *r.Bytes,
			Rows: int64(r.Rows)})
	}
	slices.SortFunc(out, func(a, b traffic.Day) int {
		if c := a.Day.Compare(b.Day); c != 0 {
			return c
		}
		return strings.Compare(b.Table, a.Table)
	})
	return out, nil
}

// Drop deletes days.
func (s *Store) Drop(ctx context.Context, days []traffic.Day) error {
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
