package reach_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"strconv"
	"testing"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// rolesOf returns the roles of an estate, application and tier, and the numbers of
// the addresses of each.
func rolesOf(e *estate.Estate, t *flow.Table) (roles []string, byRole map[string][]uint32) {
	byRole = map[string][]uint32{}
	for _, w := range e.All() {
		app, _ := w.Tag("app")
		tier, _ := w.Tag("tier")
		role := app.Value + " " + tier.Value
		if byRole[role] == nil {
			roles = append(roles, role)
		}
		byRole[role] = append(byRole[role], t.Dict.Number(w.Leases[0].Addr))
	}
	return roles, byRole
}

// hoursOf makes a table of about rows conversation-hours over two weeks, of a
// tenth as many conversations: some go on all the time, most do not. Each group
// is called by members of six others, on two services.
func hoursOf(e *estate.Estate, rows int) (*flow.Table, []*flow.Draft) {
	r := rand.New(rand.NewPCG(3, 3))
	t := flow.NewTable()
	roles, byRole := rolesOf(e, t)
	type pair struct {
		client, server uint32
		point          service.Point
	}
	pairs := make([]pair, rows/10)
	ports := []uint32{443, 8443, 5432, 22, 53, 9100, 636, 5671}
	for i := range pairs {
		server := r.IntN(len(roles))
		clients, servers := byRole[roles[(server*7+r.IntN(6)*13)%len(roles)]], byRole[roles[server]]
		pairs[i] = pair{clients[r.IntN(len(clients))], servers[r.IntN(len(servers))],
			service.PointOf(service.TCP, ports[(server+r.IntN(2))%len(ports)])}
	}
	const hours = 14 * 24
	var drafts []*flow.Draft
	for h := range hours {
		c := &flow.Draft{Chunk: flow.Chunk{Hour: flow.Hour(498_000 + h)}}
		start := flow.MicrosOfInstant(c.Hour.Start())
		for range rows / hours {
			p := pairs[min(len(pairs)-1, int(r.ExpFloat64()*float64(len(pairs))/4))]
			c.Client, c.Server, c.Point = append(c.Client, p.client), append(c.Server, p.server),
				append(c.Point, p.point)
			c.Outcome, c.Connections, c.Bytes, c.Packets, c.Unsure = append(c.Outcome, flow.Carried),
				append(c.Connections, 3), append(c.Bytes, 4000), append(c.Packets, 20), append(c.Unsure, 0)
			at := start + flow.Micros(r.Int64N(3600e6))
			c.First, c.Last, c.Observer = append(c.First, at), append(c.Last, at),
				append(c.Observer, t.Dict.Observer("10.0.0.1"))
		}
		drafts = append(drafts, c)
	}
	return t, drafts
}

// BenchmarkWindow measures how long the first answers over a window take after it
// was read, and the same again: the ledger, the map, and one with a filter.
// ORCHARD_ROWS adds a size to 10 million conversation-hours.
func BenchmarkWindow(b *testing.B) {
	sizes := []int{10_000_000}
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_ROWS")); err == nil {
		sizes = append(sizes, n)
	}
	e, text := sample.Large(100_000, 1000, 2000)
	c := compile(b, e, text, estate.Instant{Sec: 1_795_000_000})
	for _, rows := range sizes {
		b.Run(fmt.Sprint(rows), func(b *testing.B) {
			t, drafts := hoursOf(e, rows)
			runtime.GC()
			start := time.Now()
			var chunks []*flow.Chunk
			for i := range drafts {
				chunks = append(chunks, drafts[i].Pack(t.Dict))
				drafts[i] = nil
			}
			t = t.With(chunks, nil)
			// Part of reading the table, which is kept in memory.
			b.ReportMetric(float64(time.Since(start).Milliseconds()), "pack-ms")
			from, to := t.Span()
			runtime.GC()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			var v *reach.View
			step := func(name string, f func()) {
				start := time.Now()
				f()
				b.ReportMetric(float64(time.Since(start).Milliseconds()), name+"-ms")
			}
			for range b.N {
				step("cold", func() {
					v = reach.NewWindow(e, t, from, to).Under(c)
					v.Warm()
					v.Served(reach.Query{})
					v.Totals(reach.Query{})
				})
				step("ledger", func() { v.Served(reach.Query{}) })
				step("strip", func() { v.Strip(reach.Query{}, 112, reach.Conversations) })
				v.Terrace(reach.Query{}, reach.MapKeys{Columns: "env", Rows: "tier"})
				step("map", func() { v.Terrace(reach.Query{}, reach.MapKeys{Columns: "env", Rows: "tier"}) })
				step("filtered", func() { v.Served(reach.Query{Filter: reach.Filter{MinBytes: 10_000}}) })
				v.Select(reach.Query{Text: "5432"})
				step("text", func() { v.Served(reach.Query{Text: "5432"}) })
			}
			runtime.GC()
			runtime.ReadMemStats(&after)
			b.ReportMetric(float64(v.Len()), "conversations")
			b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/float64(rows), "B/row-of-window")
			runtime.KeepAlive(t)
		})
	}
}
