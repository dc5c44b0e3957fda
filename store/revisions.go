package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
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

// ErrNothing says that there is nothing to undo or redo.
var ErrNothing = errors.New("there is nothing to undo or redo")

// Head gives the newest revision; one without text if there is none yet.
func (s *Store) Head(ctx context.Context) (Revision, error) {
	var r Revision
	err := s.db.GetContext(ctx, &r, `SELECT * FROM revisions ORDER BY no DESC LIMIT 1`)
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
	err := s.db.GetContext(ctx, &r, `SELECT * FROM revisions WHERE no = $1`, no)
	return r, err
}

// Revisions gives the newest revisions, without their texts.
func (s *Store) Revisions(ctx context.Context, limit int) ([]Revision, error) {
	out := []Revision{}
	err := s.db.SelectContext(ctx, &out, `SELECT no, author, at, words FROM revisions ORDER BY no DESC LIMIT $1`, limit)
	return out, err
}

// RevisionsSince gives the revisions since an instant, and the one before, with
// their texts, oldest first.
func (s *Store) RevisionsSince(ctx context.Context, from time.Time) ([]Revision, error) {
	out := []Revision{}
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM revisions WHERE no >= coalesce((SELECT max(no) FROM revisions WHERE at <= $1), 0) ORDER BY no`, from)
	return out, err
}

// AddRevision stores a revision that was made from its predecessor, as one
// change that can be undone. If another came first, it is ErrMoved.
func (s *Store) AddRevision(ctx context.Context, r Revision) error {
	return s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		if err := insertRevision(ctx, tx, r); err != nil {
			return err
		}
		return addChange(ctx, tx, "policy", r.Words, r.Author, r.No-1, r.No)
	})
}

// Begin stores the first revision of an estate, which no undo takes away.
func (s *Store) Begin(ctx context.Context, r Revision) error {
	return s.write(ctx, editLock, func(tx *sqlx.Tx) error { return insertRevision(ctx, tx, r) })
}

func insertRevision(ctx context.Context, tx *sqlx.Tx, r Revision) error {
	var head int
	if err := tx.GetContext(ctx, &head, `SELECT coalesce(max(no), 0) FROM revisions`); err != nil {
		return err
	}
	if head != r.No-1 {
		return ErrMoved
	}
	_, err := tx.NamedExecContext(ctx, `INSERT INTO revisions (no, text, blame, author, words) VALUES (:no, :text, :blame, :author, :words)`, r)
	return err
}

// Change is something that can be undone or done again.
type Change struct {
	ID     int64           `db:"id" json:"id"`
	Kind   string          `db:"kind" json:"kind" enum:"policy,tags"`
	Words  string          `db:"words" json:"words"`
	Author string          `db:"author" json:"author"`
	At     time.Time       `db:"at" json:"at"`
	Before json.RawMessage `db:"before" json:"-"`
	After  json.RawMessage `db:"after" json:"-"`
	State  string          `db:"state" json:"-"`
}

// addChange notes a change; what was undone before it cannot be done again.
func addChange(ctx context.Context, tx *sqlx.Tx, kind, words, author string, before, after any) error {
	b, err := json.Marshal(before)
	if err != nil {
		return err
	}
	a, err := json.Marshal(after)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE changes SET state = 'gone' WHERE state = 'undone'`); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO changes (kind, words, author, before, after) VALUES ($1, $2, $3, $4, $5)`, kind, words, author, b, a)
	return err
}

// Undoable gives the change that Undo, and the one that Redo would take; nil
// where there is none.
func (s *Store) Undoable(ctx context.Context) (undo, redo *Change, err error) {
	if undo, err = next(ctx, s.db, undoNext); err != nil {
		return nil, nil, err
	}
	redo, err = next(ctx, s.db, redoNext)
	return undo, redo, err
}

const (
	undoNext = `SELECT * FROM changes WHERE state = 'done' ORDER BY id DESC LIMIT 1`
	redoNext = `SELECT * FROM changes WHERE state = 'undone' ORDER BY id LIMIT 1`
)

func next(ctx context.Context, q sqlx.QueryerContext, query string) (*Change, error) {
	var c Change
	err := sqlx.GetContext(ctx, q, &c, query)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &c, err
}

// Undo takes back the newest change that was not taken back.
func (s *Store) Undo(ctx context.Context, author string) (*Change, error) {
	return s.turn(ctx, author, undoNext, "undone", "Undo: ")
}

// Redo does again the change that was undone last.
func (s *Store) Redo(ctx context.Context, author string) (*Change, error) {
	return s.turn(ctx, author, redoNext, "done", "Redo: ")
}

func (s *Store) turn(ctx context.Context, author, query, state, prefix string) (*Change, error) {
	var c *Change
	err := s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		var err error
		if c, err = next(ctx, tx, query); err != nil {
			return err
		}
		if c == nil {
			return ErrNothing
		}
		to := c.Before
		if state == "done" {
			to = c.After
		}
		if _, err := tx.ExecContext(ctx, `UPDATE changes SET state = $1 WHERE id = $2`, state, c.ID); err != nil {
			return err
		}
		if c.Kind == "tags" {
			var edits []TagEdit
			if err := json.Unmarshal(to, &edits); err != nil {
				return err
			}
			return writeTags(ctx, tx, edits, author)
		}
		var no int
		if err := json.Unmarshal(to, &no); err != nil {
			return err
		}
		r := Revision{Blame: Blame{}}
		if no > 0 {
			if err := tx.GetContext(ctx, &r, `SELECT * FROM revisions WHERE no = $1`, no); err != nil {
				return err
			}
		}
		if err := tx.GetContext(ctx, &r.No, `SELECT max(no) + 1 FROM revisions`); err != nil {
			return err
		}
		r.Author, r.Words = author, prefix+c.Words
		return insertRevision(ctx, tx, r)
	})
	return c, err
}

// Refusal is a proposal that somebody refused.
type Refusal struct {
	Rule   string    `db:"rule" json:"rule" doc:"The proposed rule without its note"`
	Reason string    `db:"reason" json:"reason"`
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
	// What was behind it then; 0 is not known.
	Conversations int `db:"conversations" json:"conversations"`
	Callers       int `db:"callers" json:"callers"`
	// The sentence of the rule that was taken instead; while it stands in the
	// draft, the refusal holds. Blank: it was refused for good.
	Instead string `db:"instead" json:"instead,omitempty"`
}

// Refuse keeps a refusal; AllowAgain drops it.
func (s *Store) Refuse(ctx context.Context, r Refusal) error {
	_, err := s.execNamed(ctx, `INSERT INTO refusals (rule, reason, author, conversations, callers, instead) VALUES (:rule, :reason, :author, :conversations, :callers, :instead)
		ON CONFLICT (rule) DO UPDATE SET reason = excluded.reason, author = excluded.author, at = now(), conversations = excluded.conversations, callers = excluded.callers, instead = excluded.instead`, r)
	return err
}

// AllowAgain drops a refusal.
func (s *Store) AllowAgain(ctx context.Context, rule string) error {
	_, err := s.exec(ctx, `DELETE FROM refusals WHERE rule = $1`, rule)
	return err
}

// Refusals gives all refusals, newest first.
func (s *Store) Refusals(ctx context.Context) ([]Refusal, error) {
	out := []Refusal{}
	err := s.db.SelectContext(ctx, &out, `SELECT rule, reason, author, at, coalesce(conversations, 0) AS conversations, coalesce(callers, 0) AS callers, coalesce(instead, '') AS instead FROM refusals ORDER BY at DESC`)
	return out, err
}
