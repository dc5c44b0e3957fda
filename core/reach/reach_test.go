package reach_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

func compile(t require.TestingT, e *estate.Estate, text string, at estate.Instant) *decide.Compiled {
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	return decide.Compile(e, p, at)
}

func buckets(t *rapid.T) []flow.Bucket {
	var b flow.Buckets
	for range rapid.IntRange(1, 60).Draw(t, "records") {
		at := sample.Instant(t)
		at.Sec += rapid.Int64Range(0, 3599).Draw(t, "second of the hour")
		b.Add(flow.Record{Start: at, End: at, Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
			Server:      rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
			Point:       rapid.SampledFrom(sample.Points).Draw(t, "point"),
			Connections: rapid.Int64Range(1, 5).Draw(t, "connections"),
			Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome"))})
	}
	return b.All()
}

// The view is what one gets by resolving and deciding each bucket on its own.
func TestViewAgreesWithTheBuckets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		c := compile(t, e, sample.Policy(t), sample.Instant(t))
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		if rapid.Bool().Draw(t, "narrow") {
			from, to = from+1, to-1
		}
		v := reach.New(c, all, from, to)
		walk := decide.NewWalk(e, c.Policy, c.AsOf)

		type key struct {
			client, server estate.Endpoint
			point          service.Point
		}
		want := map[key]int64{}
		rows, hours := map[key][]flow.Bucket{}, map[key]map[flow.Hour]int{}
		for _, b := range all {
			if b.Hour >= from && b.Hour < to {
				k := key{e.At(b.Client, b.First), e.At(b.Server, b.First), b.Point}
				want[k] += b.Connections
				rows[k] = append(rows[k], b)
				if hours[k] == nil {
					hours[k] = map[flow.Hour]int{}
				}
				hours[k][b.Hour] += int(b.Connections)
			}
		}
		require.Equal(t, len(want), v.Len())
		totals := v.Totals(reach.Query{})
		var counted reach.Counts
		for i := range v.Len() {
			conv := v.At(i)
			k := key{conv.Client.Endpoint, conv.Server.Endpoint, conv.Point}
			require.Equal(t, want[k], conv.Connections)
			var of []flow.Bucket
			first, last := conv.Last, conv.First
			for _, row := range v.RowsOf(i) {
				b := v.Table.Bucket(int(row))
				of = append(of, b)
				if b.First.Before(first) {
					first = b.First
				}
				if last.Before(b.Last) {
					last = b.Last
				}
			}
			require.ElementsMatch(t, rows[k], of)
			require.Equal(t, []estate.Instant{first, last}, []estate.Instant{conv.First, conv.Last})
			bins := make([]int, int(to-from))
			v.Spread(i, bins)
			for h, n := range bins {
				require.Equal(t, hours[k][from+flow.Hour(h)], n)
			}
			require.Same(t, walk.Decide(conv.Client.Endpoint, conv.Server.Endpoint, conv.Point), conv.Rule)
			require.LessOrEqual(t, conv.Carried+conv.Dropped, conv.Connections)
			counted[conv.Verdict]++
		}
		require.Equal(t, counted, totals.Conversations)
		rules := 0
		for _, n := range totals.ByRule {
			rules += n
		}
		require.Equal(t, counted.Sum()-counted[decide.Uncovered], rules)
	})
}

// At every depth the ledger adds up to what stands above it, both ways round.
func TestLedgerAddsUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		c := compile(t, e, sample.Policy(t), sample.Instant(t))
		v := reach.New(c, all, all[0].Hour, all[len(all)-1].Hour+1)
		q := reach.Query{Turn: rapid.Bool().Draw(t, "turn"), Leaks: rapid.IntRange(0, 4).Draw(t, "leaks") == 0}
		if rapid.Bool().Draw(t, "one verdict") {
			q.Verdicts[rapid.IntRange(0, 2).Draw(t, "verdict")] = true
		}
		sum := 0
		for _, row := range v.Served(q) {
			require.Equal(t, row.Conversations, row.Counts.Sum())
			sum += row.Conversations
			deeper := q
			deeper.Near, deeper.Point = row.Key(), &row.Point
			inside, spark := 0, 0
			for _, caller := range v.Callers(deeper) {
				deepest := deeper
				deepest.Far = caller.Key()
				found := v.Select(deepest)
				require.Len(t, found, caller.Conversations)
				inside += caller.Conversations
			}
			require.Equal(t, row.Conversations, inside)
			for _, n := range row.Spark {
				spark += n
			}
			require.Equal(t, row.Connections, int64(spark))
		}
		require.Len(t, v.Select(q), sum)
		bins := v.Strip(reach.Query{}, 3, reach.Conversations)
		require.LessOrEqual(t, len(bins), 3)
	})
}

// Changes returns just the conversations whose verdict two fresh views differ in.
func TestChangesAreTheDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all, at := sample.Estate(t), buckets(t), sample.Instant(t)
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		before := reach.New(compile(t, e, sample.Policy(t), at), all, from, to)
		other := compile(t, e, sample.Policy(t), at)
		after := reach.New(other, all, from, to)
		changes := before.Changes(after)
		compared := after.Compared(before)
		var table [3][3]int
		i := 0
		for k := range before.Len() {
			was, is := before.At(k), after.At(k)
			table[was.Verdict][is.Verdict]++
			if was.Verdict == is.Verdict {
				continue
			}
			require.Equal(t, reach.Change{Index: k, Before: was.Verdict, After: is.Verdict, AfterRule: is.Rule},
				changes[i])
			i++
		}
		require.Len(t, changes, i)
		require.Equal(t, decide.Difference(table), compared.Totals(reach.Query{}).Difference)
		for was := range table {
			for is, n := range table[was] {
				q := reach.Query{}
				q.Was[was], q.Verdicts[is] = true, true
				found := compared.Select(q)
				require.Len(t, found, n)
				sum, changed := 0, 0
				for _, r := range compared.Served(q) {
					sum += r.Conversations
					changed += r.Changed
				}
				require.Equal(t, n, sum)
				require.Equal(t, was != is, changed > 0 || n == 0 && was != is)
			}
		}
	})
}

// A view that followed edits of the estate and the policy is the view that one
// gets from the beginning.
func TestFollowingEditsGivesTheSameView(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := buckets(t)
		c := compile(t, sample.Estate(t), sample.Policy(t), sample.Instant(t))
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		v := reach.New(c, all, from, to)
		for range rapid.IntRange(1, 5).Draw(t, "edits") {
			var u *decide.Update
			if rapid.Bool().Draw(t, "of the estate") {
				e, touched := sample.EditEstate(t, v.Compiled.Estate)
				u = v.Compiled.WithEstate(e, touched)
			} else {
				p, errs := policy.Parse(sample.EditPolicy(t, v.Compiled.Policy.Format()))
				require.Empty(t, errs)
				u = v.Compiled.WithPolicy(p, v.Compiled.AsOf)
			}
			before := v
			v = v.With(u)
			if rapid.Bool().Draw(t, "nobody asks") {
				continue // what could be used of the views before is carried on
			}
			fresh := reach.New(u.After, all, from, to)
			require.Equal(t, fresh.Len(), v.Len())
			for i := range v.Len() {
				require.Equal(t, fresh.At(i), v.At(i))
			}
			require.Equal(t, fresh.Totals(reach.Query{}), v.Totals(reach.Query{}))
			require.Equal(t, fresh.Strip(reach.Query{}, 7, reach.Conversations),
				v.Strip(reach.Query{}, 7, reach.Conversations))
			q := reach.Query{Turn: rapid.Bool().Draw(t, "turn")}
			require.Equal(t, fresh.Served(q), v.Served(q))
			q.By = "app"
			require.Equal(t, fresh.Served(q), v.Served(q))
			if before.Len() != v.Len() {
				continue // an address has changed hands
			}
			// Compared with the view before, and with the one that has no rules.
			none, _ := policy.Parse("")
			for _, against := range []*reach.View{reach.New(before.Compiled, all, from, to),
				reach.New(decide.Compile(u.After.Estate, none, u.After.AsOf), all, from, to)} {
				if against.Len() != v.Len() {
					continue
				}
				q := reach.Query{Turn: rapid.Bool().Draw(t, "turn compared")}
				if rapid.Bool().Draw(t, "changed only") {
					q.Was[decide.Uncovered] = true
				}
				require.Equal(t, fresh.Compared(against).Served(q), v.Compared(against).Served(q))
			}
		}
	})
}

func TestLabels(t *testing.T) {
	tagged := func(id, addr string, tags ...string) estate.Workload {
		w := estate.Workload{ID: id,
			Leases: []estate.Lease{{Addr: addrOf(addr), From: estate.Beginning, Until: estate.End}}}
		for i, k := range []string{"app", "tier", "env"}[:len(tags)] {
			w.SetTag(estate.Tag{Key: k, Value: tags[i]})
		}
		return w
	}
	e, _ := estate.New([]estate.Workload{
		tagged("a1", "10.0.0.1", "booking", "logic", "live"), tagged("a2", "10.0.0.2", "booking", "logic", "live"),
		tagged("b1", "10.0.0.3", "fares", "store", "live"), tagged("c1", "10.0.0.4", "booking"),
		tagged("d1", "10.0.0.5"),
		tagged("e1", "10.0.0.6", "fares", "store", "trial"),
	})
	c := compile(t, e, "group live = env is live\ngroup bl = app is booking and tier is logic and env is "+
		"live\ngroup depots = address in 10.40.0.0/16\ngroup everyone = not outside\n", estate.Instant{})
	var b flow.Buckets
	for _, client := range []string{"10.0.0.1", "10.0.0.3", "10.0.0.4", "10.0.0.5", "10.0.0.6", "10.40.1.1",
		"192.0.2.1"} {
		b.Add(flow.Record{Client: addrOf(client), Server: addrOf("10.0.0.2"),
			Point: service.PointOf(service.TCP, 443), Connections: 1})
	}
	v := reach.New(c, b.All(), 0, 1)
	got := map[string]reach.Label{}
	for i := range v.Len() {
		client, server := v.Labels(i)
		got[v.Name(v.At(i).Client)] = client
		require.Equal(t, "bl", server.Text)
	}
	require.Equal(t, map[string]reach.Label{
		"a1":        {Text: "bl", Kind: "group"},
		"b1":        {Text: "live", Kind: "group"},
		"c1":        {Text: "booking", Kind: "tags", Lack: "tier"},
		"d1":        {Text: "d1", Kind: "workload", Lack: "app"},
		"e1":        {Text: "fares-store-trial", Kind: "tags"},
		"10.40.1.1": {Text: "depots", Kind: "group"},
		"192.0.2.1": {Text: "192.0.2.0/24", Kind: "outside"},
	}, got)
	require.Len(t, v.Select(reach.Query{Text: "HTTPS depots"}), 1)
	require.Len(t, v.Select(reach.Query{Text: "192.0"}), 1)
	require.Empty(t, v.Select(reach.Query{Text: "nobody"}))
}
