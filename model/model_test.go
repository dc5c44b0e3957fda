package model_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
	"lucidorchard/database/databasetest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/traffic/rows"
)

func TestMain(m *testing.M) { databasetest.Main(m) }

// keeping runs a keeper on a database of its own, and counts its models.
func keeping(t *testing.T) (*model.Keeper, *assembly.Store, *atomic.Int64, string) {
	database := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	made := &atomic.Int64{}
	k := model.NewKeeper(db, slog.New(slog.NewTextHandler(io.Discard, nil)), func(_, _ *model.Model) { made.Add(1) })
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go k.Run(ctx)
	return k, db, made, database
}

func workload(id, addr, env string) estate.Workload {
	w := estate.Workload{ID: id, Name: id,
		Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}}
	w.SetTag(estate.Tag{Key: "env", Value: env})
	return w
}

func batch(id, client, server string) rows.Batch {
	at := estate.Instant{Sec: 1_795_000_000}
	return rows.BatchOf(id, flow.Stating([]flow.Record{{Start: at, End: at, Client: netip.MustParseAddr(client),
		Server: netip.MustParseAddr(server), Point: service.PointOf(6, 443), Connections: 1}}), nil)
}

const text = "group live = env is live\nlayer allowances\npermit live -> live on tcp/443\n"

func revision(no int, text string) model.Revision {
	return model.Revision{No: no, Text: text, Blame: make(model.Blame, strings.Count(text, "\n")), Author: "me",
		Words: "Write"}
}

// What was written before a question is known to its answer, and each model is as
// one that is made from the database anew.
func TestAModelKnowsWhatWasWritten(t *testing.T) {
	k, db, _, _ := keeping(t)
	ctx := t.Context()
	require.NoError(t, db.ImportWorkloads(ctx, "plan", nil, []estate.Workload{workload("a", "10.0.0.1", "live"),
		workload("b", "10.0.0.2", "trial")}))
	_, err := db.AddBatch(ctx, batch("one", "10.0.0.1", "10.0.0.2"))
	require.NoError(t, err)
	require.NoError(t, db.AddRevision(ctx, revision(1, text)))
	steps := []struct {
		write func() error
		want  decide.Verdict
	}{
		{func() error { return nil }, decide.Uncovered},
		{func() error {
			v := "live"
			return db.SetTags(ctx, []inventory.TagEdit{{Workload: "b", Key: "env", Value: &v}}, "me", "Set")
		}, decide.Permit},
		{func() error { return db.AddRevision(ctx, revision(2, strings.Replace(text, "permit", "reject", 1))) },
			decide.Reject},
		{func() error {
			return db.ImportWorkloads(ctx, "plan", nil, []estate.Workload{workload("c", "10.0.0.3", "live")})
		}, decide.Reject},
		{func() error { return db.SetStructural(ctx, []string{"env"}) }, decide.Reject},
		{func() error { _, err := db.Undo(ctx, "me"); return err }, decide.Permit},
		{func() error { _, err := db.Undo(ctx, "me"); return err }, decide.Uncovered},
	}
	for i, s := range steps {
		require.NoError(t, s.write(), i)
		m, err := k.Current(ctx)
		require.NoError(t, err)
		v, err := m.View(ctx, m.From, m.To)
		require.NoError(t, err)
		require.Equal(t, s.want, v.Verdict(0), i)
		anew := decide.Compile(m.Estate, m.Policy, m.AsOf())
		c := v.At(0)
		require.Equal(t, s.want, decide.VerdictOf(anew.Decide(anew.At(c.Client.Addr, m.AsOf()),
			anew.At(c.Server.Addr, m.AsOf()), c.Point)), i)
		require.Same(t, m.Policy, m.Compiled.Policy)
	}
	_, err = db.AddBatch(ctx, batch("two", "10.0.0.3", "10.0.0.1"))
	require.NoError(t, err)
	m, err := k.Current(ctx)
	require.NoError(t, err)
	v, err := m.View(ctx, m.From, m.To)
	require.NoError(t, err)
	require.Equal(t, 2, v.Len())
}

// A model that somebody holds stays as it is while others are made.
func TestAModelDoesNotChange(t *testing.T) {
	k, db, _, _ := keeping(t)
	ctx := t.Context()
	require.NoError(t, db.ImportWorkloads(ctx, "plan", nil, []estate.Workload{workload("a", "10.0.0.1", "live")}))
	require.NoError(t, db.AddRevision(ctx, revision(1, text)))
	held, err := k.Current(ctx)
	require.NoError(t, err)
	before := fmt.Sprint(held.Versions, held.Head.No, held.Estate.Len(), held.Keys())
	var group sync.WaitGroup
	for i := range 20 {
		group.Go(func() {
			if err := db.ImportWorkloads(ctx, "plan", nil,
				[]estate.Workload{workload(fmt.Sprint("n", i), fmt.Sprintf("10.0.1.%d", i), "live")}); err != nil {
				t.Error(err)
			}
			m, err := k.Current(ctx)
			if err != nil {
				t.Error(err)
				return
			}
			if _, ok := m.Estate.ByID(fmt.Sprint("n", i)); !ok {
				t.Error("it does not know what was written before it was asked for")
			}
		})
	}
	group.Wait()
	require.Equal(t, before, fmt.Sprint(held.Versions, held.Head.No, held.Estate.Len(), held.Keys()))
}

func TestOneWriteIsOneModel(t *testing.T) {
	k, db, made, _ := keeping(t)
	require.NoError(t, db.AddRevision(t.Context(), revision(1, text)))
	_, err := k.Current(t.Context())
	require.NoError(t, err)
	before := made.Load()
	require.NoError(t, db.AddRevision(t.Context(), revision(2, text+"permit live -> live on tcp/22\n")))
	for range 10 {
		m, err := k.Current(t.Context())
		require.NoError(t, err)
		require.Equal(t, 2, m.Head.No)
	}
	require.Equal(t, before+1, made.Load())
}

// What a preview has computed is what the next model is made of.
func TestAPreviewIsUsedWhenItIsSaved(t *testing.T) {
	k, db, _, _ := keeping(t)
	ctx := t.Context()
	require.NoError(t, db.ImportWorkloads(ctx, "plan", nil, []estate.Workload{workload("a", "10.0.0.1", "live"),
		workload("b", "10.0.0.2", "live")}))
	_, err := db.AddBatch(ctx, batch("one", "10.0.0.1", "10.0.0.2"))
	require.NoError(t, err)
	require.NoError(t, db.AddRevision(ctx, revision(1, text)))
	m, err := k.Current(ctx)
	require.NoError(t, err)
	v, err := m.View(ctx, m.From, m.To)
	require.NoError(t, err)
	next := strings.Replace(text, "permit", "reject", 1)
	preview, err := m.After(t.Context(), next)
	require.NoError(t, err)
	seen := preview.View(v)
	again, err := m.After(t.Context(), next)
	require.NoError(t, err)
	require.Same(t, preview, again)
	require.NoError(t, db.AddRevision(ctx, revision(2, next)))
	saved, err := k.Current(ctx)
	require.NoError(t, err)
	require.Same(t, preview.Update.After, saved.Compiled)
	is, err := saved.View(ctx, saved.From, saved.To)
	require.NoError(t, err)
	require.Same(t, seen, is)
	require.Equal(t, decide.Reject, is.Verdict(0))
}

// A preview is computed once for all who wait for it, and given up when the last of them
// has left.
func TestAPreviewEndsWithThoseWhoWait(t *testing.T) {
	k, db, _, _ := keeping(t)
	var all []estate.Workload
	for i := range 400 {
		all = append(all, workload(fmt.Sprint("w", i), fmt.Sprintf("10.0.%d.%d", i/200, i%200), "live"))
	}
	require.NoError(t, db.ImportWorkloads(t.Context(), "plan", nil, all))
	require.NoError(t, db.AddRevision(t.Context(), revision(1, text)))
	m, err := k.Current(t.Context())
	require.NoError(t, err)
	var deep strings.Builder
	deep.WriteString(text + "\ngroup d0 = env is live\n")
	for i := 1; i < 6000; i++ {
		fmt.Fprintf(&deep, "group d%d = member of d%d and name is not %d\n", i, i-1, i)
	}
	gone, leave := context.WithCancel(t.Context())
	stays := make(chan error, 1)
	go func() {
		_, err := m.After(t.Context(), deep.String())
		stays <- err
	}()
	go leave()
	_, err = m.After(gone, deep.String())
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, <-stays, "who stays gets it")

	gone, leave = context.WithCancel(t.Context())
	leave()
	_, err = m.After(gone, deep.String()+"\n")
	require.ErrorIs(t, err, context.Canceled)
	after, err := m.After(t.Context(), deep.String()+"\n")
	require.NoError(t, err, "a preview that was given up is computed again")
	require.Len(t, after.After.Policy.GroupOrder, len(m.Policy.GroupOrder)+6000)
}

// While the database is away the model is still held, and it is said since when;
// who waits goes when it likes.
func TestTheDatabaseGoesAway(t *testing.T) {
	k, db, _, database := keeping(t)
	require.NoError(t, db.AddRevision(t.Context(), revision(1, text)))
	_, err := k.Current(t.Context())
	require.NoError(t, err)
	back := databasetest.Away(t, database)
	_, err = k.Current(t.Context())
	require.Error(t, err)
	require.Eventually(t, func() bool { since, err := k.Away(); return err != nil && !since.IsZero() },
		20*time.Second, 20*time.Millisecond)
	require.NotNil(t, k.Held())
	back()
	require.Eventually(t, func() bool { _, err := k.Away(); return err == nil }, 20*time.Second, 20*time.Millisecond)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = k.Current(gone)
	require.ErrorIs(t, err, context.Canceled)
}

func TestAStoredTextWithErrorsIsWorkedWith(t *testing.T) {
	k, db, _, _ := keeping(t)
	require.NoError(t, db.AddRevision(t.Context(), revision(1, text+"group broken = env\n")))
	m, err := k.Current(t.Context())
	require.NoError(t, err)
	require.Len(t, m.Errors, 1)
	require.Equal(t, 4, m.Errors[0].Line)
	require.NotNil(t, m.Policy.Groups["live"])
	_, errs := policy.Parse(m.Head.Text)
	require.Equal(t, errs, m.Errors)
}
