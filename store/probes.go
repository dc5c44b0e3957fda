package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Probe is a question about traffic with the verdict that is expected.
type Probe struct {
	Question string    `db:"question" json:"question" doc:"client -> server service"`
	Want     string    `db:"want" json:"want" enum:"permit,reject,uncovered"`
	Reason   string    `db:"reason" json:"reason"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// Probes gives all probes, in the order in which they were kept.
func (s *Store) Probes(ctx context.Context) ([]Probe, error) {
	out := []Probe{}
	err := s.db.SelectContext(ctx, &out, `SELECT question, want, reason, author, at FROM probes ORDER BY at, question`)
	return out, err
}

const bumpProbes = `UPDATE versions SET n = n + 1 WHERE name = 'probes'`

// KeepProbes adds probes; one that is there gets the new verdict and reason. All
// are kept, or none is.
func (s *Store) KeepProbes(ctx context.Context, probes []Probe) error {
	return s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		for _, p := range probes {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO probes (question, want, reason, author) VALUES (:question, :want, :reason, :author)
				ON CONFLICT (question) DO UPDATE SET want = excluded.want, reason = excluded.reason, author = excluded.author, at = now()`, p); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, bumpProbes)
		return err
	})
}

// DropProbes removes probes; those that are not there are no error.
func (s *Store) DropProbes(ctx context.Context, questions []string) error {
	return s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM probes WHERE question = ANY($1)`, questions); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, bumpProbes)
		return err
	})
}
