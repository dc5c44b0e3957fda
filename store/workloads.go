package store

import (
	"context"
	"database/sql"
	"fmt"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/core/estate"
)

// Workloads gives all workloads in the order of their ids, each tag with the
// value that counts: that of the source with the lowest rank.
func (s *Store) Workloads(ctx context.Context) ([]estate.Workload, error) {
	return s.workloads(ctx, nil)
}

// workloads gives those with the ids, or all for nil.
func (s *Store) workloads(ctx context.Context, ids []string) ([]estate.Workload, error) {
	var out []estate.Workload
	err := s.copyIn(ctx, func(tx pgx.Tx) error {
		index := map[string]int{}
		rows, err := tx.Query(ctx, `SELECT id, name, os, kind FROM workloads WHERE $1::text[] IS NULL OR id = ANY ($1) ORDER BY id COLLATE "C"`, ids)
		if err != nil {
			return err
		}
		var w estate.Workload
		if _, err := pgx.ForEachRow(rows, []any{&w.ID, &w.Name, &w.OS, &w.Kind}, func() error {
			index[w.ID] = len(out)
			out = append(out, w)
			return nil
		}); err != nil {
			return err
		}
		rows, err = tx.Query(ctx, `
			SELECT DISTINCT ON (workload COLLATE "C", key COLLATE "C") workload, key, value, source, author, at
			FROM tags JOIN sources ON sources.name = tags.source
			WHERE $1::text[] IS NULL OR workload = ANY ($1)
			ORDER BY workload COLLATE "C", key COLLATE "C", rank, source`, ids)
		if err != nil {
			return err
		}
		var id string
		var t estate.Tag
		if _, err := pgx.ForEachRow(rows, []any{&id, &t.Key, &t.Value, &t.Source, &t.By, &t.At}, func() error {
			if t.Value != "" {
				i := index[id]
				out[i].Tags = append(out[i].Tags, t)
			}
			return nil
		}); err != nil {
			return err
		}
		rows, err = tx.Query(ctx, `SELECT workload, addr, from_at, until_at FROM leases
			WHERE $1::text[] IS NULL OR workload = ANY ($1) ORDER BY workload COLLATE "C", from_at NULLS FIRST, addr`, ids)
		if err != nil {
			return err
		}
		var addr netip.Prefix
		var from, until *time.Time
		_, err = pgx.ForEachRow(rows, []any{&id, &addr, &from, &until}, func() error {
			i := index[id]
			l := estate.Lease{Addr: addr.Addr(), From: estate.Beginning, Until: estate.End}
			if from != nil {
				l.From = estate.InstantOf(*from)
			}
			if until != nil {
				l.Until = estate.InstantOf(*until)
			}
			out[i].Leases = append(out[i].Leases, l)
			return nil
		})
		return err
	})
	return out, err
}

// Touched gives the workloads that versions from after one up to another have
// changed, as they are now, and the ids of those that are gone; whole says that
// it were too many, or too long ago: all must be read again.
func (s *Store) Touched(ctx context.Context, after, upTo int64) (changed []estate.Workload, gone []string, whole bool, err error) {
	var versions int64
	var ids []string
	if err := s.db.GetContext(ctx, &versions, `SELECT count(DISTINCT version) FROM touched WHERE version > $1 AND version <= $2`, after, upTo); err != nil {
		return nil, nil, false, err
	}
	if versions < upTo-after {
		return nil, nil, true, nil
	}
	if err := s.db.SelectContext(ctx, &ids, `SELECT DISTINCT workload FROM touched WHERE version > $1 AND version <= $2`, after, upTo); err != nil {
		return nil, nil, false, err
	}
	if changed, err = s.workloads(ctx, ids); err != nil {
		return nil, nil, false, err
	}
	there := map[string]bool{}
	for _, w := range changed {
		there[w.ID] = true
	}
	for _, id := range ids {
		if !there[id] {
			gone = append(gone, id)
		}
	}
	return changed, gone, false, nil
}

// ImportRank is the rank of a source that an import names for the first time.
const ImportRank = 100

// ImportWorkloads takes what a source says: the workloads are added or changed,
// the source's values for the keys are replaced, and the leases of workloads
// that come with addresses are. The same import twice changes nothing.
func (s *Store) ImportWorkloads(ctx context.Context, source string, keys []string, workloads []estate.Workload) error {
	return s.copyIn(ctx, func(tx pgx.Tx) error {
		var tags, leases, ids [][]any
		for i := range workloads {
			w := &workloads[i]
			ids = append(ids, []any{w.ID, w.Name, w.OS, w.Kind, len(w.Leases) > 0})
			for _, t := range w.Tags {
				by, at := t.By, t.At
				if by == "" {
					by = "import"
				}
				if at.IsZero() {
					at = time.Now()
				}
				tags = append(tags, []any{w.ID, t.Key, t.Value, by, at})
			}
			for _, l := range w.Leases {
				leases = append(leases, []any{w.ID, netip.PrefixFrom(l.Addr, l.Addr.BitLen()), boundTime(l.From), boundTime(l.Until)})
			}
		}
		for _, stmt := range []string{
			`CREATE TEMP TABLE new_workloads (id text, name text, os text, kind text, placed boolean) ON COMMIT DROP`,
			`CREATE TEMP TABLE new_tags (workload text, key text, value text, author text, at timestamptz) ON COMMIT DROP`,
			`CREATE TEMP TABLE new_leases (workload text, addr inet, from_at timestamptz, until_at timestamptz) ON COMMIT DROP`,
		} {
			if _, err := tx.Exec(ctx, stmt); err != nil {
				return err
			}
		}
		for _, c := range []struct {
			table   string
			columns []string
			rows    [][]any
		}{
			{"new_workloads", []string{"id", "name", "os", "kind", "placed"}, ids},
			{"new_tags", []string{"workload", "key", "value", "author", "at"}, tags},
			{"new_leases", []string{"workload", "addr", "from_at", "until_at"}, leases},
		} {
			if _, err := tx.CopyFrom(ctx, pgx.Identifier{c.table}, c.columns, pgx.CopyFromRows(c.rows)); err != nil {
				return err
			}
		}
		for _, stmt := range []struct {
			sql  string
			args []any
		}{
			{`INSERT INTO sources VALUES ($1, $2) ON CONFLICT DO NOTHING`, []any{source, ImportRank}},
			{`INSERT INTO workloads (id, name, os, kind, source) SELECT id, name, os, kind, $1 FROM new_workloads
				ON CONFLICT (id) DO UPDATE SET name = excluded.name, os = excluded.os, kind = excluded.kind, changed_at = now()
				WHERE (workloads.name, workloads.os, workloads.kind) IS DISTINCT FROM (excluded.name, excluded.os, excluded.kind)`, []any{source}},
			{`DELETE FROM tags USING new_workloads n WHERE tags.workload = n.id AND tags.source = $1 AND tags.key = ANY ($2)
				AND NOT EXISTS (SELECT FROM new_tags t WHERE t.workload = tags.workload AND t.key = tags.key)`, []any{source, keys}},
			{`INSERT INTO tags (workload, key, source, value, author, at) SELECT workload, key, $1, value, author, at FROM new_tags
				ON CONFLICT (workload, key, source) DO UPDATE SET value = excluded.value, author = excluded.author, at = excluded.at
				WHERE tags.value <> excluded.value`, []any{source}},
			{`DELETE FROM leases USING new_workloads n WHERE leases.workload = n.id AND n.placed
				AND NOT EXISTS (SELECT FROM new_leases l WHERE l.workload = leases.workload AND l.addr = leases.addr
					AND l.from_at IS NOT DISTINCT FROM leases.from_at AND l.until_at IS NOT DISTINCT FROM leases.until_at)`, nil},
			{`INSERT INTO leases SELECT DISTINCT * FROM new_leases ON CONFLICT DO NOTHING`, nil},
			{bumpWorkloads, []any{touchedIDs(workloads)}},
		} {
			if _, err := tx.Exec(ctx, stmt.sql, stmt.args...); err != nil {
				return fmt.Errorf("storing the workloads: %w", err)
			}
		}
		return nil
	})
}

func boundTime(t estate.Instant) *time.Time {
	if !t.IsBound() {
		return nil
	}
	v := t.Time()
	return &v
}

// TagEdit sets a tag by hand; an empty value says that the workload does not
// have it.
type TagEdit struct {
	Workload string  `json:"workload"`
	Key      string  `json:"key"`
	Value    *string `json:"value"` // nil: nothing is set by hand
}

// SetTags sets tags by hand, as one change that can be undone.
func (s *Store) SetTags(ctx context.Context, edits []TagEdit, author, words string) error {
	return s.in(ctx, func(tx *sqlx.Tx) error {
		before := make([]TagEdit, len(edits))
		for i, e := range edits {
			before[i] = TagEdit{Workload: e.Workload, Key: e.Key}
			var v string
			err := tx.GetContext(ctx, &v, `SELECT value FROM tags WHERE workload = $1 AND key = $2 AND source = $3`, e.Workload, e.Key, estate.ByHand)
			switch err {
			case nil:
				before[i].Value = &v
			case sql.ErrNoRows:
			default:
				return err
			}
		}
		if err := writeTags(ctx, tx, edits, author); err != nil {
			return err
		}
		return addChange(ctx, tx, "tags", words, author, before, edits)
	})
}

func writeTags(ctx context.Context, tx *sqlx.Tx, edits []TagEdit, author string) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO sources VALUES ($1, 0) ON CONFLICT DO NOTHING`, estate.ByHand); err != nil {
		return err
	}
	for _, e := range edits {
		var err error
		if e.Value == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM tags WHERE workload = $1 AND key = $2 AND source = $3`, e.Workload, e.Key, estate.ByHand)
		} else {
			_, err = tx.ExecContext(ctx, `INSERT INTO tags (workload, key, source, value, author) VALUES ($1, $2, $3, $4, $5)
				ON CONFLICT (workload, key, source) DO UPDATE SET value = excluded.value, author = excluded.author, at = now()`,
				e.Workload, e.Key, estate.ByHand, *e.Value, author)
		}
		if err != nil {
			return fmt.Errorf("setting %s of %s: %w", e.Key, e.Workload, err)
		}
	}
	ids := make([]string, len(edits))
	for i, e := range edits {
		ids[i] = e.Workload
	}
	_, err := tx.ExecContext(ctx, bumpWorkloads, touched(ids))
	return err
}

// touchedMost is up to how many workloads a version remembers.
const touchedMost = 5000

// touched is what bumpWorkloads takes: the ids, or none if they are too many.
func touched(ids []string) []string {
	if len(ids) > touchedMost {
		return []string{}
	}
	return ids
}

func touchedIDs(workloads []estate.Workload) []string {
	ids := make([]string, len(workloads))
	for i := range workloads {
		ids[i] = workloads[i].ID
	}
	return touched(ids)
}
