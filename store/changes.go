package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/model"
	trafficsql "lucidorchard/traffic/sql"
)

// Change is something that can be undone or done again, as one.
type Change struct {
	ID     int64           `db:"id" json:"id"`
	Kind   string          `db:"kind" json:"kind" enum:"policy,tags,judging,probes,workloads,flows"`
	Words  string          `db:"words" json:"words"`
	Author string          `db:"author" json:"author"`
	At     time.Time       `db:"at" json:"at"`
	Before json.RawMessage `db:"before" json:"-"`
	After  json.RawMessage `db:"after" json:"-"`
	State  string          `db:"state" json:"-"`
	// What undoing, or doing again, had to leave out.
	Note string `db:"-" json:"note,omitempty" doc:"What had to be left as it is, and why"`
}

// ErrNothing says that there is nothing to undo or redo.
var ErrNothing = errors.New("there is nothing to undo or redo")

// Edit is what people change in one step: all of it is stored, or nothing, and
// it is undone as one.
type Edit struct {
	Words, Author string
	Revision      *model.Revision // made from its predecessor; if another came first, Apply gives ErrMoved
	Refusals      []RefusalEdit
	Probes        []ProbeEdit
}

// RefusalEdit sets the refusal of a rule, or takes it away.
type RefusalEdit struct {
	Rule    string   `json:"rule"`
	Refusal *Refusal `json:"refusal"`
}

// ProbeEdit sets a probe, or drops it.
type ProbeEdit struct {
	Question string       `json:"question"`
	Probe    *model.Probe `json:"probe"`
}

// setting is what a change sets: before it, or after it. What is nil or empty it
// does not touch.
type setting struct {
	Revision *int          `json:"revision,omitempty"`
	Tags     []TagEdit     `json:"tags,omitempty"`
	Refusals []RefusalEdit `json:"refusals,omitempty"`
	Probes   []ProbeEdit   `json:"probes,omitempty"`
	Listing  *listing      `json:"listing,omitempty"` // of an import of workloads: its source, with former
	File     *int          `json:"file,omitempty"`    // of one of flows: its rows are in sight
	Undone   *int          `json:"undone,omitempty"`  // or out of it
}

// readSetting also reads what earlier programs stored: the number of a revision,
// or an array of tags.
func readSetting(raw json.RawMessage) (x setting, err error) {
	switch raw = bytes.TrimSpace(raw); {
	case bytes.HasPrefix(raw, []byte("{")):
		err = json.Unmarshal(raw, &x)
	case bytes.HasPrefix(raw, []byte("[")):
		err = json.Unmarshal(raw, &x.Tags)
	default:
		err = json.Unmarshal(raw, &x.Revision)
	}
	if err != nil {
		return x, fmt.Errorf("a change cannot be read: %w", err)
	}
	return x, nil
}

// Apply stores an edit as one change that can be undone.
func (s *Store) Apply(ctx context.Context, e Edit) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		kind := "probes"
		var before, after setting
		var err error
		if len(e.Refusals) > 0 {
			kind = "judging"
			after.Refusals = e.Refusals
			if before.Refusals, err = refusalsNow(ctx, tx, e.Refusals); err == nil {
				err = setRefusals(ctx, tx, e.Refusals)
			}
		}
		if err == nil && len(e.Probes) > 0 {
			after.Probes = e.Probes
			if before.Probes, err = probesNow(ctx, tx, e.Probes); err == nil {
				err = setProbes(ctx, tx, e.Probes)
			}
		}
		if err == nil && e.Revision != nil {
			kind = "policy"
			was := e.Revision.No - 1
			before.Revision, after.Revision = &was, &e.Revision.No
			err = insertRevision(ctx, tx, *e.Revision)
		}
		if err != nil {
			return err
		}
		return addChange(ctx, tx, kind, e.Words, e.Author, before, after)
	})
}

// AddRevision stores a revision that was made from its predecessor, as one
// change that can be undone. If another came first, it is ErrMoved.
func (s *Store) AddRevision(ctx context.Context, r model.Revision) error {
	return s.Apply(ctx, Edit{Words: r.Words, Author: r.Author, Revision: &r})
}

// addChange notes a change; what was undone before it cannot be done again.
func addChange(ctx context.Context, tx *sqlx.Tx, kind, words, author string, before, after setting) error {
	return noteChange(func(q string, args ...any) error {
		_, err := tx.ExecContext(ctx, q, args...)
		return err
	}, kind, words, author, before, after)
}

// execIn runs statements on a connection of its own, as those that take many rows have.
func execIn(ctx context.Context, tx pgx.Tx) func(q string, args ...any) error {
	return func(q string, args ...any) error {
		_, err := tx.Exec(ctx, q, args...)
		return err
	}
}

// noteChange is addChange in whatever transaction exec runs.
func noteChange(exec func(q string, args ...any) error, kind, words, author string, before, after setting) error {
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

// Undoable gives the change that Undo, and the one that Redo would take; nil
// where there is none.
func (s *Store) Undoable(ctx context.Context) (undo, redo *Change, err error) {
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
	for {
		c, err := next(ctx, s.SQL, query)
		if err != nil {
			return nil, err
		}
		if c == nil {
			return nil, ErrNothing
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

// errOtherLocks says that another change came first, and needs other locks.
var errOtherLocks = errors.New("other locks are needed")

func (s *Store) turnLocked(ctx context.Context, locks []int, author, query, state, prefix string) (c *Change,
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
			return ErrNothing
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
		return to.set(ctx, tx, c, author, prefix+c.Words)
	})
	return c, err
}

// set makes everything as the setting of a change says, and notes in the change
// what it had to leave.
func (x *setting) set(ctx context.Context, tx *sqlx.Tx, c *Change, author, words string) error {
	switch {
	case x.Listing != nil:
		stayed, err := x.Listing.swap(ctx, tx, c.ID)
		if stayed > 0 {
			c.Note = fmt.Sprintf("%d of its workloads were changed by something else since, and stay as they are", stayed)
		}
		return err
	case x.File != nil:
		return trafficsql.ShowFile(ctx, tx, *x.File, true)
	case x.Undone != nil:
		return trafficsql.ShowFile(ctx, tx, *x.Undone, false)
	}
	if len(x.Tags) > 0 {
		if err := writeTags(ctx, tx, x.Tags, author); err != nil {
			return err
		}
	}
	if len(x.Refusals) > 0 {
		if err := setRefusals(ctx, tx, x.Refusals); err != nil {
			return err
		}
	}
	if len(x.Probes) > 0 {
		if err := setProbes(ctx, tx, x.Probes); err != nil {
			return err
		}
	}
	if x.Revision == nil {
		return nil
	}
	r := model.Revision{Blame: model.Blame{}}
	if *x.Revision > 0 {
		if err := tx.GetContext(ctx, &r, `SELECT * FROM revisions WHERE no = $1`, *x.Revision); err != nil {
			return err
		}
	}
	if err := tx.GetContext(ctx, &r.No, `SELECT max(no) + 1 FROM revisions`); err != nil {
		return err
	}
	r.Author, r.Words = author, words
	return insertRevision(ctx, tx, r)
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

const refusalColumns = `SELECT rule, reason, author, at, coalesce(conversations, 0) AS conversations, coalesce(callers, 0) AS callers, coalesce(instead, '') AS instead FROM refusals`

// Refusals gives all refusals, newest first.
func (s *Store) Refusals(ctx context.Context) ([]Refusal, error) {
	out := []Refusal{}
	err := s.SQL.SelectContext(ctx, &out, refusalColumns+` ORDER BY at DESC`)
	return out, err
}

// refusalsNow gives what stands where edits are about to set something.
func refusalsNow(ctx context.Context, tx *sqlx.Tx, edits []RefusalEdit) ([]RefusalEdit, error) {
	rules := make([]string, len(edits))
	for i, e := range edits {
		rules[i] = e.Rule
	}
	var have []Refusal
	if err := tx.SelectContext(ctx, &have, refusalColumns+` WHERE rule = ANY($1)`, rules); err != nil {
		return nil, err
	}
	there := by(have, func(r *Refusal) string { return r.Rule })
	out := make([]RefusalEdit, len(edits))
	for i, rule := range rules {
		out[i] = RefusalEdit{rule, there[rule]}
	}
	return out, nil
}

// by finds rows by their keys.
func by[T any](rows []T, key func(*T) string) map[string]*T {
	out := make(map[string]*T, len(rows))
	for i := range rows {
		out[key(&rows[i])] = &rows[i]
	}
	return out
}

func setRefusals(ctx context.Context, tx *sqlx.Tx, edits []RefusalEdit) error {
	for _, e := range edits {
		var err error
		if e.Refusal == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM refusals WHERE rule = $1`, e.Rule)
		} else {
			r := *e.Refusal
			r.Rule = e.Rule
			if r.At.IsZero() {
				r.At = time.Now()
			}
			_, err = tx.NamedExecContext(ctx, `INSERT INTO refusals (rule, reason, author, at, conversations, callers, instead) VALUES (:rule, :reason, :author, :at, :conversations, :callers, :instead)
				ON CONFLICT (rule) DO UPDATE SET reason = excluded.reason, author = excluded.author, at = excluded.at, conversations = excluded.conversations, callers = excluded.callers, instead = excluded.instead`, r)
		}
		if err != nil {
			return fmt.Errorf("refusing proposals: %w", err)
		}
	}
	return nil
}

// AddFile stores the traffic of a file as one change, which can be undone.
func (s *Store) AddFile(ctx context.Context, id string, file int, parts iter.Seq2[*trafficsql.Part, error],
	stored func(trafficsql.Storing), words, author string) (trafficsql.Added, error) {
	return s.trafficStore.AddFile(ctx, id, file, parts, stored, func(ctx context.Context, tx pgx.Tx) error {
		return noteChange(execIn(ctx, tx), "flows", words, author, setting{Undone: &file}, setting{File: &file})
	})
}
