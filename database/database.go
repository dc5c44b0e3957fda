// Package database opens PostgreSQL, yours or a cluster of its own on loopback, brings its
// schema up to date, and runs transactions in it: each takes its lock first, is tried again
// where another came between, and knows what became of it when the answer to COMMIT is lost.
//
// It knows the few tables that every step shares: versions, the keys of requests, and whether
// a job has stored its result. It must not know what the others mean. A DB is safe for
// concurrent use. Start reading at Open and DB.Write.
package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

// DB is an open database.
type DB struct {
	SQL  *sqlx.DB // for statements that need no transaction of their own
	gate func() error
}

// Gate sets what is asked before each write except those that make room (MakingRoom); an
// error refuses the write. Set it before the DB is used.
func (d *DB) Gate(f func() error) { d.gate = f }

// Open connects and brings the schema up to date. Several servers may do so at once.
func Open(ctx context.Context, url string) (*DB, error) {
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
	return &DB{SQL: db}, nil
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
func (d *DB) Close() error { return d.SQL.Close() }

// Ping reports whether the database answers.
func (d *DB) Ping(ctx context.Context) error { return d.SQL.PingContext(ctx) }

// ErrNone reports that what was asked for is not there.
var ErrNone = sql.ErrNoRows

// ErrTaken reports that there is something of that name.
var ErrTaken = errors.New("there is something of that name already")

// ErrMoved reports that the document has changed since it was read.
var ErrMoved = errors.New("the document has changed meanwhile")
