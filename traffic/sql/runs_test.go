package sql_test

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// However a file is cut into parts, what is stored of it is what gathering all of it gives.
func TestPartsOfAFileComeToTheWhole(t *testing.T) {
	s, conn := assemblytest.Fresh(t)
	ctx := t.Context()
	addrs := []netip.Addr{netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"),
		netip.MustParseAddr("9.255.0.1"),
		netip.MustParseAddr("fd00::1"), netip.MustParseAddr("::ffff:0:1")}
	count := 0
	rapid.Check(t, func(t *rapid.T) {
		_, err := conn.Exec(ctx, `TRUNCATE conversations, records, files, batches, hours`)
		require.NoError(t, err)
		all := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) flow.Joined {
			at := estate.Instant{Sec: 1_795_000_000 + int64(rapid.IntRange(0, 60*3600).Draw(t, "after"))}
			end := at
			end.Sec += int64(rapid.IntRange(0, 99).Draw(t, "lasts"))
			return flow.Joined{Record: flow.Record{Start: at, End: end,
				Client:  rapid.SampledFrom(addrs).Draw(t, "client"),
				Server:  rapid.SampledFrom(addrs).Draw(t, "server"),
				Point:   service.PointOf(service.TCP, uint32(rapid.IntRange(442, 444).Draw(t, "port"))),
				Outcome: flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome")), Connections: 1,
				Packets:  rapid.Int64Range(0, flow.Most).Draw(t, "packets"),
				Bytes:    rapid.Int64Range(0, 1000).Draw(t, "bytes"),
				Observer: rapid.SampledFrom([]string{"", "a", "the north gate"}).Draw(t, "observer")},
				Confidence: uint8(rapid.IntRange(50, 99).Draw(t, "confidence"))}
		}), 0, 60).Draw(t, "records")
		file, err := s.NewFile(ctx)
		require.NoError(t, err)
		told := 0
		added, err := s.AddFile(ctx, fmt.Sprint("file ", count), file,
			assemblytest.PartsOf(file, all, rapid.IntRange(1, 70).Draw(t, "size")),
			func(way traffic.Storing) {
				require.LessOrEqual(t, way.Hours, way.MostHours)
				told = way.Records
			}, "Import", "somebody")
		count++
		require.NoError(t, err)
		var whole flow.Buckets
		for i := range all {
			whole.AddJoined(&all[i])
		}
		require.EqualValues(t, whole.Len(), added.Hours)
		require.Equal(t, len(all), told)
		type sum struct {
			connections, bytes, packets, unsure int64
			first, last                         flow.Micros
		}
		keyed := func(h flow.Hour, c, s netip.Addr, p service.Point, o flow.Outcome) string {
			return fmt.Sprint(h, c, s, p, o)
		}
		want, got := map[string]sum{}, map[string]sum{}
		for _, b := range whole.All() {
			want[keyed(b.Hour, b.Client, b.Server, b.Point, b.Outcome)] = sum{b.Connections, b.Bytes, b.Packets,
				b.Unsure,
				flow.MicrosOfInstant(b.First), flow.MicrosOfInstant(b.Last)}
		}
		rows, err := conn.Query(ctx, `SELECT hour, host(client), host(server), point, outcome, connections, bytes,
			packets, unsure,
			(extract(epoch from first_at) * 1e6)::bigint, (extract(epoch from last_at) * 1e6)::bigint
			FROM conversations`)
		require.NoError(t, err)
		for rows.Next() {
			var hour int32
			var client, server string
			var point int64
			var outcome int16
			var x sum
			require.NoError(t, rows.Scan(&hour, &client, &server, &point, &outcome, &x.connections, &x.bytes,
				&x.packets, &x.unsure,
				&x.first, &x.last))
			got[keyed(flow.Hour(hour), netip.MustParseAddr(client), netip.MustParseAddr(server), service.Point(point),
				flow.Outcome(outcome))] = x
		}
		require.NoError(t, rows.Err())
		require.Equal(t, want, got)
		var single int
		require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FROM records`).Scan(&single))
		require.Equal(t, len(all), single)
	})
}

// While a file comes in, whoever reads does not wait for it, even where it brings new days.
func TestReadersDoNotWaitForAFile(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	r := flow.Record{Start: estate.Instant{Sec: 1_795_000_000}, End: estate.Instant{Sec: 1_795_000_000},
		Client: netip.MustParseAddr("10.0.0.1"), Server: netip.MustParseAddr("10.0.0.2"),
		Point: service.PointOf(service.TCP, 443), Connections: 1, Packets: 1, Bytes: 1}
	late := r
	late.Start.Sec += 3 * 86_400
	late.End = late.Start
	read := func() int {
		_, n, err := s.Records(ctx, r.Client, r.Server, r.Point, r.Start, estate.Instant{Sec: r.Start.Sec + 9*86_400},
			0, 10)
		require.NoError(t, err)
		hours, err := s.Hours(ctx)
		require.NoError(t, err)
		_, _, err = s.Chunks(ctx, slices.Collect(maps.Keys(hours)), &flow.Dictionary{})
		require.NoError(t, err)
		return n
	}
	file, err := s.NewFile(ctx)
	require.NoError(t, err)
	_, err = s.AddFile(ctx, "a file", file, func(yield func(*rows.Part, error) bool) {
		for p, err := range assemblytest.PartsOf(file, flow.Stating([]flow.Record{r, late}), 1) {
			if !yield(p, err) {
				return
			}
			require.Zero(t, read())
		}
	}, func(traffic.Storing) { require.Zero(t, read()) }, "Import", "somebody")
	require.NoError(t, err)
	require.Equal(t, 2, read())
}
