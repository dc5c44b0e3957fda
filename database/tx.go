package database

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
)

// Every transaction that writes takes one of these locks, and takes it first: so
// what it checks before it writes is still so when it has written. What needs
// both takes that of traffic first: so none waits for another in a circle.
const (
	TrafficLock = 7411 // conversations, records, batches
	EditLock    = 7412 // all else
	WatchLock   = 7413 // what is found by watching, and what people say of it
)

// UnknownError reports that the answer to a COMMIT was lost, and that the database
// could not be asked either: what was to be stored may be stored or not. A
// request that carried a Key can be sent again with it.
type UnknownError struct{ Err error }

func (e *UnknownError) Error() string {
	return "the connection to the database broke off in the very moment of storing; whether it was stored is not " +
		"known: " + e.Err.Error()
}

func (e *UnknownError) Unwrap() error { return e.Err }

// RepeatedError reports that a request with the same key was stored before.
type RepeatedError struct{ Key string }

func (e *RepeatedError) Error() string {
	return "this was stored already, when it was sent the first time; nothing was changed again"
}

// Write runs f in a transaction under a lock. It is tried again where another
// transaction came between.
func (d *DB) Write(ctx context.Context, lock int, f func(*sqlx.Tx) error) error {
	return d.again(ctx, func() (string, error) {
		// The end of the request ends its statements, but not the COMMIT: else nobody
		// knew what became of it.
		life, end := context.WithCancel(context.WithoutCancel(ctx))
		defer end()
		tx, err := d.SQL.BeginTxx(life, nil)
		if err != nil {
			return "", err
		}
		defer tx.Rollback() //nolint:errcheck // after Commit it does nothing
		var id string
		if err := tx.GetContext(ctx, &id, begun, lock); err != nil {
			return "", err
		}
		if err := useKey(ctx, func(query string, args ...any) (int64, error) {
			r, err := tx.ExecContext(ctx, query, args...)
			if err != nil {
				return 0, err
			}
			return r.RowsAffected()
		}); err != nil {
			return "", err
		}
		if err := f(tx); err != nil {
			return "", err
		}
		if err := ctx.Err(); err != nil {
			return "", err
		}
		defer time.AfterFunc(commitPatience, end).Stop()
		return id, tx.Commit()
	})
}

// WriteRows is Write for what needs the connection itself, such as COPY.
func (d *DB) WriteRows(ctx context.Context, lock int, f func(pgx.Tx) error) error {
	return d.again(ctx, func() (id string, err error) {
		err = d.onConn(ctx, func(conn *pgx.Conn) error {
			tx, err := conn.Begin(ctx)
			if err != nil {
				return err
			}
			life, end := context.WithTimeout(context.WithoutCancel(ctx), commitPatience)
			defer end()
			defer tx.Rollback(life) //nolint:errcheck // after Commit it does nothing
			var told string
			if err := tx.QueryRow(ctx, begun, lock).Scan(&told); err != nil {
				return err
			}
			if err := useKey(ctx, func(query string, args ...any) (int64, error) {
				tag, err := tx.Exec(ctx, query, args...)
				return tag.RowsAffected(), err
			}); err != nil {
				return err
			}
			if err := f(tx); err != nil {
				return err
			}
			// Last, so that the job's row is free for all else that is said of it.
			if err := jobStored(ctx, tx); err != nil {
				return err
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			id = told
			commit, end2 := context.WithTimeout(context.WithoutCancel(ctx), commitPatience)
			defer end2()
			return tx.Commit(commit)
		})
		return id, err
	})
}

// Exec is a Write of one statement.
func (d *DB) Exec(ctx context.Context, query string, args ...any) (rows int64, err error) {
	err = d.Write(ctx, EditLock, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, query, args...)
		if err == nil {
			rows, err = r.RowsAffected()
		}
		return err
	})
	return rows, err
}

// ExecNamed is Exec with the fields of a struct as arguments.
func (d *DB) ExecNamed(ctx context.Context, query string, arg any) (rows int64, err error) {
	err = d.Write(ctx, EditLock, func(tx *sqlx.Tx) error {
		r, err := tx.NamedExecContext(ctx, query, arg)
		if err == nil {
			rows, err = r.RowsAffected()
		}
		return err
	})
	return rows, err
}

// Read runs f in a transaction that sees one state of the database.
func (d *DB) Read(ctx context.Context, f func(pgx.Tx) error) error {
	return d.onConn(ctx, func(conn *pgx.Conn) error {
		return pgx.BeginTxFunc(ctx, conn, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, f)
	})
}

func (d *DB) onConn(ctx context.Context, f func(*pgx.Conn) error) error {
	conn, err := d.SQL.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error {
		pg, ok := driver.(*stdlib.Conn)
		if !ok {
			return errors.New("the database driver is not pgx")
		}
		return f(pg.Conn())
	})
}

// begun takes the lock of a transaction and gives its id.
const begun = `SELECT pg_current_xact_id()::text FROM (SELECT pg_advisory_xact_lock($1)) AS locked`

const (
	commitPatience = 30 * time.Second
	mostTries      = 6
)

// again tries a transaction until it is through. once gives the transaction's id
// if it got as far as its COMMIT.
func (d *DB) again(ctx context.Context, once func() (id string, err error)) error {
	if d.gate != nil && ctx.Value(roomKey{}) == nil {
		if err := d.gate(); err != nil {
			return err
		}
	}
	for try := 1; ; try++ {
		id, err := once()
		if err == nil {
			return nil
		}
		if k := keyOfRequest(ctx); k != nil {
			k.used = false
		}
		var told *pgconn.PgError
		answered := errors.As(err, &told)
		if id != "" && !answered { // the answer to COMMIT is missing
			committed, known := d.became(ctx, id)
			switch {
			case !known:
				return &UnknownError{err}
			case committed:
				return nil
			}
			return err
		}
		if !answered || told.Code != "40001" && told.Code != "40P01" || try == mostTries {
			return err
		}
		select {
		case <-time.After(time.Duration(try*try) * 10 * time.Millisecond):
		case <-ctx.Done():
			return err
		}
	}
}

// became asks what became of a transaction, until the database says so or
// patience ends.
func (d *DB) became(ctx context.Context, id string) (committed, known bool) {
	patience := 10 * time.Second
	if d, ok := ctx.Value(patienceKey{}).(time.Duration); ok {
		patience = d
	}
	ask, done := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer done()
	for {
		var status *string
		err := d.SQL.GetContext(ask, &status, `SELECT pg_xact_status($1::xid8)`, id)
		switch {
		case err == nil && status == nil:
			return false, false // too long ago
		case err == nil && *status != "in progress":
			return *status == "committed", true
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ask.Done():
			return false, false
		}
	}
}

// MakingRoom returns the context of a write that makes room: the gate lets it through.
func MakingRoom(ctx context.Context) context.Context { return context.WithValue(ctx, roomKey{}, true) }

type roomKey struct{}

type patienceKey struct{}

// Patient returns a context whose writes wait longer than usual to learn what
// became of them when the database goes away: for work that nobody waits for.
func Patient(ctx context.Context, d time.Duration) context.Context {
	return context.WithValue(ctx, patienceKey{}, d)
}

// Key makes a request safe to send again: what it stores is stored with its key,
// in the same transaction.
type Key struct {
	Text        string
	Fingerprint string // of the request
	used        bool
}

type requestKey struct{}

// WithKey returns the context of a request that carries a key.
func WithKey(ctx context.Context, k *Key) context.Context {
	return context.WithValue(ctx, requestKey{}, k)
}

func keyOfRequest(ctx context.Context) *Key {
	k, _ := ctx.Value(requestKey{}).(*Key)
	return k
}

// Used reports whether something was stored under the key by this request.
func (k *Key) Used() bool { return k.used }

func useKey(ctx context.Context, exec func(query string, args ...any) (int64, error)) error {
	k := keyOfRequest(ctx)
	if k == nil || k.used { // one request may store several things one after the other
		return nil
	}
	n, err := exec(`INSERT INTO requests (key, fingerprint) VALUES ($1, $2) ON CONFLICT DO NOTHING`, k.Text,
		k.Fingerprint)
	if err == nil && n == 0 {
		err = &RepeatedError{k.Text}
	}
	k.used = err == nil
	return err
}

// Answered is a request that was stored, with what was answered.
type Answered struct {
	Fingerprint string `db:"fingerprint"`
	Status      int    `db:"status"` // 0: the answer was not kept
	Type        string `db:"type"`
	Location    string `db:"location"`
	Body        []byte `db:"body"`
}

// Request finds the request with a key; nil if nothing was stored under it.
func (d *DB) Request(ctx context.Context, key string) (*Answered, error) {
	var all []Answered
	err := d.SQL.SelectContext(ctx, &all,
		`SELECT fingerprint, coalesce(status, 0) AS status, coalesce(type, '') AS type, coalesce(location,
			'') AS location, body FROM requests WHERE key = $1`, key)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// KeepAnswer keeps what was answered to a request.
func (d *DB) KeepAnswer(ctx context.Context, key string, a Answered) error {
	_, err := d.SQL.ExecContext(ctx,
		`UPDATE requests SET status = $2, type = $3, location = $4, body = $5 WHERE key = $1`, key, a.Status, a.Type,
		a.Location, a.Body)
	return err
}

// ForgetRequests drops the keys of requests that nobody sends again any more.
func (d *DB) ForgetRequests(ctx context.Context) error {
	_, err := d.SQL.ExecContext(ctx, `DELETE FROM requests WHERE at < now() - interval '7 days'`)
	return err
}

// DataError reports that the database refuses something for what it holds, and not
// because it cannot be reached: to try again is of no use.
type DataError struct {
	Reason string
	Code   string // SQLSTATE
}

func (e *DataError) Error() string { return e.Reason }

// Refused returns the DataError that an error is about; nil if it is about
// something else. Class 22 of SQLSTATE is data exceptions, 23 constraints; a
// program limit (54) that one row exceeds is no better the next time.
func Refused(err error) *DataError {
	var pg *pgconn.PgError
	if err != nil && tooLarge.MatchString(err.Error()) { // pgx has no type for it
		return &DataError{tooLarge.FindString(err.Error()), "22003"}
	}
	if !errors.As(err, &pg) || len(pg.Code) != 5 {
		return nil
	}
	switch pg.Code[:2] {
	case "22", "23", "54":
		reason := pg.Message
		if pg.Detail != "" {
			reason = fmt.Sprintf("%s: %s", reason, pg.Detail)
		}
		return &DataError{reason, pg.Code}
	}
	return nil
}

// tooLarge is how pgx says that a number does not fit into a column.
var tooLarge = regexp.MustCompile(`-?\d+ is (greater than maximum|less than minimum) value for int\d`)

// Full reports whether an error says that the database has no room left on its
// disk (SQLSTATE 53100).
func Full(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "53100"
}

type jobKey struct{}

// WithJob returns the context in which a job stores what it makes: that it was
// stored is stored with it.
func WithJob(ctx context.Context, id int64) context.Context {
	return context.WithValue(ctx, jobKey{}, id)
}

// jobStored notes in a transaction that it stores what a job makes.
func jobStored(ctx context.Context, tx pgx.Tx) error {
	id, ok := ctx.Value(jobKey{}).(int64)
	if !ok {
		return nil
	}
	tag, err := tx.Exec(ctx, `UPDATE jobs SET stored = now() WHERE id = $1 AND state = 'running'`, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = fmt.Errorf("the job %d was given up meanwhile; nothing of it was stored", id)
	}
	return err
}
