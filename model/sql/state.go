package sql

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
	inventorysql "lucidorchard/inventory/sql"
	"lucidorchard/model"
	releasingsql "lucidorchard/releasing/sql"
)

// State reads what has changed since the state with some versions; since nil, or
// too long ago, all of it.
func (s *Store) State(ctx context.Context, since *database.Versions) (*model.State, error) {
	out := &model.State{}
	if err := s.Read(ctx, func(tx pgx.Tx) error { return LoadState(ctx, tx, out, since) }); err != nil {
		return nil, err
	}
	return out, nil
}

func LoadState(ctx context.Context, tx pgx.Tx, out *model.State, since *database.Versions) error {
	if err := out.Versions.Scan(tx.QueryRow(ctx, database.SelectVersions)); err != nil {
		return err
	}
	for name, to := range map[string]any{"structural": &out.Structural, "inapplicable": &out.Inapplicable} {
		var raw []byte
		switch err := tx.QueryRow(ctx, `SELECT value FROM settings WHERE name = $1`, name).Scan(&raw); {
		case errors.Is(err, pgx.ErrNoRows):
		case err != nil:
			return err
		default:
			if err := json.Unmarshal(raw, to); err != nil {
				return err
			}
		}
	}
	if since == nil || since.Revision != out.Revision {
		if err := loadHead(ctx, tx, out); err != nil {
			return err
		}
	}
	rows, err := tx.Query(ctx, `SELECT question, want, reason, author, at FROM probes ORDER BY at, question`)
	if err != nil {
		return err
	}
	if out.Probes, err = pgx.CollectRows(rows, pgx.RowToStructByPos[model.Probe]); err != nil {
		return err
	}
	if since == nil || since.Points != out.Versions.Points {
		if out.Guarding, err = releasingsql.Guarding(ctx, tx); err != nil {
			return err
		}
	}
	if out.Whole = since == nil; !out.Whole {
		if err := loadTouched(ctx, tx, out, since.Workloads); err != nil || !out.Whole || out.Head != nil {
			return err
		}
		// All may have been deleted since, and revisions be numbered from 1 again.
		return loadHead(ctx, tx, out)
	}
	out.Workloads, err = inventorysql.Workloads(ctx, tx, nil)
	return err
}

// loadHead reads the newest revision; its number is 0 if there is none.
func loadHead(ctx context.Context, tx pgx.Tx, out *model.State) error {
	out.Head = &model.Revision{}
	rows, err := tx.Query(ctx, `SELECT no, text, blame, author, at, words FROM revisions ORDER BY no DESC LIMIT 1`)
	if err != nil {
		return err
	}
	r := out.Head
	_, err = pgx.ForEachRow(rows, []any{&r.No, &r.Text, (*[]int)(&r.Blame), &r.Author, &r.At, &r.Words},
		func() error { return nil })
	return err
}

// touched reads the workloads that were changed after a version; all, where it
// is not known any more which they were.
func loadTouched(ctx context.Context, tx pgx.Tx, out *model.State, after int64) error {
	if after == out.Versions.Workloads {
		return nil
	}
	var versions int64
	if err := tx.QueryRow(ctx, `SELECT count(DISTINCT version) FROM touched WHERE version > $1 AND version <= $2`,
		after, out.Versions.Workloads).Scan(&versions); err != nil {
		return err
	}
	var ids []string
	if out.Whole = versions < out.Versions.Workloads-after; !out.Whole {
		rows, err := tx.Query(ctx, `SELECT DISTINCT workload FROM touched WHERE version > $1 AND version <= $2`,
			after, out.Versions.Workloads)
		if err != nil {
			return err
		}
		if ids, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
			return err
		}
	}
	var err error
	if out.Workloads, err = inventorysql.Workloads(ctx, tx, ids); err != nil || out.Whole {
		return err
	}
	there := map[string]bool{}
	for i := range out.Workloads {
		there[out.Workloads[i].ID] = true
	}
	out.Gone = slices.DeleteFunc(ids, func(id string) bool { return there[id] })
	return nil
}
