package sql

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
	"lucidorchard/inventory"
)

// An import of workloads is taken back by images: what each workload that it
// touched was before, with what the source said of it. Undoing swaps the images
// with what is there, so that doing it again is the same swap.

// imagesOf selects the images of the workloads in the table touching: everything
// that a listing of the source ($1) may change.
const imagesOf = `SELECT t.id, CASE WHEN w.id IS NULL THEN NULL
	ELSE jsonb_build_object('workload', to_jsonb(w) - 'changed_at' - 'added', 'tags', coalesce(tg.rows, '[]'), 'leases',
	coalesce(ls.rows, '[]'), 'listed', coalesce(li.rows, '[]')) END AS image
	FROM touching t LEFT JOIN workloads w USING (id)
	LEFT JOIN (SELECT workload AS id, jsonb_agg(to_jsonb(tags) - 'workload' - 'source' ORDER BY key) AS rows FROM tags
	WHERE source = $1 AND workload IN (SELECT id FROM touching) GROUP BY workload) AS tg USING (id)
	LEFT JOIN (SELECT workload AS id, jsonb_agg(to_jsonb(leases) - 'workload'
	ORDER BY addr, from_at, until_at, source) AS rows FROM leases WHERE workload IN (SELECT id FROM touching)
	GROUP BY workload) AS ls USING (id)
	LEFT JOIN (SELECT workload AS id, jsonb_agg(source ORDER BY source) AS rows FROM listed WHERE workload IN (SELECT id
	FROM touching) GROUP BY workload) AS li USING (id)`

// Parts are what an undo sets of the inventory: the listing of a source, and
// tags that were set by hand.
func Parts() []historysql.Part {
	return []historysql.Part{
		historysql.Of("listing", func(ctx context.Context, tx *sqlx.Tx, to listing, c *history.Change, _,
			_ string) error {
			stayed, err := to.swap(ctx, tx, c.ID)
			if stayed > 0 {
				c.Note = fmt.Sprintf("%d of its workloads have changed since and stay unchanged",
					stayed)
			}
			return err
		}),
		historysql.Of("tags", func(ctx context.Context, tx *sqlx.Tx, to []inventory.TagEdit, _ *history.Change, author,
			_ string) error {
			return writeTags(ctx, tx, to, author)
		}),
	}
}

// listing is how the row of an inventory source is; nil: there is none.
type listing struct {
	Name string          `json:"name"`
	Row  json.RawMessage `json:"row,omitempty"`
}

// swap makes the workloads of a change as their images say, and keeps what they
// were instead. Those that something else has changed since stay as they are; it
// gives how many.
func (l *listing) swap(ctx context.Context, tx *sqlx.Tx, change int64) (stayed int, err error) {
	exec := func(query string, args ...any) error {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	}
	for _, step := range slices.Concat(l.findSwapped(ctx, tx, exec, change, &stayed), l.exchange(ctx, tx, exec, change)) {
		if err := step(); err != nil {
			return 0, err
		}
	}
	return stayed, nil
}

// findSwapped are the steps that put what can be swapped into the table swapping, and count
// what stays as it is.
func (l *listing) findSwapped(ctx context.Context, tx *sqlx.Tx, exec func(string, ...any) error, change int64,
	stayed *int) []func() error {
	return []func() error{
		func() error { return exec(`SET LOCAL work_mem = '256MB'`) },
		func() error {
			return exec(`CREATE TEMP TABLE touching (id text PRIMARY KEY) ON COMMIT DROP`)
		},
		func() error {
			return exec(`INSERT INTO touching SELECT workload FROM former WHERE change = $1`, change)
		},
		func() error {
			return exec(`CREATE TEMP TABLE swapping (id, image, now, can) ON COMMIT DROP AS
				SELECT ''::text, NULL::jsonb, NULL::jsonb, false WHERE false`)
		},
		func() error {
			return exec(`INSERT INTO swapping
				SELECT f.workload, f.image, n.image, md5(coalesce(n.image::text, '')) = f.left_as FROM former f
				JOIN (`+imagesOf+`) AS n ON n.id = f.workload WHERE f.change = `+fmt.Sprint(change), l.Name)
		},
		func() error { return tx.GetContext(ctx, stayed, `SELECT count(*) FROM swapping WHERE NOT can`) },
		func() error { return exec(`DELETE FROM swapping WHERE NOT can`) },
		func() error { return exec(`ANALYZE swapping`) },
	}
}

// exchange are the steps that swap what is in the table swapping.
func (l *listing) exchange(ctx context.Context, tx *sqlx.Tx, exec func(string, ...any) error,
	change int64) []func() error {
	return []func() error{
		func() error { return l.restoreRow(ctx, tx) },
		func() error {
			return exec(`INSERT INTO workloads
				SELECT (jsonb_populate_record(NULL::workloads, image -> 'workload' || jsonb_build_object('changed_at',
				now(), 'added', now()))).* FROM swapping WHERE image IS NOT NULL
				ON CONFLICT (id) DO UPDATE
				SET name = excluded.name, os = excluded.os, kind = excluded.kind, source = excluded.source,
				retired = excluded.retired, changed_at = excluded.changed_at`)
		},
		func() error {
			return exec(`DELETE FROM tags USING swapping s WHERE tags.workload = s.id AND tags.source = $1
				AND NOT coalesce(s.image -> 'tags' @> jsonb_build_array(jsonb_build_object('key', tags.key)), false)`,
				l.Name)
		},
		func() error {
			return exec(`INSERT INTO tags (workload, key, source, value, author, at)
				SELECT s.id, t.key, $1, t.value, t.author, t.at
				FROM swapping s, jsonb_to_recordset(s.image -> 'tags') AS t (key text, value text, author text,
				at timestamptz)
				ON CONFLICT (workload, key, source) DO UPDATE
				SET value = excluded.value, author = excluded.author, at = excluded.at
				WHERE tags.value <> excluded.value OR tags.at <> excluded.at`, l.Name)
		},
		func() error { return exec(`DELETE FROM leases USING swapping s WHERE workload = s.id`) },
		func() error {
			return exec(`INSERT INTO leases (workload, addr, from_at, until_at, source)
				SELECT s.id, t.addr, t.from_at, t.until_at, t.source
				FROM swapping s, jsonb_to_recordset(s.image -> 'leases') AS t (addr inet, from_at timestamptz,
				until_at timestamptz, source text)`)
		},
		func() error {
			return exec(`DELETE FROM listed USING swapping s WHERE workload = s.id AND source = $1`, l.Name)
		},
		func() error {
			return exec(`INSERT INTO listed SELECT id, $1 FROM swapping WHERE image -> 'listed' ? $1::text`, l.Name)
		},
		func() error {
			return exec(`DELETE FROM workloads USING swapping s WHERE workloads.id = s.id AND s.image IS NULL`)
		},
		func() error { return l.dropRow(ctx, tx) },
		func() error {
			return exec(`UPDATE former SET image = s.now, left_as = md5(coalesce(s.image::text, '')) FROM swapping s
				WHERE change = $1 AND workload = s.id`, change)
		},
		func() error {
			var ids []string
			if err := tx.SelectContext(ctx, &ids, `SELECT id FROM swapping`); err != nil {
				return err
			}
			return exec(database.BumpWorkloads, touched(ids))
		},
	}
}

// restoreRow sets the source as it was; its rank is for people to say.
func (l *listing) restoreRow(ctx context.Context, tx *sqlx.Tx) error {
	if l.Row == nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO sources SELECT * FROM jsonb_populate_record(NULL::sources, $1::jsonb)
		ON CONFLICT (name) DO UPDATE
		SET mapping = excluded.mapping, taken = excluded.taken, whole = excluded.whole`, string(l.Row))
	return err
}

// dropRow forgets a source that was not there before, unless something else is of
// it by now.
func (l *listing) dropRow(ctx context.Context, tx *sqlx.Tx) error {
	if l.Row != nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM sources WHERE name = $1 AND NOT EXISTS (SELECT FROM listed
		WHERE source = $1) AND NOT EXISTS (SELECT FROM tags WHERE source = $1)
		AND NOT EXISTS (SELECT FROM tokens WHERE source = $1) AND NOT EXISTS (SELECT FROM workloads
		WHERE source = $1)`, l.Name)
	return err
}
