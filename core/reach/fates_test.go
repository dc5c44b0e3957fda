package reach_test

import (
	"fmt"
	"net/netip"
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

// A conversation is a leak or a choke exactly if one of its rows is, looked at one by
// one: by the release that a point which guards an end held at the time.
func TestFatesAreThoseOfTheRows(t *testing.T) {
	found := map[reach.Fate]int{} // of a hundred estates: tens of leaks
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		releases := map[int]*decide.Compiled{}
		for no := 1; no <= 2; no++ {
			releases[no] = compile(t, e, sample.Policy(t)+"\nlayer last\nreject any -> any on any\n", sample.Instant(t))
		}
		var holders []reach.Holder
		for range rapid.IntRange(1, 3).Draw(t, "points") {
			h := reach.Holder{Server: rapid.IntRange(0, 3).Draw(t, "server") > 0,
				Client: rapid.Bool().Draw(t, "client")}
			for i := range e.All() {
				if rapid.IntRange(0, 3).Draw(t, "guards") > 0 {
					h.Guards = append(h.Guards, i)
				}
			}
			at := int64(0)
			for range rapid.IntRange(1, 3).Draw(t, "periods") {
				at += rapid.Int64Range(0, 3).Draw(t, "later") * 3600e6
				h.Periods = append(h.Periods, reach.Period{From: flow.Micros(1_795_000_000e6 + at),
					Release: rapid.SampledFrom([]int{1, 2, 1, 2, 0}).Draw(t, "release"),
					Enforce: rapid.IntRange(0, 3).Draw(t, "enforces") > 0})
			}
			holders = append(holders, h)
		}
		of := func(w *reach.Window, release int) *reach.View { return w.Under(releases[release]) }
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		if rapid.Bool().Draw(t, "a part") {
			from = flow.Hour(rapid.IntRange(int(from), int(to)-1).Draw(t, "from"))
			to = flow.Hour(rapid.IntRange(int(from)+1, int(to)).Draw(t, "to"))
		}
		w := reach.NewWindow(e, flow.Pack(all), from, to)
		require.Nil(t, w.Fates())
		w.JudgedBy(&reach.Judge{Holders: holders, Of: of})
		fates := w.Fates()
		v := w.Under(releases[1])
		leaks := 0
		for i := range v.Len() {
			c := v.At(i)
			want := reach.Fine
			for _, row := range v.RowsOf(i) {
				b := v.Table.Bucket(int(row))
				for _, h := range holders {
					if !(h.Server && has(h.Guards, c.Server.Workload) || h.Client && has(h.Guards, c.Client.Workload)) {
						continue
					}
					var held reach.Period
					for _, p := range h.Periods {
						if p.From <= flow.MicrosOfInstant(b.Last) {
							held = p
						}
					}
					if held.Release == 0 {
						continue
					}
					walk := decide.NewWalk(e, releases[held.Release].Policy, releases[held.Release].AsOf)
					verdict := decide.VerdictOf(walk.Decide(c.Client.Endpoint, c.Server.Endpoint, c.Point))
					switch {
					case verdict == decide.Reject && held.Enforce && b.Outcome == flow.Carried &&
						flow.MicrosOfInstant(b.Last) >= held.From+5e6:
						want = reach.Leak
					case verdict == decide.Permit && b.Outcome == flow.Dropped && want == reach.Fine:
						want = reach.Choke
					}
				}
			}
			require.Equal(t, want, fates[i])
			found[want]++
			if want == reach.Leak {
				leaks++
			}
		}
		require.Equal(t, leaks, v.Totals(reach.Query{}).Leaks)
	})
	require.Positive(t, found[reach.Leak])
}

// What a release permits and somebody dropped is a choke, also where the point only
// observes; before it held anything it is none.
func TestWhatIsPermittedAndDroppedIsAChoke(t *testing.T) {
	a, b := sample.Addresses[1], sample.Addresses[2]
	var ws []estate.Workload
	for i, addr := range []netip.Addr{a, b} {
		ws = append(ws, estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{Addr: addr,
			From:  estate.Beginning,
			Until: estate.End}}})
	}
	e, _ := estate.New(ws)
	at := estate.Instant{Sec: 1_795_000_000}
	c := compile(t, e, "layer l\npermit workload w0 -> workload w1 on tcp/443\n", at)
	var buckets flow.Buckets
	buckets.Add(flow.Record{Start: at, End: at, Client: a, Server: b, Point: service.PointOf(service.TCP, 443),
		Connections: 1,
		Outcome:     flow.Dropped})
	for from, want := range map[int64]reach.Fate{-60: reach.Choke, 60: reach.Fine} {
		w := reach.NewWindow(e, flow.Pack(buckets.All()), flow.HourOf(at), flow.HourOf(at)+1)
		w.JudgedBy(&reach.Judge{Holders: []reach.Holder{{Guards: []int32{1}, Server: true, Periods: []reach.Period{{
			From: flow.MicrosOfInstant(at) + flow.Micros(from*1e6), Release: 1}}}},
			Of: func(w *reach.Window, _ int) *reach.View { return w.Under(c) }})
		require.Equal(t, []reach.Fate{want}, w.Fates())
	}
}

// A judge is asked for those releases only that were held in the time of a window, whatever came
// before and after it.
func TestOnlyReleasesOfTheTimeJudge(t *testing.T) {
	e, _ := estate.New([]estate.Workload{{ID: "a", Leases: []estate.Lease{{Addr: sample.Addresses[0],
		From: estate.Beginning, Until: estate.End}}}})
	c := decideAll(t, e)
	start := flow.HourOf(estate.Instant{Sec: 1_795_000_000})
	at := func(hours float64) flow.Micros {
		return flow.MicrosOfInstant(start.Start()) + flow.Micros(hours*3600e6)
	}
	var b flow.Buckets
	b.Add(flow.Record{Start: at(2.5).Instant(), End: at(3.25).Instant(), Client: sample.Addresses[1],
		Server: sample.Addresses[0],
		Point:  service.PointOf(service.TCP, 22), Connections: 1, Outcome: flow.Carried})
	w := reach.NewWindow(e, flow.Pack(b.All()), start+2, start+3)
	asked := map[int]bool{}
	h := reach.Holder{Name: "p", Guards: []int32{0}, Server: true}
	for no, hours := range []float64{0.5, 1, 2.75, 3.25, 3.5} {
		h.Periods = append(h.Periods, reach.Period{From: at(hours), Release: no + 1, Enforce: true})
	}
	w.JudgedBy(&reach.Judge{Holders: []reach.Holder{h}, Of: func(w *reach.Window, release int) *reach.View {
		asked[release] = true
		return w.Under(c)
	}})
	require.Equal(t, []reach.Fate{reach.Leak}, w.Fates(), "the second was enforced when it began")
	require.Equal(t, map[int]bool{2: true, 3: true, 4: true}, asked)
}

// Rows that a change of what a point holds cuts: what is certain is said, of the rest that it
// is unclear. Where each connection is a row of its own nothing is; whatever the rows, the
// truth lies between what is certain and that with all that is unclear.
func TestWhatACutRowTells(t *testing.T) {
	a, b := sample.Addresses[1], sample.Addresses[0]
	e, _ := estate.New([]estate.Workload{{ID: "a", Leases: []estate.Lease{{Addr: b, From: estate.Beginning,
		Until: estate.End}}}})
	shut, open := decideAll(t, e), compile(t, e, "layer last\npermit any -> any on any\n",
		estate.Instant{Sec: 1_795_000_000})
	start := flow.HourOf(estate.Instant{Sec: 1_795_000_000})
	at := func(second int) flow.Micros { return flow.MicrosOfInstant(start.Start()) + flow.Micros(second)*1e6 }
	cut := 0
	rapid.Check(t, func(t *rapid.T) {
		h := reach.Holder{Name: "p", Guards: []int32{0}, Server: true}
		for second := rapid.IntRange(-500, 500).Draw(t, "first period"); second < 3600; second += rapid.IntRange(60,
			1500).Draw(t, "later") {
			h.Periods = append(h.Periods, reach.Period{From: at(second),
				Release: rapid.IntRange(0, 2).Draw(t, "release"),
				Enforce: rapid.Bool().Draw(t, "enforce")})
		}
		held := func(at flow.Micros) (p reach.Period) {
			for _, x := range h.Periods {
				if x.From <= at {
					p = x
				}
			}
			return p
		}
		var apart, together flow.Buckets
		leaks, chokes, all := int64(0), int64(0), int64(0)
		for range rapid.IntRange(1, 20).Draw(t, "connections") {
			when := at(rapid.IntRange(0, 3599).Draw(t, "second"))
			if len(h.Periods) > 0 && rapid.IntRange(0, 3).Draw(t, "at a turn") == 0 { // what is rare is tried often
				p := rapid.SampledFrom(h.Periods).Draw(t, "which")
				when = min(max(p.From+flow.Micros(rapid.IntRange(-1, 6).Draw(t, "by"))*1e6, at(0)), at(3599))
			}
			outcome := rapid.SampledFrom([]flow.Outcome{flow.Carried, flow.Dropped}).Draw(t, "outcome")
			r := flow.Record{Start: when.Instant(), End: when.Instant(), Client: a, Server: b,
				Point:       service.PointOf(service.TCP, 22),
				Connections: 1, Outcome: outcome}
			together.Add(r)
			apart.Changes = func(_ netip.Addr, t estate.Instant) (estate.Instant, bool) {
				turned, ok := h.Turned(flow.MicrosOfInstant(t))
				return turned.Instant(), ok
			}
			apart.Add(r)
			all++
			switch p := held(when); {
			case outcome == flow.Carried && p.Release == 1 && p.Enforce && when >= p.From+5e6:
				leaks++
			case outcome == flow.Dropped && p.Release == 2:
				chokes++
			}
		}
		count := func(b *flow.Buckets) (leaked, choked, unclear, sum int64) {
			w := reach.NewWindow(e, flow.Pack(b.All()), start, start+1)
			w.JudgedBy(&reach.Judge{Holders: []reach.Holder{h}, Of: func(w *reach.Window, release int) *reach.View {
				return w.Under(map[int]*decide.Compiled{1: shut, 2: open}[release])
			}})
			v := w.Under(shut)
			for i := range v.Len() {
				v.EachPortion(i, func(p *reach.Portion) {
					sum += p.Connections
					switch {
					case p.Unclear:
						unclear += p.Connections
					case p.Ruling.Fate == reach.Leak:
						leaked += p.Connections
					case p.Ruling.Fate == reach.Choke:
						choked += p.Connections
					}
				})
			}
			return leaked, choked, unclear, sum
		}
		leaked, choked, unclear, sum := count(&together)
		require.Equal(t, all, sum)
		require.LessOrEqual(t, leaked, leaks)
		require.LessOrEqual(t, choked, chokes)
		require.LessOrEqual(t, leaks+chokes, leaked+choked+unclear)
		cut += int(unclear)
		leaked, choked, unclear, sum = count(&apart)
		require.Equal(t, []int64{all, leaks, chokes, 0}, []int64{sum, leaked, choked, unclear})
	})
	require.Positive(t, cut)
}

func decideAll(t *testing.T, e *estate.Estate) *decide.Compiled {
	p, errs := policy.Parse("layer last\nreject any -> any on any\n")
	require.Empty(t, errs)
	return decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
}

func has(list []int32, w int32) bool {
	for _, x := range list {
		if x == w && w != estate.Outside {
			return true
		}
	}
	return false
}
