package reach_test

import (
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// manyConversations makes a table in which nearly every row is a conversation of
// its own.
func manyConversations(e *estate.Estate, n int) *flow.Table {
	r := rand.New(rand.NewPCG(5, 5))
	t := flow.NewTable()
	roles, byRole := rolesOf(e, t)
	observer := t.Dict.Observer("10.0.0.1")
	ports := []uint32{443, 8443, 5432, 22, 53, 9100, 636, 5671}
	const hours = 24
	var chunks []*flow.Chunk
	for h := range hours {
		d := &flow.Draft{Chunk: flow.Chunk{Hour: flow.Hour(498_000 + h)}}
		start := flow.MicrosOfInstant(d.Hour.Start())
		for range n / hours {
			// Each role is called by members of six others, on two services.
			server := r.IntN(len(roles))
			clients, servers := byRole[roles[(server*7+r.IntN(6)*13)%len(roles)]], byRole[roles[server]]
			at := start + flow.Micros(r.Int64N(3600e6))
			d.Client, d.Server, d.Point = append(d.Client, clients[r.IntN(len(clients))]),
				append(d.Server, servers[r.IntN(len(servers))]),
				append(d.Point, service.PointOf(service.TCP, ports[(server+r.IntN(2))%len(ports)]))
			d.Outcome, d.Connections, d.Bytes, d.Packets, d.Unsure = append(d.Outcome, flow.Carried),
				append(d.Connections, 3), append(d.Bytes, 4000), append(d.Packets, 20), append(d.Unsure, 0)
			d.First, d.Last, d.Observer = append(d.First, at), append(d.Last, at), append(d.Observer, observer)
		}
		chunks = append(chunks, d.Pack(t.Dict))
	}
	return t.With(chunks, nil)
}

// BenchmarkEdit measures how long the answers take after an edit of the draft, over
// a window of 12 million rows that are about 10 million conversations:
// the totals, the ledger anew, a row that is opened, the strip.
// ORCHARD_ROWS is another number of rows.
func BenchmarkEdit(b *testing.B) {
	rows := 12_000_000
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_ROWS")); err == nil {
		rows = n
	}
	e, text := sample.Large(100_000, 1000, 2000)
	c := compile(b, e, text, estate.Instant{Sec: 1_795_000_000})
	t := manyConversations(e, rows)
	from, to := t.Span()
	v := reach.NewWindow(e, t, from, to).Under(c)
	v.Warm()
	first := v
	p := c.Policy
	line := p.Rules[len(p.Rules)/2].Line
	after, _, bad := policy.Edit{Op: policy.Switch, Line: line}.Apply(text)
	if bad != nil {
		b.Fatal(bad)
	}
	step := func(name string, f func()) {
		start := time.Now()
		f()
		b.ReportMetric(float64(time.Since(start).Milliseconds()), name+"-ms")
	}
	b.ResetTimer()
	for range b.N {
		edited, _ := policy.Parse(after)
		var u *decide.Update
		step("compile", func() { u = c.WithPolicy(edited, c.AsOf) })
		step("decide", func() { v = first.With(u) })
		step("opened", func() { reach.OpenedBy(first, u) })
		step("totals", func() { v.Totals(reach.Query{}) })
		var served []reach.Row
		step("ledger", func() { served = v.Served(reach.Query{}) })
		step("open", func() {
			v.Callers(reach.Query{Near: served[0].Key(), Point: &served[0].Point})
		})
		callers := v.Callers(reach.Query{Near: served[0].Key(), Point: &served[0].Point})
		step("open-pairs", func() {
			v.Select(reach.Query{Near: served[0].Key(), Far: callers[0].Key(), Point: &served[0].Point})
		})
		conv := v.At(12345)
		step("find", func() { v.Find(conv.Client.Endpoint, conv.Server.Endpoint, conv.Point) })
		step("strip", func() { v.Strip(reach.Query{}, 112, reach.Conversations) })
		step("pairs-first", func() { v.Pairs(reach.Query{}) })
		step("rules", func() { v.Evidence() })
		step("compared", func() { v.Compared(first).Totals(reach.Query{}) })
	}
	b.ReportMetric(float64(v.Len()), "conversations")
}
