// Package store keeps an estate, its policy document and its conversations in
// PostgreSQL. One file for each kind of record; every write is one
// transaction (tx.go).
//
// It must not know of HTTP or of what a policy means. Start reading at Open.
package store

import (
	"context"
	"database/sql"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db   *sqlx.DB
	gate func() error
}

// Gate sets what is asked before each write but those that make room; an error
// refuses it. Set it before the Store is used.
func (s *Store) Gate(f func() error) { s.gate = f }

// Open connects and brings the schema up to date; several servers may do so at
// once.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database URL cannot be read: %w", err)
	}
	db := sqlx.NewDb(stdlib.OpenDB(*config), "pgx")
	db.SetMaxOpenConns(20)
	db.SetMaxIdleConns(20) // to open one takes longer than most of what it is asked
	db.SetConnMaxIdleTime(time.Minute)
	if err := migrate(ctx, db.DB); err != nil {
		db.Close()
		return nil, err
	}
	s := &Store{db: db}
	if _, err := s.OpenEpoch(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("the epoch of the database cannot be opened: %w", err)
	}
	return s, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker(lock.WithLockTimeout(1, 120)) // try each second, for two minutes
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("the database cannot be brought up to date: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// Versions are numbers that grow with every write to what they name.
type Versions struct {
	Workloads     int64 `json:"workloads"`
	Conversations int64 `json:"conversations"`
	Probes        int64 `json:"probes"`
	Points        int64 `json:"-"` // of what is guarded, and of what points held
	Revision      int   `json:"revision"`
}

// Versions gives the current numbers.
func (s *Store) Versions(ctx context.Context) (Versions, error) {
	var v Versions
	err := v.scan(s.db.QueryRowContext(ctx, selectVersions))
	return v, err
}

const selectVersions = `SELECT (SELECT n FROM versions WHERE name = 'workloads'), (SELECT n FROM versions WHERE name = 'conversations'),
	(SELECT n FROM versions WHERE name = 'probes'), (SELECT coalesce(max(no), 0) FROM revisions),
	(SELECT n FROM versions WHERE name = 'points')`

func (v *Versions) scan(row interface{ Scan(...any) error }) error {
	return row.Scan(&v.Workloads, &v.Conversations, &v.Probes, &v.Revision, &v.Points)
}

const (
	bumpWorkloads = `WITH v AS (UPDATE versions SET n = n + 1 WHERE name = 'workloads' RETURNING n),
		old AS (DELETE FROM touched USING v WHERE version < n - 1000)
		INSERT INTO touched SELECT DISTINCT n, id FROM v, unnest($1::text[]) AS id`
	bumpConversations = `UPDATE versions SET n = n + 1 WHERE name = 'conversations'`
)
