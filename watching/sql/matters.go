package sql

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/core/flow"
	"lucidorchard/core/watch"
	"lucidorchard/database"
	"lucidorchard/watching"
)

// WatchStamps gives what each day was made from that was looked at.
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

// PutWatchedDay keeps what a day makes in place of what it made before, and gives the
// matters that are new by it, or again. Where another server was there with something newer,
// that stays.
func (s *Store) PutWatchedDay(ctx context.Context, d watching.WatchedDay) (opened []watching.Opening, err error) {
	of := []int64{d.Of.Conversations, d.Newest, d.Of.Workloads, int64(d.Of.Revision), d.Of.Points}
	err = s.WriteRows(ctx, database.WatchLock, func(tx pgx.Tx) error {
		opened = nil
		var newer bool
		if err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM watch_days, unnest(versions, $2::bigint[]) AS v (was, is_now)
			WHERE day = $1 AND was > is_now)`, d.Day, of).Scan(&newer); err != nil || newer {
			return err
		}
		before, err := readDayBefore(ctx, tx, d.Day)
		if err != nil {
			return err
		}
		// Each of the statements is one for all rows: a flood makes thousands of them.
		b := &pgx.Batch{}
		putMatters(b, &d, &opened)
		putCounts(b, &d)
		b.Queue(`INSERT INTO watch_days VALUES ($1, $2, $3) ON CONFLICT (day) DO UPDATE SET stamp = $2, versions = $3`, d.Day, d.Stamp, of)
		reopenGrown(b, &d, before, &opened)
		tellMore(b, &d, before)
		return tx.SendBatch(ctx, b).Close()
	})
	return opened, err
}

// dayBefore is what was stored of a day: connections of matters, and of what notices asked for.
type dayBefore struct {
	matters map[string]int64
	asked   map[askedFor]int64
}

// askedFor is traffic that a notice asked for.
type askedFor struct {
	notice  int64
	traffic string
}

func readDayBefore(ctx context.Context, tx pgx.Tx, day time.Time) (*dayBefore, error) {
	out := &dayBefore{map[string]int64{}, map[askedFor]int64{}}
	var id string
	var n int64
	rows, err := tx.Query(ctx, `SELECT matter, connections FROM matter_days WHERE day = $1`, day)
	if err == nil {
		_, err = pgx.ForEachRow(rows, []any{&id, &n}, func() error {
			out.matters[id] = n
			return nil
		})
	}
	if err != nil {
		return nil, err
	}
	var a askedFor
	if rows, err = tx.Query(ctx, `SELECT notice, traffic, connections FROM notice_days WHERE day = $1`, day); err == nil {
		_, err = pgx.ForEachRow(rows, []any{&a.notice, &a.traffic, &n}, func() error {
			out.asked[a] = n
			return nil
		})
	}
	return out, err
}

// putMatters stores the matters of a day with what they have on it, and notes those that
// are new.
func putMatters(b *pgx.Batch, d *watching.WatchedDay, opened *[]watching.Opening) {
	b.Queue(`DELETE FROM matter_days WHERE day = $1`, d.Day)
	b.Queue(`INSERT INTO matters (id, kind, title, why, about, first, last)
			SELECT id, kind, title, why, about, first, last FROM `+recordset(matterRow)+`
		ON CONFLICT (id) DO UPDATE SET title = CASE WHEN matters.last <= excluded.last THEN excluded.title ELSE matters.title END,
			why = CASE WHEN matters.last <= excluded.last THEN excluded.why ELSE matters.why END,
			about = CASE WHEN matters.last <= excluded.last THEN excluded.about ELSE matters.about END,
			first = least(matters.first, excluded.first), last = greatest(matters.last, excluded.last)
		RETURNING `+matterColumns+`, xmax = 0 AS fresh`, jsonOf(matterRows(d.Matters))).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByNameLax[struct {
			watching.Matter
			Fresh bool `db:"fresh"`
		}])
		for i := range list {
			if list[i].Fresh {
				*opened = append(*opened, watching.Opening{Matter: list[i].Matter})
			}
		}
		return err
	})
	days := make([]struct {
		ID string `json:"id"`
		watching.MatterDay
	}, len(d.Days))
	for i := range d.Days {
		days[i].ID, days[i].MatterDay = d.Matters[i].ID, d.Days[i]
	}
	b.Queue(`INSERT INTO matter_days (matter, day, conversations, connections, clients, servers, hours, carried, dropped, first, last)
		SELECT id, $2, conversations, connections, clients, servers, hours, coalesce(carried, '{}'), coalesce(dropped, '{}'), first, last FROM `+recordset(matterDayRow),
		jsonOf(days), d.Day)
}

// putCounts stores what was counted of a day, by hour, and its callers.
func putCounts(b *pgx.Batch, d *watching.WatchedDay) {
	b.Queue(`DELETE FROM watch_hours WHERE hour >= $1 AND hour < $1 + 24`, int32(d.Day.Unix()/3600))
	for hour, h := range d.Hours {
		b.Queue(`INSERT INTO watch_hours (hour, permitted, uncovered, held, leaks, chokes, unclear) VALUES ($1, $2, $3, $4, $5, $6, $7)`,
			int32(hour), h.Permitted, h.Uncovered, h.Held, h.Leaks, h.Chokes, h.Unclear)
	}
	b.Queue(`DELETE FROM watch_caller_days WHERE day = $1 OR day < $1::date - 60`, d.Day)
	who, what, points, firsts := callersOf(d)
	b.Queue(`INSERT INTO watch_callers SELECT * FROM unnest($1::text[], $2::text[], $3::bigint[], $4::timestamptz[])
		ON CONFLICT (who, what, point) DO UPDATE SET first = least(watch_callers.first, excluded.first)`, who, what, points, firsts)
	b.Queue(`INSERT INTO watch_caller_days SELECT who, what, point, $4 FROM unnest($1::text[], $2::text[], $3::bigint[]) AS x (who, what, point)`,
		who, what, points, d.Day)
}

// reopenGrown brings the last time of matters up to date, drops those that no day shows any
// more, and opens settled ones again that have grown.
func reopenGrown(b *pgx.Batch, d *watching.WatchedDay, before *dayBefore, opened *[]watching.Opening) {
	touched := map[string]bool{} // judged otherwise than before, the last of a matter may be earlier
	for id := range before.matters {
		touched[id] = true
	}
	for i := range d.Days {
		touched[d.Matters[i].ID] = true
	}
	b.Queue(`UPDATE matters m SET last = coalesce((SELECT max(last) FROM matter_days WHERE matter = m.id), last) WHERE id = ANY($1)`,
		slices.Collect(maps.Keys(touched)))
	// What no day shows any more goes, unless somebody did something with it.
	b.Queue(`DELETE FROM matters m WHERE NOT standing AND state = 'new' AND NOT EXISTS (SELECT FROM matter_days WHERE matter = m.id)`)
	b.Queue(`WITH open AS (UPDATE matters m SET state = 'new', opened = now(), changed = now(), size = 0 FROM matter_days x
			WHERE x.matter = m.id AND x.day = $1 AND m.state = 'settled' AND `+grown+` RETURNING m.*),
		said AS (INSERT INTO matter_log (matter, author, words) SELECT id, '', 'opened again: it has grown' FROM open)
		SELECT `+matterColumns+` FROM open`, d.Day).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[watching.Matter])
		for _, m := range list {
			*opened = append(*opened, watching.Opening{Matter: m, Again: true})
		}
		return err
	})
}

// tellMore queues messages about what the day has more of than when it was stored last.
func tellMore(b *pgx.Batch, d *watching.WatchedDay, before *dayBefore) {
	now := map[string]int64{}
	for i := range d.Days {
		now[d.Matters[i].ID] = d.Days[i].Connections
	}
	var tell []watching.Telling
	for _, t := range d.Tell {
		if more := now[t.Matter] - before.matters[t.Matter]; more > 0 {
			t.Message.Times = more
			tell = append(tell, t)
		}
	}
	b.Queue(`DELETE FROM notice_days WHERE day < $1::date - 7`, d.Day)
	var changed []watching.Asked
	for _, x := range d.Asked {
		more := x.Connections - before.asked[askedFor{x.Notice, x.Traffic}]
		if more == 0 {
			continue
		}
		changed = append(changed, x)
		if more < 0 {
			continue
		}
		for _, t := range x.Tell() {
			t.Message.Times = more
			tell = append(tell, t)
		}
	}
	if len(tell) > 0 {
		b.Queue(telling, tellingArgs(tell)...)
	}
	if len(changed) > 0 {
		b.Queue(putAsked, askedArgs(d.Day, changed)...)
	}
}

func jsonOf(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // of types of our own
	}
	return raw
}

func matterRows(list []watching.Matter) []map[string]any {
	out := make([]map[string]any, len(list))
	for i, m := range list {
		out[i] = map[string]any{"id": m.ID, "kind": m.Kind, "title": m.Title, "why": m.Why, "about": m.About, "first": m.First, "last": m.Last}
	}
	return out
}

// KnownCallers gives who reached what is watched before a time.
func (s *Store) KnownCallers(ctx context.Context, before time.Time) (watching.Callers, error) {
	var rows []struct {
		Who, What string
		Point     int64
	}
	if err := s.SQL.SelectContext(ctx, &rows, `SELECT who, what, point FROM watch_callers WHERE first < $1`, before); err != nil {
		return watching.Callers{}, err
	}
	known := make(map[watching.CallerKey]bool, len(rows))
	for _, r := range rows {
		known[watching.CallerKey{Who: r.Who, What: r.What, Service: r.Point}] = true
	}
	return watching.Callers{Some: known}, nil
}

// Silences gives the callers of what is watched who came on six of the seven days before
// yesterday, and neither yesterday nor today; none if nothing at all was seen yesterday.
func (s *Store) Silences(ctx context.Context, today time.Time) ([]watching.Silence, error) {
	var rows []struct {
		Who, What string
		Point     int64
		Last      time.Time
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT who, what, point, max(day) AS last FROM watch_caller_days
		WHERE day BETWEEN $1::date - 8 AND $1 AND EXISTS (SELECT FROM watch_caller_days WHERE day = $1::date - 1)
		GROUP BY who, what, point HAVING max(day) < $1::date - 1 AND count(*) FILTER (WHERE day BETWEEN $1::date - 8 AND $1::date - 2) >= 6
		ORDER BY who, what, point`, today)
	out := make([]watching.Silence, len(rows))
	for i, r := range rows {
		_, who, _ := strings.Cut(r.Who, " ")
		_, what, _ := strings.Cut(r.What, " ")
		out[i] = watching.Silence{Who: who, What: what, Service: r.Point, Last: r.Last}
	}
	return out, err
}

// WatchedMembers gives who was in groups when they were last looked at.
func (s *Store) WatchedMembers(ctx context.Context) (map[string]watching.Members, error) {
	out := map[string]watching.Members{}
	err := s.Read(ctx, func(tx pgx.Tx) error {
		list, err := database.Collect[watching.Members](ctx, tx, `SELECT group_name, members, undecided FROM watch_members`)
		for _, m := range list {
			out[m.Group] = m
		}
		return err
	})
	return out, err
}

// PutMembers keeps who is in groups now, in place of what was kept, with the matters that
// the difference makes, of a day.
func (s *Store) PutMembers(ctx context.Context, now []watching.Members, matters []watching.Matter, tells func(watching.Matter) []watching.Telling) (opened []watching.Opening, err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		opened = nil
		if _, err := tx.ExecContext(ctx, `DELETE FROM watch_members`); err != nil {
			return err
		}
		for _, m := range now {
			if _, err := tx.ExecContext(ctx, `INSERT INTO watch_members VALUES ($1, $2, $3)`, m.Group, m.In, m.Undecided); err != nil {
				return err
			}
		}
		for _, m := range matters {
			var is watching.Matter
			if err := tx.GetContext(ctx, &is, `INSERT INTO matters (id, kind, title, why, about, first, last, standing, ended) VALUES ($1, $2, $3, $4, $5, $6, $6, true, $6)
				ON CONFLICT (id) DO UPDATE SET title = $3, why = $4, about = $5, last = $6, state = 'new', opened = now()
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
// more. It gives those that are new, or new again.
// what gives the messages to put into the outbox with a matter that is new.
func (s *Store) PutStanding(ctx context.Context, kinds []string, list []watching.Matter, tells func(watching.Matter) []watching.Telling) (opened []watching.Opening, changed bool,
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
			if err := tx.GetContext(ctx, &is, `INSERT INTO matters (id, kind, title, why, about, first, last, standing) VALUES ($1, $2, $3, $4, $5, $6, $6, true)
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
		r, err := tx.ExecContext(ctx, `UPDATE matters SET ended = now() WHERE standing AND ended IS NULL AND kind = ANY($1) AND NOT id = ANY($2)`,
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
		if err := tx.SelectContext(ctx, &list, `WITH open AS (UPDATE matters SET state = 'new', opened = now(), changed = now(), size = 0, again = NULL
				WHERE state = 'settled' AND again <= now() RETURNING *),
			said AS (INSERT INTO matter_log (matter, author, words) SELECT id, '', 'opened again: its date has come' FROM open)
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

// Matters gives all that were seen since a time, or that somebody said something of since,
// or that still wait for somebody: the newest first.
func (s *Store) Matters(ctx context.Context, since time.Time) ([]watching.Matter, error) {
	out := []watching.Matter{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT `+matterColumns+` FROM matters
		WHERE last >= $1 OR changed >= $1 OR state IN ('new', 'with') OR standing AND (ended IS NULL OR ended >= $1) ORDER BY last DESC, id`, since)
}

// MatterDays gives what was seen of all matters on days since a time, the oldest first.
func (s *Store) MatterDays(ctx context.Context, since time.Time) (map[string][]watching.MatterDay, error) {
	return s.matterDays(ctx, `day >= $1`, since.UTC().Truncate(24*time.Hour))
}

func (s *Store) matterDays(ctx context.Context, where string, arg any) (map[string][]watching.MatterDay, error) {
	out := map[string][]watching.MatterDay{}
	err := s.Read(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT matter, day, conversations, connections, clients, servers, hours, carried, dropped, first, last FROM matter_days
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

// Matter gives one with its days and what was done with it, the newest first; false:
// there is none.
func (s *Store) Matter(ctx context.Context, id string) (m watching.Matter, days []watching.MatterDay, log []watching.MatterWord, found bool, err error) {
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
	err = s.SQL.SelectContext(ctx, &log, `SELECT at, author, words FROM matter_log WHERE matter = $1 ORDER BY at DESC`, id)
	return m, all[id], log, true, err
}

// PutMatterState keeps what somebody says of matters; what of them there is none of is
// left out.
func (s *Store) PutMatterState(ctx context.Context, ids []string, x watching.MatterState) (changed int, err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		var done []string
		if err := tx.SelectContext(ctx, &done, `UPDATE matters m SET state = $2, holder = $3, note = $4, again = $5, author = $6, changed = now(),
				size = coalesce((SELECT max(conversations) FROM matter_days WHERE matter = m.id), 0)
			WHERE id = ANY($1) RETURNING id`, ids, x.State, x.Holder, x.Note, x.Again, x.Author); err != nil {
			return err
		}
		changed = len(done)
		_, err := tx.ExecContext(ctx, `INSERT INTO matter_log (matter, author, words) SELECT unnest($1::text[]), $2, $3`, done, x.Author, x.Words)
		return err
	})
	return changed, err
}

// WatchHours gives what became of the connections of the hours [from, to).
func (s *Store) WatchHours(ctx context.Context, from, to flow.Hour) (map[flow.Hour]watch.Hour, error) {
	var rows []struct {
		Hour                                               int32
		Permitted, Uncovered, Held, Leaks, Chokes, Unclear int64
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT hour, permitted, uncovered, held, leaks, chokes, unclear FROM watch_hours WHERE hour >= $1 AND hour < $2`,
		int32(from), int32(to))
	out := make(map[flow.Hour]watch.Hour, len(rows))
	for _, r := range rows {
		out[flow.Hour(r.Hour)] = watch.Hour{Permitted: r.Permitted, Uncovered: r.Uncovered, Held: r.Held, Leaks: r.Leaks, Chokes: r.Chokes, Unclear: r.Unclear}
	}
	return out, err
}

// Watched gives the groups that somebody chose to watch, in order.
func (s *Store) Watched(ctx context.Context) ([]string, error) {
	out := []string{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT group_name FROM watched ORDER BY group_name`)
}

// PutWatched says which groups are watched.
func (s *Store) PutWatched(ctx context.Context, groups []string, author string) error {
	return s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM watched WHERE NOT group_name = ANY($1)`, groups); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO watched (group_name, author) SELECT unnest($1::text[]), $2 ON CONFLICT DO NOTHING`, groups, author)
		return err
	})
}
