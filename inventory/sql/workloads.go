package sql

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/core/estate"
	"lucidorchard/database"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
	"lucidorchard/inventory"
)

// Workloads returns all workloads in the order of their ids, each tag with the
// value that counts: that of the source with the lowest rank.
func (s *Store) Workloads(ctx context.Context) ([]estate.Workload, error) {
	var out []estate.Workload
	err := s.Read(ctx, func(tx pgx.Tx) (err error) {
		out, err = Workloads(ctx, tx, nil)
		return err
	})
	return out, err
}

// Workloads returns those with the ids, or all for nil. The transaction has to see
// one state of the database throughout: they are read in three statements.
func Workloads(ctx context.Context, tx pgx.Tx, ids []string) ([]estate.Workload, error) {
	var out []estate.Workload
	index := map[string]int{}
	rows, err := tx.Query(ctx,
		`SELECT id, name, os, kind, coalesce(retired, '0001-01-01T00:00:00Z') FROM workloads WHERE $1::text[] IS NULL
			OR id = ANY ($1) ORDER BY id COLLATE "C"`, ids)
	if err != nil {
		return nil, err
	}
	var w estate.Workload
	if _, err := pgx.ForEachRow(rows, []any{&w.ID, &w.Name, &w.OS, &w.Kind, &w.Retired}, func() error {
		index[w.ID] = len(out)
		out = append(out, w)
		return nil
	}); err != nil {
		return nil, err
	}
	rows, err = tx.Query(ctx, `
		SELECT DISTINCT ON (workload COLLATE "C", key COLLATE "C") workload, key, value, source, author, at
		FROM tags JOIN sources ON sources.name = tags.source
		WHERE $1::text[] IS NULL OR workload = ANY ($1)
		ORDER BY workload COLLATE "C", key COLLATE "C", rank, source`, ids)
	if err != nil {
		return nil, err
	}
	var id string
	var t estate.Tag
	if _, err := pgx.ForEachRow(rows, []any{&id, &t.Key, &t.Value, &t.Source, &t.By, &t.At}, func() error {
		// a value that was set before its workload came is of nobody
		if i, there := index[id]; there && t.Value != "" {
			out[i].Tags = append(out[i].Tags, t)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	rows, err = tx.Query(ctx, `SELECT workload, addr, from_at, until_at, source FROM leases
		WHERE $1::text[] IS NULL OR workload = ANY ($1) ORDER BY workload COLLATE "C", from_at NULLS FIRST, addr`, ids)
	if err != nil {
		return nil, err
	}
	err = EachLease(rows, func(id string, l estate.Lease) {
		if i, there := index[id]; there {
			out[i].Leases = append(out[i].Leases, l)
		}
	})
	return out, err
}

// EachLease reads rows of workload, addr, from_at, until_at and source.
func EachLease(rows pgx.Rows, f func(workload string, l estate.Lease)) error {
	var id, source string
	var addr netip.Prefix
	var from, until *time.Time
	_, err := pgx.ForEachRow(rows, []any{&id, &addr, &from, &until, &source}, func() error {
		l := estate.Lease{Addr: addr.Addr(), From: estate.Beginning, Until: estate.End, Source: source}
		if from != nil {
			l.From = estate.InstantOf(*from)
		}
		if until != nil {
			l.Until = estate.InstantOf(*until)
		}
		f(id, l)
		return nil
	})
	return err
}

func boundTime(t estate.Instant) *time.Time {
	if !t.IsBound() {
		return nil
	}
	v := t.Time()
	return &v
}

// moved finds an edit whose tag has another value by now than it was made on.
func moved(ctx context.Context, tx *sqlx.Tx, edits []inventory.TagEdit) error {
	var ids, keys []string
	var of []int
	for i, e := range edits {
		if e.Was != nil {
			ids, keys, of = append(ids, e.Workload), append(keys, e.Key), append(of, i)
		}
	}
	if len(of) == 0 {
		return nil
	}
	var now []struct {
		N                     int
		Value, Source, Author string
	}
	if err := tx.SelectContext(ctx, &now, `SELECT DISTINCT ON (e.n) e.n, coalesce(t.value, '') AS value,
		coalesce(t.source, '') AS source, coalesce(t.author, '') AS author
		FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS e (workload, key, n)
		LEFT JOIN (SELECT tags.*, rank FROM tags JOIN sources ON name = source) t ON t.workload = e.workload
		AND t.key = e.key ORDER BY e.n, t.rank, t.source`, ids, keys); err != nil {
		return err
	}
	for _, v := range now {
		if e := edits[of[v.N-1]]; v.Value != *e.Was {
			return &inventory.ChangedError{TagEdit: e, Now: v.Value, Source: v.Source, Author: v.Author}
		}
	}
	return nil
}

// SetTags sets tags by hand, as one change that can be undone.
func (s *Store) SetTags(ctx context.Context, edits []inventory.TagEdit, author, words string) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		if err := moved(ctx, tx, edits); err != nil {
			return err
		}
		ids, keys, _, _ := columnsOf(edits)
		before := make([]inventory.TagEdit, len(edits))
		var were []struct {
			N     int     `db:"n"`
			Value *string `db:"value"`
		}
		if err := tx.SelectContext(ctx, &were, `SELECT n, value
			FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS e (workload, key, n)
			LEFT JOIN tags ON tags.workload = e.workload AND tags.key = e.key
			AND source = $3`, ids, keys, estate.ByHand); err != nil {
			return err
		}
		for _, w := range were {
			before[w.N-1] = inventory.TagEdit{Workload: edits[w.N-1].Workload, Key: edits[w.N-1].Key, Value: w.Value}
		}
		if err := writeTags(ctx, tx, edits, author); err != nil {
			return err
		}
		return historysql.Note(ctx, tx, "tags", words, author, history.Setting{"tags": before},
			history.Setting{"tags": edits})
	})
}

func writeTags(ctx context.Context, tx *sqlx.Tx, edits []inventory.TagEdit, author string) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO sources VALUES ($1, 0) ON CONFLICT DO NOTHING`,
		estate.ByHand); err != nil {
		return err
	}
	ids, keys, values, removed := columnsOf(edits)
	if _, err := tx.ExecContext(ctx, `DELETE FROM tags
		USING unnest($1::text[], $2::text[], $3::bool[]) AS e (workload, key, gone)
		WHERE gone AND tags.workload = e.workload AND tags.key = e.key
		AND source = $4`, ids, keys, removed, estate.ByHand); err != nil {
		return fmt.Errorf("clearing tags: %w", err)
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO tags (workload, key, source, value, author)
		SELECT DISTINCT ON (workload, key) workload, key, $5, value, $6
		FROM unnest($1::text[], $2::text[], $3::text[], $4::bool[]) AS e (workload, key, value, gone) WHERE NOT gone
		ON CONFLICT (workload, key, source) DO UPDATE SET value = excluded.value, author = excluded.author, at = now()
		WHERE tags.value <> excluded.value`, ids, keys, values, removed, estate.ByHand, author); err != nil {
		return fmt.Errorf("setting tags: %w", err)
	}
	_, err := tx.ExecContext(ctx, database.BumpWorkloads, touched(ids))
	return err
}

// columnsOf returns edits as arrays, as the database takes them.
func columnsOf(edits []inventory.TagEdit) (ids, keys, values []string, removed []bool) {
	for _, e := range edits {
		value := ""
		if e.Value != nil {
			value = *e.Value
		}
		ids, keys, values, removed = append(ids, e.Workload), append(keys, e.Key), append(values, value),
			append(removed, e.Value == nil)
	}
	return ids, keys, values, removed
}

// touchedMost is up to how many workloads a version remembers.
const touchedMost = 5000

// touched is what database.BumpWorkloads takes: the ids, or none if they are too many.
func touched(ids []string) []string {
	if len(ids) > touchedMost {
		return []string{}
	}
	return ids
}
