package evidence_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/evidence"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// quarter is a quarter of a large estate: tags that are set and set back every few hours,
// a release each three weeks, gates of both sites, and the same machines talking hour by
// hour.
func quarter(t testing.TB, workloads, pairs, rowsAnHour int) *evidence.Case {
	e, text := sample.Large(workloads, 400, 800)
	r := rand.New(rand.NewPCG(4, 8))
	begin := time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC)
	end := begin.AddDate(0, 3, 0)
	c := &evidence.Case{Promise: "assert only app0-logic -> app0-store on any", From: begin, To: end, Made: end,
		By:      "bench",
		Seen:    func(flow.Hour) bool { return true },
		History: &estate.History{Ranks: map[string][]estate.Rank{"inventory": {{Rank: 1, Until: estate.End}}}}}
	for _, w := range e.All() {
		p := estate.Past{ID: w.ID, Added: estate.Beginning, Were: []estate.Was{{Name: w.Name, Until: estate.End}},
			Leases: w.Leases}
		for _, tag := range w.Tags {
			tag.At, tag.Source = begin.AddDate(0, -1, 0), "inventory"
			said := estate.TagSpan{Tag: tag, Until: estate.End}
			if r.IntN(workloads) < 40 { // some 160 tags move
				at := begin.Add(time.Duration(r.Int64N(int64(end.Sub(begin)))))
				said.Until = estate.InstantOf(at)
				next := tag
				next.At, next.Value = at, "live"
				p.Said = append(p.Said, estate.TagSpan{Tag: next, Until: estate.End})
			}
			p.Said = append(p.Said, said)
		}
		c.History.Past = append(c.History.Past, p)
	}
	text += "permit app0-logic -> app0-store on any\n"
	for i := range 4 {
		at := begin.AddDate(0, 0, 20*i+2)
		c.Drafts = append(c.Drafts,
			evidence.PolicyState{No: i + 1, Text: fmt.Sprintf("%spermit app1-entry -> app2-store on tcp/%d\n", text,
				8000+i), At: at.Add(-time.Hour)})
		c.Releases = append(c.Releases, evidence.Release{No: i + 1, Revision: i + 1, At: at, Text: c.Drafts[i].Text})
	}
	for _, env := range []string{"live", "trial", "bench"} {
		for _, site := range []string{"northquay", "southquay"} {
			p := evidence.Point{Name: env + " " + site, Kind: "gate", Side: "both", Guards: "env is " + env +
				" and site is " + site, Made: begin}
			for _, rel := range c.Releases {
				p.Held = append(p.Held, evidence.Holding{At: rel.At.Add(time.Duration(r.IntN(60)) * time.Minute),
					Release: rel.No, Mode: "observe"},
					evidence.Holding{At: rel.At.Add(24 * time.Hour), Release: rel.No, Mode: "enforce"})
			}
			c.Points = append(c.Points, p)
		}
	}
	var first []flow.Bucket
	hour := flow.Hour(begin.Unix() / 3600)
	for range pairs {
		from, to := r.IntN(workloads), r.IntN(workloads)
		first = append(first, flow.Bucket{Hour: hour, Client: sample.LargeAddr(from), Server: sample.LargeAddr(to),
			Connections: 1, Outcome: flow.Carried,
			Point: service.PointOf(service.TCP, []uint32{443, 5432, 8443}[r.IntN(3)]), First: hour.Start(),
			Last: hour.Start()})
	}
	table := flow.Pack(first)
	var chunks []*flow.Chunk
	for h := hour; h.Start().Time().Before(end); h++ {
		n := rowsAnHour
		ch := &flow.Chunk{Hour: h, Pair: make([]uint32, n), Outcome: make([]flow.Outcome, n),
			Connections: make([]int64, n), Bytes: make([]int64, n), Packets: make([]int64, n),
			Unsure: make([]uint32, n), First: make([]flow.Micros, n), Last: make([]flow.Micros, n),
			Observer: make([]uint32, n)}
		for i := range n {
			ch.Pair[i] = uint32(r.IntN(len(table.Dict.Pairs())))
		}
		slices.Sort(ch.Pair)
		at := flow.MicrosOf(h.Start().Time())
		for i := range n {
			ch.Outcome[i], ch.Connections[i], ch.First[i], ch.Last[i] = flow.Carried, 3, at+flow.Micros(i), at+
				flow.Micros(i)+1e6
		}
		chunks = append(chunks, ch)
	}
	c.Traffic = table.With(chunks, nil)
	return c
}

// BenchmarkAQuarter measures how long evidence for one assertion over a quarter takes, and how
// much memory beside the traffic itself.
func BenchmarkAQuarter(b *testing.B) {
	c := quarter(b, 20_000, 400_000, 10_000)
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	most := uint64(0)
	b.ResetTimer()
	var e *evidence.Evidence
	for b.Loop() {
		n := 0
		var err error
		e, err = evidence.Make(b.Context(), c, func(float64) {
			if n++; n%50 == 0 {
				runtime.ReadMemStats(&now)
				most = max(most, now.HeapAlloc)
			}
		}, nil)
		require.NoError(b, err)
	}
	b.ReportMetric(float64(c.Traffic.Len()), "rows")
	b.ReportMetric(float64(len(e.MayChanges)+len(e.MemberChanges)), "changes-found")
	b.ReportMetric(float64(most-min(most, before.HeapAlloc))/1e6, "MB-more")
}
