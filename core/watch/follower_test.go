package watch_test

import (
	"cmp"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
)

// Whatever comes, changes and goes, what is followed is what is gathered from all of it; and so is
// what somebody asks for.
func TestFollowedIsGathered(t *testing.T) {
	parts, whole := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		c := compile(t, e, sample.Policy(t)+"\nlayer last\nreject any -> any on tcp\n", sample.Instant(t))
		watched := watch.Watched{Groups: []string{"g1"},
			Known: func(c watch.Caller) bool { return c.Service.Proto() == 6 }}
		day := estate.Instant{Sec: 1_795_000_000}
		view := func(table *flow.Table) *reach.View {
			return reach.NewWindow(e, table, flow.HourOf(day), flow.HourOf(day)+24).Under(c)
		}
		conversation := func(v *reach.View, i int) string {
			x := v.At(i)
			return fmt.Sprint(x.Client.Addr, x.Server.Addr, x.Point, x.First, x.Last, x.Connections, x.Dropped,
				x.Verdict)
		}
		told := func(g watch.Gathered, v *reach.View) (out []string) {
			for _, m := range g.Matters {
				line := fmt.Sprint(m.Key(), m.Services, m.Service, m.Clients, m.Servers, m.Connections, m.First,
					m.Last, m.Ruling.Fate, m.Ruling.Turned)
				for _, i := range m.Conversations {
					line += "\n" + conversation(v, int(i))
				}
				out = append(out, line)
			}
			return out
		}
		droppedTo443 := func(v *reach.View) (out []int) {
			for i := range v.Len() {
				if v.At(i).Dropped > 0 && v.Point(i) == service.PointOf(service.TCP, 443) {
					out = append(out, i)
				}
			}
			return out
		}
		looks := 0
		f := watch.NewFollower(func(table *flow.Table) *reach.View { looks++; return view(table) }, watched)
		table := flow.NewTable()
		kept := map[flow.Hour]*flow.Buckets{}
		for look := range rapid.IntRange(1, 6).Draw(t, "looks") {
			changed := map[flow.Hour]bool{}
			for range rapid.IntRange(0, 60/(1+9*min(look, 1))).Draw(t, "records") {
				at := sample.Instant(t)
				at.Sec += rapid.Int64Range(0, 3000).Draw(t, "after")
				h := flow.HourOf(at)
				if kept[h] == nil || rapid.IntRange(0, 40).Draw(t, "anew") == 0 {
					kept[h] = &flow.Buckets{}
				}
				changed[h] = true
				kept[h].Add(flow.Record{Start: at, End: at, Client: rapid.SampledFrom(sample.Addresses).Draw(t,
					"client"),
					Server:      rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
					Point:       rapid.SampledFrom(sample.Points).Draw(t, "point"),
					Connections: rapid.Int64Range(1, 5).Draw(t, "connections"),
					Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome"))})
			}
			var gone []flow.Hour
			hours := make([]flow.Hour, 0, len(kept))
			for h := range kept {
				hours = append(hours, h)
			}
			slices.Sort(hours)
			if len(hours) > 0 && rapid.IntRange(0, 4).Draw(t, "goes") == 0 {
				h := rapid.SampledFrom(hours).Draw(t, "hour")
				delete(kept, h)
				gone = append(gone, h)
			}
			var chunks []*flow.Chunk
			for _, h := range hours {
				if b := kept[h]; b != nil && changed[h] {
					d := &flow.Draft{Chunk: flow.Chunk{Hour: h}}
					all := b.All()
					slices.SortFunc(all, func(a, b flow.Bucket) int {
						return cmp.Or(b.Client.Compare(a.Client),
							cmp.Compare(a.Point, b.Point))
					})
					for i := range all {
						d.Add(table.Dict, &all[i])
					}
					chunks = append(chunks, d.Pack(table.Dict))
				}
			}
			table = table.With(chunks, gone)
			looks = 0
			got, v := f.Gather(table)
			if looks == 2 {
				whole++
			} else {
				parts++
			}
			all := view(table)
			want := watch.Gather(all, watched)
			require.Equal(t, told(want, all), told(got, v))
			require.Equal(t, want.Hours, got.Hours)
			require.Equal(t, want.Callers, got.Callers)
			if rapid.Bool().Draw(t, "asks") {
				w, list := f.Chosen("443", droppedTo443)
				var asked, are []string
				for _, i := range list {
					asked = append(asked, conversation(w, i))
				}
				for _, i := range droppedTo443(all) {
					are = append(are, conversation(all, i))
				}
				require.Equal(t, are, asked)
			}
		}
	})
	require.Greater(t, parts, whole/2, "much is looked at in part")
}
