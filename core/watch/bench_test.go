package watch_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
)

// day is what a large estate does in a day: what its policy permits, and what goes wrong
// in such places: machines that scan, noise from outside, an application that was moved
// and still asks where it was, a device in the path that drops what it should not, one
// that carries what it should not.
func day(t testing.TB, workloads, conversations int) *reach.View {
	e, text := sample.Large(workloads, 400, 800)
	p, errs := policy.Parse(text + "reject any -> any on any\n")
	require.Empty(t, errs)
	at := estate.Instant{Sec: 1_795_000_000 / 86400 * 86400}
	c := decide.Compile(e, p, at)
	r := rand.New(rand.NewPCG(9, 2))
	var b flow.Buckets
	seen := func(from, to netip.Addr, pt service.Point, o flow.Outcome) {
		start := estate.Instant{Sec: at.Sec + r.Int64N(86400)}
		b.Add(flow.Record{Start: start, End: start, Client: from, Server: to, Point: pt, Connections: 1 + r.Int64N(9),
			Outcome: o})
	}
	machine := func() netip.Addr { return sample.LargeAddr(r.IntN(workloads)) }
	members := map[string][]int{} // group and environment
	for i := range workloads {
		w := e.Workload(int32(i))
		app, _ := w.Tag("app")
		tier, _ := w.Tag("tier")
		env, _ := w.Tag("env")
		key := app.Value + "-" + tier.Value + " " + env.Value
		members[key] = append(members[key], i)
	}
	for n := 0; n < conversations; {
		rule := p.Rules[r.IntN(len(p.Rules))]
		if rule.Action != policy.Permit {
			continue
		}
		env := []string{"live", "trial", "bench"}[r.IntN(3)]
		left, right := members[rule.Left.Items[0].Name+" "+env], members[rule.Right.Items[0].Name+" "+env]
		from, to := sample.LargeAddr(left[r.IntN(len(left))]), sample.LargeAddr(right[r.IntN(len(right))])
		pt := p.Points(rule.On)[0].Lo
		if decide.VerdictOf(c.Decide(c.At(from, at), c.At(to, at), pt)) == decide.Permit {
			o := flow.Carried
			if r.IntN(100_000) == 0 {
				o = flow.Dropped // a device has lost a rule
			}
			seen(from, to, pt, o)
			n++
		}
	}
	for range 4 { // scanners
		from := machine()
		for range 800 {
			seen(from, machine(), service.PointOf(service.TCP, []uint32{22, 445, 3389, 5900}[r.IntN(4)]), flow.Dropped)
		}
	}
	for range 3000 { // noise
		from := netip.AddrFrom4([4]byte{198, 51, byte(100 + r.IntN(40)), byte(r.IntN(256))})
		seen(from, sample.LargeAddr(r.IntN(40)), service.PointOf(service.TCP, []uint32{22, 23, 443, 8080}[r.IntN(4)]),
			flow.Dropped)
	}
	for app := range 6 { // was moved
		old := machine()
		for range 60 {
			from := sample.LargeAddr(r.IntN(workloads))
			if tag, _ := e.Workload(e.At(from, at).Workload).Tag("app"); tag.Value == fmt.Sprint("app", app) ||
				r.IntN(30) == 0 {
				seen(from, old, service.PointOf(service.TCP, 9999), flow.Dropped)
			}
		}
	}
	for range 40 { // a device carries what it should not
		seen(machine(), sample.LargeAddr(77), service.PointOf(service.TCP, 5432), flow.Carried)
	}
	hour := flow.HourOf(at)
	return reach.NewWindow(e, flow.Pack(b.All()), hour, hour+24).Under(c)
}

// BenchmarkADay measures how long it takes to gather a day of a large estate, and how many
// matters it makes of how many conversations that are one; beside what the view took to
// make.
func BenchmarkADay(b *testing.B) {
	v := day(b, 20_000, 2_000_000)
	b.ResetTimer()
	var g watch.Gathered
	for b.Loop() {
		g = watch.Gather(v, watch.Watched{})
	}
	in := 0
	for _, m := range g.Matters {
		in += len(m.Conversations)
	}
	b.ReportMetric(float64(v.Len()), "conversations")
	b.ReportMetric(float64(in), "conversations-in-matters")
	b.ReportMetric(float64(len(g.Matters)), "matters")
}
