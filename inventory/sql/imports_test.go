package sql_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
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
	"lucidorchard/history"
	"lucidorchard/inventory"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// picture returns what is known of the workloads, without what only says that and
// when something was done.
func picture(t *testing.T, s *assembly.Store) string {
	var raw bytes.Buffer
	require.NoError(t, s.Export(t.Context(), &raw))
	var out []string
	for line := range strings.Lines(raw.String()) {
		var x map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &x))
		delete(x, "changed_at")
		delete(x, "added")
		switch x["line"] {
		case "change", "former tag", "former workload", "former rank", nil:
			continue
		}
		if x["name"] == estate.ByHand { // stays once it was needed
			continue
		}
		if x["source"] == estate.ByHand {
			delete(x, "at")
		}
		clean, err := json.Marshal(x)
		require.NoError(t, err)
		out = append(out, string(clean))
	}
	return strings.Join(out, "\n")
}

// listingOf is a list of some of thirty workloads on forty addresses.
func listingOf(r *rand.Rand, source string, at time.Time) inventory.Listing {
	l := inventory.Listing{Source: source, At: at, Complete: r.IntN(2) == 0, Words: "Import workloads from " + source,
		Author: "somebody", Mapping: map[string]string{"h": fmt.Sprint(r.IntN(3))}}
	for i := range 30 {
		if r.IntN(3) == 0 {
			continue
		}
		w := estate.Workload{ID: fmt.Sprint("w", i), Name: fmt.Sprint("name ", r.IntN(2)), Kind: "server"}
		for _, key := range []string{"app", "tier", "env"} {
			if r.IntN(3) > 0 {
				w.SetTag(estate.Tag{Key: key, Value: fmt.Sprint("v", r.IntN(2))})
			}
		}
		if r.IntN(3) > 0 {
			w.Leases = []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte((i + r.IntN(4)) % 40)}),
				From: estate.Beginning, Until: estate.End}}
		}
		l.Workloads = append(l.Workloads, w)
	}
	seen := map[netip.Addr]bool{}
	for i := range l.Workloads {
		if ls := l.Workloads[i].Leases; len(ls) > 0 && seen[ls[0].Addr] {
			l.Workloads[i].Leases = nil
		} else if len(ls) > 0 {
			seen[ls[0].Addr] = true
		}
	}
	return l
}

func TestImportsOfWorkloadsAreUndone(t *testing.T) {
	for seed := range uint64(6) {
		s, _ := assemblytest.Fresh(t)
		ctx := t.Context()
		r := rand.New(rand.NewPCG(seed, 9))
		at := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
		pictures := []string{picture(t, s)}
		for range 6 {
			at = at.Add(time.Hour)
			if r.IntN(3) == 0 {
				v := fmt.Sprint("hand ", r.IntN(9))
				require.NoError(t, s.SetTags(ctx, []inventory.TagEdit{{Workload: fmt.Sprint("w", r.IntN(30)),
					Key:   "app",
					Value: &v}}, "somebody", "a tag"))
			} else {
				l := listingOf(r, []string{"plan", "lab"}[r.IntN(2)], at)
				_, err := s.Take(ctx, l)
				if lacks := (*inventory.LacksError)(nil); err != nil {
					require.ErrorAs(t, err, &lacks)
					l.Confirm = lacks.Missing
					_, err = s.Take(ctx, l)
				}
				require.NoError(t, err)
			}
			pictures = append(pictures, picture(t, s))
		}
		for range 2 { // down and up again, twice
			for i := len(pictures) - 2; i >= 0; i-- {
				c, err := s.Undo(ctx, "somebody")
				require.NoError(t, err)
				require.Empty(t, c.Note)
				require.Equal(t, pictures[i], picture(t, s), "seed %d, back to step %d", seed, i)
			}
			for i := 1; i < len(pictures); i++ {
				_, err := s.Redo(ctx, "somebody")
				require.NoError(t, err)
				require.Equal(t, pictures[i], picture(t, s), "seed %d, again to step %d", seed, i)
			}
		}
	}
}

func TestUndoingAnImportLeavesWhatOthersSaidSince(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	take := func(source, words string, day time.Time, ws ...estate.Workload) {
		_, err := s.Take(ctx, inventory.Listing{Source: source, Workloads: ws, At: day, Words: words})
		require.NoError(t, err)
	}
	take("plan", "Import", day, assemblytest.Leased("a", "10.0.0.1", "env", "live"),
		assemblytest.Leased("b", "10.0.0.2", "env", "live"))
	take("script", "", day.Add(time.Hour), assemblytest.Leased("b", "10.0.0.2", "tier", "store")) // that nobody undoes
	c, err := s.Undo(ctx, "somebody")
	require.NoError(t, err)
	require.Equal(t, "1 of its workloads have changed since and stay unchanged", c.Note)
	require.Equal(t, map[string]string{"b": "10.0.0.2 env=live(plan) tier=store(script) "},
		assemblytest.TagValues(t, s))

	c, err = s.Redo(ctx, "somebody")
	require.NoError(t, err)
	require.NotEmpty(t, c.Note)
	require.Len(t, assemblytest.TagValues(t, s), 2)

	// A list that says nothing new is nothing to undo.
	take("plan", "Import again", day.Add(2*time.Hour), assemblytest.Leased("a", "10.0.0.1", "env", "live"))
	undo, _, err := s.Undoable(ctx)
	require.NoError(t, err)
	require.Equal(t, "Import", undo.Words)
}

// carried returns what is seen of all conversations.
func carried(t *testing.T, s *assembly.Store) map[string]int64 {
	ctx := t.Context()
	hours, err := s.Hours(ctx)
	require.NoError(t, err)
	var all []flow.Hour
	for h := range hours {
		all = append(all, h)
	}
	dict := &flow.Dictionary{}
	chunks, _, err := s.Chunks(ctx, all, dict)
	require.NoError(t, err)
	table := flow.NewTable()
	table.Dict = dict
	out := map[string]int64{}
	table = table.With(chunks, nil)
	require.Equal(t, len(hours), len(table.Chunks), "hours without anything to see")
	for row := range table.Len() {
		b := table.Bucket(row)
		out[fmt.Sprint(b.Hour, b.Client, b.Server, b.Point, b.Outcome)] += b.Connections
	}
	return out
}

func TestImportsOfFlowsAreUndone(t *testing.T) {
	s, conn := assemblytest.Fresh(t)
	ctx := t.Context()
	r := rand.New(rand.NewPCG(1, 2))
	start := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	records := func(hours int) []flow.Joined {
		var out []flow.Record
		for range 400 {
			at := estate.InstantOf(start.Add(time.Duration(r.IntN(hours*60)) * time.Minute))
			out = append(out, flow.Record{Start: at, End: at, Client: netip.AddrFrom4([4]byte{10, 0, 0,
				byte(r.IntN(4))}),
				Server: netip.AddrFrom4([4]byte{10, 0, 1, byte(r.IntN(4))}), Point: service.PointOf(service.TCP, 443),
				Packets: 1, Bytes: 100, Connections: 1, Outcome: flow.Carried})
		}
		return flow.Stating(out)
	}
	importFile := func(id string, rs []flow.Joined) traffic.Added {
		n, err := s.NewFile(ctx)
		require.NoError(t, err)
		added, err := s.AddFile(ctx, id, n, assemblytest.PartsOf(n, rs, 200), func(traffic.Storing) {},
			"Import flows "+id, "somebody")
		require.NoError(t, err)
		return added
	}
	collected := func(id string, hours int) {
		_, err := s.AddBatch(ctx, rows.BatchOf(id, records(hours), nil))
		require.NoError(t, err)
	}
	collected("before", 3)
	pictures := []map[string]int64{carried(t, s)}
	first := records(5)
	require.Nil(t, importFile("one", first).Before)
	pictures = append(pictures, carried(t, s))
	importFile("two", records(3))
	pictures = append(pictures, carried(t, s))
	require.NotNil(t, importFile("one", first).Before, "the same file is counted once")
	require.Equal(t, pictures[2], carried(t, s))

	turn := func(f func() (*history.Change, error), want map[string]int64) {
		_, err := f()
		require.NoError(t, err)
		require.Equal(t, want, carried(t, s))
	}
	undo := func() (*history.Change, error) { return s.Undo(ctx, "somebody") }
	redo := func() (*history.Change, error) { return s.Redo(ctx, "somebody") }
	for range 2 {
		turn(undo, pictures[1])
		turn(undo, pictures[0])
		turn(redo, pictures[1])
		turn(redo, pictures[2])
	}
	turn(undo, pictures[1])
	turn(undo, pictures[0])
	one := func() (n int) {
		for client := range 4 {
			for server := range 4 {
				_, total, err := s.Records(ctx, netip.AddrFrom4([4]byte{10, 0, 0, byte(client)}),
					netip.AddrFrom4([4]byte{10, 0, 1, byte(server)}), service.PointOf(service.TCP, 443),
					estate.InstantOf(start), estate.InstantOf(start.AddDate(0, 0, 1)), 0, 1000)
				require.NoError(t, err)
				n += total
			}
		}
		return n
	}
	require.Equal(t, 400, one(), "single records of undone files are out of sight")

	// Cutting an hour gathers the rows of each file apart.
	_, err := s.Rebuild(ctx, flow.HourOf(estate.InstantOf(start)), []netip.Addr{netip.MustParseAddr("10.0.0.1")}, nil,
		nil, nil)
	require.NoError(t, err)
	require.Equal(t, pictures[0], carried(t, s))
	turn(redo, pictures[1])
	turn(undo, pictures[0])

	// What was undone may be imported again; the rows that were out of sight go.
	require.Nil(t, importFile("one", first).Before)
	require.Equal(t, pictures[1], carried(t, s))
	require.Equal(t, 800, one())
	require.NoError(t, s.ForgetFiles(ctx))
	require.Equal(t, pictures[1], carried(t, s))
	var files, rows int
	require.NoError(t, conn.QueryRow(ctx, `SELECT (SELECT count(*) FROM files), (SELECT count(DISTINCT file)
		FROM conversations)`).Scan(&files, &rows))
	require.Equal(t, [2]int{1, 2}, [2]int{files, rows}, "one file, and what came of none")
	_, err = s.Redo(ctx, "somebody")
	require.ErrorIs(t, err, history.ErrNothing)
}

func TestImportsAndUndoDoNotWaitForEachOtherInACircle(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	at := estate.InstantOf(time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC))
	rs := flow.Stating([]flow.Record{{Start: at, End: at, Client: netip.MustParseAddr("10.0.0.1"),
		Server: netip.MustParseAddr("10.0.0.2"), Point: service.PointOf(service.TCP, 443), Packets: 1, Bytes: 1,
		Connections: 1, Outcome: flow.Carried}})
	done := make(chan error)
	for k := range 3 {
		go func() {
			for i := range 15 {
				n, err := s.NewFile(ctx)
				if err == nil {
					_, err = s.AddFile(ctx, fmt.Sprint(k, " ", i), n, assemblytest.PartsOf(n, rs, 1),
						func(traffic.Storing) {}, "Import", "somebody")
				}
				if err == nil {
					_, err = s.Undo(ctx, "somebody")
				}
				if err != nil && err != history.ErrNothing {
					done <- err
					return
				}
				v := "x"
				if err := s.SetTags(ctx, []inventory.TagEdit{{Workload: "w", Key: "k", Value: &v}}, "s",
					"tag"); err != nil {
					done <- err
					return
				}
			}
			done <- nil
		}()
	}
	for range 3 {
		require.NoError(t, <-done)
	}
}
