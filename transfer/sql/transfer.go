package sql

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
	"lucidorchard/model"
	modelsql "lucidorchard/model/sql"
	"lucidorchard/transfer"
)

// kinds are what an export holds, in the order in which they can be put back,
// each with the table that it is a row of and the order of its lines.
var kinds = []struct{ kind, table, order string }{
	{"source", "sources", "name"},
	{"former rank", "rank_history", "name, until"},
	{"workload", "workloads", "id"},
	{"former workload", "workload_history", "id, until"},
	{"listed", "listed", "workload, source"},
	{"tag", "tags", "workload, key, source"},
	{"former tag", "tag_history", "workload, until, key, source"},
	{"lease", "leases", "workload, addr, from_at, until_at"},
	{"revision", "revisions", "no"},
	{"change", "changes", "id"}, // of imports as gone: see exported
	{"refused proposal", "refusals", "rule"},
	{"refused tag", "refused_tags", "workload, key, value"},
	{"selection", "selections", "list, name"},
	{"setting", "settings", "name"},
	{"probe", "probes", "question"},
	{"service port", "service_ports", "protocol, port, kind, place"},
	{"exporter habit", "exporter_habits", "addr"},
}

type header struct {
	Format   string    `json:"format"`
	Version  int       `json:"version"`
	Exported time.Time `json:"exported"`
}

// Export writes the whole estate but for its conversations, as of one instant.
func (s *Store) Export(ctx context.Context, w io.Writer) error {
	return s.Read(ctx, func(tx pgx.Tx) error {
		first, err := json.Marshal(header{transfer.Format, transfer.FormatVersion, time.Now().UTC()})
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s\n", first); err != nil {
			return err
		}
		for _, k := range kinds {
			rows, err := tx.Query(ctx,
				fmt.Sprintf(`SELECT row_to_json(t)::text FROM (SELECT '%s' AS kind_of_line, * FROM %s ORDER BY %s) AS t`, k.kind, exported(k.table), k.order))
			if err != nil {
				return err
			}
			var line string
			if _, err := pgx.ForEachRow(rows, []any{&line}, func() error {
				_, err := io.WriteString(w, strings.Replace(line, `"kind_of_line"`, `"line"`, 1)+"\n")
				return err
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// exported returns the rows of a table as they are exported. What an import can be
// undone by is not: its traffic stays here.
func exported(table string) string {
	if table != "changes" {
		return table
	}
	return `(SELECT id, kind, words, author, at, before, after, CASE WHEN kind IN ('workloads', 'flows') THEN 'gone' ELSE state END AS state FROM changes) AS changes`
}

// Restore puts back what Export wrote, whole or not at all, into a database
// without workloads and policy. open gives the export from its start; sound is
// asked about what was put back before it counts, and may refuse it. It returns how
// many lines it read.
func (s *Store) Restore(ctx context.Context, open func() (io.ReadCloser, error), progress func(lines int),
	sound func(*model.State, map[string]json.RawMessage) error) (lines int, err error) {
	err = s.WriteRows(ctx, database.EditLock, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, someThere).Scan(&there); err != nil {
			return err
		}
		if there {
			return transfer.ErrNotEmpty
		}
		in, err := open()
		if err != nil {
			return err
		}
		defer in.Close()
		for _, k := range slices.Backward(kinds) {
			if _, err := tx.Exec(ctx, `DELETE FROM `+k.table); err != nil {
				return err
			}
		}
		for _, kept := range []string{"tag_history", "workload_history", "rank_history"} { // of what was just deleted
			if _, err := tx.Exec(ctx, `DELETE FROM `+kept); err != nil {
				return err
			}
		}
		if lines, err = (&restoring{ctx: ctx, tx: tx}).all(in, progress); err != nil {
			return err
		}
		for _, stmt := range []string{
			`SELECT setval('changes_id_seq', (SELECT coalesce(max(id), 1) FROM changes))`,
			`UPDATE versions SET n = n + 1 WHERE name IN ('workloads', 'probes')`,
			`UPDATE settings SET name = 'flow form', value = json_build_object('columns', value)
				WHERE name = 'flow headings'`, // of an earlier program
		} {
			if _, err := tx.Exec(ctx, stmt); err != nil {
				return err
			}
		}
		return restored(ctx, tx, lines, sound)
	})
	return lines, err
}

const someThere = `SELECT EXISTS (SELECT FROM workloads) OR EXISTS (SELECT FROM revisions)`

// restored reads everything that was put back, as servers will.
func restored(ctx context.Context, tx pgx.Tx, lines int, sound func(*model.State,
	map[string]json.RawMessage) error) error {
	bad := func(format string, args ...any) error {
		return &transfer.LineError{Line: lines, Reason: fmt.Sprintf(format, args...)}
	}
	strays := []struct{ what, query string }{
		{"tags of workloads or from sources that are not in the file",
			`SELECT DISTINCT workload FROM tags WHERE NOT EXISTS (SELECT FROM workloads WHERE id = workload)
				OR NOT EXISTS (SELECT FROM sources WHERE name = source) LIMIT 3`},
		{"gaps in the revisions, before revision",
			`SELECT no::text FROM (SELECT no, row_number() OVER (ORDER BY no) AS n FROM revisions) AS r WHERE no <> n
				ORDER BY no LIMIT 1`},
		{"changes of revisions that are not in the file, the change", `SELECT id::text
			FROM changes, LATERAL (SELECT CASE jsonb_typeof(after) WHEN 'number' THEN after WHEN 'object'
			THEN after -> 'revision' END AS no) AS made
			WHERE kind = 'policy' AND (no IS NULL OR jsonb_typeof(no) <> 'number' OR no::int NOT IN (SELECT no
			FROM revisions)) LIMIT 3`},
		{"changes that cannot be read, the change",
			`SELECT id::text FROM changes WHERE jsonb_typeof(before) NOT IN ('number', 'array', 'object')
				OR jsonb_typeof(after) NOT IN ('number', 'array', 'object') LIMIT 3`},
		{"headings of a source that are no object, the source",
			`SELECT name FROM sources WHERE mapping IS NOT NULL AND jsonb_typeof(mapping) <> 'object' LIMIT 3`},
	}
	for _, x := range strays {
		rows, err := tx.Query(ctx, x.query)
		if err != nil {
			return bad("the file does not hold together: %s", err)
		}
		if found, err := pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
			return bad("the file does not hold together: %s", err)
		} else if len(found) > 0 {
			return bad("found %s: %s", x.what, strings.Join(found, ", "))
		}
	}
	state := &model.State{}
	if err := modelsql.LoadState(ctx, tx, state, nil); err != nil {
		return bad("what the file holds cannot be read again: %s", err)
	}
	stored, err := tx.Query(ctx, `SELECT name, value FROM settings`)
	if err != nil {
		return err
	}
	var name string
	var raw []byte
	settings := map[string]json.RawMessage{}
	if _, err := pgx.ForEachRow(stored, []any{&name, &raw}, func() error {
		settings[name] = slices.Clone(raw)
		return nil
	}); err != nil {
		return bad("what the file holds cannot be read again: %s", err)
	}
	if err := sound(state, settings); err != nil {
		return bad("%s", err)
	}
	return nil
}

// restoring gathers lines of one kind and writes them together.
type restoring struct {
	ctx   context.Context
	tx    pgx.Tx
	kind  string
	first int
	rows  []json.RawMessage

	octets int // of the rows
}

// all reads an export to its end, and returns its number of lines.
func (r *restoring) all(in io.Reader, progress func(lines int)) (lines int, err error) {
	b := bufio.NewScanner(in)
	b.Buffer(make([]byte, 1<<16), longestLine)
	for b.Scan() {
		if text := bytes.TrimSpace(b.Bytes()); len(text) > 0 {
			lines++
			if bad := r.line(lines, text); bad != nil {
				return lines, bad
			}
			if lines%20_000 == 0 {
				progress(lines)
			}
		}
	}
	if err := b.Err(); errors.Is(err, bufio.ErrTooLong) {
		return lines, &transfer.LineError{Line: lines + 1, Reason: fmt.Sprintf("found a line of more than %d octets",
			longestLine)}
	} else if err != nil {
		return lines, err
	}
	if lines == 0 {
		return 0, &transfer.LineError{Line: 1, Reason: "found an empty file, expected an export of an estate"}
	}
	return lines, r.flush()
}

// longestLine is that of a policy text, quoted, with room to spare.
const longestLine = 64 << 20

func (r *restoring) line(n int, text []byte) error {
	if n == 1 {
		var h header
		if err := json.Unmarshal(text, &h); err != nil || h.Format != transfer.Format {
			return &transfer.LineError{Line: 1,
				Reason: fmt.Sprintf("found no header of the format %s, expected an export of an estate",
					transfer.Format)}
		}
		if h.Version != transfer.FormatVersion {
			return &transfer.LineError{Line: 1, Reason: fmt.Sprintf("found version %d of the format, expected %d",
				h.Version, transfer.FormatVersion)}
		}
		return nil
	}
	var k struct {
		Line string `json:"line"`
	}
	if err := json.Unmarshal(text, &k); err != nil {
		return &transfer.LineError{Line: n, Reason: "found no JSON object: " + err.Error()}
	}
	if k.Line != r.kind || len(r.rows) >= 5000 || r.octets > 8<<20 {
		if err := r.flush(); err != nil {
			return err
		}
		r.kind, r.first = k.Line, n
	}
	r.rows = append(r.rows, slices.Clone(text))
	r.octets += len(text)
	return nil
}

func (r *restoring) flush() error {
	if len(r.rows) == 0 {
		return nil
	}
	i := slices.IndexFunc(kinds, func(k struct{ kind, table, order string }) bool { return k.kind == r.kind })
	if i < 0 {
		return &transfer.LineError{Line: r.first,
			Reason: fmt.Sprintf("found a line of the kind %q, which this version does not know",
				r.kind)}
	}
	all, err := json.Marshal(r.rows)
	if err != nil {
		return &transfer.LineError{Line: r.first, Reason: err.Error()}
	}
	r.rows, r.octets = r.rows[:0], 0
	if _, err := r.tx.Exec(r.ctx, fmt.Sprintf(`INSERT INTO %s SELECT * FROM json_populate_recordset(NULL::%s, $1)`,
		kinds[i].table, kinds[i].table), string(all)); err != nil {
		if database.Refused(err) == nil {
			return err
		}
		return &transfer.LineError{Line: r.first,
			Reason: fmt.Sprintf("the lines of the kind %q from here on cannot be stored: %s", r.kind,
				err)}
	}
	return nil
}

// Empty reports whether there are neither workloads nor a policy.
func (s *Store) Empty(ctx context.Context) (bool, error) {
	var there bool
	err := s.SQL.GetContext(ctx, &there, someThere)
	return !there, err
}
