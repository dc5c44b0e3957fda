package sql

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/core/rollout"
	"lucidorchard/database"
	"lucidorchard/releasing"
)

const pointColumns = `name, kind, side, guards, wave, puts_back, author, made, coalesce(enforces, 0) AS enforces,
	coalesce(observes, 0) AS observes, again, paired, aimed, heard, said, trial, trial_until,
	coalesce(trial_enforces, 0) AS trial_enforces, yields_epoch, yields_order, run_from, other_from, other_at`

// Releases returns all releases, newest first.
func (s *Store) Releases(ctx context.Context) ([]releasing.Release, error) {
	out := []releasing.Release{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT no, revision, title, author, at FROM releases ORDER BY no DESC`)
}

// AddRelease puts a revision under the next number and orders points to run what start
// says of it, in one transaction. It returns ErrMoved if the newest release is not the one
// that r.No says, which becomes the new number.
func (s *Store) AddRelease(ctx context.Context, r releasing.Release, start func(no int,
	now releasing.Roll) ([]releasing.Target, error)) (releasing.Release, error) {
	err := s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		now, err := roll(ctx, tx)
		if err != nil {
			return err
		}
		if now.Newest != r.No {
			return database.ErrMoved
		}
		if err := tx.GetContext(ctx, &r.No, `UPDATE release_numbers SET last = greatest(last, $1) + 1 RETURNING last`,
			now.Newest); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &r, `INSERT INTO releases (no, revision, title, author) VALUES ($1, $2, $3, $4)
			RETURNING no, revision, title, author, at`, r.No, r.Revision, r.Title, r.Author); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, bumpPoints); err != nil {
			return err
		}
		targets, err := start(r.No, now)
		if err != nil {
			return err
		}
		return aim(ctx, tx, targets)
	})
	return r, err
}

func roll(ctx context.Context, tx *sqlx.Tx) (out releasing.Roll, err error) {
	if err = tx.SelectContext(ctx, &out.Points, `SELECT `+pointColumns+` FROM points ORDER BY wave, name`); err != nil {
		return out, err
	}
	if err = tx.GetContext(ctx, &out.Newest, `SELECT coalesce(max(no), 0) FROM releases`); err != nil {
		return out, err
	}
	var h releasing.Hold
	switch err = tx.GetContext(ctx, &h, `SELECT author, at, reason FROM hold`); {
	case err == nil:
		out.Hold = &h
	case errors.Is(err, sql.ErrNoRows):
		err = nil
	}
	return out, err
}

// Order returns points an order, in one transaction: decide sees the roll-out as it stands,
// and returns what changes. Nothing is written if it fails.
func (s *Store) Order(ctx context.Context, decide func(releasing.Roll) ([]releasing.Target, error)) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		now, err := roll(ctx, tx)
		if err != nil {
			return err
		}
		targets, err := decide(now)
		if err != nil {
			return err
		}
		return aim(ctx, tx, targets)
	})
}

// aim writes what points are to run, as one order.
func aim(ctx context.Context, tx *sqlx.Tx, targets []releasing.Target) error {
	if len(targets) == 0 {
		return nil
	}
	if _, err := tx.ExecContext(ctx, nextOrder); err != nil {
		return err
	}
	list, err := json.Marshal(targetRows(targets))
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `WITH t AS (SELECT *
		FROM jsonb_to_recordset($1) AS t(point text, enforces integer, observes integer,
			words text, trial text, trial_until timestamptz, trial_enforces integer)),
		told AS (INSERT INTO point_history (point, what, words) SELECT p.name, 'told', t.words FROM t
		JOIN points p ON p.name = t.point)
		UPDATE points
		SET enforces = nullif(t.enforces, 0), observes = nullif(t.observes, 0), aimed = now(), trial = t.trial,
			trial_until = t.trial_until, trial_enforces = nullif(t.trial_enforces, 0)
		FROM t WHERE name = t.point`, string(list))
	return err
}

// targetRows returns targets as rows of aim's statement.
func targetRows(targets []releasing.Target) []map[string]any {
	out := make([]map[string]any, len(targets))
	for i, t := range targets {
		out[i] = map[string]any{"point": t.Point, "enforces": t.Enforces, "observes": t.Observes, "words": t.Words,
			"trial": t.Trial, "trial_until": t.TrialUntil, "trial_enforces": t.TrialEnforces}
	}
	return out
}

// TellAgain sends a point its instructions again, and reports whether there is such a point.
func (s *Store) TellAgain(ctx context.Context, name, words string) (found bool, err error) {
	err = s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, nextOrder); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `WITH told AS (UPDATE points SET again = again + 1 WHERE name = $1 RETURNING name)
			INSERT INTO point_history (point, what, words) SELECT name, 'told', $2 FROM told`, name, words)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		found = n > 0
		return err
	})
	return found, err
}

// Points returns all enforcement points, by wave and name.
func (s *Store) Points(ctx context.Context) ([]releasing.Point, error) {
	out := []releasing.Point{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT `+pointColumns+` FROM points ORDER BY wave, name`)
}

// AddPoint keeps a point, with the hash of its token.
func (s *Store) AddPoint(ctx context.Context, p releasing.Point, token string) error {
	sum := sha256.Sum256([]byte(token))
	n, err := s.Exec(ctx, `WITH v AS (`+bumpPoints+`)
		INSERT INTO points (name, kind, side, guards, wave, puts_back, author, hash, paired)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		ON CONFLICT (name) DO NOTHING`, p.Name, p.Kind, p.Side, p.Guards, p.Wave,
		p.PutsBack, p.Author, sum[:], p.Paired)
	if err == nil && n == 0 {
		return database.ErrTaken
	}
	return err
}

// DropPoint forgets a point and its history, and says whether there was one.
func (s *Store) DropPoint(ctx context.Context, name string) (bool, error) {
	n, err := s.Exec(ctx, `WITH v AS (`+bumpPoints+`) DELETE FROM points WHERE name = $1`, name)
	return n > 0, err
}

// PointOf finds the point of a token; nil if there is none. A token that replaced another
// one ends that as soon as it is used.
func (s *Store) PointOf(ctx context.Context, token string) (*releasing.Point, error) {
	sum := sha256.Sum256([]byte(token))
	var p struct {
		releasing.Point
		Replaces bool `db:"replaces"`
	}
	err := s.SQL.GetContext(ctx, &p, `SELECT `+pointColumns+
		`, former_hash IS NOT NULL AND hash = $1 AS replaces FROM points
		WHERE hash = $1 OR former_hash = $1`, sum[:])
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, nil
	case err == nil && p.Replaces:
		_, err = s.SQL.ExecContext(ctx, `UPDATE points SET former_hash = NULL WHERE hash = $1`, sum[:])
	}
	return &p.Point, err
}

// FormerPointOf returns the name of the deleted point that a token belongs to, and notes
// that it was heard of; blank: there is none.
func (s *Store) FormerPointOf(ctx context.Context, token string) (name string, err error) {
	sum := sha256.Sum256([]byte(token))
	err = s.SQL.GetContext(ctx, &name, `UPDATE former_points SET heard = now() WHERE hash = $1 RETURNING name`, sum[:])
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return name, err
}

// FormerPoints returns the deleted points that reported since a time.
func (s *Store) FormerPoints(ctx context.Context, since time.Time) ([]releasing.FormerPoint, error) {
	out := []releasing.FormerPoint{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT name, dropped, heard FROM former_points WHERE heard > $1
		ORDER BY name`, since)
}

// RotateToken sets another token for a point, and reports whether there is such a point. The
// former token is valid until the new one is used.
func (s *Store) RotateToken(ctx context.Context, name, token string) (bool, error) {
	sum := sha256.Sum256([]byte(token))
	n, err := s.Exec(ctx, `WITH told AS (INSERT INTO point_history (point, what, words)
		SELECT name, 'told', 'Its token was replaced'
			FROM points WHERE name = $1)
		UPDATE points SET former_hash = hash, hash = $2 WHERE name = $1`, name, sum[:])
	return n > 0, err
}

// Yield lets a point that took an order which the server does not have follow the server,
// and reports whether there is such a point.
func (s *Store) Yield(ctx context.Context, name string, at rollout.Mark, author string) (bool, error) {
	n, err := s.Exec(ctx, `WITH told AS (INSERT INTO point_history (point, what, words) SELECT name, 'told', $4
		FROM points WHERE name = $1),
			v AS (`+bumpPoints+`)
		UPDATE points SET yields_epoch = $2, yields_order = $3 WHERE name = $1`, name, at.Epoch, at.Order,
		"To follow this server, by "+author)
	return n > 0, err
}

// Run notes which run of an agent reports for a point, and from where. Two agents on one
// token report by turns; one that moved reports from elsewhere after a restart: both leave
// the other address with the point.
func (s *Store) Run(ctx context.Context, name, run, from string) error {
	_, err := s.SQL.ExecContext(ctx, `UPDATE points SET run = $2, run_from = $3, run_at = now(),
			other_run = CASE WHEN run = $2 THEN other_run ELSE run END,
			other_from = CASE WHEN run = $2 THEN other_from WHEN other_run = $2 OR run_from NOT IN ('', $3)
			THEN run_from ELSE other_from END,
			other_at = CASE WHEN run <> $2 AND (other_run = $2 OR run_from NOT IN ('', $3)) THEN now() ELSE other_at END
		WHERE name = $1 AND (run <> $2 OR run_from <> $3 OR run_at < now() - interval '10 seconds')`, name, run, from)
	return err
}

// Heard keeps what a point says that it holds, and what happened to it since. If that is nothing
// new, nobody waits until it is on the disk.
func (s *Store) Heard(ctx context.Context, point string, said json.RawMessage, events []releasing.PointEvent,
	news bool) error {
	list, err := json.Marshal(eventRows(events))
	if err != nil {
		return err
	}
	_, err = s.SQL.ExecContext(ctx, `WITH heard AS (UPDATE points SET heard = now(), said = $2
			WHERE name = $1 AND ($4 OR set_config('synchronous_commit', 'off', true) IS NOT NULL) RETURNING name),
		v AS (`+bumpPoints+` AND jsonb_array_length($3) > 0)
		INSERT INTO point_history (point, what, words, at, release, mode, observes)
		SELECT heard.name, e.what, e.words, e.at, e.release, e.mode, e.observes
		FROM heard, jsonb_to_recordset($3) AS e(what text, words text, at timestamptz, release integer, mode text,
		observes integer)`,
		point, string(said), string(list), news)
	return err
}

// eventRows returns events as rows of the statement of Heard.
func eventRows(events []releasing.PointEvent) []map[string]any {
	out := make([]map[string]any, len(events))
	for i, e := range events {
		out[i] = map[string]any{"what": e.What, "words": e.Words, "at": e.At, "release": e.Release, "mode": e.Mode,
			"observes": e.Observes}
	}
	return out
}

// PointHistory returns what happened at a point, newest first.
func (s *Store) PointHistory(ctx context.Context, point string, limit int) ([]releasing.PointEvent, error) {
	out := []releasing.PointEvent{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT point, at, what, words, release, mode, observes
		FROM point_history WHERE point = $1
		ORDER BY id DESC LIMIT $2`, point, limit)
}
