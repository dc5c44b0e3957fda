// Package sql stores the changes that people can undo. It knows no table but
// its own: steps register a Part for each thing that their changes set.
//
// Store is safe for concurrent use. Start reading at Store.Undo.
package sql

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/history"
)

// Part sets one named part of a setting in the transaction of an undo or redo.
// It may put a note into the change about what it had to leave as it is.
type Part struct {
	Name string
	Set  func(ctx context.Context, tx *sqlx.Tx, to json.RawMessage, c *history.Change, author, words string) error
}

// Store keeps changes. Parts are set in their order.
type Store struct {
	*database.DB
	Parts []Part
}

// readSetting also reads what earlier programs stored: the number of a revision,
// or an array of tags.
func readSetting(raw json.RawMessage) (x map[string]json.RawMessage, err error) {
	switch raw = bytes.TrimSpace(raw); {
	case bytes.HasPrefix(raw, []byte("{")):
		err = json.Unmarshal(raw, &x)
	case bytes.HasPrefix(raw, []byte("[")):
		x = map[string]json.RawMessage{"tags": raw}
	default:
		x = map[string]json.RawMessage{"revision": raw}
	}
	if err != nil {
		return x, fmt.Errorf("a change cannot be read: %w", err)
	}
	return x, nil
}

// Note stores a change in the transaction that makes it. Changes that were undone
// before it cannot be redone any more.
func Note(ctx context.Context, tx *sqlx.Tx, kind, words, author string, before, after history.Setting) error {
	return note(func(q string, args ...any) error {
		_, err := tx.ExecContext(ctx, q, args...)
		return err
	}, kind, words, author, before, after)
}

// NoteRows is Note in a transaction that copies many rows.
func NoteRows(ctx context.Context, tx pgx.Tx, kind, words, author string, before, after history.Setting) error {
	return note(func(q string, args ...any) error {
		_, err := tx.Exec(ctx, q, args...)
		return err
	}, kind, words, author, before, after)
}

func note(exec func(q string, args ...any) error, kind, words, author string, before, after history.Setting) error {
	b, err := json.Marshal(before)
	if err != nil {
		return err
	}
	a, err := json.Marshal(after)
	if err != nil {
		return err
	}
	if err := exec(undoneGone); err != nil {
		return err
	}
	return exec(insertChange, kind, words, author, b, a)
}

const (
	undoneGone   = `UPDATE changes SET state = 'gone' WHERE state = 'undone'`
	insertChange = `INSERT INTO changes (kind, words, author, before, after) VALUES ($1, $2, $3, $4, $5)`
)

// Undoable returns the change that Undo, and the one that Redo would take; nil
// where there is none.
func (s *Store) Undoable(ctx context.Context) (undo, redo *history.Change, err error) {
	if undo, err = next(ctx, s.SQL, undoNext); err != nil {
		return nil, nil, err
	}
	redo, err = next(ctx, s.SQL, redoNext)
	return undo, redo, err
}

const (
	undoNext = `SELECT * FROM changes WHERE state = 'done' ORDER BY id DESC LIMIT 1`
	redoNext = `SELECT * FROM changes WHERE state = 'undone' ORDER BY id LIMIT 1`
)

func next(ctx context.Context, q sqlx.QueryerContext, query string) (*history.Change, error) {
	var c history.Change
	err := sqlx.GetContext(ctx, q, &c, query)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &c, err
}

// Undo takes back the newest change that was not taken back. Without one it
// returns history.ErrNothing.
func (s *Store) Undo(ctx context.Context, author string) (*history.Change, error) {
	return s.turn(ctx, author, undoNext, "undone", "Undo: ")
}

// Redo makes the change again that was undone last. Without one it returns
// history.ErrNothing.
func (s *Store) Redo(ctx context.Context, author string) (*history.Change, error) {
	return s.turn(ctx, author, redoNext, "done", "Redo: ")
}

func (s *Store) turn(ctx context.Context, author, query, state, prefix string) (*history.Change, error) {
	for {
		c, err := next(ctx, s.SQL, query)
		if err != nil {
			return nil, err
		}
		if c == nil {
			return nil, history.ErrNothing
		}
		locks := []int{database.EditLock}
		if c.Kind == "flows" {
			locks = []int{database.TrafficLock, database.EditLock}
		}
		now, err := s.turnLocked(ctx, locks, author, query, state, prefix)
		if !errors.Is(err, errOtherLocks) {
			return now, err
		}
	}
}

// errOtherLocks reports that another change came first, and needs other locks.
var errOtherLocks = errors.New("other locks are needed")

func (s *Store) turnLocked(ctx context.Context, locks []int, author, query, state, prefix string) (c *history.Change,
	err error) {
	err = s.Write(ctx, locks[0], func(tx *sqlx.Tx) error {
		for _, l := range locks[1:] {
			if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1)`, l); err != nil {
				return err
			}
		}
		var err error
		if c, err = next(ctx, tx, query); err != nil {
			return err
		}
		if c == nil {
			return history.ErrNothing
		}
		if (c.Kind == "flows") != (locks[0] == database.TrafficLock) {
			return errOtherLocks
		}
		raw := c.Before
		if state == "done" {
			raw = c.After
		}
		to, err := readSetting(raw)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE changes SET state = $1 WHERE id = $2`, state, c.ID); err != nil {
			return err
		}
		return s.set(ctx, tx, to, c, author, prefix+c.Words)
	})
	return c, err
}

// set makes everything as the setting of a change says.
func (s *Store) set(ctx context.Context, tx *sqlx.Tx, to map[string]json.RawMessage, c *history.Change, author,
	words string) error {
	for _, p := range s.Parts {
		part, there := to[p.Name]
		if !there {
			continue
		}
		delete(to, p.Name)
		if err := p.Set(ctx, tx, part, c, author, words); err != nil {
			return err
		}
	}
	for name := range to {
		return fmt.Errorf("change %d sets %q, which this program does not know", c.ID, name)
	}
	return nil
}

// Of makes a Part of a function that takes its value as the type that was noted.
func Of[T any](name string, set func(ctx context.Context, tx *sqlx.Tx, to T, c *history.Change, author,
	words string) error) Part {
	return Part{name, func(ctx context.Context, tx *sqlx.Tx, raw json.RawMessage, c *history.Change, author,
		words string) error {
		var to T
		if err := json.Unmarshal(raw, &to); err != nil {
			return fmt.Errorf("part %s of change %d cannot be read: %w", name, c.ID, err)
		}
		return set(ctx, tx, to, c, author, words)
	}}
}
