package sql

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/database"
	"lucidorchard/watching"
)

// PutWatchedDay keeps what a day makes in place of what it made before, and returns the
// matters that are new by it, or again. Where another server was there with something newer,
// that stays.
func (s *Store) PutWatchedDay(ctx context.Context, d watching.WatchedDay) (opened []watching.Opening, err error) {
	of := []int64{d.Of.Conversations, d.Newest, d.Of.Workloads, int64(d.Of.Revision), d.Of.Points}
	err = s.WriteRows(ctx, database.WatchLock, func(tx pgx.Tx) error {
		opened = nil
		var newer bool
		if err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT
			FROM watch_days, unnest(versions, $2::bigint[]) AS v (was, is_now)
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
		b.Queue(`INSERT INTO watch_days VALUES ($1, $2, $3) ON CONFLICT (day) DO UPDATE SET stamp = $2, versions = $3`,
			d.Day, d.Stamp, of)
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
	if rows, err = tx.Query(ctx, `SELECT notice, traffic, connections FROM notice_days WHERE day = $1`,
		day); err == nil {
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
		ON CONFLICT (id) DO UPDATE SET title = CASE WHEN matters.last <= excluded.last THEN excluded.title
		ELSE matters.title END,
			why = CASE WHEN matters.last <= excluded.last THEN excluded.why ELSE matters.why END,
			about = CASE WHEN matters.last <= excluded.last THEN excluded.about ELSE matters.about END,
			first = least(matters.first, excluded.first), last = greatest(matters.last, excluded.last)
		RETURNING `+matterColumns+`, xmax = 0 AS fresh`,
		jsonOf(matterRows(d.Matters))).Query(func(rows pgx.Rows) error {
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
	b.Queue(`INSERT INTO matter_days (matter, day, conversations, connections, clients, servers, hours, carried,
		dropped, first, last)
		SELECT id, $2, conversations, connections, clients, servers, hours, coalesce(carried, '{}'), coalesce(dropped,
		'{}'), first, last FROM `+recordset(matterDayRow),
		jsonOf(matterDayRows(d)), d.Day)
}

// putCounts stores what was counted of a day, by hour, and its callers.
func putCounts(b *pgx.Batch, d *watching.WatchedDay) {
	b.Queue(`DELETE FROM watch_hours WHERE hour >= $1 AND hour < $1 + 24`, int32(d.Day.Unix()/3600))
	for hour, h := range d.Hours {
		b.Queue(`INSERT INTO watch_hours (hour, permitted, uncovered, held, leaks, chokes, unclear)
			VALUES ($1, $2, $3, $4, $5, $6, $7)`,
			int32(hour), h.Permitted, h.Uncovered, h.Held, h.Leaks, h.Chokes, h.Unclear)
	}
	b.Queue(`DELETE FROM watch_caller_days WHERE day = $1 OR day < $1::date - 60`, d.Day)
	who, what, points, firsts := callersOf(d)
	b.Queue(`INSERT INTO watch_callers SELECT * FROM unnest($1::text[], $2::text[], $3::bigint[], $4::timestamptz[])
		ON CONFLICT (who, what, point) DO UPDATE
		SET first = least(watch_callers.first, excluded.first)`, who, what, points, firsts)
	b.Queue(`INSERT INTO watch_caller_days SELECT who, what, point, $4
		FROM unnest($1::text[], $2::text[], $3::bigint[]) AS x (who, what, point)`,
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
	b.Queue(`UPDATE matters m SET last = coalesce((SELECT max(last) FROM matter_days WHERE matter = m.id), last)
		WHERE id = ANY($1)`,
		slices.Collect(maps.Keys(touched)))
	// What no day shows any more goes, unless somebody did something with it.
	b.Queue(`DELETE FROM matters m WHERE NOT standing AND state = 'new' AND NOT EXISTS (SELECT FROM matter_days
		WHERE matter = m.id)`)
	b.Queue(`WITH open AS (UPDATE matters m SET state = 'new', opened = now(), changed = now(), size = 0
		FROM matter_days x
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
