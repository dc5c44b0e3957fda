package sql

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/drafting"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
	"lucidorchard/model"
)

// Parts are what an undo sets of a draft: refusals and probes first, then the policy.
func Parts() []historysql.Part {
	return []historysql.Part{
		historysql.Of("refusals", func(ctx context.Context, tx *sqlx.Tx, to []drafting.RefusalEdit, _ *history.Change,
			_, _ string) error {
			return setRefusals(ctx, tx, to)
		}),
		historysql.Of("probes", func(ctx context.Context, tx *sqlx.Tx, to []drafting.ProbeEdit, _ *history.Change, _,
			_ string) error {
			return setProbes(ctx, tx, to)
		}),
		historysql.Of("revision", func(ctx context.Context, tx *sqlx.Tx, no int, _ *history.Change, author,
			words string) error {
			return copyRevision(ctx, tx, no, author, words)
		}),
	}
}

// copyRevision makes a new revision with the text of an earlier one; 0 is the empty policy.
func copyRevision(ctx context.Context, tx *sqlx.Tx, no int, author, words string) error {
	r := model.Revision{Blame: model.Blame{}}
	if no > 0 {
		if err := tx.GetContext(ctx, &r, `SELECT * FROM revisions WHERE no = $1`, no); err != nil {
			return err
		}
	}
	if err := tx.GetContext(ctx, &r.No, `SELECT max(no) + 1 FROM revisions`); err != nil {
		return err
	}
	r.Author, r.Words = author, words
	return insertRevision(ctx, tx, r)
}

const refusalColumns = `SELECT rule, reason, author, at, coalesce(conversations, 0) AS conversations, coalesce(callers,
	0) AS callers, coalesce(instead, '') AS instead FROM refusals`

// refusalsNow returns what stands where edits are about to set something.
func refusalsNow(ctx context.Context, tx *sqlx.Tx, edits []drafting.RefusalEdit) ([]drafting.RefusalEdit, error) {
	rules := make([]string, len(edits))
	for i, e := range edits {
		rules[i] = e.Rule
	}
	var have []drafting.Refusal
	if err := tx.SelectContext(ctx, &have, refusalColumns+` WHERE rule = ANY($1)`, rules); err != nil {
		return nil, err
	}
	there := by(have, func(r *drafting.Refusal) string { return r.Rule })
	out := make([]drafting.RefusalEdit, len(edits))
	for i, rule := range rules {
		out[i] = drafting.RefusalEdit{Rule: rule, Refusal: there[rule]}
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

func setRefusals(ctx context.Context, tx *sqlx.Tx, edits []drafting.RefusalEdit) error {
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
			_, err = tx.NamedExecContext(ctx, `INSERT INTO refusals (rule, reason, author, at, conversations, callers,
				instead) VALUES (:rule, :reason, :author, :at, :conversations, :callers, :instead)
				ON CONFLICT (rule) DO UPDATE
				SET reason = excluded.reason, author = excluded.author, at = excluded.at,
				conversations = excluded.conversations, callers = excluded.callers, instead = excluded.instead`, r)
		}
		if err != nil {
			return fmt.Errorf("refusing proposals: %w", err)
		}
	}
	return nil
}
