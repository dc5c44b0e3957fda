package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Release is a revision of the policy under a number; it never changes.
type Release struct {
	No       int       `db:"no" json:"no"`
	Revision int       `db:"revision" json:"revision" doc:"Of the policy"`
	Title    string    `db:"title" json:"title"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// Point is an enforcement point.
type Point struct {
	Name     string     `db:"name" json:"name"`
	Kind     string     `db:"kind" json:"kind" enum:"host,gate,file"`
	Side     string     `db:"side" json:"side" enum:"server,client,both"`
	Guards   string     `db:"guards" json:"guards" doc:"An expression"`
	Wave     int        `db:"wave" json:"wave"`
	PutsBack bool       `db:"puts_back" json:"putsBack" doc:"Whether it puts back what is changed by hand"`
	Author   string     `db:"author" json:"author"`
	Made     time.Time  `db:"made" json:"made"`
	Release  *int       `db:"release" json:"release,omitempty" doc:"That it is to hold; none: nothing"`
	Mode     string     `db:"mode" json:"mode" enum:"off,observe,enforce" doc:"In which it is to hold it"`
	Again    int        `db:"again" json:"-"` // how often it was told the same anew
	Aimed    *time.Time `db:"aimed" json:"aimed,omitempty" doc:"When it was told what to hold"`
	Heard    *time.Time `db:"heard" json:"heard,omitempty" doc:"When it was heard of last"`
	Said     []byte     `db:"said" json:"-"` // JSON; none: it was never heard of
}

// PointEvent is something that happened at a point.
type PointEvent struct {
	Point string    `db:"point" json:"point"`
	At    time.Time `db:"at" json:"at"`
	What  string    `db:"what" json:"what" doc:"told, applied, refused, drifted, put back, went back, ended"`
	Words string    `db:"words" json:"words"`
	// What the point held since; none: what it held before.
	Release *int    `db:"release" json:"release,omitempty"`
	Mode    *string `db:"mode" json:"mode,omitempty"`
}

// Target is what points are to hold.
type Target struct {
	Points  []string
	Release *int // nil: nothing
	Mode    string
	Words   string // for their histories
}

const pointColumns = `name, kind, side, guards, wave, puts_back, author, made, release, mode, again, aimed, heard, said`

// Releases gives all releases, newest first.
func (s *Store) Releases(ctx context.Context) ([]Release, error) {
	out := []Release{}
	return out, s.db.SelectContext(ctx, &out, `SELECT no, revision, title, author, at FROM releases ORDER BY no DESC`)
}

// AddRelease puts a revision under the number that it names, and tells points to hold
// it, in one transaction; ErrMoved if that is not the next number any more.
func (s *Store) AddRelease(ctx context.Context, r Release, start Target) (Release, error) {
	err := s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &r, `INSERT INTO releases (no, revision, title, author)
			SELECT $1, $2, $3, $4 WHERE $1 = (SELECT coalesce(max(no), 0) + 1 FROM releases)
			RETURNING no, revision, title, author, at`, r.No, r.Revision, r.Title, r.Author)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrMoved
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, bumpPoints); err != nil {
			return err
		}
		return aim(ctx, tx, start)
	})
	return r, err
}

// Aim tells points what to hold.
func (s *Store) Aim(ctx context.Context, targets ...Target) error {
	return s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		for _, t := range targets {
			if err := aim(ctx, tx, t); err != nil {
				return err
			}
		}
		return nil
	})
}

func aim(ctx context.Context, tx *sqlx.Tx, t Target) error {
	if len(t.Points) == 0 {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `UPDATE points SET release = $2, mode = $3, aimed = now() WHERE name = ANY($1)`, t.Points,
		t.Release, t.Mode); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO point_history (point, what, words)
		SELECT name, 'told', $2 FROM points WHERE name = ANY($1)`, t.Points, t.Words)
	return err
}

// TellAgain tells a point anew what it is to hold, and says whether there is one.
func (s *Store) TellAgain(ctx context.Context, name, words string) (found bool, err error) {
	err = s.write(ctx, editLock, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `WITH told AS (UPDATE points SET again = again + 1 WHERE name = $1 RETURNING name)
			INSERT INTO point_history (point, what, words) SELECT name, 'told', $2 FROM told`, name, words)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		found = n > 0
		return err
	})
	return found, err
}

// Points gives all enforcement points, by wave and name.
func (s *Store) Points(ctx context.Context) ([]Point, error) {
	out := []Point{}
	return out, s.db.SelectContext(ctx, &out, `SELECT `+pointColumns+` FROM points ORDER BY wave, name`)
}

// ErrTaken says that there is something of that name.
var ErrTaken = errors.New("there is something of that name already")

// AddPoint keeps a point, with the hash of its token.
func (s *Store) AddPoint(ctx context.Context, p Point, token string) error {
	sum := sha256.Sum256([]byte(token))
	n, err := s.exec(ctx, `WITH v AS (`+bumpPoints+`)
		INSERT INTO points (name, kind, side, guards, wave, puts_back, author, hash)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (name) DO NOTHING`, p.Name, p.Kind, p.Side, p.Guards, p.Wave,
		p.PutsBack, p.Author, sum[:])
	if err == nil && n == 0 {
		return ErrTaken
	}
	return err
}

// DropPoint forgets a point and its history, and says whether there was one.
func (s *Store) DropPoint(ctx context.Context, name string) (bool, error) {
	n, err := s.exec(ctx, `WITH v AS (`+bumpPoints+`) DELETE FROM points WHERE name = $1`, name)
	return n > 0, err
}

// PointOf finds the point of a token; nil if there is none.
func (s *Store) PointOf(ctx context.Context, token string) (*Point, error) {
	sum := sha256.Sum256([]byte(token))
	var p Point
	err := s.db.GetContext(ctx, &p, `SELECT `+pointColumns+` FROM points WHERE hash = $1`, sum[:])
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &p, err
}

// Heard keeps what a point says that it holds, and what happened to it since. If that is nothing
// new, nobody waits until it is on the disk.
func (s *Store) Heard(ctx context.Context, point string, said json.RawMessage, events []PointEvent, news bool) error {
	list, err := json.Marshal(events)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `WITH heard AS (UPDATE points SET heard = now(), said = $2
			WHERE name = $1 AND ($4 OR set_config('synchronous_commit', 'off', true) IS NOT NULL) RETURNING name),
		v AS (`+bumpPoints+` AND jsonb_array_length($3) > 0)
		INSERT INTO point_history (point, what, words, at, release, mode) SELECT heard.name, e.what, e.words, e.at, e.release, e.mode
		FROM heard, jsonb_to_recordset($3) AS e(what text, words text, at timestamptz, release integer, mode text)`,
		point, string(said), string(list), news)
	return err
}

// PointHistory gives what happened at a point, newest first.
func (s *Store) PointHistory(ctx context.Context, point string, limit int) ([]PointEvent, error) {
	out := []PointEvent{}
	return out, s.db.SelectContext(ctx, &out, `SELECT point, at, what, words, release, mode FROM point_history WHERE point = $1
		ORDER BY id DESC LIMIT $2`, point, limit)
}
