package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"lucidorchard/database"
	"time"

	"github.com/jmoiron/sqlx"
)

// Revision is one state of the policy document.
type Revision struct {
	No     int       `db:"no" json:"no"`
	Text   string    `db:"text" json:"-"`
	Blame  Blame     `db:"blame" json:"-"` // for each line, the revision that wrote it
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
	Words  string    `db:"words" json:"words"`
}

// Blame has, for each line of a text, the revision that wrote it.
type Blame []int

// Value stores the numbers as JSON.
func (b Blame) Value() (driver.Value, error) {
	text, err := json.Marshal([]int(b))
	return string(text), err
}

// Scan reads what Value stored.
func (b *Blame) Scan(v any) error {
	text, ok := v.([]byte)
	if !ok {
		return fmt.Errorf("a blame is stored as %T", v)
	}
	return json.Unmarshal(text, (*[]int)(b))
}

// ErrMoved says that the document has changed since it was read.
var ErrMoved = errors.New("the document has changed meanwhile")

// Head gives the newest revision; one without text if there is none yet.
func (s *Store) Head(ctx context.Context) (Revision, error) {
	var r Revision
	err := s.SQL.GetContext(ctx, &r, `SELECT * FROM revisions ORDER BY no DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		return Revision{}, nil
	}
	return r, err
}

// Revision gives one revision.
func (s *Store) Revision(ctx context.Context, no int) (Revision, error) {
	var r Revision
	if no == 0 {
		return r, nil
	}
	err := s.SQL.GetContext(ctx, &r, `SELECT * FROM revisions WHERE no = $1`, no)
	return r, err
}

// Revisions gives a part of the revisions, the newest first, without their texts,
// and how many there are.
func (s *Store) Revisions(ctx context.Context, offset, limit int) (out []Revision, total int, err error) {
	out = []Revision{}
	if err := s.SQL.GetContext(ctx, &total, `SELECT count(*) FROM revisions`); err != nil {
		return nil, 0, err
	}
	err = s.SQL.SelectContext(ctx, &out,
		`SELECT no, author, at, words FROM revisions ORDER BY no DESC OFFSET $1 LIMIT $2`, offset, limit)
	return out, total, err
}

// RevisionsSince gives the revisions since an instant, and the one before, with
// their texts, oldest first.
func (s *Store) RevisionsSince(ctx context.Context, from time.Time) ([]Revision, error) {
	out := []Revision{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT * FROM revisions WHERE no >= coalesce((SELECT max(no) FROM revisions WHERE at <= $1), 0) ORDER BY no`,
		from)
	return out, err
}

// Begin stores the first revision of an estate, which no undo takes away.
func (s *Store) Begin(ctx context.Context, r Revision) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error { return insertRevision(ctx, tx, r) })
}

func insertRevision(ctx context.Context, tx *sqlx.Tx, r Revision) error {
	var head int
	if err := tx.GetContext(ctx, &head, `SELECT coalesce(max(no), 0) FROM revisions`); err != nil {
		return err
	}
	if head != r.No-1 {
		return ErrMoved
	}
	_, err := tx.NamedExecContext(ctx,
		`INSERT INTO revisions (no, text, blame, author, words) VALUES (:no, :text, :blame, :author, :words)`, r)
	return err
}
