package app_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/notify"
	"lucidorchard/store"
)

// floodLand has so many groups of one machine each; none may reach another.
func floodLand(t testing.TB, db *store.Store, groups int) {
	var ws []estate.Workload
	var text strings.Builder
	for i := range groups {
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{Addr: floodAddr(i), From: estate.Beginning, Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "app", Value: fmt.Sprint("app", i)})
		ws = append(ws, w)
		fmt.Fprintf(&text, "group g%d = app is app%d\n", i, i)
	}
	text.WriteString("layer closing\n")
	for i := range groups {
		fmt.Fprintf(&text, "reject g%d -> g%d on tcp/22\nreject g%d -> g%d on tcp/23\n", i, (i+1)%groups, i, (i+2)%groups)
	}
	_, err := db.Take(t.Context(), store.Listing{Source: "list", Workloads: ws, Complete: true})
	require.NoError(t, err)
	require.NoError(t, db.Begin(t.Context(), store.Revision{No: 1, Text: text.String(), Blame: store.Blame{}, Author: "me", Words: "begin"}))
}

func floodAddr(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 1, byte(i >> 8), byte(i)}) }

// flood is a connection by each of the rules that got through, now.
func flood(t testing.TB, db *store.Store, groups int) {
	now := estate.InstantOf(time.Now())
	var records []flow.Record
	for i := range groups {
		for k := range 2 {
			records = append(records, flow.Record{Start: now, End: now, Client: floodAddr(i), Server: floodAddr((i + 1 + k) % groups),
				Point: service.PointOf(service.TCP, uint32(22+k)), Connections: 1, Bytes: 100, Packets: 2, Outcome: flow.Carried, Observer: "leaf"})
		}
	}
	_, err := db.AddBatch(t.Context(), store.BatchOf(fmt.Sprint("flood", now), flow.Stating(records), nil))
	require.NoError(t, err)
}

// A flood of leaks is told and shown, however many matters it makes.
func TestAFloodIsTold(t *testing.T) {
	const groups = 1000
	db := open(t)
	floodLand(t, db, groups)
	a, end := running(t, db, "one")
	defer end()
	h, m := duty(t, a)
	for _, n := range []store.Notice{{Kinds: []string{"leak"}}, {}, {What: "app is app7"}, {Who: "member of g3"}} {
		n.Pace, n.To = "at once", []string{"duty"}
		_, err := a.PutNotice(t.Context(), m, n)
		require.NoError(t, err)
	}
	begun := time.Now()
	flood(t, db, groups)
	require.Eventually(t, func() bool { return len(h.all()) > 0 }, 100*time.Second, 10*time.Millisecond)
	first := time.Since(begun)
	told := func() (all int64) {
		for _, m := range h.all() {
			all += max(m.Times, 1)
		}
		return all
	}
	require.Eventually(t, func() bool { return told() >= 2*2000 }, 100*time.Second, 10*time.Millisecond, "%d", told())
	t.Logf("the first message after %s, all after %s, in %d messages", first, time.Since(begun), len(h.all()))
	list, err := db.Matters(t.Context(), begun.Add(-time.Hour))
	require.NoError(t, err)
	t.Logf("%d matters", len(list))
	var _ notify.Message
}
