package assembly_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

func through(t *testing.T) (*assembly.Store, *databasetest.Proxy) {
	p := databasetest.NewProxy(t, databasetest.Database(t))
	s, err := assembly.Open(t.Context(), p.URL)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, p
}

func rev(no int) model.Revision {
	return model.Revision{No: no, Text: fmt.Sprint(no), Blame: model.Blame{no}, Author: "me", Words: "Write"}
}

func TestALostAnswerToCommitIsLookedUp(t *testing.T) {
	s, p := through(t)
	p.LoseCommits.Store(1)
	require.NoError(t, s.AddRevision(t.Context(), rev(1)), "it was stored, so it is no error")
	p.LoseCommits.Store(1)
	require.NoError(t, s.ImportWorkloads(t.Context(), "plan", nil, []estate.Workload{assemblytest.Machine("a",
		"10.0.0.1")}))
	p.LoseCommits.Store(0)
	p.LoseBefore.Store(1)
	err := s.AddRevision(t.Context(), rev(2))
	require.Error(t, err, "the COMMIT never came")
	var unknown *database.UnknownError
	require.False(t, errors.As(err, &unknown), "and that is known")
	p.LoseBefore.Store(0)
	require.NoError(t, s.AddRevision(t.Context(), rev(2)))
	require.Len(t, assemblytest.TagValues(t, s), 1)
}

func TestWhatCannotBeLookedUpIsUnknownAndSafeToRepeat(t *testing.T) {
	s, p := through(t)
	p.LoseCommits.Store(1)
	p.ThenDown.Store(true)
	key := func() context.Context {
		return database.Patient(database.WithKey(t.Context(), &database.Key{Text: "one", Fingerprint: "f"}),
			300*time.Millisecond)
	}
	var unknown *database.UnknownError
	require.ErrorAs(t, s.AddRevision(key(), rev(1)), &unknown)
	p.LoseCommits.Store(0)
	p.Down.Store(false)
	var repeated *database.RepeatedError
	require.ErrorAs(t, s.AddRevision(key(), rev(1)), &repeated)
	a, err := s.Request(t.Context(), "one")
	require.NoError(t, err)
	require.Equal(t, "f", a.Fingerprint)
	require.NoError(t, s.KeepAnswer(t.Context(), "one", database.Answered{Status: 200, Type: "text/plain",
		Body: []byte("so")}))
	a, err = s.Request(t.Context(), "one")
	require.NoError(t, err)
	require.Equal(t, "so", string(a.Body))
	head, err := s.Head(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, head.No)
}

// Saving a policy, workloads, tags and undoing at once: all wait for each other
// in one order.
func TestWritersDoNotStandInEachOthersWay(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.ImportWorkloads(ctx, "plan", nil,
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "live")}))
	var group sync.WaitGroup
	var failed atomic.Int32
	for w := range 6 {
		group.Go(func() {
			for i := range 12 {
				var err error
				switch (w + i) % 4 {
				case 0:
					head, _ := s.Head(ctx)
					err = s.AddRevision(ctx, rev(head.No+1))
				case 1:
					_, err = s.Take(ctx, inventory.Listing{Source: fmt.Sprint("source ", w),
						Workloads: []estate.Workload{assemblytest.Machine(fmt.Sprint("w", i),
							fmt.Sprintf("10.0.%d.%d", w, i),
							"env", fmt.Sprint(i))}})
				case 2:
					v := fmt.Sprint(w, i)
					err = s.SetTags(ctx, []inventory.TagEdit{{Workload: "a", Key: "tier", Value: &v}}, "me", "Set tier")
				case 3:
					_, err = s.Undo(ctx, "me")
				}
				if err != nil && !errors.Is(err, database.ErrMoved) && !errors.Is(err, history.ErrNothing) {
					failed.Add(1)
					t.Error(err)
				}
			}
		})
	}
	group.Wait()
	require.Zero(t, failed.Load())
}

func TestKeysOfOldRequestsAreForgotten(t *testing.T) {
	s, conn := assemblytest.Fresh(t)
	for _, key := range []string{"old", "new"} {
		v := key
		require.NoError(t, s.ImportWorkloads(t.Context(), "plan", nil,
			[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "live")}))
		require.NoError(t, s.SetTags(database.WithKey(t.Context(), &database.Key{Text: key, Fingerprint: key}),
			[]inventory.TagEdit{{Workload: "a", Key: "env", Value: &v}}, "me", "Set env"))
	}
	_, err := conn.Exec(t.Context(), `UPDATE requests SET at = now() - interval '8 days' WHERE key = 'old'`)
	require.NoError(t, err)
	require.NoError(t, s.ForgetRequests(t.Context()))
	old, err := s.Request(t.Context(), "old")
	require.NoError(t, err)
	require.Nil(t, old)
	kept, err := s.Request(t.Context(), "new")
	require.NoError(t, err)
	require.NotNil(t, kept)
}

func TestOneOfTwoConflictingEditsIsTaken(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.ImportWorkloads(ctx, "plan", nil,
		[]estate.Workload{assemblytest.Machine("a", "10.0.0.1", "env", "live")}))
	was := "live"
	for round := range 20 {
		var taken atomic.Int32
		var group sync.WaitGroup
		for k := range 3 {
			group.Go(func() {
				v := fmt.Sprintf("%d-%d", round, k)
				err := s.SetTags(ctx, []inventory.TagEdit{{Workload: "a", Key: "env", Value: &v, Was: &was}}, "me",
					"Set env")
				var changed *inventory.ChangedError
				if err == nil {
					taken.Add(1)
				} else if !errors.As(err, &changed) {
					t.Error(err)
				}
			})
		}
		group.Wait()
		require.Equal(t, int32(1), taken.Load())
		_, was, _ = strings.Cut(assemblytest.TagValues(t, s)["a"], "env=")
		was, _, _ = strings.Cut(was, "(")
	}
}

// Loads of the estate beside imports: each sees one state, and nobody has the
// addresses and tags of another.
func TestOneStateIsRead(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	for w := range 2 {
		group.Go(func() {
			for i := 0; ctx.Err() == nil && i < 200; i++ {
				var ws []estate.Workload
				for k := range 40 {
					id := fmt.Sprintf("w%d-%d-%d", w, i%7, k)
					ws = append(ws, assemblytest.Machine(id, fmt.Sprintf("10.%d.%d.%d", w, i%7, k), "me", id))
				}
				if _, err := s.Take(ctx, inventory.Listing{Source: fmt.Sprint(w), Workloads: ws}); err != nil &&
					ctx.Err() == nil {
					t.Error(err)
				}
			}
		})
	}
	var since *database.Versions
	seen := map[string]estate.Workload{}
	for round := 0; round < 40 || len(seen) < 560; round++ {
		st, err := s.State(ctx, since)
		require.NoError(t, err)
		since = &st.Versions
		for _, w := range st.Workloads {
			seen[w.ID] = w
		}
		for _, w := range seen {
			require.Len(t, w.Leases, 1, w.ID)
			mine, _ := w.Tag("me")
			require.Equal(t, w.ID, mine.Value)
		}
	}
	stop()
	group.Wait()
}

func TestSumsInTheDatabaseStopAtTheLargestNumber(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	r := flow.Record{Start: estate.Instant{Sec: 1_795_000_000}, End: estate.Instant{Sec: 1_795_000_000},
		Client: netip.MustParseAddr("10.0.0.1"), Server: netip.MustParseAddr("10.0.0.2"),
		Point:       service.PointOf(6, 443),
		Connections: math.MaxInt64, Bytes: 1<<55 - 1, Packets: 1}
	batch := func(id string) rows.Batch {
		return rows.BatchOf(id, slices.Repeat(flow.Stating([]flow.Record{r}), 300), nil)
	}
	for i := range 3 {
		_, err := s.AddBatch(t.Context(), batch(fmt.Sprint(i)))
		require.NoError(t, err)
	}
	b := assemblytest.AllConversations(t, s).Bucket(0)
	require.Equal(t, int64(math.MaxInt64), b.Connections)
	require.Equal(t, int64(math.MaxInt64), b.Bytes)
	require.Equal(t, int64(900), b.Packets)
	// The same in parts of one file, beside them.
	n, err := s.NewFile(t.Context())
	require.NoError(t, err)
	added, err := s.AddFile(t.Context(), "parts", n, assemblytest.PartsOf(n,
		slices.Repeat(flow.Stating([]flow.Record{r}), 900), 300),
		func(traffic.Storing) {}, "Import", "somebody")
	require.NoError(t, err)
	require.Equal(t, int64(1), added.Hours)
	b = assemblytest.AllConversations(t, s).Bucket(1)
	require.Equal(t, int64(math.MaxInt64), b.Connections)
	require.Equal(t, int64(math.MaxInt64), b.Bytes)
	require.Equal(t, int64(900), b.Packets)
	_, err = s.Rebuild(t.Context(), b.Hour, []netip.Addr{r.Client}, func(*flow.Joined) bool { return false }, nil,
		nil)
	require.NoError(t, err)
}

func TestASourceSpeaksForItsRank(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	named := func(id, name, addr string) estate.Workload {
		w := assemblytest.Machine(id, addr)
		w.Name = name
		return w
	}
	_, err := s.Take(ctx, inventory.Listing{Source: "register",
		Workloads: []estate.Workload{named("a", "booking-entry-01", "10.0.0.1")}})
	require.NoError(t, err)
	taken, err := s.Take(ctx, inventory.Listing{Source: "script",
		Workloads: []estate.Workload{named("a", "mine now", "10.0.0.9"), named("b", "thief", "10.0.0.1")}})
	require.NoError(t, err)
	require.Len(t, taken.Conflicts, 1, "the address of another stays with it")
	all, err := s.Workloads(ctx)
	require.NoError(t, err)
	require.Equal(t, "booking-entry-01", all[0].Name)
	require.Empty(t, all[1].Leases)
	// The better one may take what the other gave; and what it lists no more is free.
	_, err = s.Take(ctx, inventory.Listing{Source: "register",
		Workloads: []estate.Workload{named("b", "booking-entry-02", "10.0.0.9")}})
	require.NoError(t, err)
	_, err = s.Take(ctx, inventory.Listing{Source: "register",
		Workloads: []estate.Workload{named("b", "booking-entry-02", "10.0.0.9")}, Complete: true, Confirm: 1})
	require.NoError(t, err)
	_, err = s.Take(ctx, inventory.Listing{Source: "script",
		Workloads: []estate.Workload{named("a", "mine now", "10.0.0.8")}})
	require.NoError(t, err)
	all, err = s.Workloads(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"mine now", "booking-entry-02"}, []string{all[0].Name, all[1].Name})
}

func TestAListThatLacksMuchIsHeld(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	var ws []estate.Workload
	for i := range 40 {
		ws = append(ws, assemblytest.Machine(fmt.Sprint("w", i), fmt.Sprintf("10.0.0.%d", i)))
	}
	take := func(n, confirm int) (inventory.Taken, error) {
		return s.Take(ctx, inventory.Listing{Source: "plan", Workloads: ws[:n], Complete: true, Confirm: confirm})
	}
	_, err := take(40, 0)
	require.NoError(t, err)
	var lacks *inventory.LacksError
	_, err = take(0, 0)
	require.ErrorAs(t, err, &lacks)
	require.Equal(t, inventory.LacksError{Listed: 40, Missing: 40}, *lacks)
	_, err = take(30, 9)
	require.ErrorAs(t, err, &lacks, "another number than was looked at")
	taken, err := take(36, 0)
	require.NoError(t, err, "a tenth is nothing unusual")
	require.Len(t, taken.Retired, 4)
	taken, err = take(30, 6)
	require.NoError(t, err)
	require.Len(t, taken.Retired, 6)
}

func TestJobsOfAServerThatIsGone(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	mine, err := s.AddJob(ctx, "derive", "Derive", "one")
	require.NoError(t, err)
	stored, err := s.AddJob(ctx, "import", "Import", "two")
	require.NoError(t, err)
	left, err := s.AddJob(ctx, "import", "Import", "two")
	require.NoError(t, err)
	_, err = s.AddBatch(database.WithJob(ctx, stored.ID), rows.Batch{ID: "b"})
	require.NoError(t, err)
	beats, err := s.Owners(ctx)
	require.NoError(t, err)
	require.Len(t, beats, 2)
	n, err := s.FailAbandoned(ctx, []string{"two"})
	require.NoError(t, err)
	require.Equal(t, int64(2), n)
	state := func(id int64) string {
		j, err := s.Job(ctx, id)
		require.NoError(t, err)
		return j.State
	}
	require.Equal(t, []string{"running", "done", "failed"}, []string{state(mine.ID), state(stored.ID),
		state(left.ID)})
	_, err = s.AddBatch(database.WithJob(ctx, left.ID), rows.Batch{ID: "c"})
	require.ErrorContains(t, err, "was given up meanwhile",
		"nothing is stored for a job that was said to have failed")
}
