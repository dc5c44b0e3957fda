package sql

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/model"
)

// Head returns the newest revision; one without text if there is none yet.
func (s *Store) Head(ctx context.Context) (model.Revision, error) {
	var r model.Revision
	err := s.SQL.GetContext(ctx, &r, `SELECT * FROM revisions ORDER BY no DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return model.Revision{}, nil
	}
	return r, err
}

// Revision returns one revision.
func (s *Store) Revision(ctx context.Context, no int) (model.Revision, error) {
	var r model.Revision
	if no == 0 {
		return r, nil
	}
	err := s.SQL.GetContext(ctx, &r, `SELECT * FROM revisions WHERE no = $1`, no)
	return r, err
}

// Revisions returns a part of the revisions, the newest first, without their texts,
// and how many there are.
func (s *Store) Revisions(ctx context.Context, offset, limit int) (out []model.Revision, total int, err error) {
	out = []model.Revision{}
	if err := s.SQL.GetContext(ctx, &total, `SELECT count(*) FROM revisions`); err != nil {
		return nil, 0, err
	}
	err = s.SQL.SelectContext(ctx, &out,
		`SELECT no, author, at, words FROM revisions ORDER BY no DESC OFFSET $1 LIMIT $2`, offset, limit)
	return out, total, err
}

// RevisionsSince returns the revisions since an instant, and the one before, with
// their texts, oldest first.
func (s *Store) RevisionsSince(ctx context.Context, from time.Time) ([]model.Revision, error) {
	out := []model.Revision{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT * FROM revisions WHERE no >= coalesce((SELECT max(no) FROM revisions WHERE at <= $1), 0) ORDER BY no`,
		from)
	return out, err
}

// Begin stores the first revision of an estate, which no undo takes away.
func (s *Store) Begin(ctx context.Context, r model.Revision) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error { return insertRevision(ctx, tx, r) })
}

func insertRevision(ctx context.Context, tx *sqlx.Tx, r model.Revision) error {
	var head int
	if err := tx.GetContext(ctx, &head, `SELECT coalesce(max(no), 0) FROM revisions`); err != nil {
		return err
	}
	if head != r.No-1 {
		return database.ErrMoved
	}
	_, err := tx.NamedExecContext(ctx,
		`INSERT INTO revisions (no, text, blame, author, words) VALUES (:no, :text, :blame, :author, :words)`, r)
	return err
}
