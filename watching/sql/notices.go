package sql

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/notify"
	"lucidorchard/watching"
)

// Destinations returns all, by name.
func (s *Store) Destinations(ctx context.Context) ([]watching.Destination, error) {
	out := []watching.Destination{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT name, kind, settings, author, at, sent, failing, problem,
		refusal,
		(SELECT count(*) FROM outbox WHERE destination = name AND outbox.sent IS NULL
		AND outbox.refused IS NULL) AS waiting,
		(SELECT count(*) FROM outbox WHERE destination = name AND outbox.refused IS NOT NULL) AS refused
		FROM destinations ORDER BY name`)
}

// PutDestination keeps a destination, a new one or in place of the one of its name.
func (s *Store) PutDestination(ctx context.Context, name string, settings notify.Settings, author string) error {
	raw, err := json.Marshal(settings)
	if err != nil {
		return err
	}
	_, err = s.watchExec(ctx, `INSERT INTO destinations (name, kind, settings, author) VALUES ($1, $2, $3, $4)
		ON CONFLICT (name) DO UPDATE
		SET kind = $2, settings = $3, author = $4, at = now(), failing = NULL, problem = ''`, name, settings.Kind, raw,
		author)
	return err
}

// DropDestination forgets one, and all that waits for it.
func (s *Store) DropDestination(ctx context.Context, name string) (found bool, err error) {
	n, err := s.watchExec(ctx, `WITH gone AS (UPDATE notices SET to_ = array_remove(to_, $1) WHERE $1 = ANY(to_)) DELETE
		FROM destinations WHERE name = $1`, name)
	return n > 0, err
}

func (s *Store) watchExec(ctx context.Context, query string, args ...any) (rows int64, err error) {
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, query, args...)
		if err == nil {
			rows, err = r.RowsAffected()
		}
		return err
	})
	return rows, err
}

const noticeColumns = `id, kinds, who, what, matter, filter, pace, to_, lower(quiet)::int AS quiet_from, upper(quiet)::int % 1440 AS quiet_until, ends, paused, author, at, fired`

// Notices returns all, the oldest first.
func (s *Store) Notices(ctx context.Context) (out []watching.Notice, err error) {
	err = s.Read(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT `+noticeColumns+` FROM notices ORDER BY id`)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByName[watching.Notice])
		return err
	})
	return out, err
}

// PutNotice keeps a notice: a new one if its id is 0. It returns the id; false: there is no
// such notice. Of a filter that is new, seen is what there was already, by day.
func (s *Store) PutNotice(ctx context.Context, n watching.Notice, seen map[time.Time][]watching.Asked) (id int64,
	found bool, err error) {
	var quiet *string
	if n.From != nil && n.Until != nil {
		until := *n.Until
		if until <= *n.From {
			until += 1440
		}
		x := "[" + strconv.Itoa(*n.From) + "," + strconv.Itoa(until) + ")"
		quiet = &x
	}
	args := []any{n.Kinds, n.Who, n.What, n.Matter, n.Pace, n.To, quiet, n.Ends, n.Paused, n.Author, n.Filter}
	query := `INSERT INTO notices (kinds, who, what, matter, pace, to_, quiet, ends, paused, author, filter)
		VALUES ($1, $2, $3, $4, $5, $6, $7::int4range, $8, $9, $10, $11) RETURNING id`
	if n.ID != 0 {
		query = `UPDATE notices
			SET kinds = $1, who = $2, what = $3, matter = $4, pace = $5, to_ = $6, quiet = $7::int4range, ends = $8,
			paused = $9,
			author = $10, filter = $11 WHERE id = $12 RETURNING id`
		args = append(args, n.ID)
	}
	err = s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		var ids []int64
		err := tx.SelectContext(ctx, &ids, query, args...)
		if found = err == nil && len(ids) == 1; !found {
			return err
		}
		id = ids[0]
		if seen == nil {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM notice_days WHERE notice = $1`, id); err != nil {
			return err
		}
		for day, list := range seen {
			for i := range list {
				list[i].Notice = id
			}
			if _, err := tx.ExecContext(ctx, putAsked, askedArgs(day, list)...); err != nil {
				return err
			}
		}
		return nil
	})
	return id, found, err
}

// putAsked is SQL that keeps how much there was on a day of what notices ask for that are still
// there. What is not there any more stays as it was: it is not new if it comes back.
const putAsked = `INSERT INTO notice_days (notice, day, traffic, connections)
	SELECT notice, $1, traffic, connections
	FROM unnest($2::bigint[], $3::text[], $4::bigint[]) AS x (notice, traffic, connections)
		WHERE EXISTS (SELECT FROM notices WHERE id = notice)
	ON CONFLICT (day, notice, traffic) DO UPDATE SET connections = excluded.connections`

func askedArgs(day time.Time, list []watching.Asked) []any {
	notices, traffic, connections := make([]int64, len(list)), make([]string, len(list)), make([]int64, len(list))
	for i, a := range list {
		notices[i], traffic[i], connections[i] = a.Notice, a.Traffic, a.Connections
	}
	return []any{day, notices, traffic, connections}
}

// DropNotice forgets one, and what waits to be told by it.
func (s *Store) DropNotice(ctx context.Context, id int64) (found bool, err error) {
	n, err := s.watchExec(ctx, `DELETE FROM notices WHERE id = $1`, id)
	return n > 0, err
}

// telling is SQL that puts messages into the outbox. What waits already of the same
// notice, matter and destination is told of instead, as often more.
const telling = `WITH x AS (SELECT *
	FROM unnest($1::text[], $2::bigint[], $3::text[], $4::text[], $5::json[], $6::timestamptz[], $7::bigint[])
		AS x (id, notice, destination, matter, message, due, times)),
	waits AS (UPDATE outbox o SET times = o.times + x.times, message = x.message FROM x
		WHERE o.notice = x.notice AND o.destination = x.destination AND o.matter = x.matter AND o.sent IS NULL
		AND o.refused IS NULL AND o.claimed IS NULL
		RETURNING x.id),
	fired AS (UPDATE notices SET fired = now() WHERE id IN (SELECT notice FROM x))
	INSERT INTO outbox (id, notice, destination, matter, message, due, times)
	SELECT x.id, x.notice, x.destination, x.matter, x.message, greatest(x.due,
		(SELECT max(sent) + $8::interval FROM outbox o WHERE o.notice = x.notice AND o.destination = x.destination
		AND o.matter = x.matter)), x.times
	FROM x WHERE x.id NOT IN (SELECT id FROM waits)`

func tellingArgs(list []watching.Telling) []any {
	var ids, to, matters, messages []string
	var notices []*int64
	var due []time.Time
	var times []int64
	for i := range list {
		t := &list[i]
		var notice *int64
		if t.Notice != 0 {
			notice = &t.Notice
		}
		ids, notices, to, matters = append(ids, t.Message.ID), append(notices, notice), append(to, t.Destination),
			append(matters, t.Matter)
		messages, due, times = append(messages, string(jsonOf(t.Message))), append(due, t.Due),
			append(times, max(1, t.Message.Times))
	}
	return []any{ids, notices, to, matters, messages, due, times, calm}
}

func tellNow(ctx context.Context, tx *sqlx.Tx, list []watching.Telling) error {
	if len(list) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, telling, tellingArgs(list)...)
	return err
}

// calm is for how long nothing more is said of a matter by a notice after it was told.
const calm = "5 minutes"

// Tell puts messages into the outbox.
func (s *Store) Tell(ctx context.Context, list []watching.Telling) error {
	return s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error { return tellNow(ctx, tx, list) })
}

// waits is SQL of what may be tried now.
const waits = `sent IS NULL AND refused IS NULL AND due <= now() AND (claimed IS NULL OR claimed < now())`

// Due returns the destinations for which something may be tried now.
func (s *Store) Due(ctx context.Context) (names []string, err error) {
	return names, s.SQL.SelectContext(ctx, &names, `SELECT name FROM destinations WHERE EXISTS
		(SELECT FROM outbox WHERE destination = name AND outbox.sent IS NULL AND outbox.refused IS NULL AND due <= now()
			AND (claimed IS NULL OR claimed < now())) ORDER BY name`)
}

// Claim takes messages for a destination that are due, at most so many: for a while no
// other server tries them. What was tried in vain stands behind what is new.
func (s *Store) Claim(ctx context.Context, destination string, most int) (out []watching.Waiting, err error) {
	err = s.WriteRows(ctx, database.WatchLock, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `WITH mine AS (SELECT id FROM outbox WHERE destination = $2 AND `+waits+
			` ORDER BY due, made, id LIMIT $1),
			claimed AS (UPDATE outbox SET claimed = now() + interval '1 minute' WHERE id IN (SELECT id FROM mine)
				RETURNING id, notice, destination, matter, message, times, tries, due, made)
			SELECT id, notice, destination, matter, message, times, tries FROM claimed
			ORDER BY due, made, id`, most, destination)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByName[watching.Waiting])
		return err
	})
	return out, err
}

// mostRefusals is how often a message is tried that a destination refuses: for about
// 35 minutes.
const mostRefusals = 14

// Settle notes what became of messages that a destination was sent. What was not taken is
// tried again after pauses that grow.
func (s *Store) Settle(ctx context.Context, destination string, all []watching.Tried) error {
	var taken, as, left, refused []string
	problem, refusal := "", ""
	for _, t := range all {
		switch {
		case t.Problem == "":
			for _, id := range t.IDs {
				taken, as = append(taken, id), append(as, t.As)
			}
		case t.Refused:
			refused, refusal = append(refused, t.IDs...), t.Problem
		default:
			left, problem = append(left, t.IDs...), t.Problem
		}
	}
	return s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE outbox SET sent = now(), claimed = NULL, sent_as = x.as_
			FROM unnest($1::text[], $2::text[]) AS x (id, as_) WHERE outbox.id = x.id`, taken, as); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE outbox SET claimed = NULL, tries = tries + 1,
				refused = CASE WHEN id = ANY($2) AND tries + 1 >= $3 THEN now() END,
				due = now() + least(interval '5 minutes', interval '1 second' * power(2, least(tries, 12)))
			WHERE id = ANY($1) OR id = ANY($2)`, left, refused, mostRefusals); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE destinations SET
				sent = CASE WHEN $2 THEN now() ELSE sent END,
				failing = CASE WHEN $3 = '' THEN NULL ELSE coalesce(failing, now()) END, problem = $3,
				refusal = CASE WHEN $4 = '' THEN refusal ELSE $4 END
			WHERE name = $1`, destination, len(taken) > 0, problem, refusal)
		return err
	})
}

// DropSent forgets messages that were sent, or set aside, some time ago: at most so many.
func (s *Store) DropSent(ctx context.Context, most int) error {
	return s.Write(ctx, database.WatchLock, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE id IN (
			(SELECT id FROM outbox WHERE sent < now() - interval '14 days' LIMIT $1)
			UNION ALL (SELECT id FROM outbox WHERE refused < now() - interval '14 days' LIMIT $1))`, most)
		return err
	})
}

// HurryDestination makes what waits for a destination due now.
func (s *Store) HurryDestination(ctx context.Context, name string) error {
	_, err := s.watchExec(ctx, `UPDATE outbox SET due = now(), tries = 0, refused = NULL WHERE destination = $1
		AND sent IS NULL AND tries > 0`, name)
	return err
}
