package sql

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/core/estate"
	"lucidorchard/database"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
	"lucidorchard/inventory"
)

// sourceNow returns the row of a source.
func (t *taking) sourceNow() (*listing, error) {
	l := &listing{Name: t.Source}
	err := t.tx.QueryRow(t.ctx, `SELECT to_jsonb(sources) FROM sources WHERE name = $1`, t.Source).Scan(&l.Row)
	if errors.Is(err, pgx.ErrNoRows) {
		return l, nil
	}
	return l, err
}

// remember keeps the images of all that the listing may change, before it does.
func (t *taking) remember() (err error) {
	if t.Words == "" {
		return nil
	}
	addrs := []string{}
	for i := range t.Workloads {
		for _, l := range t.Workloads[i].Leases {
			addrs = append(addrs, l.Addr.String())
		}
	}
	if _, err := t.tx.Exec(t.ctx, `CREATE TEMP TABLE touching (id text PRIMARY KEY) ON COMMIT DROP`); err != nil {
		return err
	}
	if _, err := t.tx.Exec(t.ctx, `INSERT INTO touching SELECT id FROM new_workloads UNION SELECT workload FROM leases
		WHERE addr = ANY ($1::inet[])
		UNION SELECT workload FROM listed WHERE source = $2 AND $3`, addrs, t.Source, t.Complete); err != nil {
		return err
	}
	_, err = t.tx.Exec(t.ctx, `CREATE TEMP TABLE images (id, image) ON COMMIT DROP AS SELECT ''::text, NULL::jsonb
		WHERE false`)
	if err == nil {
		_, err = t.tx.Exec(t.ctx, `INSERT INTO images `+imagesOf, t.Source)
	}
	return err
}

// note makes of the listing a change that can be undone, if it changed anything.
func (t *taking) note() error {
	if t.Words == "" {
		return nil
	}
	tag, err := t.tx.Exec(t.ctx, `CREATE TEMP TABLE differing ON COMMIT DROP AS
		SELECT b.id, b.image, ''::text AS left_as FROM images b WHERE false`)
	if err == nil {
		tag, err = t.tx.Exec(t.ctx, `INSERT INTO differing SELECT b.id, b.image, md5(coalesce(a.image::text, ''))
			FROM images b JOIN (`+imagesOf+`) AS a USING (id) WHERE a.image IS DISTINCT FROM b.image`, t.Source)
	}
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	after, err := t.sourceNow()
	if err != nil {
		return err
	}
	if err := historysql.NoteRows(t.ctx, t.tx, "workloads", t.Words, t.Author, history.Setting{"listing": t.before},
		history.Setting{"listing": after}); err != nil {
		return err
	}
	_, err = t.tx.Exec(t.ctx, `INSERT INTO former SELECT currval('changes_id_seq'), id, image, left_as FROM differing`)
	return err
}

// Take stores what a source says, whole or not at all. The same listing twice
// changes nothing.
func (s *Store) Take(ctx context.Context, l inventory.Listing) (inventory.Taken, error) {
	var out inventory.Taken
	if l.At.IsZero() {
		l.At = time.Now()
	}
	l.At = l.At.UTC().Truncate(time.Microsecond) // what the database can keep
	if l.Author == "" {
		l.Author = "import"
	}
	err := s.WriteRows(ctx, database.EditLock, func(tx pgx.Tx) error {
		t := &taking{tx: tx, Listing: l, ctx: ctx, changed: map[string]bool{}}
		for _, step := range []func() error{t.lock, t.stage, t.remember, t.workloads, t.tags, t.missing, t.leases,
			t.retire, t.finish, t.note} {
			if err := step(); err != nil {
				return fmt.Errorf("storing what %s lists: %w", l.Source, err)
			}
		}
		out = inventory.Taken{Changed: len(t.changed), Retired: t.retired, Conflicts: t.conflicts}
		return nil
	})
	return out, err
}

// taking is a listing on its way into the database.
type taking struct {
	inventory.Listing
	tx        pgx.Tx
	ctx       context.Context
	changed   map[string]bool // ids
	gone      []string        // ids that the source no longer lists
	retired   []string
	conflicts []estate.Conflict
	before    *listing // the source before it
}

// exec runs a statement that returns the ids of workloads it changed.
func (t *taking) exec(query string, args ...any) ([]string, error) {
	rows, err := t.tx.Query(t.ctx, `WITH changed (id) AS (`+query+`) SELECT DISTINCT id FROM changed`, args...)
	if err != nil {
		return nil, err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[string])
	for _, id := range ids {
		t.changed[id] = true
	}
	return ids, err
}

// lock lets one listing after the other in.
func (t *taking) lock() error {
	// Joining and sorting millions of tags in memory takes half the time.
	if _, err := t.tx.Exec(t.ctx, `SET LOCAL work_mem = '256MB'`); err != nil {
		return err
	}
	var err error
	if t.before, err = t.sourceNow(); err != nil {
		return err
	}
	_, err = t.tx.Exec(t.ctx,
		`INSERT INTO sources (name, rank) VALUES ($1, greatest($2, (SELECT max(rank) + 1 FROM sources)))
			ON CONFLICT DO NOTHING`, t.Source, inventory.ImportRank)
	return err
}

// stage copies the workloads and their tags next to those that are stored.
func (t *taking) stage() error {
	for _, stmt := range []string{
		`CREATE TEMP TABLE new_workloads (id text, name text, os text, kind text) ON COMMIT DROP`,
		`CREATE TEMP TABLE new_tags (workload text, key text, value text, author text, at timestamptz) ON COMMIT DROP`,
	} {
		if _, err := t.tx.Exec(t.ctx, stmt); err != nil {
			return err
		}
	}
	_, err := t.tx.CopyFrom(t.ctx, pgx.Identifier{"new_workloads"}, []string{"id", "name", "os", "kind"},
		pgx.CopyFromSlice(len(t.Workloads), func(i int) ([]any, error) {
			w := &t.Workloads[i]
			return []any{w.ID, w.Name, w.OS, w.Kind}, nil
		}))
	if err != nil {
		return err
	}
	w, k := 0, -1 // the workload and the tag that were copied last
	if _, err := t.tx.CopyFrom(t.ctx, pgx.Identifier{"new_tags"},
		[]string{"workload", "key", "value", "author", "at"}, pgx.CopyFromFunc(func() ([]any, error) {
			for k++; w < len(t.Workloads) && k == len(t.Workloads[w].Tags); k = 0 {
				w++
			}
			if w == len(t.Workloads) {
				return nil, nil
			}
			tag := &t.Workloads[w].Tags[k]
			by, at := cmp.Or(tag.By, t.Author), tag.At
			if at.IsZero() {
				at = t.At
			}
			return []any{t.Workloads[w].ID, tag.Key, tag.Value, by, at}, nil
		})); err != nil {
		return err
	}
	_, err = t.tx.Exec(t.ctx, `ANALYZE new_workloads, new_tags`)
	return err
}

// workloads takes new ones, and the names and kinds of those that no source of a
// better rank speaks for: the one that gave them last, while it lists them.
func (t *taking) workloads() error {
	if _, err := t.exec(`WITH n AS (SELECT n.*, w.id IS NULL OR w.source = $1 OR NOT EXISTS (SELECT FROM listed l
		WHERE l.workload = w.id AND l.source = w.source)
				OR (SELECT rank FROM sources WHERE name = $1) < (SELECT rank FROM sources
				WHERE name = w.source) AS speaks
			FROM new_workloads n LEFT JOIN workloads w USING (id))
		INSERT INTO workloads (id, name, os, kind, source) SELECT id, CASE WHEN speaks THEN name ELSE '' END, CASE
		WHEN speaks THEN os ELSE '' END, CASE WHEN speaks THEN kind ELSE '' END,
			CASE WHEN speaks THEN $1 ELSE '' END FROM n
		ON CONFLICT (id) DO UPDATE
		SET retired = NULL, changed_at = now(), source = coalesce(nullif(excluded.source, ''), workloads.source),
			name = coalesce(nullif(excluded.name, ''), workloads.name), os = coalesce(nullif(excluded.os, ''),
			workloads.os), kind = coalesce(nullif(excluded.kind, ''), workloads.kind)
		WHERE workloads.retired IS NOT NULL OR excluded.source NOT IN ('', workloads.source)
			OR excluded.name NOT IN ('', workloads.name) OR excluded.os NOT IN ('', workloads.os)
			OR excluded.kind NOT IN ('', workloads.kind)
		RETURNING id`, t.Source); err != nil {
		return err
	}
	_, err := t.tx.Exec(t.ctx, `INSERT INTO listed SELECT id, $1 FROM new_workloads ON CONFLICT DO NOTHING`, t.Source)
	return err
}

func (t *taking) tags() error {
	var heard bool
	if err := t.tx.QueryRow(t.ctx, `SELECT EXISTS (SELECT FROM tags WHERE source = $1)`,
		t.Source).Scan(&heard); err != nil {
		return err
	}
	if !heard { // nothing to compare with: much quicker
		for i := range t.Workloads {
			if len(t.Workloads[i].Tags) > 0 {
				t.changed[t.Workloads[i].ID] = true
			}
		}
		_, err := t.tx.Exec(t.ctx,
			`INSERT INTO tags (workload, key, source, value, author, at) SELECT workload, key, $1, value, author, at
				FROM new_tags ORDER BY workload, key`, t.Source)
		return err
	}
	if _, err := t.exec(`DELETE FROM tags USING new_workloads n WHERE tags.workload = n.id AND tags.source = $1
		AND ($2::text[] IS NULL OR tags.key = ANY ($2))
		AND NOT EXISTS (SELECT FROM new_tags t WHERE t.workload = tags.workload AND t.key = tags.key)
		RETURNING tags.workload`, t.Source, t.Keys); err != nil {
		return err
	}
	_, err := t.exec(`INSERT INTO tags (workload, key, source, value, author, at)
		SELECT n.workload, n.key, $1, n.value, n.author, n.at FROM new_tags n
		LEFT JOIN tags t ON t.workload = n.workload AND t.key = n.key AND t.source = $1 WHERE t.value IS DISTINCT
		FROM n.value
		ORDER BY n.workload, n.key
		ON CONFLICT (workload, key, source) DO UPDATE
		SET value = excluded.value, author = excluded.author, at = excluded.at
		WHERE tags.value <> excluded.value RETURNING workload`, t.Source)
	return err
}

// missing drops what the source has listed and does not list in a complete list.
func (t *taking) missing() error {
	if !t.Complete {
		return nil
	}
	lacks := &inventory.LacksError{}
	if err := t.tx.QueryRow(t.ctx,
		`SELECT count(*), count(*) FILTER (WHERE n.id IS NULL) FROM listed l
			LEFT JOIN (SELECT DISTINCT id FROM new_workloads) n ON n.id = l.workload
			WHERE l.source = $1 AND NOT EXISTS (SELECT FROM workloads w WHERE w.id = l.workload
			AND w.retired IS NOT NULL)`,
		t.Source).Scan(&lacks.Listed, &lacks.Missing); err != nil {
		return err
	}
	if lacks.Much() && lacks.Missing != t.Confirm {
		return lacks
	}
	var err error
	t.gone, err = t.exec(`DELETE FROM listed WHERE source = $1 AND NOT EXISTS (SELECT FROM new_workloads n
		WHERE n.id = listed.workload) RETURNING workload`, t.Source)
	return err
}

// leases brings the addresses up to date; see estate.Reassign.
func (t *taking) leases() error {
	var listing []estate.Listed
	var ids []string
	var addrs []netip.Addr
	for i := range t.Workloads {
		if w := &t.Workloads[i]; len(w.Leases) > 0 {
			listing = append(listing, estate.Listed{ID: w.ID, Leases: w.Leases})
			ids = append(ids, w.ID)
			for _, l := range w.Leases {
				addrs = append(addrs, l.Addr)
			}
		}
	}
	for _, id := range t.gone { // nothing is listed: what this source gave them ends
		listing = append(listing, estate.Listed{ID: id})
		ids = append(ids, id)
	}
	if len(listing) == 0 {
		return nil
	}
	ranks := map[string]int{}
	sources, err := t.tx.Query(t.ctx, `SELECT name, rank FROM sources`)
	if err != nil {
		return err
	}
	var name string
	var rank int
	if _, err := pgx.ForEachRow(sources, []any{&name, &rank},
		func() error { ranks[name] = rank; return nil }); err != nil {
		return err
	}
	have := map[string][]estate.Lease{}
	rows, err := t.tx.Query(t.ctx, `SELECT workload, addr, from_at, until_at, source FROM leases
		WHERE workload IN (SELECT unnest($1::text[]) UNION SELECT workload FROM leases
		JOIN unnest($2::inet[]) AS a (addr) USING (addr)) ORDER BY workload, from_at NULLS FIRST, addr`, ids, addrs)
	if err != nil {
		return err
	}
	if err := EachLease(rows, func(id string, l estate.Lease) { have[id] = append(have[id], l) }); err != nil {
		return err
	}
	changed, conflicts := estate.Reassign(have, listing, t.Source, estate.InstantOf(t.At), func(source string) bool {
		r, known := ranks[source]
		return known && r < ranks[t.Source]
	})
	t.conflicts = conflicts
	return t.replaceLeases(changed)
}

func (t *taking) replaceLeases(changed map[string][]estate.Lease) error {
	if len(changed) == 0 {
		return nil
	}
	var ids []string
	var rows [][]any
	for id, ls := range changed {
		ids = append(ids, id)
		t.changed[id] = true
		for _, l := range ls {
			rows = append(rows, []any{id, netip.PrefixFrom(l.Addr, l.Addr.BitLen()), boundTime(l.From),
				boundTime(l.Until), l.Source})
		}
	}
	if _, err := t.tx.Exec(t.ctx, `DELETE FROM leases USING unnest($1::text[]) AS n (id) WHERE workload = n.id`,
		ids); err != nil {
		return err
	}
	_, err := t.tx.CopyFrom(t.ctx, pgx.Identifier{"leases"},
		[]string{"workload", "addr", "from_at", "until_at", "source"}, pgx.CopyFromRows(rows))
	return err
}

// retire ends what no source lists any more: its leases end, its tags stay, so
// that what was seen of it keeps its name. Of others the source's tags go.
func (t *taking) retire() error {
	if len(t.gone) == 0 {
		return nil
	}
	var err error
	t.retired, err = t.exec(`UPDATE workloads SET retired = $2, changed_at = now() WHERE id = ANY ($1)
		AND retired IS NULL AND NOT EXISTS (SELECT FROM listed WHERE workload = id) RETURNING id`, t.gone, t.At)
	if err != nil {
		return err
	}
	slices.Sort(t.retired)
	if _, err := t.exec(`UPDATE leases SET until_at = $2 WHERE workload = ANY ($1) AND (until_at IS NULL
		OR until_at > $2) AND (from_at IS NULL OR from_at < $2) RETURNING workload`, t.retired, t.At); err != nil {
		return err
	}
	_, err = t.exec(`DELETE FROM tags WHERE source = $1 AND workload = ANY ($2) AND EXISTS (SELECT FROM listed
		WHERE listed.workload = tags.workload) RETURNING workload`, t.Source, t.gone)
	return err
}

func (t *taking) finish() error {
	var mapping any
	if t.Mapping != nil {
		mapping = t.Mapping
	}
	if _, err := t.tx.Exec(t.ctx,
		`UPDATE sources SET taken = $2, whole = CASE WHEN $3 THEN $2 ELSE whole END, mapping = CASE
			WHEN $4::jsonb IS NULL THEN mapping ELSE coalesce(mapping, '{}') || $4::jsonb END
			WHERE name = $1`, t.Source, t.At, t.Complete, mapping); err != nil {
		return err
	}
	if len(t.changed) == 0 {
		return nil
	}
	ids := make([]string, 0, len(t.changed))
	for id := range t.changed {
		ids = append(ids, id)
	}
	_, err := t.tx.Exec(t.ctx, database.BumpWorkloads, touched(ids))
	return err
}

// ImportWorkloads takes what a source says of some tag keys.
func (s *Store) ImportWorkloads(ctx context.Context, source string, keys []string,
	workloads []estate.Workload) error {
	_, err := s.Take(ctx, inventory.Listing{Source: source, Keys: keys, Workloads: workloads})
	return err
}
