package sql

import (
	"context"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// KeepRefused keeps a batch that was refused, as a text that people can look at and
// import again when they have put it right.
func (s *Store) KeepRefused(ctx context.Context, collector string, e *rows.Encoded, reason string, text []byte) error {
	return s.Write(ctx, database.TrafficLock, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx,
			`INSERT INTO refused_batches (id, collector, reason, rows, records) VALUES ($1, $2, $3, $4, $5)
				ON CONFLICT DO NOTHING`,
			e.ID, collector, reason, e.Count, text)
		return err
	})
}

// RefusedBatches returns those that are kept, newest first.
func (s *Store) RefusedBatches(ctx context.Context) ([]traffic.RefusedBatch, error) {
	out := []traffic.RefusedBatch{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT id, collector, at, reason, rows FROM refused_batches ORDER BY at DESC, id`)
	return out, err
}

// RefusedRecords returns the records of one as CSV; nil if it is not kept.
func (s *Store) RefusedRecords(ctx context.Context, id string) ([]byte, error) {
	var all [][]byte
	err := s.SQL.SelectContext(ctx, &all, `SELECT records FROM refused_batches WHERE id = $1`, id)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return all[0], nil
}

// DropRefused forgets one.
func (s *Store) DropRefused(ctx context.Context, id string) (found bool, err error) {
	n, err := s.Exec(ctx, `DELETE FROM refused_batches WHERE id = $1`, id)
	return n > 0, err
}
