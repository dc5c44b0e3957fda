package reach_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// What a filter selects is what one gets by asking of each conversation in
// turn; the rows of the ledger add up to it, by whatever tag they are called.
func TestFilterAgreesWithAsking(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		c := compile(t, e, sample.Policy(t), sample.Instant(t))
		from, to := all[0].Hour+flow.Hour(rapid.IntRange(0, 1).Draw(t, "later")), all[len(all)-1].Hour+1
		v := reach.New(c, all, from, to)
		var q reach.Query
		f := &q.Filter
		expressions := []string{"", "env is live", "outside", "not outside", "has app", "name is a"}
		side := func(name string) *expr.Expr {
			text := rapid.SampledFrom(expressions).Draw(t, name)
			if text == "" {
				return nil
			}
			x, errs := expr.ParseText(text)
			require.Empty(t, errs)
			return x
		}
		f.Client, f.Server = side("client"), side("server")
		if rapid.Bool().Draw(t, "services") {
			pt := rapid.SampledFrom(sample.Points).Draw(t, "service")
			f.Services = service.NewSet(service.Range{Lo: pt, Hi: pt})
		}
		f.Outcome = rapid.SampledFrom([]string{"", "carried", "dropped", "unknown"}).Draw(t, "outcome")
		f.New = rapid.Bool().Draw(t, "new")
		q.By = rapid.SampledFrom([]string{"", "env", "app"}).Draw(t, "by")
		if rapid.Bool().Draw(t, "verdict") {
			q.Verdicts[decide.Uncovered] = true
		}

		walk := decide.NewWalk(e, c.Policy, c.AsOf)
		agrees := func(x *expr.Expr, p decide.Placed) bool {
			return x == nil || x.Eval(decide.Subject(e, p.Endpoint),
				func(g string) expr.Truth { return walk.Group(g, p.Endpoint) }) == expr.Yes
		}
		before := func(conv reach.Conversation) bool {
			return slices.ContainsFunc(all, func(b flow.Bucket) bool {
				return b.Hour < from && b.Point == conv.Point && e.At(b.Client, b.First) == conv.Client.Endpoint &&
					e.At(b.Server, b.First) == conv.Server.Endpoint
			})
		}
		var want []int
		for i := range v.Len() {
			conv := v.At(i)
			outcome := map[string]bool{"": true, "carried": conv.Carried > 0, "dropped": conv.Dropped > 0,
				"unknown": conv.Carried+conv.Dropped == 0}
			if agrees(f.Client, conv.Client) && agrees(f.Server, conv.Server) &&
				(f.Services == nil || f.Services.Contains(conv.Point)) && outcome[f.Outcome] &&
				(!f.New || !before(conv)) && (!q.Verdicts[decide.Uncovered] || conv.Verdict == decide.Uncovered) {
				want = append(want, i)
			}
		}
		got := v.Select(q)
		slices.Sort(got)
		require.Equal(t, want, got)
		n := 0
		for _, row := range v.Served(q) {
			n += row.Conversations
		}
		require.Equal(t, len(want), n)
	})
}

// Every conversation that a query selects goes exactly one way over the map, and
// choosing the way selects it.
func TestTheMapHasEveryConversationOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		c := compile(t, e, sample.Policy(t), sample.Instant(t))
		v := reach.New(c, all, all[0].Hour, all[len(all)-1].Hour+1)
		keys := reach.MapKeys{Columns: rapid.SampledFrom([]string{"env", "app"}).Draw(t, "columns"),
			Rows: rapid.SampledFrom([]string{"tier", "app", "none"}).Draw(t, "rows")}
		m := v.Terrace(reach.Query{}, keys)
		sum := 0
		seen := map[int]bool{}
		for _, p := range slices.Concat(m.Channels, m.Gates) {
			sum += p.Counts.Sum()
			found := v.Select(reach.Query{Filter: reach.Filter{Paths: []reach.Path{p.Path}, Map: keys}})
			require.Len(t, found, p.Counts.Sum(), "%+v", p.Path)
			for _, i := range found {
				require.False(t, seen[i])
				seen[i] = true
			}
		}
		require.Equal(t, v.Len(), sum)
		placed := 0
		for _, p := range m.Plots {
			for _, x := range p.Parts {
				placed += x.Workloads
			}
		}
		retired := 0
		for _, w := range e.All() {
			if !w.Retired.IsZero() {
				retired++
			}
		}
		require.Equal(t, e.Len()-retired, placed+m.Unplaced)
	})
}

// An address that changes hands is two ends, also where one hour is cut.
func TestAnAddressThatChangesHandsIsTwoEnds(t *testing.T) {
	at := func(s int64) estate.Instant { return estate.Instant{Sec: s} }
	addr, other := sample.Addresses[0], sample.Addresses[1]
	lease := func(from, until estate.Instant) []estate.Lease {
		return []estate.Lease{{Addr: addr, From: from, Until: until}}
	}
	e, conflicts := estate.New([]estate.Workload{{ID: "first", Leases: lease(estate.Beginning, at(1800))},
		{ID: "second", Leases: lease(at(1800), estate.End)}})
	require.Empty(t, conflicts)
	b := flow.Buckets{Changes: e.ChangedHands}
	for _, s := range []int64{10, 1799, 1800, 3000, 3700} {
		b.Add(flow.Record{Start: at(s), End: at(s), Client: addr, Server: other, Point: sample.Points[0],
			Connections: 1})
	}
	v := reach.New(compile(t, e, "", at(9)), b.All(), 0, 2)
	require.Equal(t, 2, v.Len())
	require.Equal(t, []any{"first", int64(2), "second", int64(3)},
		[]any{v.Name(v.At(0).Client), v.At(0).Connections, v.Name(v.At(1).Client), v.At(1).Connections})
}
