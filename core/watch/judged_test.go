package watch_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
)

// Once points judge, what was dropped is in a matter, whoever held what; and what the hours count as
// leaked, choked and held is what the matters have, row by row.
func TestTheHoursCountWhatTheMattersHave(t *testing.T) {
	found := map[watch.Kind]int{}
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		draft := compile(t, e, sample.Policy(t)+"\nlayer last\nreject any -> any on tcp\n", sample.Instant(t))
		held := compile(t, e, sample.Policy(t)+"\nlayer last\npermit any -> any on udp\nreject any -> any on any\n",
			sample.Instant(t))
		var b flow.Buckets
		for range rapid.IntRange(1, 120).Draw(t, "records") {
			at := sample.Instant(t)
			b.Add(flow.Record{Start: at, End: at, Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
				Server:      rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
				Point:       rapid.SampledFrom(sample.Points).Draw(t, "point"),
				Connections: rapid.Int64Range(1, 5).Draw(t, "connections"),
				Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome"))})
		}
		all := b.All()
		w := reach.NewWindow(e, flow.Pack(all), all[0].Hour, all[len(all)-1].Hour+1)
		h := reach.Holder{Name: "gate", Server: true, Client: rapid.Bool().Draw(t, "client side")}
		for i := range e.All() {
			if rapid.IntRange(0, 3).Draw(t, "guards") > 0 {
				h.Guards = append(h.Guards, i)
			}
		}
		for hour := int64(0); hour < 10; hour += rapid.Int64Range(2, 5).Draw(t, "later") {
			h.Periods = append(h.Periods, reach.Period{From: flow.Micros(1_795_000_000e6 - 60e6 + hour*3600e6),
				Release: min(1, rapid.IntRange(0, 3).Draw(t, "release")),
				Enforce: rapid.IntRange(0, 3).Draw(t, "enforces") > 0})
		}
		w.JudgedBy(&reach.Judge{Holders: []reach.Holder{h}, Of: func(w *reach.Window,
			_ int) *reach.View {
			return w.Under(held)
		}})
		v := w.Under(draft)
		g := watch.Gather(v, watch.Watched{})
		in := map[int32]watch.Kind{}
		for _, m := range g.Matters {
			for _, i := range m.Conversations {
				_, twice := in[i]
				require.False(t, twice)
				in[i] = m.Kind
			}
			require.NotEmpty(t, m.Why())
			found[m.Kind]++
		}
		// The plain way: what each row is, by what the point held when it was last seen.
		then := func(at flow.Micros) (p reach.Period) {
			for _, x := range h.Periods {
				if x.From <= at {
					p = x
				}
			}
			return p
		}
		under := w.Under(held)
		var want, got watch.Hour
		of := map[watch.Kind]int64{}
		for i := range v.Len() {
			c, kind := v.At(i), in[int32(i)]
			require.Equal(t, v.Ruling(i).Fate == reach.Leak, kind == watch.Leak)
			require.Equal(t, v.Ruling(i).Fate == reach.Choke, kind == watch.Choke)
			if c.Dropped > 0 {
				require.NotEmpty(t, kind, "what was dropped is hidden")
			}
			_, server := slices.BinarySearch(h.Guards, c.Server.Workload)
			_, client := slices.BinarySearch(h.Guards, c.Client.Workload)
			v.EachPortion(i, func(p *reach.Portion) {
				period, guarded := then(p.Last), server || client && h.Client
				reject, permit := under.Verdict(i) == decide.Reject, under.Verdict(i) == decide.Permit
				leaks := guarded && period.Release != 0 && period.Enforce && reject && p.Last >= period.From+5e6
				chokes := guarded && period.Release != 0 && permit
				switch {
				case p.Outcome == flow.Carried && leaks:
					want.Leaks += p.Connections
					of[watch.Leak] += p.Connections
				case p.Outcome == flow.Dropped && chokes:
					want.Chokes += p.Connections
					of[watch.Choke] += p.Connections
				case p.Outcome == flow.Dropped:
					want.Held += p.Connections
					if kind == watch.Held {
						of[watch.Held] += p.Connections
					}
				}
			})
		}
		for _, hour := range g.Hours {
			got.Add(*hour)
		}
		require.Equal(t, []int64{want.Chokes, want.Held, want.Leaks}, []int64{got.Chokes, got.Held, got.Leaks})
		for _, m := range g.Matters {
			of[m.Kind] -= m.Connections
		}
		require.Equal(t, []int64{0, 0, 0}, []int64{of[watch.Leak], of[watch.Choke], of[watch.Held]},
			"matters count what they are about alone")
	})
	for _, kind := range []watch.Kind{watch.Leak, watch.Choke, watch.Held} {
		require.Greater(t, found[kind], 5, kind)
	}
}

// What the draft permits and somebody drops is choked as long as nothing was released; once something
// is, only where a point holds what permits it: elsewhere it was held, and the matter says so.
func TestWhatIsDroppedWhereNothingIsHeld(t *testing.T) {
	e, _ := estate.New([]estate.Workload{{ID: "a", Leases: []estate.Lease{{Addr: sample.Addresses[0],
		From: estate.Beginning, Until: estate.End}}},
		{ID: "b", Leases: []estate.Lease{{Addr: sample.Addresses[1], From: estate.Beginning, Until: estate.End}}}})
	at := estate.Instant{Sec: 1_795_000_000}
	c := compile(t, e, "layer l\npermit any -> any on tcp\n", at)
	var b flow.Buckets
	for i := range 2 {
		b.Add(flow.Record{Start: at, End: at, Client: sample.Addresses[1-i], Server: sample.Addresses[i],
			Point:       service.PointOf(service.TCP, 9100),
			Connections: 3, Outcome: flow.Dropped})
	}
	all := b.All()
	look := func(holders ...reach.Holder) (why map[string]string, hour watch.Hour) {
		w := reach.NewWindow(e, flow.Pack(all), all[0].Hour, all[0].Hour+1)
		if holders != nil {
			w.JudgedBy(&reach.Judge{Holders: holders, Of: func(w *reach.Window,
				_ int) *reach.View {
				return w.Under(c)
			}})
		}
		v := w.Under(c)
		g := watch.Gather(v, watch.Watched{})
		why = map[string]string{}
		for _, m := range g.Matters {
			for _, i := range m.Conversations {
				why[v.Compiled.Estate.Workload(v.Server(int(i)).Workload).ID] = m.Why()
			}
		}
		for _, h := range g.Hours {
			hour.Add(*h)
		}
		return why, hour
	}
	why, hour := look()
	require.Equal(t, watch.Hour{Chokes: 6}, hour)
	require.Equal(t, "choke: line 2 permits it in the draft, yet it was dropped", why["a"])
	why, hour = look(reach.Holder{Name: "gate", Guards: []int32{0}, Server: true,
		Periods: []reach.Period{{From: flow.MicrosOfInstant(at) - 9e6, Release: 4, Enforce: true}}})
	require.Equal(t, watch.Hour{Chokes: 3, Held: 3}, hour)
	require.Equal(t, map[string]string{"a": "choke: line 2 permits it in release 4, which gate ran, yet it was " +
		"dropped",
		"b": "dropped: line 2 permits it in the draft, which no point there ran then"}, why)
}
