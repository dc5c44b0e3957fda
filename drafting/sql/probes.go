package sql

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/drafting"
	"lucidorchard/model"
)

// Probes returns all probes, in the order in which they were kept.
func (s *Store) Probes(ctx context.Context) ([]model.Probe, error) {
	out := []model.Probe{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT question, want, reason, author, at FROM probes ORDER BY at, question`)
	return out, err
}

const bumpProbes = `UPDATE versions SET n = n + 1 WHERE name = 'probes'`

// probesNow returns what stands where edits are about to set something.
func probesNow(ctx context.Context, tx *sqlx.Tx, edits []drafting.ProbeEdit) ([]drafting.ProbeEdit, error) {
	questions := make([]string, len(edits))
	for i, e := range edits {
		questions[i] = e.Question
	}
	var have []model.Probe
	if err := tx.SelectContext(ctx, &have,
		`SELECT question, want, reason, author, at FROM probes WHERE question = ANY($1)`, questions); err != nil {
		return nil, err
	}
	there := by(have, func(p *model.Probe) string { return p.Question })
	out := make([]drafting.ProbeEdit, len(edits))
	for i, q := range questions {
		out[i] = drafting.ProbeEdit{Question: q, Probe: there[q]}
	}
	return out, nil
}

// setProbes sets probes: one that is there gets the new verdict and reason. To
// drop one that is not there is no error.
func setProbes(ctx context.Context, tx *sqlx.Tx, edits []drafting.ProbeEdit) error {
	for _, e := range edits {
		var err error
		if e.Probe == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM probes WHERE question = $1`, e.Question)
		} else {
			p := *e.Probe
			p.Question = e.Question
			if p.At.IsZero() {
				p.At = time.Now()
			}
			_, err = tx.NamedExecContext(ctx, `INSERT INTO probes (question, want, reason, author, at)
				VALUES (:question, :want, :reason, :author, :at)
				ON CONFLICT (question) DO UPDATE
				SET want = excluded.want, reason = excluded.reason, author = excluded.author, at = excluded.at`, p)
		}
		if err != nil {
			return fmt.Errorf("setting probes: %w", err)
		}
	}
	_, err := tx.ExecContext(ctx, bumpProbes)
	return err
}
