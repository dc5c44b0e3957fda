package sql

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"github.com/jackc/pgx/v5"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

const recordColumns = `hour, key, client, server, point, client_port, started, ended, outcome, connections, packets, bytes, reply_packets, reply_bytes, flags, reply_flags, confidence, reason, observer`

const readColumns = `client, server, point, client_port, started, ended, outcome, connections, packets, bytes, reply_packets, reply_bytes, flags, reply_flags, confidence, reason, observer`

// Records returns the newest records between two addresses on a service that
// started in [from, to), at most limit, and how many there are.
func (s *Store) Records(ctx context.Context, client, server netip.Addr, point service.Point, from, to estate.Instant,
	offset, limit int) (out []flow.Joined, total int, err error) {
	// a zone may be any text; without it, this is digits, dots and colons
	client, server = client.WithZone(""), server.WithZone("")
	where := fmt.Sprintf(
		`key = %d AND hour >= %d AND hour <= %d AND started >= %s AND started < %s AND client = '%s' AND server = '%s' AND point = %d AND `+inSight,
		rows.KeyOf(&flow.Record{Client: client, Server: server, Point: point}), flow.HourOf(from), flow.HourOf(to),
		literal(from), literal(to), client, server, int64(point))
	err = s.CopyOut(ctx, fmt.Sprintf(`SELECT %s FROM records WHERE %s ORDER BY started DESC OFFSET %d LIMIT %d`,
		readColumns, where, offset, limit), func(r *database.RowsIn) { out = append(out, rows.ReadRecord(r)) })
	if err != nil || len(out) < limit && (len(out) > 0 || offset == 0) {
		return out, offset + len(out), err // counted in another statement, it could be of another moment
	}
	err = s.SQL.GetContext(ctx, &total, `SELECT count(*) FROM records WHERE `+where)
	return out, max(total, offset+len(out)), err
}

func literal(t estate.Instant) string {
	return "'" + t.Time().Format("2006-01-02T15:04:05.999999Z") + "'::timestamptz"
}

// Rebuild gathers the conversations of one hour anew from the single records,
// where one of addrs is an end. turn is given each record and may change its
// direction; it reports whether it did. changes is that of flow.Buckets. mark is
// stored in the same transaction as cuts that were made.
func (s *Store) Rebuild(ctx context.Context, hour flow.Hour, addrs []netip.Addr, turn func(*flow.Joined) bool,
	changes func(netip.Addr, estate.Instant) (estate.Instant, bool), mark []traffic.Cut) (out traffic.Rebuilt,
	err error) {
	err = s.WriteRows(ctx, database.TrafficLock, func(tx pgx.Tx) error {
		if err := markCuts(ctx, tx, mark); err != nil {
			return err
		}
		inets := make([]netip.Prefix, len(addrs))
		for i, a := range addrs {
			inets[i] = netip.PrefixFrom(a, a.BitLen())
		}
		const touches = `hour = $1 AND (client = ANY($2) OR server = ANY($2))`
		var stored, kept struct{ connections, bytes, packets string } // they may be over 64 bits
		const sums = `coalesce(sum(connections), 0)::text, coalesce(sum(bytes), 0)::text, coalesce(sum(packets), 0)::text`
		if err := tx.QueryRow(ctx, `SELECT `+sums+` FROM conversations WHERE `+touches, int32(hour),
			inets).Scan(&stored.connections, &stored.bytes, &stored.packets); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `SELECT `+sums+` FROM records WHERE `+touches, int32(hour),
			inets).Scan(&kept.connections, &kept.bytes, &kept.packets); err != nil {
			return err
		}
		if stored != kept {
			out.Partial = true
			return nil
		}
		if _, err := tx.Exec(ctx,
			`CREATE TEMP TABLE taken ON COMMIT DROP AS SELECT `+readColumns+
				`, file FROM records WHERE false`); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx,
			`WITH gone AS (DELETE FROM records WHERE `+touches+` RETURNING `+readColumns+
				`, file) INSERT INTO taken SELECT * FROM gone`, int32(hour), inets); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM conversations WHERE `+touches, int32(hour), inets); err != nil {
			return err
		}
		files := map[int][]flow.Joined{}
		if err := database.CopyRows(ctx, tx, `SELECT * FROM taken`, func(r *database.RowsIn) {
			j := rows.ReadRecord(r)
			file := int(r.Int())
			files[file] = append(files[file], j)
		}); err != nil {
			return err
		}
		for file, records := range files {
			buckets := flow.Buckets{Changes: changes}
			for i := range records {
				if turn != nil && turn(&records[i]) {
					out.Turned++
				}
				buckets.AddJoined(&records[i])
			}
			if _, err := mergeRows(ctx, tx, rows.BucketRows(buckets.All(), file), file); err != nil {
				return err
			}
			if err := database.CopyTo(ctx, tx, "records", recordColumns+andFile(file),
				rows.RecordRows(records, file)); err != nil {
				return err
			}
		}
		_, err = touchHours(ctx, tx, []flow.Hour{hour})
		return err
	})
	return out, err
}

// EndsOn returns the hours and addresses of the records whose client used a port:
// those that a correction may turn. With turned, of those whose server has it
// because a correction said so.
func (s *Store) EndsOn(ctx context.Context, proto uint8, port uint16, turned bool) (map[flow.Hour][]netip.Addr,
	error) {
	query := fmt.Sprintf(`SELECT DISTINCT hour, client FROM records WHERE client_port = %d AND point >= %d
		AND point < %d`, port, int64(service.PointOf(proto, 0)), int64(service.PointOf(proto+1, 0)))
	if turned {
		query = fmt.Sprintf(`SELECT DISTINCT hour, server FROM records WHERE point = %d AND reason = %d`,
			int64(service.PointOf(proto, uint32(port))), flow.ByHand)
	}
	out := map[flow.Hour][]netip.Addr{}
	err := s.CopyOut(ctx, query, func(r *database.RowsIn) {
		h := flow.Hour(r.Int())
		out[h] = append(out[h], r.Inet())
	})
	return out, err
}

// Cuts returns those that were made.
func (s *Store) Cuts(ctx context.Context) (map[traffic.Cut]bool, error) {
	out := map[traffic.Cut]bool{}
	err := s.CopyOut(ctx, `SELECT addr, at FROM cuts`,
		func(r *database.RowsIn) { out[traffic.Cut{Addr: r.Inet(), At: r.Time().Instant()}] = true })
	return out, err
}

// MarkCuts notes cuts that there was nothing to do for.
func (s *Store) MarkCuts(ctx context.Context, cuts []traffic.Cut) error {
	return s.WriteRows(ctx, database.TrafficLock, func(tx pgx.Tx) error { return markCuts(ctx, tx, cuts) })
}

func markCuts(ctx context.Context, tx pgx.Tx, cuts []traffic.Cut) error {
	for part := range slices.Chunk(cuts, 10_000) {
		addrs, ats := make([]netip.Prefix, len(part)), make([]string, len(part))
		for i, c := range part {
			addrs[i], ats[i] = netip.PrefixFrom(c.Addr, c.Addr.BitLen()),
				c.At.Time().Format("2006-01-02T15:04:05.999999Z")
		}
		if _, err := tx.Exec(ctx,
			`INSERT INTO cuts SELECT a, t::timestamptz FROM unnest($1::inet[], $2::text[]) AS x (a, t)
				ON CONFLICT DO NOTHING`, addrs, ats); err != nil {
			return err
		}
	}
	return nil
}
