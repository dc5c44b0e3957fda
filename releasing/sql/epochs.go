package sql

import (
	"context"
	"crypto/rand"

	"github.com/jmoiron/sqlx"

	"lucidorchard/core/rollout"
	"lucidorchard/database"
)

// nextOrder counts an order of the present epoch.
const nextOrder = `UPDATE epochs SET orders = orders + 1 WHERE no = (SELECT max(no) FROM epochs)`

// place is the same for a database as long as it is not restored elsewhere: the cluster,
// its timeline, and the database in it.
const place = `SELECT coalesce((SELECT system_identifier::text FROM pg_control_system()), '') || '/' ||
	coalesce((SELECT timeline_id::text FROM pg_control_checkpoint()), '') || '/' ||
	(SELECT oid::text FROM pg_database WHERE datname = current_database())`

// OpenEpoch begins an epoch if the database is new, or was restored from a back-up to
// another place.
func (s *Store) OpenEpoch(ctx context.Context) (restored bool, err error) {
	err = s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		var here string
		if err := tx.GetContext(ctx, &here, place); err != nil {
			return err
		}
		var last []string
		if err := tx.SelectContext(ctx, &last, `SELECT place FROM epochs ORDER BY no DESC LIMIT 1`); err != nil {
			return err
		}
		if len(last) > 0 && last[0] == here {
			return nil
		}
		restored = len(last) > 0
		return newEpoch(ctx, tx, here)
	})
	return restored, err
}

func newEpoch(ctx context.Context, tx *sqlx.Tx, here string) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO epochs (id, orders, place) VALUES ($1, coalesce((SELECT max(orders)
		FROM epochs), 0), $2)`,
		rand.Text(), here)
	return err
}

// Lineage returns the epochs of the database, the present one last.
func (s *Store) Lineage(ctx context.Context) (rollout.Lineage, error) {
	out := rollout.Lineage{}
	rows := []struct {
		ID     string `db:"id"`
		Orders int64  `db:"orders"`
	}{}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT id, orders FROM epochs ORDER BY no`)
	for _, r := range rows {
		out = append(out, rollout.Mark{Epoch: r.ID, Order: r.Orders})
	}
	return out, err
}

// Ahead notes that a point took an order of the present epoch that the database does not
// have: it was restored from an older back-up. It begins a new epoch, at most one a minute,
// and reports whether it did. No release gets a number up to highest.
func (s *Store) Ahead(ctx context.Context, at rollout.Mark, highest int) (begun bool, err error) {
	err = s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE release_numbers SET last = $1 WHERE last < $1`, highest); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &begun, `SELECT EXISTS (SELECT 1 FROM epochs WHERE no = (SELECT max(no)
			FROM epochs)
			AND id = $1 AND orders < $2
			AND made < now() - interval '1 minute')`, at.Epoch, at.Order); err != nil || !begun {
			return err
		}
		var here string
		if err := tx.GetContext(ctx, &here, place); err != nil {
			return err
		}
		return newEpoch(ctx, tx, here)
	})
	return begun, err
}
