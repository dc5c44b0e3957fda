package sql

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// inSight holds of the rows of all files but those whose import is undone.
const inSight = `file <> ALL (ARRAY(SELECT id FROM files WHERE undone))`

const bucketColumns = `hour, client, server, point, outcome, part, connections, bytes, packets, unsure, first_at, last_at, observer`

// AddBatch counts a batch exactly once: with an id that was counted before it
// changes nothing and reports when that was.
func (s *Store) AddBatch(ctx context.Context, b rows.Batch) (before *time.Time, err error) {
	out, err := s.AddEncoded(ctx, b.Encode())
	return out.Before, err
}

// AddEncoded is AddBatch.
func (s *Store) AddEncoded(ctx context.Context, e *rows.Encoded) (out traffic.Added, err error) {
	err = s.WriteRows(ctx, database.TrafficLock, func(tx pgx.Tx) error {
		if out, err = begunBatch(ctx, tx, e.ID); err != nil || out.Before != nil {
			return err
		}
		if err := partitions(ctx, tx, "records", e.Days); err != nil {
			return err
		}
		if e.Count > 0 {
			if err := database.CopyTo(ctx, tx, "records", recordColumns, e.Records); err != nil {
				return err
			}
		}
		if err := partitionsOf(ctx, tx, e.Hours); err != nil {
			return err
		}
		if e.Rows > 0 {
			if out.Hours, err = mergeRows(ctx, tx, e.Buckets, 0); err != nil {
				return err
			}
		}
		out.Version, err = countedBatch(ctx, tx, e.ID, e.Rows, e.Hours)
		return err
	})
	return out, err
}

// begunBatch notes a batch, if it was not counted before.
func begunBatch(ctx context.Context, tx pgx.Tx, id string) (out traffic.Added, err error) {
	tag, err := tx.Exec(ctx, `INSERT INTO batches (id, rows) VALUES ($1, 0) ON CONFLICT DO NOTHING`, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = tx.QueryRow(ctx, `SELECT at FROM batches WHERE id = $1`, id).Scan(&out.Before)
	}
	return out, err
}

// countedBatch notes what a batch has changed, and returns the version of the conversations with it.
func countedBatch(ctx context.Context, tx pgx.Tx, id string, rows int, hours []flow.Hour) (version int64, err error) {
	if _, err := tx.Exec(ctx, `UPDATE batches SET rows = $2 WHERE id = $1`, id, rows); err != nil {
		return 0, err
	}
	return touchHours(ctx, tx, hours)
}

// andFile names the last column of rows of a file. Rows of no file do without:
// batches that collectors had queued before there were any are still read.
func andFile(file int) string {
	if file == 0 {
		return ""
	}
	return ", file"
}

// touchHours notes that the conversations of some hours have changed, and returns their new version.
func touchHours(ctx context.Context, tx pgx.Tx, all []flow.Hour) (version int64, err error) {
	var hours []int32
	for _, h := range all {
		hours = append(hours, int32(h))
	}
	err = tx.QueryRow(ctx, `WITH v AS (`+database.BumpConversations+` RETURNING n),
		h AS (INSERT INTO hours SELECT h, n FROM v, unnest($1::int[]) AS h ON CONFLICT (hour) DO UPDATE
		SET version = excluded.version)
		SELECT n FROM v`, hours).Scan(&version)
	return version, err
}

// saturating adds a column to what is stored, up to flow.Most.
func saturating(column string) string {
	return fmt.Sprintf(`CASE WHEN conversations.%[1]s > %[2]d - excluded.%[1]s THEN %[2]d ELSE conversations.%[1]s + excluded.%[1]s END`, column, int64(flow.Most))
}

// stageConversations makes an empty table of buckets beside those that are stored.
const stageConversations = `CREATE TEMP TABLE IF NOT EXISTS new_conversations (LIKE conversations INCLUDING DEFAULTS) ON COMMIT DROP; TRUNCATE new_conversations`

// mergeRows adds buckets of a file (0: of none), each once, to those that are stored, and
// gives how many there are.
func mergeRows(ctx context.Context, tx pgx.Tx, rows []byte, file int) (int64, error) {
	if _, err := tx.Exec(ctx, stageConversations); err != nil {
		return 0, err
	}
	if err := database.CopyTo(ctx, tx, "new_conversations", bucketColumns+andFile(file), rows); err != nil {
		return 0, err
	}
	tag, err := tx.Exec(ctx, `INSERT INTO conversations (`+bucketColumns+`, file) SELECT `+bucketColumns+`, `+
		fmt.Sprint(file)+` FROM new_conversations
		ON CONFLICT (hour, client, server, point, outcome, part, file) DO UPDATE SET
			connections = `+saturating("connections")+`,
			bytes = `+saturating("bytes")+`,
			packets = `+saturating("packets")+`,
			unsure = `+saturating("unsure")+`,
			first_at = least(conversations.first_at, excluded.first_at),
			last_at = greatest(conversations.last_at, excluded.last_at),
			observer = excluded.observer`)
	return tag.RowsAffected(), err
}

// Hours returns the hours that have conversations, each with the version of the
// conversations that last changed it.
func (s *Store) Hours(ctx context.Context) (map[flow.Hour]int64, error) {
	var out map[flow.Hour]int64
	err := s.Read(ctx, func(tx pgx.Tx) (err error) {
		out, err = hoursAre(ctx, tx, "true")
		return err
	})
	return out, err
}

func hoursAre(ctx context.Context, tx pgx.Tx, where string) (map[flow.Hour]int64, error) {
	rows, err := tx.Query(ctx, `SELECT hour, version FROM hours WHERE `+where)
	if err != nil {
		return nil, err
	}
	out := map[flow.Hour]int64{}
	var hour int32
	var version int64
	_, err = pgx.ForEachRow(rows, []any{&hour, &version}, func() error {
		out[flow.Hour(hour)] = version
		return nil
	})
	return out, err
}

// readers is how many connections read conversations at once.
const readers = 3

// Chunks reads the conversations of some hours, into the numbers of dict, and returns the versions
// that these hours have there.
func (s *Store) Chunks(ctx context.Context, hours []flow.Hour, dict *flow.Dictionary) ([]*flow.Chunk,
	map[flow.Hour]int64, error) {
	byDay := map[int64][]string{}
	for _, h := range hours {
		byDay[rows.DayOf(h)] = append(byDay[rows.DayOf(h)], fmt.Sprint(int32(h)))
	}
	days := make(chan int64, len(byDay))
	for d := range byDay {
		days <- d
	}
	close(days)
	var mu sync.Mutex
	var out []*flow.Chunk
	versions := map[flow.Hour]int64{}
	var first error
	var group sync.WaitGroup
	for range min(readers, len(byDay)) {
		group.Go(func() {
			for d := range days {
				chunks, of, err := s.chunksOfDay(ctx, d, byDay[d], dict)
				mu.Lock()
				out = append(out, chunks...)
				maps.Copy(versions, of)
				if first == nil {
					first = err
				}
				stop := first != nil
				mu.Unlock()
				if stop {
					return
				}
			}
		})
	}
	group.Wait()
	if first != nil {
		return nil, nil, first
	}
	slices.SortFunc(out, func(a, b *flow.Chunk) int { return cmp.Compare(a.Hour, b.Hour) })
	return out, versions, nil
}

func (s *Store) chunksOfDay(ctx context.Context, day int64, hours []string, dict *flow.Dictionary) (out []*flow.Chunk,
	versions map[flow.Hour]int64, err error) {
	where := fmt.Sprintf("hour >= %d AND hour < %d", day*24, day*24+24)
	if len(hours) < 24 {
		where = fmt.Sprintf("hour IN (%s)", strings.Join(hours, ","))
	}
	byHour := map[flow.Hour]*flow.Draft{}
	observers := map[string]uint32{}
	known := map[string]uint32{} // addresses, so that the lock is taken once each
	row := func(r *database.RowsIn) {
		number := func() uint32 {
			b := r.Cell()
			n, ok := known[string(b)]
			if !ok {
				n = dict.Number(database.AddrOf(b))
				known[string(b)] = n
			}
			return n
		}
		hour := flow.Hour(r.Int())
		c := byHour[hour]
		if c == nil {
			c = &flow.Draft{Chunk: flow.Chunk{Hour: hour}}
			byHour[hour] = c
		}
		c.Client, c.Server = append(c.Client, number()), append(c.Server, number())
		c.Point, c.Outcome = append(c.Point, service.Point(r.Int())), append(c.Outcome, flow.Outcome(r.Int()))
		c.Connections, c.Bytes, c.Packets = append(c.Connections, r.Int()), append(c.Bytes, r.Int()),
			append(c.Packets, r.Int())
		c.Unsure = append(c.Unsure, uint32(min(r.Int(), 1<<32-1)))
		c.First, c.Last = append(c.First, r.Time()), append(c.Last, r.Time())
		name := r.Text()
		o, ok := observers[name]
		if !ok {
			o = dict.Observer(name)
			observers[name] = o
		}
		c.Observer = append(c.Observer, o)
	}
	err = s.Read(ctx, func(tx pgx.Tx) error { // both are of one moment
		if versions, err = hoursAre(ctx, tx, where); err != nil {
			return err
		}
		return database.CopyRows(ctx, tx, `SELECT hour, client, server, point, outcome, connections, bytes, packets,
			unsure, first_at, last_at, observer FROM conversations WHERE `+where+` AND `+inSight, row)
	})
	for _, c := range byHour {
		out = append(out, c.Pack(dict))
	}
	return out, versions, err
}
