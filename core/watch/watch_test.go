package watch_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/watch"
	"lucidorchard/demo"
)

func compile(t require.TestingT, e *estate.Estate, text string, at estate.Instant) *decide.Compiled {
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	return decide.Compile(e, p, at)
}

// Each conversation that leaked, was choked, was turned away or is a newcomer's is in
// exactly one matter, and no other is in any; what the hours count are the rows.
func TestEachConversationIsInOneMatter(t *testing.T) {
	found := map[watch.Kind]int{}
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		c := compile(t, e, sample.Policy(t)+"\nlayer last\nreject any -> any on tcp\n", sample.Instant(t))
		var b flow.Buckets
		for range rapid.IntRange(1, 80).Draw(t, "records") {
			at := sample.Instant(t)
			b.Add(flow.Record{Start: at, End: at, Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
				Server:      rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
				Point:       rapid.SampledFrom(sample.Points).Draw(t, "point"),
				Connections: rapid.Int64Range(1, 5).Draw(t, "connections"),
				Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome"))})
		}
		all := b.All()
		v := reach.New(c, all, all[0].Hour, all[len(all)-1].Hour+1)
		walk := decide.NewWalk(e, c.Policy, c.AsOf)
		g := watch.Gather(v, watch.Watched{Groups: []string{"g1", "no such group"}, Known: func(c watch.Caller) bool {
			return c.Service.Proto() == 6
		}})
		in := map[int32]watch.Kind{}
		keys := map[string]bool{}
		for _, m := range g.Matters {
			require.False(t, keys[m.Key()], "two matters of one key")
			keys[m.Key()] = true
			require.NotEmpty(t, watch.Plain(m.Title()))
			connections := int64(0)
			first, last := estate.End, estate.Beginning
			for _, i := range m.Conversations {
				_, twice := in[i]
				require.False(t, twice)
				in[i] = m.Kind
				v.EachPortion(int(i), func(p *reach.Portion) {
					is := map[watch.Kind]bool{watch.Leak: p.Outcome == flow.Carried,
						watch.Choke: p.Outcome == flow.Dropped,
						watch.Held:  p.Outcome == flow.Dropped, watch.Newcomer: true}
					if is[m.Kind] {
						connections += p.Connections
						if at := p.First.Instant(); at.Before(first) {
							first = at
						}
						if at := p.Last.Instant(); last.Before(at) {
							last = at
						}
					}
				})
			}
			require.Equal(t, connections, m.Connections)
			require.Equal(t, []estate.Instant{first, last}, []estate.Instant{m.First, m.Last},
				"of what it is about alone")
			found[m.Kind]++
		}
		for i := range v.Len() {
			conv := v.At(i)
			rule := walk.Decide(conv.Client.Endpoint, conv.Server.Endpoint, conv.Point)
			verdict := decide.VerdictOf(rule)
			want := watch.Kind("")
			switch {
			case verdict == decide.Reject && conv.Carried > 0:
				want = watch.Leak
			case verdict == decide.Permit && conv.Dropped > 0:
				want = watch.Choke
			case verdict != decide.Permit && conv.Dropped > 0:
				want = watch.Held
			case conv.Point.Proto() != 6 && c.Policy.Groups["g1"] != nil &&
				walk.Group("g1", conv.Server.Endpoint).String() == "yes":
				want = watch.Newcomer
			}
			require.Equal(t, want, in[int32(i)], "%s -> %s on %s", conv.Client.Addr, conv.Server.Addr, conv.Point)
		}
		var held, wantHeld, leaks, wantLeaks int64
		for _, h := range g.Hours {
			held, leaks = held+h.Held, leaks+h.Leaks
		}
		for i := range v.Len() {
			conv := v.At(i)
			if conv.Verdict != decide.Permit {
				wantHeld += conv.Dropped
			}
			if conv.Verdict == decide.Reject {
				wantLeaks += conv.Carried
			}
		}
		require.Equal(t, wantHeld, held)
		require.Equal(t, wantLeaks, leaks)
	})
	for _, kind := range []watch.Kind{watch.Leak, watch.Choke, watch.Held, watch.Newcomer} {
		require.Greater(t, found[kind], 20, kind)
	}
}

// The stories of the demo company are matters, day by day; there is not much else.
func TestTheStoriesOfTheDemoAreMatters(t *testing.T) {
	end := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	co := demo.Generate(demo.Options{Workloads: 420, End: end})
	e, _ := estate.New(co.Workloads)
	c := compile(t, e, co.Policy, estate.InstantOf(end))
	var b flow.Buckets
	for _, r := range co.Records {
		b.Add(r)
	}
	table := flow.Pack(b.All())
	first, last := table.Span()
	callers := map[watch.Caller]bool{}
	titles := map[string]int{} // on how many days
	byDay := []int{}
	for from := first / 24 * 24; from < last; from += 24 {
		w := reach.NewWindow(e, table, max(from, first), min(from+24, last))
		known := func(c watch.Caller) bool { return from < first+24 || callers[c] }
		g := watch.Gather(w.Under(c), watch.Watched{Groups: []string{"protected", "fares-store-live"}, Known: known})
		for caller := range g.Callers {
			callers[caller] = true
		}
		byDay = append(byDay, len(g.Matters))
		for _, m := range g.Matters {
			titles[string(m.Kind)+": "+watch.Plain(m.Title())]++
		}
	}
	var all strings.Builder
	for title, days := range titles {
		all.WriteString(title + "\n")
		t.Log(days, title)
	}
	t.Log(byDay)
	for _, want := range []string{
		"leak: roster-logic-trial reached roster-store-live on postgres",
		"leak: boarding-logic-trial reached tides-entry-live on https",
		"choke: logbook could not reach tides-entry-live on metrics",
		"held: 10.40.7.19 tried ",
		"newcomer: A new caller: booking-logic → fares-store-live on postgres",
		"newcomer: A new caller: boarding-entry-live → manifest-store-live on postgres",
		"newcomer: A new caller: vault → manifest-store-live on rsync",
	} {
		require.Contains(t, all.String(), want)
	}
	require.Less(t, len(titles), 25)
}

// However a time is cut, all that was seen in it is in its bins, and what the counters of
// pairs, and of rules, have is what the bins have.
func TestBinsAndCountersHaveAll(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		c := compile(t, e, sample.Policy(t), sample.Instant(t))
		var b flow.Buckets
		carried, dropped := int64(0), int64(0)
		for range rapid.IntRange(1, 40).Draw(t, "records") {
			at := sample.Instant(t)
			end := at
			end.Sec += rapid.Int64Range(0, 3000).Draw(t, "lasts")
			r := flow.Record{Start: at, End: end, Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
				Server:      rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
				Point:       rapid.SampledFrom(sample.Points).Draw(t, "point"),
				Connections: rapid.Int64Range(1, 500).Draw(t, "connections"),
				Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome"))}
			b.Add(r)
			switch r.Outcome {
			case flow.Carried:
				carried += r.Connections
			case flow.Dropped:
				dropped += r.Connections
			}
		}
		all := b.All()
		from, to := all[0].Hour, all[len(all)-1].Hour+2
		v := reach.New(c, all, from, to)
		span := watch.Span{From: flow.Micros(int64(from) * 3600e6), Bins: rapid.IntRange(1, 90).Draw(t, "bins")}
		span.Bin = flow.Micros(int64(to-from)*3600e6)/flow.Micros(span.Bins) + 1
		var got, byPair, byRule watch.Hour
		add := func(sum *watch.Hour, h watch.Hour) {
			sum.Permitted, sum.Uncovered, sum.Held = sum.Permitted+h.Permitted, sum.Uncovered+h.Uncovered, sum.Held+
				h.Held
			sum.Leaks, sum.Chokes = sum.Leaks+h.Leaks, sum.Chokes+h.Chokes
		}
		for _, h := range watch.Bins(v, span) {
			add(&got, h)
		}
		require.Equal(t, carried, got.Permitted+got.Uncovered+got.Leaks)
		require.Equal(t, dropped, got.Held+got.Chokes)
		for _, x := range watch.Counters(v, span, false) {
			add(&byPair, x.Hour)
			seen := int64(0)
			for i := range x.Carried {
				seen += x.Carried[i] + x.Dropped[i]
			}
			require.Equal(t, x.Permitted+x.Uncovered+x.Held+x.Leaks+x.Chokes, seen)
		}
		for _, x := range watch.Counters(v, span, true) {
			add(&byRule, x.Hour)
		}
		require.Equal(t, got, byPair)
		require.Equal(t, got, byRule)
		// Seen from within: what is before and after it is in no bin.
		half := watch.Span{From: span.From + span.Bin, Bin: span.Bin, Bins: max(1, span.Bins-2)}
		var inside watch.Hour
		for _, h := range watch.Bins(v, half) {
			add(&inside, h)
		}
		require.LessOrEqual(t, inside.Held+inside.Chokes, dropped)
	})
}
