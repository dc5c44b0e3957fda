package watching_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/traffic/rows"
	"lucidorchard/watching"
)

// floodLand has so many groups of one machine each; none may reach another.
func floodLand(t testing.TB, db *assembly.Store, groups int) {
	var ws []estate.Workload
	var text strings.Builder
	for i := range groups {
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{Addr: floodAddr(i),
			From: estate.Beginning, Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "app", Value: fmt.Sprint("app", i)})
		ws = append(ws, w)
		fmt.Fprintf(&text, "group g%d = app is app%d\n", i, i)
	}
	text.WriteString("layer closing\n")
	for i := range groups {
		fmt.Fprintf(&text, "reject g%d -> g%d on tcp/22\nreject g%d -> g%d on tcp/23\n", i, (i+1)%groups, i,
			(i+2)%groups)
	}
	_, err := db.Take(t.Context(), inventory.Listing{Source: "list", Workloads: ws, Complete: true})
	require.NoError(t, err)
	require.NoError(t, db.Begin(t.Context(), model.Revision{No: 1, Text: text.String(), Blame: model.Blame{},
		Author: "me", Words: "begin"}))
}

func floodAddr(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 1, byte(i >> 8), byte(i)}) }

// flood is connections that got through just now although rules reject them, two of each
// group from one to another: on port 22 to the next, on 23 to the one after it.
func flood(t testing.TB, db *assembly.Store, from, to, groups int) {
	now := estate.InstantOf(time.Now())
	var records []flow.Record
	for i := from; i < to; i++ {
		for k := range 2 {
			records = append(records, flow.Record{Start: now, End: now, Client: floodAddr(i),
				Server: floodAddr((i + 1 + k) % groups),
				Point:  service.PointOf(service.TCP, uint32(22+k)), Connections: 1, Bytes: 100, Packets: 2,
				Outcome: flow.Carried, Observer: "leaf"})
		}
	}
	_, err := db.AddBatch(t.Context(), rows.BatchOf(fmt.Sprint("flood", from, now), flow.Stating(records), nil))
	require.NoError(t, err)
}

// alarmed has notices of leaks, of anything, and of some, for a flood.
func alarmed(t testing.TB, db *assembly.Store, groups int) (*hook, func()) {
	floodLand(t, db, groups)
	a, end := assemblytest.Running(t, db, "one")
	h, m := duty(t, a)
	for _, n := range []watching.Notice{{Kinds: []string{"leak"}}, {}, {What: "app is app7"}, {Who: "member of g3"}} {
		n.Pace, n.To = "at once", []string{"duty"}
		_, err := a.Watching.PutNotice(t.Context(), m, n)
		require.NoError(t, err)
	}
	return h, end
}

// A flood of leaks is one matter with all of them, and is told by every notice that is
// about one of them; a few are told one by one.
func TestAFloodIsTold(t *testing.T) {
	const groups = 1000
	db := assemblytest.Open(t)
	h, end := alarmed(t, db, groups)
	defer end()
	since := time.Now().Add(-time.Hour)
	flood(t, db, 500, 503, groups)
	require.Eventually(t, func() bool {
		list, err := db.Matters(t.Context(), since)
		require.NoError(t, err)
		return len(list) == 6
	}, 20*time.Second, 10*time.Millisecond)
	flood(t, db, 0, groups, groups)
	require.Eventually(t, func() bool {
		list, err := db.Matters(t.Context(), since)
		require.NoError(t, err)
		days, err := db.MatterDays(t.Context(), since)
		require.NoError(t, err)
		if len(list) != 1 || len(days[list[0].ID]) != 1 {
			return false
		}
		d := days[list[0].ID][0]
		carried := int64(0)
		for _, n := range d.Carried {
			carried += n
		}
		return d.Conversations == 2*groups && d.Connections == 2*groups+6 && carried == d.Connections &&
			list[0].Kind == "leak"
	}, 20*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool {
		floods := 0
		for _, m := range h.all() {
			for _, part := range append(m.Parts, m) {
				if part.Title == "1000 callers reached 1000 servers on 2 services" ||
					part.Title == "1,000 callers reached 1,000 servers on 2 services" {
					floods++
				}
			}
		}
		return floods == 4
	}, 20*time.Second, 10*time.Millisecond, "%v", h.all())
}

// BenchmarkAFloodOfLeaks measures how long it takes, with 10,000 leaks a minute of 1,000
// groups by 2,000 rules, from the first leak to the first message, and how many matters
// and messages twenty seconds of it make.
func BenchmarkAFloodOfLeaks(b *testing.B) {
	const groups, each, steps = 1000, 33, 50
	for range b.N {
		db := assemblytest.Open(b)
		h, end := alarmed(b, db, groups)
		begun := time.Now()
		var first time.Duration
		for step := range steps {
			from := step * each % (groups - each)
			flood(b, db, from, from+each, groups)
			for next := begun.Add(time.Duration(step+1) * 400 * time.Millisecond); time.Now().Before(next); time.Sleep(
				5 * time.Millisecond) {
				if first == 0 && len(h.all()) > 0 {
					first = time.Since(begun)
				}
			}
		}
		list, err := db.Matters(b.Context(), begun.Add(-time.Hour))
		require.NoError(b, err)
		b.ReportMetric(first.Seconds(), "s-to-first-message")
		b.ReportMetric(float64(len(list)), "matters")
		b.ReportMetric(float64(len(h.all())), "messages")
		b.ReportMetric(float64(2*each*steps)/time.Since(begun).Minutes(), "leaks/min")
		end()
	}
}
