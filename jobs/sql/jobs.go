// Package sql keeps jobs in PostgreSQL.
package sql

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/jobs"
)

// Store keeps jobs. It is safe for concurrent use.
type Store struct{ *database.DB }

const jobColumns = `id, kind, title, state, done, message, result, started, finished`

// AddJob notes that work has begun, and which server does it.
func (s *Store) AddJob(ctx context.Context, kind, title, owner string) (jobs.Job, error) {
	var j jobs.Job
	err := s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &j,
			`INSERT INTO jobs (kind, title, owner) VALUES ($1, $2, $3) RETURNING `+jobColumns, kind, title, owner)
	})
	return j, err
}

// FinishJob keeps how work ended.
func (s *Store) FinishJob(ctx context.Context, j jobs.Job) error {
	_, err := s.SQL.NamedExecContext(ctx,
		`UPDATE jobs SET state = :state, done = :done, message = :message, result = :result, finished = now()
			WHERE id = :id`, j)
	return err
}

// Jobs returns the newest jobs.
func (s *Store) Jobs(ctx context.Context, limit int) ([]jobs.Job, error) {
	out := []jobs.Job{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT `+jobColumns+` FROM jobs ORDER BY id DESC LIMIT $1`, limit)
	return out, err
}

// NewestJob returns the newest job of a kind, without its result; nil if there is
// none.
func (s *Store) NewestJob(ctx context.Context, kind string) (*jobs.Job, error) {
	var all []jobs.Job
	err := s.SQL.SelectContext(ctx, &all, `SELECT `+jobColumns+` FROM jobs WHERE kind = $1 ORDER BY id DESC LIMIT 1`,
		kind)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Job returns one job; ErrNone if there is none.
func (s *Store) Job(ctx context.Context, id int64) (jobs.Job, error) {
	var j jobs.Job
	err := s.SQL.GetContext(ctx, &j, `SELECT `+jobColumns+` FROM jobs WHERE id = $1`, id)
	return j, err
}

// Beat reports that a server still runs its jobs.
func (s *Store) Beat(ctx context.Context, owner string) error {
	_, err := s.SQL.ExecContext(ctx, `UPDATE jobs SET beat = now() WHERE owner = $1 AND state = 'running'`, owner)
	return err
}

// Owners returns the servers that have jobs running, each with when it last said
// so. Whether it still does shows in whether that changes: clocks differ, and may
// be set.
func (s *Store) Owners(ctx context.Context) (map[string]time.Time, error) {
	var rows []struct {
		Owner string
		Beat  time.Time
	}
	err := s.SQL.SelectContext(ctx, &rows,
		`SELECT owner, max(beat) AS beat FROM jobs WHERE state = 'running' GROUP BY owner`)
	out := map[string]time.Time{}
	for _, r := range rows {
		out[r.Owner] = r.Beat
	}
	return out, err
}

// FailAbandoned marks the jobs of servers that have ended, and says of each
// whether what it made was stored. It returns how many there were.
func (s *Store) FailAbandoned(ctx context.Context, owners []string) (int64, error) {
	r, err := s.SQL.ExecContext(ctx, `UPDATE jobs SET finished = now(),
		state = CASE WHEN stored IS NULL THEN 'failed' ELSE 'done' END, done = CASE WHEN stored IS NULL THEN done
		ELSE 1 END,
		message = CASE WHEN stored IS NULL
		THEN 'the server stopped while this was running; nothing was stored. Start it again'
			ELSE 'the server stopped while this was running; everything was stored' END
		WHERE state = 'running' AND owner = ANY ($1)`, owners)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}
