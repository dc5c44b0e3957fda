package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"lucidorchard/core/estate"
	"lucidorchard/database"
)

// Source is an inventory source.
type Source struct {
	Name    string            `db:"name" json:"name"`
	Rank    int               `db:"rank" json:"rank" doc:"The lower one's values win"`
	Mapping map[string]string `db:"-" json:"mapping,omitempty" doc:"What the headings of its files are"`
	Taken   *time.Time        `db:"taken" json:"taken,omitempty" doc:"When it was heard last"`
	Whole   *time.Time        `db:"whole" json:"whole,omitempty" doc:"When it last gave its complete list"`
	Listed  int               `db:"listed" json:"listed" doc:"Workloads that it lists"`
	Tags    int               `db:"tags" json:"tags" doc:"Tag values that it gives"`
	Raw     *[]byte           `db:"mapping" json:"-"`
}

// Sources gives the inventory sources, the one whose values win first.
func (s *Store) Sources(ctx context.Context) ([]Source, error) {
	out := []Source{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT name, rank, mapping, taken, whole, (SELECT count(*) FROM listed WHERE source = name) AS listed, (SELECT count(*) FROM tags WHERE source = name) AS tags
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

// Listed gives the ids of the workloads that a source lists.
func (s *Store) Listed(ctx context.Context, source string) ([]string, error) {
	out := []string{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT workload FROM listed WHERE source = $1 ORDER BY workload COLLATE "C"`, source)
	return out, err
}

// SpokenFor gives the ids of the workloads whose name, os and kind stay as they
// are, whatever a source says: a source that outranks it gave them, and lists
// them.
func (s *Store) SpokenFor(ctx context.Context, source string) (map[string]bool, error) {
	var ids []string
	err := s.SQL.SelectContext(ctx, &ids, `SELECT w.id FROM workloads w JOIN sources o ON o.name = w.source JOIN listed l ON l.workload = w.id AND l.source = w.source
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

// SourceValue is what one source says of one tag.
type SourceValue struct {
	Workload string    `db:"workload" json:"workload"`
	Key      string    `db:"key" json:"key"`
	Source   string    `db:"source" json:"source"`
	Value    string    `db:"value" json:"value"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// Disagreements gives the values of tags on which sources disagree and that
// nobody has settled by hand, the one that counts first; those of up to limit
// tags, and how many tags there are.
func (s *Store) Disagreements(ctx context.Context, offset, limit int) (values []SourceValue, tags int, err error) {
	values = []SourceValue{}
	const disputed = `SELECT workload, key FROM tags GROUP BY workload, key HAVING count(DISTINCT lower(value)) > 1 AND NOT bool_or(source = 'by hand')`
	if err := s.SQL.GetContext(ctx, &tags, `SELECT count(*) FROM (`+disputed+`) AS d`); err != nil {
		return nil, 0, err
	}
	err = s.SQL.SelectContext(ctx, &values, `SELECT t.* FROM (SELECT * FROM (`+disputed+`) AS d ORDER BY workload COLLATE "C", key OFFSET $1 LIMIT $2) AS d JOIN tags t USING (workload, key) JOIN sources ON sources.name = t.source
		ORDER BY workload COLLATE "C", key, rank, source`, offset, limit)
	return values, tags, err
}

// SaidOf gives what every source says of a workload's tags.
func (s *Store) SaidOf(ctx context.Context, workload string) ([]SourceValue, error) {
	out := []SourceValue{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT tags.* FROM tags JOIN sources ON name = source WHERE workload = $1 ORDER BY key, rank, source`,
		workload)
	return out, err
}

// FormerValue is what a source or a person said of a tag before.
type FormerValue struct {
	SourceValue
	Until time.Time `db:"until" json:"until"`
}

// TagHistory gives what was said of a workload's tags and is said no more, newest
// first.
func (s *Store) TagHistory(ctx context.Context, workload string) ([]FormerValue, error) {
	out := []FormerValue{}
	err := s.SQL.SelectContext(ctx, &out,
		`SELECT * FROM tag_history WHERE workload = $1 ORDER BY until DESC, key LIMIT 500`, workload)
	return out, err
}

// SaidSince gives what was said of the tags of every workload of which something
// has changed since an instant: what was said then or later. Until is nil for
// what is still said.
func (s *Store) SaidSince(ctx context.Context, from time.Time) ([]SaidValue, error) {
	out := []SaidValue{}
	err := s.SQL.SelectContext(ctx, &out, `WITH w AS (SELECT workload FROM tags WHERE at > $1 UNION SELECT workload FROM tag_history WHERE until > $1)
		SELECT workload, key, source, value, author, at, NULL AS until, rank FROM tags JOIN sources ON name = source WHERE workload IN (SELECT workload FROM w)
		UNION ALL SELECT workload, key, source, value, author, at, until, coalesce(rank, 1000000) FROM tag_history LEFT JOIN sources ON name = source WHERE until > $1
		ORDER BY workload, rank, source`, from)
	return out, err
}

// SaidValue is a value with the span in which it was said.
type SaidValue struct {
	SourceValue
	Until *time.Time `db:"until"`
	Rank  int        `db:"rank"`
}

// Token lets a script feed one source.
type Token struct {
	ID      int64      `db:"id" json:"id"`
	Name    string     `db:"name" json:"name"`
	Source  string     `db:"source" json:"source" doc:"That it feeds"`
	Release bool       `db:"releases" json:"releases" doc:"It may release policies, and feeds nothing"`
	Author  string     `db:"author" json:"author"`
	Made    time.Time  `db:"made" json:"made"`
	Used    *time.Time `db:"used" json:"used,omitempty"`
	Revoked *time.Time `db:"revoked" json:"revoked,omitempty"`
}

// AddToken keeps the hash of a token's secret.
func (s *Store) AddToken(ctx context.Context, t Token, secret string) (Token, error) {
	sum := sha256.Sum256([]byte(secret))
	err := s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &t,
			`INSERT INTO tokens (name, source, hash, author, releases) VALUES ($1, $2, $3, $4, $5) RETURNING id, name, source, releases, author, made, used, revoked`, t.Name, t.Source, sum[:], t.Author, t.Release)
	})
	return t, err
}

// Tokens gives all tokens, newest first.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	out := []Token{}
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
func (s *Store) UseToken(ctx context.Context, secret string) (*Token, error) {
	sum := sha256.Sum256([]byte(secret))
	var t Token
	err := s.SQL.GetContext(ctx, &t,
		`UPDATE tokens SET used = now() WHERE hash = $1 AND revoked IS NULL RETURNING id, name, source, releases, author, made, used, revoked`, sum[:])
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// RefusedTag is a suggestion that somebody said is wrong.
type RefusedTag struct {
	Workload string    `db:"workload" json:"workload"`
	Key      string    `db:"key" json:"key"`
	Value    string    `db:"value" json:"value"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// RefuseTags keeps refusals; with again, it drops them.
func (s *Store) RefuseTags(ctx context.Context, tags []RefusedTag, again bool) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		for _, t := range tags {
			query := `INSERT INTO refused_tags (workload, key, value, author) VALUES (:workload, :key, :value, :author) ON CONFLICT DO NOTHING`
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

// RefusedTags gives all refusals.
func (s *Store) RefusedTags(ctx context.Context) ([]RefusedTag, error) {
	out := []RefusedTag{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM refused_tags ORDER BY at DESC, workload, key`)
	return out, err
}

// Selection is a filter of a list under a name.
type Selection struct {
	List   string    `db:"list" json:"list"`
	Name   string    `db:"name" json:"name"`
	Filter string    `db:"filter" json:"filter" doc:"The query of the page's address"`
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
}

// Selections gives the selections of a list by name.
func (s *Store) Selections(ctx context.Context, list string) ([]Selection, error) {
	out := []Selection{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM selections WHERE list = $1 OR $1 = '' ORDER BY list, name`,
		list)
	return out, err
}

// SaveSelection keeps a selection under its name.
func (s *Store) SaveSelection(ctx context.Context, x Selection) error {
	_, err := s.ExecNamed(ctx, `INSERT INTO selections (list, name, filter, author) VALUES (:list, :name, :filter, :author)
		ON CONFLICT (list, name) DO UPDATE SET filter = excluded.filter, author = excluded.author, at = now()`, x)
	return err
}

// DropSelection forgets a selection, and says whether there was one.
func (s *Store) DropSelection(ctx context.Context, list, name string) (found bool, err error) {
	n, err := s.Exec(ctx, `DELETE FROM selections WHERE list = $1 AND name = $2`, list, name)
	return n > 0, err
}

// Setting reads a setting into what to points to, which stays as it is if
// nothing was set.
func (s *Store) Setting(ctx context.Context, name string, to any) error {
	var raw []byte
	err := s.SQL.GetContext(ctx, &raw, `SELECT value FROM settings WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, to)
}

// SetStructural keeps which tag keys say where a workload belongs.
func (s *Store) SetStructural(ctx context.Context, keys []string) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		if err := set(ctx, tx, "structural", keys); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, database.BumpWorkloads, []string{})
		return err
	})
}

// Set keeps a setting. Servers read it again with the workloads.
func (s *Store) Set(ctx context.Context, name string, value any) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error { return set(ctx, tx, name, value) })
}

func set(ctx context.Context, tx *sqlx.Tx, name string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return fmt.Errorf("the setting %s cannot be kept: %w", name, err)
	}
	_, err = tx.ExecContext(ctx,
		`INSERT INTO settings VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, name,
		string(raw))
	return err
}
