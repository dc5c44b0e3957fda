package model_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/releasing"
	"lucidorchard/traffic/rows"
)

// released has machines of two kinds, traffic between them, and a point that enforces since an hour
// that nothing passes.
func released(t *testing.T) (*model.Keeper, *assembly.Store) {
	k, db, _, _ := keeping(t)
	ctx := t.Context()
	require.NoError(t, db.ImportWorkloads(ctx, "plan", nil, []estate.Workload{workload("a", "10.0.0.1", "live"),
		workload("b", "10.0.0.2", "trial"),
		workload("c", "10.0.0.3", "live")}))
	require.NoError(t, db.AddRevision(ctx, revision(1, "layer l\nreject any -> any on any\n")))
	require.NoError(t, db.AddRevision(ctx, revision(2, "layer l\npermit any -> any on any\n")))
	require.NoError(t, db.AddPoint(ctx, releasing.Point{Name: "p", Kind: "gate", Side: "server",
		Guards: "env is trial", Wave: 1}, "token"))
	one, mode := 1, "enforce"
	_, err := db.AddRelease(ctx, releasing.Release{Revision: 1, Title: "t", Author: "me"},
		func(no int, _ releasing.Roll) ([]releasing.Target, error) {
			return []releasing.Target{{Point: "p", Enforces: no, Words: "to enforce"}}, nil
		})
	require.NoError(t, err)
	require.NoError(t, db.Heard(ctx, "p", json.RawMessage(`{}`), []releasing.PointEvent{{Point: "p",
		At: time.Now().Add(-time.Hour), What: "applied",
		Words: "x", Release: &one, Mode: &mode}}, true))
	for i, pair := range [][2]string{{"10.0.0.1", "10.0.0.2"}, {"10.0.0.1", "10.0.0.3"}, {"10.0.0.9", "10.0.0.2"}} {
		_, err := db.AddBatch(ctx, seen(fmt.Sprint("first ", i), pair))
		require.NoError(t, err)
	}
	return k, db
}

// seen is a connection that was carried just now.
func seen(id string, pair [2]string) rows.Batch {
	now := estate.InstantOf(time.Now())
	b := batch(id, pair[0], pair[1])
	r := b.Records[0]
	r.Start, r.End, r.Outcome = now, now, flow.Carried
	return rows.BatchOf(id, []flow.Joined{r}, nil)
}

func fates(v *reach.View) (out []string) {
	for i := range v.Len() {
		c, r := v.At(i), v.Ruling(i)
		out = append(out, fmt.Sprint(c.Client.Addr, " ", c.Server.Addr, " ", c.Connections, " ", r.Fate, " ",
			r.Release))
	}
	return out
}

func leaks(v *reach.View) (n int) {
	for i := range v.Len() {
		if v.Ruling(i).Fate == reach.Leak {
			n++
		}
	}
	return n
}

// Parts of what was seen are judged as all of it is, and by the same as long as only traffic comes or
// points say that they go on: not when a machine moves, a point changes, or somebody is exempt or not
// any more.
func TestPartsAreJudgedAsAll(t *testing.T) {
	k, db := released(t)
	ctx := t.Context()
	now := func() *model.Model {
		m, err := k.Current(ctx)
		require.NoError(t, err)
		return m
	}
	m := now()
	// Hours that both models have: the test may run over the end of one.
	from, to := m.From, m.From+48
	view, like := m.Parts(from, to)
	all := fates(m.Stretch(from, to))
	require.Equal(t, all, fates(view(m.Table)))
	sum := 0
	for n := range m.Table.Dict.Pairs() {
		one := fates(view(m.Table.Only([]uint32{uint32(n)})))
		require.Len(t, one, 1)
		require.Contains(t, all, one[0])
		sum += leaks(view(m.Table.Only([]uint32{uint32(n)})))
	}
	require.Equal(t, 2, sum, "to what the point guards: %v", all)

	same := func(why string) {
		t.Helper()
		_, now := now().Parts(from, to)
		require.True(t, like == now, why)
	}
	other := func(why string) {
		t.Helper()
		_, now := now().Parts(from, to)
		require.False(t, like == now, why)
		like = now
	}
	_, err := db.AddBatch(ctx, seen("more", [2]string{"10.0.0.3", "10.0.0.2"}))
	require.NoError(t, err)
	if model := now(); model.Compiled == m.Compiled { // else a new hour has begun
		same("more traffic")
		require.NoError(t, db.Heard(ctx, "p", json.RawMessage(`{}`), []releasing.PointEvent{{Point: "p",
			At: time.Now(), What: "drifted", Words: "x"}}, true))
		same("a point said something, and holds what it held")
	}
	ends := time.Now().Add(time.Hour)
	require.NoError(t, db.PutExemption(ctx, model.Exemption{Workload: "b", Reason: "r", Owner: "o", Ends: ends,
		Author: "me"}))
	other("somebody is exempt")
	require.Zero(t, leaks(now().Stretch(from, to)))
	_, err = db.DropExemption(ctx, "b")
	require.NoError(t, err)
	other("nobody is exempt any more")
	require.Equal(t, 3, leaks(now().Stretch(from, to)))
	live := "live"
	require.NoError(t, db.SetTags(ctx, []inventory.TagEdit{{Workload: "b", Key: "env", Value: &live}}, "me", "Set"))
	other("a machine has moved")
	one, mode := 1, "observe"
	require.NoError(t, db.Heard(ctx, "p", json.RawMessage(`{}`), []releasing.PointEvent{{Point: "p", At: time.Now(),
		What: "applied", Words: "x",
		Release: &one, Mode: &mode}}, true))
	other("the point only observes")
}

// What is put beside a model is in it, and in no other; nothing beside is the model itself.
func TestWhatIsPutBesideAModel(t *testing.T) {
	k, _ := released(t)
	m, err := k.Current(t.Context())
	require.NoError(t, err)
	require.Same(t, m, m.Plus(nil))
	b := seen("beside", [2]string{"10.0.0.2", "10.0.0.1"})
	b.Buckets[0].Hour += 3
	next := m.Plus(b.Buckets)
	require.Equal(t, m.Table.Len()+1, next.Table.Len())
	require.Equal(t, b.Buckets[0].Hour+1, next.To)
	require.Less(t, m.To, next.To)
	require.Equal(t, m.Hours, next.Hours, "it is not stored")
	v, err := next.View(t.Context(), next.From, next.To)
	require.NoError(t, err)
	require.Equal(t, 4, v.Len())
	v, err = m.View(t.Context(), m.From, m.To)
	require.NoError(t, err)
	require.Equal(t, 3, v.Len())
	again, err := k.Current(t.Context())
	require.NoError(t, err)
	require.Equal(t, m.Table.Len(), again.Table.Len())
}

// What a point held is told to the second: what came before, while and after it enforced, all
// of it in one hour or two, is judged each by what was held then, and nothing is unclear.
func TestAnHourIsCutWhereAPointChanges(t *testing.T) {
	k, db := released(t)
	ctx := t.Context()
	now := func() *model.Model {
		m, err := k.Current(ctx)
		require.NoError(t, err)
		return m
	}
	began := time.Now().Add(-20 * time.Minute).Truncate(time.Second)
	mode := func(mode string, after time.Duration) {
		no := 1
		require.NoError(t, db.Heard(ctx, "p", json.RawMessage(`{}`), []releasing.PointEvent{{Point: "p",
			At: began.Add(after), What: "applied",
			Words: "x", Release: &no, Mode: &mode}}, true))
	}
	traffic := func(carried, dropped int64, after time.Duration) {
		at := estate.InstantOf(began.Add(after))
		r := flow.Record{Start: at, End: at, Client: netip.MustParseAddr("10.0.0.9"),
			Server: netip.MustParseAddr("10.0.0.2"),
			Point:  service.PointOf(service.TCP, 4444), Bytes: 1, Packets: 1}
		var records []flow.Record
		for outcome, n := range map[flow.Outcome]int64{flow.Carried: carried, flow.Dropped: dropped} {
			if r.Connections, r.Outcome = n, outcome; n > 0 {
				records = append(records, r)
			}
		}
		_, err := db.AddBatch(ctx, rows.BatchOf(fmt.Sprint("cut", after), flow.Stating(records), now().Turned))
		require.NoError(t, err)
	}
	count := func() (leaks, held, unclear, all int64) {
		m := now()
		v := m.Stretch(m.From, m.To)
		for i := range v.Len() {
			if v.Point(i) != service.PointOf(service.TCP, 4444) {
				continue
			}
			v.EachPortion(i, func(p *reach.Portion) {
				all += p.Connections
				switch {
				case p.Unclear:
					unclear += p.Connections
				case p.Ruling.Fate == reach.Leak:
					leaks += p.Connections
				case p.Outcome == flow.Dropped:
					held += p.Connections
				}
			})
		}
		return leaks, held, unclear, all
	}
	mode("observe", 0)
	traffic(6, 0, time.Minute)
	mode("enforce", 2*time.Minute)
	traffic(0, 4, 3*time.Minute)
	traffic(9, 0, 4*time.Minute)
	mode("observe", 5*time.Minute)
	traffic(5, 0, 6*time.Minute)
	leaks, held, unclear, all := count()
	require.Equal(t, []int64{9, 4, 0, 24}, []int64{leaks, held, unclear, all})

	mode("enforce", 7*time.Minute)
	traffic(2, 0, 7*time.Minute+2*time.Second) // it may be of before
	traffic(3, 0, 8*time.Minute)
	leaks, held, unclear, all = count()
	require.Equal(t, []int64{12, 4, 0, 29}, []int64{leaks, held, unclear, all})
}
