package assembly_test

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
	"lucidorchard/database/databasetest"
	"lucidorchard/history"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/traffic/rows"
)

func TestSeveralServersStartOnAnEmptyDatabase(t *testing.T) {
	url := databasetest.Database(t)
	var group sync.WaitGroup
	for range 3 {
		group.Go(func() {
			s, err := assembly.Open(t.Context(), url)
			if err != nil {
				t.Error(err)
				return
			}
			_ = s.Close()
		})
	}
	group.Wait()
}

func TestImportTwiceIsImportOnce(t *testing.T) {
	s, conn := assemblytest.Fresh(t)
	ctx := t.Context()
	list := []estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "live", "app", "x"),
		assemblytest.Machine("b", "fd00::1", "env", "live")}
	require.NoError(t, s.ImportWorkloads(ctx, "inventory", []string{"env", "app"}, list))
	var stamps [2]string
	for i := range stamps {
		require.NoError(t, conn.QueryRow(ctx,
			`SELECT string_agg(t::text, E'\n' ORDER BY t::text) FROM (SELECT tags::text AS t FROM tags UNION ALL
				SELECT leases::text FROM leases UNION ALL SELECT workloads::text
				FROM workloads) AS x`).Scan(&stamps[i]))
		require.NoError(t, s.ImportWorkloads(ctx, "inventory", []string{"env", "app"}, list))
	}
	require.Equal(t, stamps[0], stamps[1])
	ws, err := s.Workloads(ctx)
	require.NoError(t, err)
	list[1].Leases[0].Source = "inventory"
	require.Equal(t, list[1].Leases, ws[1].Leases, "spans survive, to the microsecond")

	// What the source no longer says goes; what another says stays.
	require.NoError(t, s.ImportWorkloads(ctx, "directory", []string{"owner"},
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "owner", "crew")}))
	require.NoError(t, s.ImportWorkloads(ctx, "inventory", []string{"env", "app"},
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.7", "env", "trial")}))
	require.Equal(t, map[string]string{"a": "10.0.0.1 10.0.0.7 env=trial(inventory) owner=crew(directory) ",
		"b": "fd00::1 env=live(inventory) "}, assemblytest.TagValues(t, s))
}

func TestByHandOutranksAndIsUndone(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.ImportWorkloads(ctx, "inventory", []string{"env"},
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "live")}))
	set := func(v string) {
		require.NoError(t, s.SetTags(ctx, []inventory.TagEdit{{Workload: "a", Key: "env", Value: &v}}, "me", "Set env"))
	}
	want := func(text string) { t.Helper(); require.Equal(t, "10.0.0.1 "+text, assemblytest.TagValues(t, s)["a"]) }
	set("trial")
	want("env=trial(by hand) ")
	require.NoError(t, s.ImportWorkloads(ctx, "inventory", []string{"env"},
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "bench")}))
	want("env=trial(by hand) ")
	set("")
	want("")
	_, err := s.Undo(ctx, "me")
	require.NoError(t, err)
	want("env=trial(by hand) ")
	_, err = s.Undo(ctx, "me")
	require.NoError(t, err)
	want("env=bench(inventory) ")
	_, err = s.Undo(ctx, "me")
	require.ErrorIs(t, err, history.ErrNothing)
	_, err = s.Redo(ctx, "me")
	require.NoError(t, err)
	want("env=trial(by hand) ")
	set("live") // a new change: what was undone cannot be done again
	_, err = s.Redo(ctx, "me")
	require.ErrorIs(t, err, history.ErrNothing)
}

func TestRevisionsUndoAndConflict(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	add := func(no int, text string) error {
		return s.AddRevision(ctx, model.Revision{No: no, Text: text, Blame: model.Blame{no}, Author: "me",
			Words: text})
	}
	require.NoError(t, add(1, "one"))
	require.NoError(t, add(2, "two"))
	require.ErrorIs(t, add(2, "also two"), database.ErrMoved)
	head := func() string {
		r, err := s.Head(ctx)
		require.NoError(t, err)
		return r.Text
	}
	for _, want := range []string{"one", ""} {
		_, err := s.Undo(ctx, "me")
		require.NoError(t, err)
		require.Equal(t, want, head())
	}
	for _, want := range []string{"one", "two"} {
		_, err := s.Redo(ctx, "me")
		require.NoError(t, err)
		require.Equal(t, want, head())
	}
	r, err := s.Head(ctx)
	require.NoError(t, err)
	require.Equal(t, 6, r.No, "undo is a revision too: the history keeps everything")
	require.Equal(t, model.Blame{2}, r.Blame)
}

func TestBatchCountsOnce(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	var b flow.Buckets
	var records []flow.Joined
	for i := range 500 {
		at := estate.Instant{Sec: 1_795_000_000 + int64(i)*1700}
		r := flow.Record{Start: at, End: at, Client: netip.MustParseAddr("10.0.0.1"),
			Server: netip.MustParseAddr("fd00::2"), Point: service.PointOf(service.ICMP, service.UnknownType),
			Connections: 2, Bytes: 10, Packets: 1, Outcome: flow.Dropped, Observer: "x"}
		b.Add(r)
		records = append(records, flow.Joined{Record: r, ReplyBytes: 4, ReplyPackets: 1, Confidence: 80,
			Reason: flow.ByPort, Observers: [2]int32{-1, -1}})
	}
	// The same batch from several sides at once, and other batches beside it.
	var group sync.WaitGroup
	counted := make(chan bool, 8)
	for i := range 8 {
		group.Go(func() {
			before, err := s.AddBatch(ctx, rows.Batch{ID: fmt.Sprint("batch ", i%2), Buckets: b.All(),
				Records: records})
			counted <- err == nil && before == nil
		})
	}
	group.Wait()
	close(counted)
	n := 0
	for ok := range counted {
		if ok {
			n++
		}
	}
	require.Equal(t, 2, n)
	table := assemblytest.AllConversations(t, s)
	want := b.All()
	require.Equal(t, len(want), table.Len())
	var all []flow.Bucket
	for i := range want {
		all = append(all, table.Bucket(i))
		want[i].Connections, want[i].Bytes, want[i].Packets = 2*want[i].Connections, 2*want[i].Bytes,
			2*want[i].Packets
	}
	require.Equal(t, want, all)
	kept, n, err := s.Records(ctx, records[0].Client, records[0].Server, records[0].Point, records[3].Start,
		records[6].Start, 0, 4)
	require.NoError(t, err)
	require.Equal(t, 6, n, "three, of two batches")
	_, _, err = s.Records(ctx, netip.MustParseAddr("fe80::1%'; DROP TABLE records; --"), records[0].Server,
		records[0].Point, records[3].Start, records[6].Start, 0, 4)
	require.NoError(t, err, "the zone of an address is not part of a query")
	require.Equal(t, []flow.Joined{records[5], records[5], records[4], records[4]}, kept, "the newest first")
}

func TestAnImportThatIsCutOffLeavesNothing(t *testing.T) {
	s, conn := assemblytest.Fresh(t)
	require.NoError(t, s.ImportWorkloads(t.Context(), "inventory", []string{"env"},
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "live")}))
	before := assemblytest.TagValues(t, s)
	// A lock holds the import up in the middle; then its connection is killed.
	tx, err := conn.Begin(t.Context())
	require.NoError(t, err)
	_, err = tx.Exec(t.Context(), `LOCK TABLE leases IN ACCESS EXCLUSIVE MODE`)
	require.NoError(t, err)
	done := make(chan error)
	go func() {
		done <- s.ImportWorkloads(context.Background(), "inventory", []string{"env"},
			[]estate.Workload{assemblytest.Machine("a", "10.0.0.2", "env", "trial"),
				assemblytest.Machine("b", "10.0.0.3", "env", "trial")})
	}()
	require.Eventually(t, func() bool {
		var n int
		require.NoError(t, tx.QueryRow(t.Context(),
			`SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = current_database()
				AND wait_event_type = 'Lock'`).Scan(&n))
		return n > 0
	}, 10*time.Second, 20*time.Millisecond)
	require.Error(t, <-done)
	require.NoError(t, tx.Rollback(t.Context()))
	require.Equal(t, before, assemblytest.TagValues(t, s))
}
