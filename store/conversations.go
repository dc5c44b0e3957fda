package store

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// AddBatch counts a batch of buckets exactly once: with an id that was counted
// before it changes nothing and reports when that was.
func (s *Store) AddBatch(ctx context.Context, id string, buckets []flow.Bucket) (before *time.Time, err error) {
	err = s.copyIn(ctx, func(tx pgx.Tx) error {
		// Two that create the same partition at once would wait for each other.
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(7411)`); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `INSERT INTO batches (id, rows) VALUES ($1, $2) ON CONFLICT DO NOTHING`, id, len(buckets))
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return tx.QueryRow(ctx, `SELECT at FROM batches WHERE id = $1`, id).Scan(&before)
		}
		days := map[int64]bool{}
		for _, b := range buckets {
			days[floorDiv(int64(b.Hour), 24)] = true
		}
		for d := range days {
			name := pgx.Identifier{fmt.Sprintf("conversations_day_%d", d)}.Sanitize()
			if _, err := tx.Exec(ctx, fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s PARTITION OF conversations FOR VALUES FROM (%d) TO (%d)`, name, d*24, (d+1)*24)); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `CREATE TEMP TABLE new_conversations (LIKE conversations) ON COMMIT DROP`); err != nil {
			return err
		}
		_, err = tx.CopyFrom(ctx, pgx.Identifier{"new_conversations"},
			[]string{"hour", "client", "server", "point", "outcome", "connections", "bytes", "packets", "first_at", "last_at", "observer"},
			pgx.CopyFromSlice(len(buckets), func(i int) ([]any, error) {
				b := &buckets[i]
				return []any{int32(b.Hour), netip.PrefixFrom(b.Client, b.Client.BitLen()), netip.PrefixFrom(b.Server, b.Server.BitLen()), int64(b.Point), int16(b.Outcome),
					b.Connections, b.Bytes, b.Packets, b.First.Time(), b.Last.Time(), b.Observer}, nil
			}))
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO conversations SELECT * FROM new_conversations
			ON CONFLICT (hour, client, server, point, outcome) DO UPDATE SET
				connections = conversations.connections + excluded.connections,
				bytes = conversations.bytes + excluded.bytes,
				packets = conversations.packets + excluded.packets,
				first_at = least(conversations.first_at, excluded.first_at),
				last_at = greatest(conversations.last_at, excluded.last_at),
				observer = excluded.observer`)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, bumpConversations)
		return err
	})
	return before, err
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Buckets gives all conversations by hour, in the order of hours.
func (s *Store) Buckets(ctx context.Context) ([]flow.Bucket, error) {
	var out []flow.Bucket
	err := s.copyIn(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT hour, client, server, point, outcome, connections, bytes, packets, first_at, last_at, observer
			FROM conversations ORDER BY hour, client, server, point, outcome`)
		if err != nil {
			return err
		}
		var b flow.Bucket
		var client, server netip.Prefix
		var hour int32
		var point int64
		var outcome int16
		var first, last time.Time
		_, err = pgx.ForEachRow(rows, []any{&hour, &client, &server, &point, &outcome, &b.Connections, &b.Bytes, &b.Packets, &first, &last, &b.Observer}, func() error {
			b.Hour, b.Client, b.Server = flow.Hour(hour), client.Addr(), server.Addr()
			b.Point, b.Outcome = service.Point(point), flow.Outcome(outcome)
			b.First, b.Last = estate.InstantOf(first), estate.InstantOf(last)
			out = append(out, b)
			return nil
		})
		return err
	})
	return out, err
}
