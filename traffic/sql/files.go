package sql

import (
	"context"
	"io"
	"iter"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/core/flow"
	"lucidorchard/database"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// NewFile returns the number under which the rows of a file of traffic are kept.
func (s *Store) NewFile(ctx context.Context) (id int, err error) {
	err = s.SQL.GetContext(ctx, &id, `SELECT nextval('files_id_seq')`)
	return id, err
}

// AddFile stores the traffic of a file that somebody imports, as one change that can be
// undone. file is of NewFile, and that of each part. The parts may be asked for several
// times, and need not be there yet when it begins; what they say of one conversation and
// hour is added up. stored is told how far it is.
func (s *Store) AddFile(ctx context.Context, id string, file int, parts iter.Seq2[*rows.Part, error],
	stored func(traffic.Storing), words, author string) (out traffic.Added, err error) {
	err = s.WriteRows(ctx, database.TrafficLock, func(tx pgx.Tx) error {
		if out, err = begunBatch(ctx, tx, id); err != nil || out.Before != nil {
			return err
		}
		var all []*rows.Part
		hours := map[flow.Hour]bool{}
		var way traffic.Storing
		tables := newApart(tx)
		copyDay := func(table string, day int64, columns string, of io.Reader) error {
			name, err := tables.of(ctx, table, day)
			if err != nil {
				return err
			}
			return database.CopyFrom(ctx, tx, name, columns+andFile(file), rows.Outer(of))
		}
		for part, err := range parts {
			if err != nil {
				return err
			}
			for _, d := range part.Days {
				if err := copyDay("records", d.Day, recordColumns, io.NewSectionReader(part.Records, d.From,
					d.Octets)); err != nil {
					return err
				}
			}
			for _, h := range part.Hours {
				hours[h] = true
			}
			all = append(all, part)
			way.Records, way.MostHours = way.Records+part.Count, way.MostHours+part.Rows
			stored(way)
		}
		ordered := slices.Sorted(maps.Keys(hours))
		// Nothing else is stored under the number of this file: what is merged here is new.
		merged, err := rows.MergeParts(all, func(rows int) {
			way.Hours = rows
			stored(way)
		})
		if err != nil {
			return err
		}
		for merged.Next() {
			if err := copyDay("conversations", merged.Day, bucketColumns, merged); err != nil {
				return err
			}
		}
		days := len(tables.made)
		if err := tables.attach(ctx, func() {
			way.Indexed += 1 / float64(days)
			stored(way)
		}); err != nil {
			return err
		}
		out.Hours = int64(merged.Rows)
		if _, err := countedBatch(ctx, tx, id, merged.Rows, ordered); err != nil || merged.Rows == 0 {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO files (id, batch, hours, rows) VALUES ($1, $2, $3, $4)`, file, id,
			ordered,
			merged.Rows); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, database.EditLock); err != nil {
			return err
		}
		return historysql.NoteRows(ctx, tx, "flows", words, author, history.Setting{"undone": file},
			history.Setting{"file": file})
	})
	return out, err
}

// Parts are what an undo sets of traffic: whether the rows of a file are in sight.
func Parts() []historysql.Part {
	shown := func(name string, show bool) historysql.Part {
		return historysql.Of(name, func(ctx context.Context, tx *sqlx.Tx, file int, _ *history.Change, _,
			_ string) error {
			return showFile(ctx, tx, file, show)
		})
	}
	return []historysql.Part{shown("file", true), shown("undone", false)}
}

// showFile takes the rows of a file out of sight, or brings them back. What is
// out of sight may be imported again.
func showFile(ctx context.Context, tx *sqlx.Tx, file int, show bool) error {
	for _, q := range []string{
		`UPDATE files SET undone = NOT $2 WHERE id = $1`,
		`DELETE FROM batches WHERE NOT $2 AND id = (SELECT batch FROM files WHERE id = $1)`,
		`INSERT INTO batches (id, rows) SELECT batch, rows FROM files WHERE id = $1 AND $2 ON CONFLICT DO NOTHING`,
		// An hour with nothing left to see is none.
		`DELETE FROM hours WHERE hour = ANY ((SELECT hours FROM files WHERE id = $1 AND NOT $2)::int[])
			AND NOT EXISTS (SELECT FROM conversations c WHERE c.hour = hours.hour AND ` + inSight + `)`,
		`WITH v AS (` + database.BumpConversations +
			` RETURNING n), h AS (SELECT unnest(hours) AS hour FROM files WHERE id = $1)
			INSERT INTO hours SELECT hour, n FROM v, h WHERE EXISTS (SELECT FROM conversations c WHERE c.hour = h.hour
			AND c.file <> ALL (ARRAY(SELECT id FROM files WHERE CASE WHEN id = $1 THEN NOT $2 ELSE undone END)))
			ON CONFLICT (hour) DO UPDATE SET version = excluded.version`,
	} {
		if _, err := tx.ExecContext(ctx, q, file, show); err != nil {
			return err
		}
	}
	return nil
}

// ForgetFiles deletes the rows of files whose import was undone and can no
// longer be done again.
func (s *Store) ForgetFiles(ctx context.Context) error {
	return s.WriteRows(ctx, database.TrafficLock, func(tx pgx.Tx) error {
		const gone = `SELECT id FROM files WHERE undone AND NOT EXISTS (SELECT FROM changes WHERE kind = 'flows'
			AND state = 'undone' AND (after ->> 'file')::int = files.id)`
		hours := `SELECT unnest(hours) FROM files WHERE id IN (` + gone + `)`
		for _, q := range []string{
			`DELETE FROM conversations WHERE hour IN (` + hours + `) AND file IN (` + gone + `)`,
			`DELETE FROM records WHERE hour IN (` + hours + `) AND file IN (` + gone + `)`,
			`DELETE FROM files WHERE id IN (` + gone + `)`,
		} {
			if _, err := tx.Exec(ctx, q); err != nil {
				return err
			}
		}
		return nil
	})
}
