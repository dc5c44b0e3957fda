package sql

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/core/flow"
	"lucidorchard/core/watch"
	"lucidorchard/database"
	"lucidorchard/watching"
)

// WatchStamps returns what each day was made from that was looked at.
func (s *Store) WatchStamps(ctx context.Context) (map[time.Time]string, error) {
	var rows []struct {
		Day   time.Time
		Stamp string
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT day, stamp FROM watch_days`)
	out := make(map[time.Time]string, len(rows))
	for _, r := range rows {
		out[r.Day.UTC()] = r.Stamp
	}
	return out, err
}

// KnownCallers returns who reached what is watched before a time.
func (s *Store) KnownCallers(ctx context.Context, before time.Time) (watching.Callers, error) {
	var rows []struct {
		Who, What string
		Point     int64
	}
	if err := s.SQL.SelectContext(ctx, &rows, `SELECT who, what, point FROM watch_callers WHERE first < $1`,
		before); err != nil {
		return watching.Callers{}, err
	}
	known := make(map[watching.CallerKey]bool, len(rows))
	for _, r := range rows {
		known[watching.CallerKey{Who: r.Who, What: r.What, Service: r.Point}] = true
	}
	return watching.Callers{Some: known}, nil
}

// Silences returns the callers of what is watched who came on six of the seven days before
// yesterday, and neither yesterday nor today; none if nothing at all was seen yesterday.
func (s *Store) Silences(ctx context.Context, today time.Time) ([]watching.Silence, error) {
	var rows []struct {
		Who, What string
		Point     int64
		Last      time.Time
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT who, what, point, max(day) AS last FROM watch_caller_days
		WHERE day BETWEEN $1::date - 8 AND $1 AND EXISTS (SELECT FROM watch_caller_days WHERE day = $1::date - 1)
		GROUP BY who, what, point HAVING max(day) < $1::date - 1 AND count(*) FILTER (WHERE day BETWEEN $1::date - 8
		AND $1::date - 2) >= 6
		ORDER BY who, what, point`, today)
	out := make([]watching.Silence, len(rows))
	for i, r := range rows {
		_, who, _ := strings.Cut(r.Who, " ")
		_, what, _ := strings.Cut(r.What, " ")
		out[i] = watching.Silence{Who: who, What: what, Service: r.Point, Last: r.Last}
	}
	return out, err
}

// WatchedMembers returns who was in groups when they were last looked at.
func (s *Store) WatchedMembers(ctx context.Context) (map[string]watching.Members, error) {
	out := map[string]watching.Members{}
	err := s.Read(ctx, func(tx pgx.Tx) error {
		list, err := database.Collect[watching.Members](ctx, tx, `SELECT group_name, members, undecided
			FROM watch_members`)
		for _, m := range list {
			out[m.Group] = m
		}
		return err
	})
	return out, err
}

// PutMembers keeps who is in groups now, in place of what was kept, with the matters that
// the difference makes, of a day.
func (s *Store) PutMembers(ctx context.Context, now []watching.Members, matters []watching.Matter,
	tells func(watching.Matter) []watching.Telling) (opened []watching.Opening, err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		opened = nil
		if _, err := tx.ExecContext(ctx, `DELETE FROM watch_members`); err != nil {
			return err
		}
		for _, m := range now {
			if _, err := tx.ExecContext(ctx, `INSERT INTO watch_members VALUES ($1, $2, $3)`, m.Group, m.In,
				m.Undecided); err != nil {
				return err
			}
		}
		for _, m := range matters {
			var is watching.Matter
			if err := tx.GetContext(ctx, &is, `INSERT INTO matters (id, kind, title, why, about, first, last, standing,
				ended) VALUES ($1, $2, $3, $4, $5, $6, $6, true, $6)
				ON CONFLICT (id) DO UPDATE
				SET title = $3, why = $4, about = $5, last = $6, state = 'new', opened = now()
				RETURNING `+matterColumns, m.ID, m.Kind, m.Title, m.Why, m.About, m.First); err != nil {
				return err
			}
			opened = append(opened, watching.Opening{Matter: is})
			if err := tellNow(ctx, tx, tells(is)); err != nil {
				return err
			}
		}
		return nil
	})
	return opened, err
}

// PutStanding keeps what is the matter just now of some kinds, and ends what is so no
// more. It returns those that are new, or new again.
// what returns the messages to put into the outbox with a matter that is new.
func (s *Store) PutStanding(ctx context.Context, kinds []string, list []watching.Matter,
	tells func(watching.Matter) []watching.Telling) (opened []watching.Opening, changed bool,
	err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		opened, changed = nil, false
		now := []string{}
		for _, m := range list {
			now = append(now, m.ID)
			var was watching.Matter
			err := tx.GetContext(ctx, &was, `SELECT `+matterColumns+` FROM matters WHERE id = $1`, m.ID)
			known := err == nil
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			back := known && was.Ended != nil
			if known && !back && was.Why == m.Why && string(was.Title) == string(m.Title) {
				continue
			}
			changed = true
			var is watching.Matter
			if err := tx.GetContext(ctx, &is, `INSERT INTO matters (id, kind, title, why, about, first, last, standing)
				VALUES ($1, $2, $3, $4, $5, $6, $6, true)
				ON CONFLICT (id) DO UPDATE SET title = $3, why = $4, about = $5, ended = NULL,
					last = CASE WHEN matters.ended IS NULL THEN matters.last ELSE $6 END,
					opened = CASE WHEN matters.ended IS NULL THEN matters.opened ELSE now() END,
					state = CASE WHEN matters.ended IS NULL THEN matters.state ELSE 'new' END
				RETURNING `+matterColumns, m.ID, m.Kind, m.Title, m.Why, m.About, m.First); err != nil {
				return err
			}
			if !known || back {
				opened = append(opened, watching.Opening{Matter: is, Again: back})
				if err := tellNow(ctx, tx, tells(is)); err != nil {
					return err
				}
			}
		}
		r, err := tx.ExecContext(ctx, `UPDATE matters SET ended = now() WHERE standing AND ended IS NULL
			AND kind = ANY($1) AND NOT id = ANY($2)`,
			kinds, now)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		changed = changed || n > 0
		return err
	})
	return opened, changed, err
}

// OpenDue opens settled matters again whose date has come.
func (s *Store) OpenDue(ctx context.Context) (opened []watching.Opening, err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		opened = nil
		var list []watching.Matter
		if err := tx.SelectContext(ctx, &list, `WITH open AS (UPDATE matters
			SET state = 'new', opened = now(), changed = now(), size = 0, again = NULL
				WHERE state = 'settled' AND again <= now() RETURNING *),
			said AS (INSERT INTO matter_log (matter, author, words) SELECT id, '', 'opened again: its date has come'
			FROM open)
			SELECT `+matterColumns+` FROM open`); err != nil {
			return err
		}
		for _, m := range list {
			opened = append(opened, watching.Opening{Matter: m, Again: true})
		}
		return nil
	})
	return opened, err
}

// Matters returns all that were seen since a time, or that somebody said something of since,
// or that still wait for somebody: the newest first.
func (s *Store) Matters(ctx context.Context, since time.Time) ([]watching.Matter, error) {
	out := []watching.Matter{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT `+matterColumns+` FROM matters
		WHERE last >= $1 OR changed >= $1 OR state IN ('new', 'with') OR standing AND (ended IS NULL OR ended >= $1)
		ORDER BY last DESC, id`, since)
}

// MatterDays returns what was seen of all matters on days since a time, the oldest first.
func (s *Store) MatterDays(ctx context.Context, since time.Time) (map[string][]watching.MatterDay, error) {
	return s.matterDays(ctx, `day >= $1`, since.UTC().Truncate(24*time.Hour))
}

func (s *Store) matterDays(ctx context.Context, where string, arg any) (map[string][]watching.MatterDay, error) {
	out := map[string][]watching.MatterDay{}
	err := s.Read(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT matter, day, conversations, connections, clients, servers, hours, carried,
			dropped, first, last FROM matter_days
			WHERE `+where+` ORDER BY matter, day`, arg)
		if err != nil {
			return err
		}
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[watching.MatterDay])
		for _, d := range list {
			out[d.Matter] = append(out[d.Matter], d)
		}
		return err
	})
	return out, err
}

// Matter returns one with its days and what was done with it, the newest first; false:
// there is none.
func (s *Store) Matter(ctx context.Context, id string) (m watching.Matter, days []watching.MatterDay,
	log []watching.MatterWord, found bool, err error) {
	if err = s.SQL.GetContext(ctx, &m, `SELECT `+matterColumns+` FROM matters WHERE id = $1`, id); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return m, nil, nil, false, err
	}
	all, err := s.matterDays(ctx, `matter = $1`, id)
	if err != nil {
		return m, nil, nil, false, err
	}
	log = []watching.MatterWord{}
	err = s.SQL.SelectContext(ctx, &log, `SELECT at, author, words FROM matter_log WHERE matter = $1 ORDER BY at DESC`,
		id)
	return m, all[id], log, true, err
}

// PutMatterState keeps what somebody says of matters; what of them there is none of is
// left out.
func (s *Store) PutMatterState(ctx context.Context, ids []string, x watching.MatterState) (changed int, err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		var done []string
		if err := tx.SelectContext(ctx, &done, `UPDATE matters m
			SET state = $2, holder = $3, note = $4, again = $5, author = $6, changed = now(),
				size = coalesce((SELECT max(conversations) FROM matter_days WHERE matter = m.id), 0)
			WHERE id = ANY($1) RETURNING id`, ids, x.State, x.Holder, x.Note, x.Again, x.Author); err != nil {
			return err
		}
		changed = len(done)
		_, err := tx.ExecContext(ctx,
			`INSERT INTO matter_log (matter, author, words) SELECT unnest($1::text[]), $2, $3`, done, x.Author, x.Words)
		return err
	})
	return changed, err
}

// WatchHours returns what became of the connections of the hours [from, to).
func (s *Store) WatchHours(ctx context.Context, from, to flow.Hour) (map[flow.Hour]watch.Hour, error) {
	var rows []struct {
		Hour                                               int32
		Permitted, Uncovered, Held, Leaks, Chokes, Unclear int64
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT hour, permitted, uncovered, held, leaks, chokes, unclear
		FROM watch_hours WHERE hour >= $1 AND hour < $2`,
		int32(from), int32(to))
	out := make(map[flow.Hour]watch.Hour, len(rows))
	for _, r := range rows {
		out[flow.Hour(r.Hour)] = watch.Hour{Permitted: r.Permitted, Uncovered: r.Uncovered, Held: r.Held,
			Leaks: r.Leaks, Chokes: r.Chokes, Unclear: r.Unclear}
	}
	return out, err
}

// Watched returns the groups that somebody chose to watch, in order.
func (s *Store) Watched(ctx context.Context) ([]string, error) {
	out := []string{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT group_name FROM watched ORDER BY group_name`)
}

// PutWatched reports which groups are watched.
func (s *Store) PutWatched(ctx context.Context, groups []string, author string) error {
	return s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM watched WHERE NOT group_name = ANY($1)`, groups); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO watched (group_name, author) SELECT unnest($1::text[]), $2
			ON CONFLICT DO NOTHING`, groups, author)
		return err
	})
}
