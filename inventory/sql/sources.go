package sql

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/core/estate"
	"lucidorchard/database"
	"lucidorchard/inventory"
	"lucidorchard/settings"
)

// Sources returns the inventory sources, the one whose values win first.
func (s *Store) Sources(ctx context.Context) ([]inventory.Source, error) {
	out := []inventory.Source{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT name, rank, mapping, taken, whole, (SELECT count(*) FROM listed
		WHERE source = name) AS listed, (SELECT count(*) FROM tags WHERE source = name) AS tags
		FROM sources WHERE name <> $1 ORDER BY rank, name`, estate.ByHand)
	for i := range out {
		if out[i].Raw != nil {
			if err := json.Unmarshal(*out[i].Raw, &out[i].Mapping); err != nil {
				return nil, err
			}
		}
	}
	return out, err
}

// Listed returns the ids of the workloads that a source lists.
func (s *Store) Listed(ctx context.Context, source string) ([]string, error) {
	out := []string{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT workload FROM listed WHERE source = $1 ORDER BY workload COLLATE "C"`, source)
	return out, err
}

// SpokenFor returns the ids of the workloads whose name, os and kind stay as they
// are, whatever a source says: a source that outranks it gave them, and lists
// them.
func (s *Store) SpokenFor(ctx context.Context, source string) (map[string]bool, error) {
	var ids []string
	err := s.SQL.SelectContext(ctx, &ids, `SELECT w.id FROM workloads w JOIN sources o ON o.name = w.source
		JOIN listed l ON l.workload = w.id AND l.source = w.source
		WHERE w.source <> $1 AND o.rank <= coalesce((SELECT rank FROM sources WHERE name = $1), 2147483647)`, source)
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// RankSources says whose values win: the first one's.
func (s *Store) RankSources(ctx context.Context, names []string) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		for i, n := range names {
			if _, err := tx.ExecContext(ctx, `UPDATE sources SET rank = $2 WHERE name = $1 AND name <> $3`, n, 100+i,
				estate.ByHand); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, database.BumpWorkloads, []string{}) // any value may be another one now
		return err
	})
}

// Disagreements returns the values of tags on which sources disagree and that
// nobody has settled by hand, the one that counts first; those of up to limit
// tags, and how many tags there are.
func (s *Store) Disagreements(ctx context.Context, offset, limit int) (values []inventory.SourceValue, tags int,
	err error) {
	values = []inventory.SourceValue{}
	const disputed = `SELECT workload, key FROM tags GROUP BY workload, key HAVING count(DISTINCT lower(value)) > 1
		AND NOT bool_or(source = 'by hand')`
	if err := s.SQL.GetContext(ctx, &tags, `SELECT count(*) FROM (`+disputed+`) AS d`); err != nil {
		return nil, 0, err
	}
	err = s.SQL.SelectContext(ctx, &values, `SELECT t.* FROM (SELECT * FROM (`+disputed+
		`) AS d ORDER BY workload COLLATE "C", key OFFSET $1 LIMIT $2) AS d JOIN tags t USING (workload, key) JOIN sources ON sources.name = t.source
		ORDER BY workload COLLATE "C", key, rank, source`, offset, limit)
	return values, tags, err
}

// ValuesOf returns what every source says of a workload's tags.
func (s *Store) ValuesOf(ctx context.Context, workload string) ([]inventory.SourceValue, error) {
	out := []inventory.SourceValue{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT tags.* FROM tags JOIN sources ON name = source WHERE workload = $1 ORDER BY key, rank, source`,
		workload)
	return out, err
}

// TagHistory returns what was said of a workload's tags and is said no more, newest
// first.
func (s *Store) TagHistory(ctx context.Context, workload string) ([]inventory.FormerValue, error) {
	out := []inventory.FormerValue{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT * FROM tag_history WHERE workload = $1 ORDER BY until DESC, key LIMIT 500`, workload)
	return out, err
}

// ValuesSince returns what was said of the tags of every workload of which something
// has changed since an instant: what was said then or later. Until is nil for
// what is still said.
func (s *Store) ValuesSince(ctx context.Context, from time.Time) ([]inventory.ValueSpan, error) {
	out := []inventory.ValueSpan{}
	err := s.SQL.SelectContext(ctx, &out, `WITH w AS (SELECT workload FROM tags WHERE at > $1 UNION SELECT workload
		FROM tag_history WHERE until > $1)
		SELECT workload, key, source, value, author, at, NULL AS until, rank FROM tags JOIN sources ON name = source
		WHERE workload IN (SELECT workload FROM w)
		UNION ALL SELECT workload, key, source, value, author, at, until, coalesce(rank, 1000000) FROM tag_history
		LEFT JOIN sources ON name = source WHERE until > $1
		ORDER BY workload, rank, source`, from)
	return out, err
}

// AddToken keeps the hash of a token's secret.
func (s *Store) AddToken(ctx context.Context, t inventory.Token, secret string) (inventory.Token, error) {
	sum := sha256.Sum256([]byte(secret))
	err := s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &t,
			`INSERT INTO tokens (name, source, hash, author, releases) VALUES ($1, $2, $3, $4, $5)
				RETURNING id, name, source, releases, author, made, used, revoked`, t.Name, t.Source, sum[:], t.Author,
			t.Release)
	})
	return t, err
}

// Tokens returns all tokens, newest first.
func (s *Store) Tokens(ctx context.Context) ([]inventory.Token, error) {
	out := []inventory.Token{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT id, name, source, releases, author, made, used, revoked FROM tokens ORDER BY id DESC`)
	return out, err
}

// RevokeToken ends a token, and says whether there is one.
func (s *Store) RevokeToken(ctx context.Context, id int64) (found bool, err error) {
	n, err := s.Exec(ctx, `UPDATE tokens SET revoked = coalesce(revoked, now()) WHERE id = $1`, id)
	return n > 0, err
}

// UseToken finds the token of a secret and notes that it was used; nil if there
// is none, or it was revoked.
func (s *Store) UseToken(ctx context.Context, secret string) (*inventory.Token, error) {
	sum := sha256.Sum256([]byte(secret))
	var t inventory.Token
	err := s.SQL.GetContext(ctx, &t,
		`UPDATE tokens SET used = now() WHERE hash = $1 AND revoked IS NULL
			RETURNING id, name, source, releases, author, made, used, revoked`, sum[:])
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// RefuseTags keeps refusals; with again, it drops them.
func (s *Store) RefuseTags(ctx context.Context, tags []inventory.RefusedTag, again bool) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		for _, t := range tags {
			query := `INSERT INTO refused_tags (workload, key, value, author) VALUES (:workload, :key, :value, :author)
				ON CONFLICT DO NOTHING`
			if again {
				query = `DELETE FROM refused_tags WHERE workload = :workload AND key = :key AND value = :value`
			}
			if _, err := tx.NamedExecContext(ctx, query, t); err != nil {
				return err
			}
		}
		return nil
	})
}

// RefusedTags returns all refusals.
func (s *Store) RefusedTags(ctx context.Context) ([]inventory.RefusedTag, error) {
	out := []inventory.RefusedTag{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM refused_tags ORDER BY at DESC, workload, key`)
	return out, err
}

// Selections returns the selections of a list by name.
func (s *Store) Selections(ctx context.Context, list string) ([]inventory.Selection, error) {
	out := []inventory.Selection{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM selections WHERE list = $1 OR $1 = '' ORDER BY list, name`,
		list)
	return out, err
}

// SaveSelection keeps a selection under its name.
func (s *Store) SaveSelection(ctx context.Context, x inventory.Selection) error {
	_, err := s.ExecNamed(ctx, `INSERT INTO selections (list, name, filter, author)
		VALUES (:list, :name, :filter, :author)
		ON CONFLICT (list, name) DO UPDATE SET filter = excluded.filter, author = excluded.author, at = now()`, x)
	return err
}

// DropSelection forgets a selection, and says whether there was one.
func (s *Store) DropSelection(ctx context.Context, list, name string) (found bool, err error) {
	n, err := s.Exec(ctx, `DELETE FROM selections WHERE list = $1 AND name = $2`, list, name)
	return n > 0, err
}

// SetInapplicable keeps for which workloads a tag does not apply, an expression; blank: it
// applies to all.
func (s *Store) SetInapplicable(ctx context.Context, key, where string) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		all := map[string]string{}
		if err := settings.Get(ctx, tx, "inapplicable", &all); err != nil {
			return err
		}
		if all[key] = where; where == "" {
			delete(all, key)
		}
		if err := settings.Set(ctx, tx, "inapplicable", all); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, database.BumpWorkloads, []string{})
		return err
	})
}

// SetStructural keeps which tag keys say where a workload belongs.
func (s *Store) SetStructural(ctx context.Context, keys []string) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		if err := settings.Set(ctx, tx, "structural", keys); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, database.BumpWorkloads, []string{})
		return err
	})
}
