package database

import "context"

// Versions are numbers that grow with every write to what they name.
type Versions struct {
	Workloads     int64 `json:"workloads"`
	Conversations int64 `json:"conversations"`
	Probes        int64 `json:"probes"`
	Points        int64 `json:"-"` // of what is guarded, and of what points held
	Revision      int   `json:"revision"`
}

// Versions returns the current numbers.
func (d *DB) Versions(ctx context.Context) (Versions, error) {
	var v Versions
	err := v.Scan(d.SQL.QueryRowContext(ctx, SelectVersions))
	return v, err
}

// SelectVersions is a query whose row Scan reads.
const SelectVersions = `SELECT (SELECT n FROM versions WHERE name = 'workloads'), (SELECT n FROM versions
	WHERE name = 'conversations'),
	(SELECT n FROM versions WHERE name = 'probes'), (SELECT coalesce(max(no), 0) FROM revisions),
	(SELECT n FROM versions WHERE name = 'points')`

// Scan reads a row of SelectVersions.
func (v *Versions) Scan(row interface{ Scan(...any) error }) error {
	return row.Scan(&v.Workloads, &v.Conversations, &v.Probes, &v.Revision, &v.Points)
}

// Statements that make a version grow, within the transaction that changes what it counts.
const (
	BumpWorkloads = `WITH v AS (UPDATE versions SET n = n + 1 WHERE name = 'workloads' RETURNING n),
		old AS (DELETE FROM touched USING v WHERE version < n - 1000)
		INSERT INTO touched SELECT DISTINCT n, id FROM v, unnest($1::text[]) AS id`
	BumpConversations = `UPDATE versions SET n = n + 1 WHERE name = 'conversations'`
)
