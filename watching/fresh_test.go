package watching_test

import (
	"context"
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/collect"
	"lucidorchard/core/flow"
	"lucidorchard/database/databasetest"
	"lucidorchard/ingest/wire"
	"lucidorchard/watching"
)

// What is new is told before it is read again with all else, and counted once all the same: while it
// comes again and again, with what goes on beside it, and with another server on the database. What
// was found never goes away meanwhile, and never becomes less.
func TestWhatIsNewIsToldOnce(t *testing.T) {
	url := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	direct, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { direct.Close(context.Background()) })
	land(t, db)
	ctx, stop := context.WithCancel(t.Context())
	c, err := collect.Start(ctx, collect.Options{Store: db, Name: "one", UDP: []string{"127.0.0.1:0"},
		Spool: t.TempDir(), Every: 500 * time.Millisecond})
	require.NoError(t, err)
	a := assembly.New(ctx, assembly.Options{Store: db, Author: "me", Name: "one", Log: assemblytest.NoLog,
		Collector: c, Reach: assemblytest.Nearby})
	t.Cleanup(func() { c.Stop(); stop(); a.Wait() })
	assemblytest.Running(t, db, "two")
	h, m := duty(t, a)
	_, err = a.Watching.PutNotice(t.Context(), m, watching.Notice{Kinds: []string{"leak"}, Pace: "at once",
		To: []string{"duty"}})
	require.NoError(t, err)
	address, _ := c.Address("udp")
	conn, err := net.Dial("udp", address)
	require.NoError(t, err)
	e := wire.Exporter{Domain: 1}
	_, err = conn.Write(e.Templates(flow.MicrosOf(time.Now())))
	require.NoError(t, err)

	// shown is what is shown of a matter that was found.
	shown := func(id string) (n int64) {
		m, err := a.Models.Current(t.Context())
		require.NoError(t, err)
		_, days, _, _, err := db.Matter(t.Context(), id)
		require.NoError(t, err)
		for _, d := range days {
			part, err := a.Watching.MatterOn(t.Context(), m, id, d.Day.UTC())
			require.NoError(t, err)
			for _, c := range part.Conversations {
				n += part.View.At(int(c)).Connections
			}
		}
		return n
	}
	found := map[string]int64{} // connections of each matter, as it was seen last
	look := func() {
		t.Helper()
		all, err := db.MatterDays(t.Context(), time.Now().Add(-48*time.Hour))
		require.NoError(t, err)
		now := map[string]int64{}
		for id, days := range all {
			for _, d := range days {
				now[id] += d.Connections
			}
		}
		for id, n := range found {
			require.GreaterOrEqual(t, now[id], n, "a matter has become less")
		}
		for id, n := range now {
			if found[id] == 0 {
				require.Positive(t, shown(id), "what is in the list can be opened")
			}
			require.Positive(t, n)
		}
		found = now
	}
	want := map[string]int64{}
	port := uint16(1024)
	for round := range 24 {
		k := round % 6
		all := connection(LandAddr(k), LandAddr(30+(k+7)%30), port, 22)
		want[fmt.Sprintf("app%d-entry app%d-store", k, (k+7)%30)]++
		for i := range 5 {
			port++
			all = append(all, connection(LandAddr(i), LandAddr(30+i), port, 443)...) // that may be
		}
		port++
		_, err = conn.Write(e.Message(flow.MicrosOf(time.Now()), all))
		require.NoError(t, err)
		for until := time.Now().Add(120 * time.Millisecond); time.Now().Before(until); time.Sleep(
			10 * time.Millisecond) {
			look()
		}
	}
	told := func() map[string]int64 { // also what waits, as it was told of just now
		out := map[string]int64{}
		var who string
		var n int64
		rows, err := direct.Query(t.Context(), `SELECT message->>'who' || ' ' || (message->>'what'), sum(times)::bigint
			FROM outbox GROUP BY 1`)
		require.NoError(t, err)
		_, err = pgx.ForEachRow(rows, []any{&who, &n}, func() error {
			out[who] = n
			return nil
		})
		require.NoError(t, err)
		return out
	}
	require.Eventually(t, func() bool {
		look()
		sum := int64(0)
		for _, n := range found {
			sum += n
		}
		messages := 0
		for _, m := range h.all() {
			messages += max(1, len(m.Parts)) // on a slow machine all are due together, and are one summary
		}
		return sum == 24 && messages == len(want)
	}, 20*time.Second, 20*time.Millisecond, "found %v, told %v", &found, &h.got)
	time.Sleep(2 * time.Second) // what comes without need would come now
	look()
	require.Len(t, found, 6)
	for id := range found {
		require.Equal(t, int64(4), shown(id))
	}
	require.Equal(t, want, told(), "each connection is told of once")
}
