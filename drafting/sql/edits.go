package sql

import (
	"context"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/drafting"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
	"lucidorchard/model"
)

// Apply stores an edit as one change that can be undone.
func (s *Store) Apply(ctx context.Context, e drafting.Edit) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		kind := "probes"
		before, after := history.Setting{}, history.Setting{}
		var err error
		if len(e.Refusals) > 0 {
			kind = "judging"
			after["refusals"] = e.Refusals
			if before["refusals"], err = refusalsNow(ctx, tx, e.Refusals); err == nil {
				err = setRefusals(ctx, tx, e.Refusals)
			}
		}
		if err == nil && len(e.Probes) > 0 {
			after["probes"] = e.Probes
			if before["probes"], err = probesNow(ctx, tx, e.Probes); err == nil {
				err = setProbes(ctx, tx, e.Probes)
			}
		}
		if err == nil && e.Revision != nil {
			kind = "policy"
			before["revision"], after["revision"] = e.Revision.No-1, e.Revision.No
			err = insertRevision(ctx, tx, *e.Revision)
		}
		if err != nil {
			return err
		}
		return historysql.Note(ctx, tx, kind, e.Words, e.Author, before, after)
	})
}

// AddRevision stores a revision that was made from its predecessor, as one
// change that can be undone. If another came first, it is ErrMoved.
func (s *Store) AddRevision(ctx context.Context, r model.Revision) error {
	return s.Apply(ctx, drafting.Edit{Words: r.Words, Author: r.Author, Revision: &r})
}

// Refusals returns all refusals, newest first.
func (s *Store) Refusals(ctx context.Context) ([]drafting.Refusal, error) {
	out := []drafting.Refusal{}
	err := s.SQL.SelectContext(ctx, &out, refusalColumns+` ORDER BY at DESC`)
	return out, err
}
