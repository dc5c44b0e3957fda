package store

import (
	"context"
	"encoding/json"
	"time"
)

// Job is long work: it can be left and come back to, and its result stays.
type Job struct {
	ID       int64            `db:"id" json:"id"`
	Kind     string           `db:"kind" json:"kind"`
	Title    string           `db:"title" json:"title"`
	State    string           `db:"state" json:"state" enum:"running,done,failed,cancelled"`
	Done     float64          `db:"done" json:"done" doc:"Share that is done, 0 to 1"`
	Message  string           `db:"message" json:"message"`
	Result   *json.RawMessage `db:"result" json:"result,omitempty"`
	Started  time.Time        `db:"started" json:"started"`
	Finished *time.Time       `db:"finished" json:"finished,omitempty"`
}

// AddJob notes that work has begun.
func (s *Store) AddJob(ctx context.Context, kind, title string) (Job, error) {
	var j Job
	err := s.db.GetContext(ctx, &j, `INSERT INTO jobs (kind, title) VALUES ($1, $2) RETURNING *`, kind, title)
	return j, err
}

// FinishJob keeps how work ended.
func (s *Store) FinishJob(ctx context.Context, j Job) error {
	_, err := s.db.NamedExecContext(ctx, `UPDATE jobs SET state = :state, done = :done, message = :message, result = :result, finished = now() WHERE id = :id`, j)
	return err
}

// Jobs gives the newest jobs.
func (s *Store) Jobs(ctx context.Context, limit int) ([]Job, error) {
	out := []Job{}
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM jobs ORDER BY id DESC LIMIT $1`, limit)
	return out, err
}

// Job gives one job.
func (s *Store) Job(ctx context.Context, id int64) (Job, error) {
	var j Job
	err := s.db.GetContext(ctx, &j, `SELECT * FROM jobs WHERE id = $1`, id)
	return j, err
}

// FailAbandoned marks jobs that a server was running when it ended.
func (s *Store) FailAbandoned(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `UPDATE jobs SET state = 'failed', message = 'the server ended while this was running; nothing of it was stored: start it again', finished = now() WHERE state = 'running'`)
	return err
}
