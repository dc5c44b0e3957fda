package sql

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
	"lucidorchard/model"
	"lucidorchard/releasing"
)

const bumpPoints = `UPDATE versions SET n = n + 1 WHERE name = 'points'`

// Waves returns those of which somebody has said something.
func (s *Store) Waves(ctx context.Context) ([]releasing.Wave, error) {
	out := []releasing.Wave{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT no, title, minutes, asserts, probes, way_back, settled, by_itself
		FROM waves ORDER BY no`)
}

// PutWave keeps what has to be true before a wave enforces.
func (s *Store) PutWave(ctx context.Context, w releasing.Wave, author string) error {
	_, err := s.Exec(ctx, `INSERT INTO waves (no, title, minutes, asserts, probes, way_back, settled, by_itself, author)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		ON CONFLICT (no) DO UPDATE SET title = $2, minutes = $3, asserts = $4, probes = $5, way_back = $6, settled = $7,
			by_itself = $8, author = $9, at = now()`,
		w.No, w.Title, w.Minutes, w.Asserts, w.Probes, w.Administrable, w.Settled, w.ByItself, author)
	return err
}

// Held returns who holds the roll-out; nil: nobody does.
func (s *Store) Held(ctx context.Context) (*releasing.Hold, error) {
	var h releasing.Hold
	err := s.SQL.GetContext(ctx, &h, `SELECT author, at, reason FROM hold`)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &h, err
}

// PutHold holds the roll-out, or lets it go on.
func (s *Store) PutHold(ctx context.Context, h *releasing.Hold) error {
	if h == nil {
		_, err := s.Exec(ctx, `DELETE FROM hold`)
		return err
	}
	_, err := s.Exec(ctx, `INSERT INTO hold (author, reason) VALUES ($1, $2)
		ON CONFLICT (one) DO UPDATE SET author = $1, reason = $2, at = now()`, h.Author, h.Reason)
	return err
}

// Exemptions returns all, those that end first at the head.
func (s *Store) Exemptions(ctx context.Context) ([]model.Exemption, error) {
	out := []model.Exemption{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT workload, reason, owner, ends, author, at FROM exemptions
		ORDER BY ends, workload`)
}

// PutExemption exempts a workload, or changes why and how long.
func (s *Store) PutExemption(ctx context.Context, e model.Exemption) error {
	_, err := s.Exec(ctx, `WITH v AS (`+bumpPoints+`)
		INSERT INTO exemptions (workload, reason, owner, ends, author) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (workload) DO UPDATE SET reason = $2, owner = $3, ends = $4, author = $5, at = now()`,
		e.Workload, e.Reason, e.Owner, e.Ends, e.Author)
	return err
}

// DropExemption lets points guard a workload again, and says whether it was exempt.
func (s *Store) DropExemption(ctx context.Context, workload string) (bool, error) {
	n, err := s.Exec(ctx, `WITH v AS (`+bumpPoints+`) DELETE FROM exemptions WHERE workload = $1`, workload)
	return n > 0, err
}

// LoadedSince returns since when a point has a release loaded without a break, by what it
// reported; the zero time if it has not.
func (s *Store) LoadedSince(ctx context.Context, point string, release int) (since time.Time, err error) {
	events := []struct {
		At       time.Time `db:"at"`
		Release  int       `db:"release"`
		Observes int       `db:"observes"`
	}{}
	err = s.SQL.SelectContext(ctx, &events, `SELECT at, release, coalesce(observes, 0) AS observes FROM point_history
		WHERE point = $1 AND release IS NOT NULL AND what IN ('applied', 'went back', 'put back') ORDER BY id`, point)
	for _, e := range events {
		switch has := e.Release == release || e.Observes == release; {
		case !has:
			since = time.Time{}
		case since.IsZero():
			since = e.At
		}
	}
	return since, err
}

// historyKept is how many events of a point are kept beside those that say what it was
// told and what it held.
const historyKept = 2000

// ForgetPointHistory drops the oldest events of points that have many: of a rule that
// somebody deletes again and again, not of what points were told and held.
func (s *Store) ForgetPointHistory(ctx context.Context) error {
	_, err := s.SQL.ExecContext(ctx, `DELETE FROM point_history WHERE id IN (SELECT id FROM (
			SELECT id, row_number() OVER (PARTITION BY point ORDER BY id DESC) AS n FROM point_history
			WHERE what NOT IN ('told', 'applied', 'went back')) AS h WHERE n > $1)`, historyKept)
	return err
}

// Guarding reads within a transaction what points guard, what each had loaded since when, and
// the policies of all releases.
func Guarding(ctx context.Context, tx pgx.Tx) (*model.Guarding, error) {
	out := &model.Guarding{}
	var err error
	if out.Points, err = database.Collect[model.Guard](ctx, tx,
		`SELECT name, side, guards FROM points ORDER BY name`); err != nil {
		return nil, err
	}
	if out.Periods, err = database.Collect[model.Held](ctx, tx, `SELECT point, at, release, mode FROM (
			SELECT point, at, release, mode, id, lag(release) OVER w AS was, lag(mode) OVER w AS how FROM point_history
			WHERE release IS NOT NULL WINDOW w AS (PARTITION BY point ORDER BY id)) AS h
		WHERE was IS NULL OR was <> release OR how <> mode ORDER BY point, id`); err != nil {
		return nil, err
	}
	if out.Releases, err = database.Collect[model.ReleaseText](ctx, tx, `SELECT r.no, r.revision, v.text FROM releases r
		JOIN revisions v ON v.no = r.revision ORDER BY r.no`); err != nil {
		return nil, err
	}
	out.Exemptions, err = database.Collect[model.Exemption](ctx, tx, `SELECT workload, reason, owner, ends, author, at
		FROM exemptions
		ORDER BY ends, workload`)
	return out, err
}
