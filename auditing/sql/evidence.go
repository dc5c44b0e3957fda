package sql

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/auditing"
	"lucidorchard/core/estate"
	"lucidorchard/core/evidence"
	"lucidorchard/database"
	inventorysql "lucidorchard/inventory/sql"
)

// Recall fills a case with all that is on record of its period, but for the traffic: in
// one transaction.
func (s *Store) Recall(ctx context.Context, c *evidence.Case) error {
	return s.Read(ctx, func(tx pgx.Tx) error {
		for _, step := range []func(context.Context, pgx.Tx, *evidence.Case) error{recallEstate, recallPolicies,
			recallPoints, recallExemptions,
			recallEvents, recallGaps} {
			if err := step(ctx, tx, c); err != nil {
				return err
			}
		}
		return nil
	})
}

// recallEstate reads what was known of workloads from the start of the case on.
func recallEstate(ctx context.Context, tx pgx.Tx, c *evidence.Case) error {
	h := &estate.History{Ranks: map[string][]estate.Rank{}}
	index := map[string]int{}
	past := func(id string) *estate.Past {
		i, there := index[id]
		if !there {
			i = len(h.Past)
			index[id] = i
			h.Past = append(h.Past, estate.Past{ID: id})
		}
		return &h.Past[i]
	}
	var id string
	var was estate.Was
	var retired, until, added *time.Time
	rows, err := tx.Query(ctx, `SELECT id, name, os, kind, retired, until, added FROM (
			SELECT id, name, os, kind, retired, until, (SELECT added FROM workloads w WHERE w.id = h.id)
			FROM workload_history h WHERE until > $1
			UNION ALL SELECT id, name, os, kind, retired, NULL, added FROM workloads) AS w
			ORDER BY id COLLATE "C", until NULLS LAST`, c.From)
	if err != nil {
		return err
	}
	if _, err := pgx.ForEachRow(rows, []any{&id, &was.Name, &was.OS, &was.Kind, &retired, &until, &added},
		func() error {
			w := was
			w.Until = ended(until)
			if retired != nil {
				w.Retired = retired.UTC()
			}
			p := past(id)
			if p.Added = estate.Beginning; added != nil {
				p.Added = estate.InstantOf(*added)
			}
			p.Were = append(p.Were, w)
			return nil
		}); err != nil {
		return err
	}
	if err := recallTags(ctx, tx, c.From, h, index); err != nil {
		return err
	}
	if rows, err = tx.Query(ctx, `SELECT workload, addr, from_at, until_at, source FROM leases
		ORDER BY workload COLLATE "C", from_at NULLS FIRST, addr`); err != nil {
		return err
	}
	if err := inventorysql.EachLease(rows, func(id string, l estate.Lease) {
		if i, there := index[id]; there {
			h.Past[i].Leases = append(h.Past[i].Leases, l)
		}
	}); err != nil {
		return err
	}
	c.History = h
	return recallRanks(ctx, tx, c.From, h)
}

// recallTags adds what sources reported of the workloads of a history, by their place in it.
func recallTags(ctx context.Context, tx pgx.Tx, from time.Time, h *estate.History, index map[string]int) error {
	var id string
	var until *time.Time
	var said estate.TagSpan
	rows, err := tx.Query(ctx, `SELECT workload, key, value, source, author, at, until FROM (
			SELECT workload, key, value, source, author, at, until FROM tag_history WHERE until > $1
			UNION ALL SELECT workload, key, value, source, author, at, NULL FROM tags) AS t
		ORDER BY workload COLLATE "C", key COLLATE "C", source COLLATE "C", at, until NULLS LAST`, from)
	if err != nil {
		return err
	}
	_, err = pgx.ForEachRow(rows, []any{&id, &said.Key, &said.Value, &said.Source, &said.By, &said.At, &until},
		func() error {
			if i, there := index[id]; there { // else it was of nobody
				x := said
				x.At, x.Until = x.At.UTC(), ended(until)
				h.Past[i].Said = append(h.Past[i].Said, x)
			}
			return nil
		})
	return err
}

// recallRanks adds how sources ranked.
func recallRanks(ctx context.Context, tx pgx.Tx, from time.Time, h *estate.History) error {
	var id string
	var until *time.Time
	var rank estate.Rank
	rows, err := tx.Query(ctx, `SELECT name, rank, until FROM (SELECT name, rank, until FROM rank_history
		WHERE until > $1
			UNION ALL SELECT name, rank, NULL FROM sources) AS r ORDER BY name, until NULLS LAST`, from)
	if err != nil {
		return err
	}
	_, err = pgx.ForEachRow(rows, []any{&id, &rank.Rank, &until}, func() error {
		h.Ranks[id] = append(h.Ranks[id], estate.Rank{Rank: rank.Rank, Until: ended(until)})
		return nil
	})
	return err
}

func ended(until *time.Time) estate.Instant {
	if until == nil {
		return estate.End
	}
	return estate.InstantOf(*until)
}

func recallPolicies(ctx context.Context, tx pgx.Tx, c *evidence.Case) error {
	rows, err := tx.Query(ctx, `SELECT no, text, author, at, words FROM revisions WHERE at < $2
			AND no >= coalesce((SELECT max(no) FROM revisions WHERE at <= $1), 0)
		UNION SELECT no, text, author, at, words FROM (SELECT * FROM revisions ORDER BY no LIMIT 1) AS r WHERE at >= $2
		ORDER BY no`, c.From, c.To)
	if err != nil {
		return err
	}
	if c.Drafts, err = pgx.CollectRows(rows, pgx.RowToStructByPos[evidence.PolicyState]); err != nil {
		return err
	}
	if rows, err = tx.Query(ctx, `SELECT r.no, r.revision, r.title, r.author, r.at, v.text FROM releases r
		JOIN revisions v ON v.no = r.revision
		WHERE r.at < $1 ORDER BY r.no`, c.To); err != nil {
		return err
	}
	c.Releases, err = pgx.CollectRows(rows, pgx.RowToStructByPos[evidence.Release])
	return err
}

// pointEvents reads what is kept of what a point held.
type pointEvents []struct {
	At      time.Time
	What    string
	Words   string
	Release *int
	Mode    *string
}

// drifts returns the times in which a point held something else than it was told, the last
// until it ends or the evidence is made.
func (list pointEvents) drifts(end time.Time) (out []evidence.Drift) {
	open := false
	for _, e := range list {
		switch e.What {
		case "drifted":
			if !open {
				out, open = append(out, evidence.Drift{Span: evidence.Span{From: e.At.UTC(), Until: end.UTC()},
					Words: e.Words}), true
			}
		case "applied", "put back", "went back":
			if open {
				out[len(out)-1].Until, open = e.At.UTC(), false
			}
		}
	}
	return slices.DeleteFunc(out, func(d evidence.Drift) bool { return !d.Until.After(d.From) })
}

func recallPoints(ctx context.Context, tx pgx.Tx, c *evidence.Case) error {
	rows, err := tx.Query(ctx, `SELECT name, kind, side, guards, made, NULL::timestamptz, heard,
			coalesce((SELECT jsonb_agg(jsonb_build_object('at', at, 'what', what, 'words', words, 'release', release,
			'mode', mode) ORDER BY id)
				FROM point_history WHERE point = name AND release IS NOT NULL), '[]') FROM points WHERE made < $2
		UNION ALL SELECT name, kind, side, guards, made, dropped, NULL, history FROM former_points WHERE dropped > $1
		AND made < $2 ORDER BY 1, 5`, c.From, c.To)
	if err != nil {
		return err
	}
	var p evidence.Point
	var dropped, heard *time.Time
	var raw []byte
	_, err = pgx.ForEachRow(rows, []any{&p.Name, &p.Kind, &p.Side, &p.Guards, &p.Made, &dropped, &heard, &raw},
		func() error {
			var events pointEvents
			if err := json.Unmarshal(raw, &events); err != nil {
				return fmt.Errorf("what happened at %s cannot be read: %w", p.Name, err)
			}
			out := evidence.Point{Name: p.Name, Kind: p.Kind, Side: p.Side, Guards: p.Guards, Made: p.Made.UTC()}
			if dropped != nil {
				out.Dropped = dropped.UTC()
			}
			end := c.Made
			if dropped != nil && dropped.Before(end) {
				end = *dropped
			}
			out.Drifts = events.drifts(end)
			for _, e := range events {
				if n := len(out.Held); e.Mode == nil || n > 0 && out.Held[n-1].Release == *e.Release &&
					out.Held[n-1].Mode == *e.Mode {
					continue
				}
				out.Held = append(out.Held, evidence.Holding{At: e.At.UTC(), Release: *e.Release, Mode: *e.Mode})
			}
			c.Points = append(c.Points, out)
			if heard != nil && out.Kind != "file" && c.Made.Sub(*heard) > quietFor {
				last := &c.Points[len(c.Points)-1]
				last.Silent = append(last.Silent, evidence.Span{From: heard.UTC(), Until: c.Made.UTC()})
			}
			return nil
		})
	if err != nil {
		return err
	}
	if rows, err = tx.Query(ctx, `SELECT point, from_at, until_at FROM point_silences WHERE until_at > $1
		AND from_at < $2 ORDER BY from_at`,
		c.From, c.To); err != nil {
		return err
	}
	var name string
	var from, until time.Time
	_, err = pgx.ForEachRow(rows, []any{&name, &from, &until}, func() error {
		for i := range c.Points {
			x := &c.Points[i]
			if x.Name == name && !from.Before(x.Made) && (x.Dropped.IsZero() || from.Before(x.Dropped)) {
				x.Silent = append(x.Silent, evidence.Span{From: from.UTC(), Until: until.UTC()})
			}
		}
		return nil
	})
	for i := range c.Points {
		slices.SortFunc(c.Points[i].Silent, func(a, b evidence.Span) int { return a.From.Compare(b.From) })
	}
	return err
}

// quietFor is after how long without a word from a point it is not known any more what it
// holds.
const quietFor = time.Minute

func recallExemptions(ctx context.Context, tx pgx.Tx, c *evidence.Case) error {
	rows, err := tx.Query(ctx, `SELECT workload, coalesce(nullif(w.name, ''), workload), reason, owner, author, at,
		least(ends, until) FROM (
			SELECT workload, reason, owner, author, at, ends, until FROM exemption_history
			UNION ALL SELECT workload, reason, owner, author, at, ends, NULL FROM exemptions) AS e
			LEFT JOIN workloads w ON w.id = e.workload
		WHERE at < $2 AND least(ends, until) > greatest($1, at) ORDER BY at, workload`, c.From, c.To)
	if err != nil {
		return err
	}
	c.Exemptions, err = pgx.CollectRows(rows, pgx.RowToStructByPos[evidence.ExemptTime])
	for i := range c.Exemptions {
		e := &c.Exemptions[i]
		e.From, e.Until = e.From.UTC(), e.Until.UTC()
	}
	return err
}

func recallEvents(ctx context.Context, tx pgx.Tx, c *evidence.Case) error {
	rows, err := tx.Query(ctx, `SELECT at, author, 'release',
		'release ' || no || ', revision ' || revision || ': ' || title FROM releases WHERE at >= $1 AND at < $2
		UNION ALL SELECT at, author, 'draft', 'revision ' || no || ': ' || words FROM revisions WHERE at >= $1
		AND at < $2
		ORDER BY 1, 3, 4`, c.From, c.To)
	if err != nil {
		return err
	}
	c.Events, err = pgx.CollectRows(rows, pgx.RowToStructByPos[evidence.Happening])
	for i := range c.Events {
		c.Events[i].At = c.Events[i].At.UTC()
	}
	return err
}

// recallGaps reads the times in which exporters were silent, or records got lost.
func recallGaps(ctx context.Context, tx pgx.Tx, c *evidence.Case) error {
	rows, err := tx.Query(ctx, `SELECT first, coalesce(ended, $3), title, why FROM matters
		WHERE kind IN ('gap', 'silent exporter') AND first < $2
			AND coalesce(ended, $3) > $1 ORDER BY first, id`, c.From, c.To, c.Made)
	if err != nil {
		return err
	}
	var g evidence.Gap
	var title []byte
	var why string
	_, err = pgx.ForEachRow(rows, []any{&g.From, &g.Until, &title, &why}, func() error {
		var pieces []struct{ Text string }
		if err := json.Unmarshal(title, &pieces); err != nil {
			return err
		}
		words := ""
		for _, p := range pieces {
			words += p.Text
		}
		c.Gaps = append(c.Gaps, evidence.Gap{From: g.From.UTC(), Until: g.Until.UTC(), Words: words + ": " + why})
		return nil
	})
	return err
}

const evidenceColumns = `id, promise, from_at, to_at, made, author, sentence, schedule`

// EvidenceMade returns all that was made, the newest first, without what it says.
func (s *Store) EvidenceMade(ctx context.Context) ([]auditing.EvidenceKept, error) {
	out := []auditing.EvidenceKept{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT `+evidenceColumns+` FROM evidence ORDER BY id DESC`)
}

// EvidenceOf returns one; ErrNone: there is none.
func (s *Store) EvidenceOf(ctx context.Context, id int64) (*auditing.EvidenceKept, error) {
	var e auditing.EvidenceKept
	err := s.SQL.GetContext(ctx, &e, `SELECT `+evidenceColumns+`, body FROM evidence WHERE id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, database.ErrNone
	}
	return &e, err
}

// PutEvidence keeps evidence, and returns its number; 0: its schedule has made it already.
func (s *Store) PutEvidence(ctx context.Context, e *auditing.EvidenceKept) (id int64, err error) {
	err = s.WriteRows(ctx, database.WatchLock, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `INSERT INTO evidence (promise, from_at, to_at, made, author, sentence, schedule, body)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT DO NOTHING
			RETURNING id`, e.Promise, e.From, e.To, e.Made, e.Author, e.Sentence,
			e.Schedule, e.Body).Scan(&id)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		return err
	})
	return id, err
}

// DropEvidence forgets evidence, and says whether there was.
func (s *Store) DropEvidence(ctx context.Context, id int64) (bool, error) {
	n, err := s.Exec(ctx, `DELETE FROM evidence WHERE id = $1`, id)
	return n > 0, err
}

// EvidenceSchedules returns all.
func (s *Store) EvidenceSchedules(ctx context.Context) ([]auditing.EvidenceSchedule, error) {
	out := []auditing.EvidenceSchedule{}
	return out, s.SQL.SelectContext(ctx, &out, `SELECT s.*, (SELECT max(from_at) FROM evidence
		WHERE schedule = s.id) AS last
		FROM evidence_schedules s ORDER BY id`)
}

// AddEvidenceSchedule keeps one; ErrTaken: there is one.
func (s *Store) AddEvidenceSchedule(ctx context.Context, e auditing.EvidenceSchedule) (id int64, err error) {
	err = s.SQL.GetContext(ctx, &id, `INSERT INTO evidence_schedules (promise, every, author) VALUES ($1, $2, $3)
		ON CONFLICT DO NOTHING
		RETURNING id`, e.Promise, e.Every, e.Author)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, database.ErrTaken
	}
	return id, err
}

// DropEvidenceSchedule ends one, and says whether there was. What it made stays.
func (s *Store) DropEvidenceSchedule(ctx context.Context, id int64) (bool, error) {
	n, err := s.Exec(ctx, `DELETE FROM evidence_schedules WHERE id = $1`, id)
	return n > 0, err
}

// SayEvidenceProblem keeps why a schedule could not make what is due; blank: it could.
func (s *Store) SayEvidenceProblem(ctx context.Context, id int64, problem string) error {
	_, err := s.Exec(ctx, `UPDATE evidence_schedules SET problem = $2 WHERE id = $1 AND problem <> $2`, id, problem)
	return err
}

// SigningKey returns the key by which evidence is signed: it is made when first asked for,
// and the same for all servers of a database.
func (s *Store) SigningKey(ctx context.Context) (ed25519.PrivateKey, error) {
	seed := make([]byte, ed25519.SeedSize)
	if _, err := rand.Read(seed); err != nil {
		return nil, err
	}
	if _, err := s.Exec(ctx, `INSERT INTO signing_key (seed) VALUES ($1) ON CONFLICT DO NOTHING`, seed); err != nil {
		return nil, err
	}
	if err := s.SQL.GetContext(ctx, &seed, `SELECT seed FROM signing_key`); err != nil {
		return nil, err
	}
	return ed25519.NewKeyFromSeed(seed), nil
}
