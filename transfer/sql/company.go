package sql

import (
	"context"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
	"lucidorchard/transfer"
)

// Blank reports whether there are no workloads, traffic, policy or points.
func (s *Store) Blank(ctx context.Context) (bool, error) {
	var blank bool
	err := s.SQL.GetContext(ctx, &blank, `SELECT NOT EXISTS (SELECT FROM workloads)
		AND NOT EXISTS (SELECT FROM revisions) AND NOT EXISTS (SELECT FROM points)
		AND NOT EXISTS (SELECT FROM conversations)`)
	return blank, err
}

// Added counts the workloads that no one of sources lists, the conversations that
// no observer whose name starts with observer reported, and the points.
func (s *Store) Added(ctx context.Context, sources []string, observer string) (out transfer.Added, err error) {
	err = s.SQL.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM workloads WHERE source <> ALL ($1)),
		(SELECT count(*) FROM (SELECT DISTINCT client, server, point FROM conversations
			WHERE NOT starts_with(observer, $2)) AS own), (SELECT count(*) FROM points)`, sources, observer).
		Scan(&out.Workloads, &out.Conversations, &out.Points)
	return out, err
}

// left are the tables that Clear does not empty: what belongs to the installation, and
// numbers that must never come again.
var left = []string{"goose_db_version", "versions", "epochs", "release_numbers", "tokens", "signing_key", "settings",
	"requests", "jobs", "exporters", "exporter_habits", "collectors", "destinations"}

// Clear deletes the estate with its traffic, policy, releases and history. It leaves
// tokens, keys, the exporters' states and the settings that do not describe the estate.
func (s *Store) Clear(ctx context.Context) error {
	return s.WriteRows(ctx, database.TrafficLock, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1), pg_advisory_xact_lock($2)`, database.EditLock,
			database.WatchLock); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `SELECT c.relname FROM pg_class AS c WHERE c.relkind IN ('r', 'p')
			AND NOT c.relispartition AND c.relnamespace = current_schema()::regnamespace`)
		if err != nil {
			return err
		}
		tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		tables = slices.DeleteFunc(tables, func(t string) bool { return slices.Contains(left, t) })
		for i, t := range tables {
			tables[i] = pgx.Identifier{t}.Sanitize()
		}
		for _, stmt := range []string{
			`TRUNCATE ` + strings.Join(tables, ", "),
			`DELETE FROM settings WHERE name IN ('company', 'structural', 'inapplicable')`,
			`UPDATE versions SET n = n + 2`, // with no row in touched, so that servers read everything again
		} {
			if _, err := tx.Exec(ctx, stmt); err != nil {
				return err
			}
		}
		return nil
	})
}
