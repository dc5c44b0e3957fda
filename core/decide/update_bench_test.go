package decide_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

var updateSizes = []struct{ workloads, groups, rules int }{{1000, 100, 100}, {10_000, 400, 1000},
	{100_000, 1000, 2000}}

// each times f b.N times and reports the median, the 99th of a hundred, and how
// many times a fresh compile takes.
func each(b *testing.B, c *decide.Compiled, f func(i int)) {
	start := time.Now()
	decide.Compile(c.Estate, c.Policy, c.AsOf)
	compile := time.Since(start)
	var took []time.Duration
	for i := 0; b.Loop(); i++ {
		start := time.Now()
		f(i)
		took = append(took, time.Since(start))
	}
	slices.Sort(took)
	p99 := took[len(took)*99/100]
	b.ReportMetric(float64(p99.Nanoseconds())/1e3, "µs-p99")
	b.ReportMetric(float64(compile)/float64(took[len(took)/2]), "×compile")
}

// A tag set on one workload: the estate, its class, and what changed.
func BenchmarkTagChange(b *testing.B) {
	for _, size := range updateSizes {
		b.Run(fmt.Sprintf("workloads=%d/rules=%d", size.workloads, size.rules), func(b *testing.B) {
			e, text := sample.Large(size.workloads, size.groups, size.rules)
			p, _ := policy.Parse(text)
			c := decide.Compile(e, p, estate.Instant{})
			r := rand.New(rand.NewPCG(3, 4))
			each(b, c, func(i int) {
				w := *c.Estate.Workload(int32(r.IntN(size.workloads)))
				w.SetTag(estate.Tag{Key: []string{"env", "tier", "app"}[i%3],
					Value: []string{"trial", "store", fmt.Sprintf("app%d", r.IntN(90))}[i%3]})
				next, touched, _ := c.Estate.With([]estate.Workload{w}, nil)
				c = c.WithEstate(next, touched).After
			})
		})
	}
}

// One rule changed, added or removed, from the text to the pairs it changes.
func BenchmarkRuleEdit(b *testing.B) {
	for _, size := range updateSizes {
		b.Run(fmt.Sprintf("workloads=%d/rules=%d", size.workloads, size.rules), func(b *testing.B) {
			e, text := sample.Large(size.workloads, size.groups, size.rules)
			p, _ := policy.Parse(text)
			text = p.Format()
			c := decide.Compile(e, p, estate.Instant{})
			for _, q := range questions(c, size.workloads, 50_000) {
				c.Rule(q.client, q.server, q.point)
			}
			pairs := 0
			each(b, c, func(i int) {
				line := p.Rules[1+i%(len(p.Rules)-2)].Line
				edit := policy.Edit{Op: policy.Switch, Line: line}
				_, q, _, err := edit.ApplyTo(p, text)
				if err != nil {
					b.Fatal(err)
				}
				pairs += len(c.WithPolicy(q, c.AsOf).Pairs())
			})
		})
	}
}

// Ten million conversations in columns, with all totals in the same pass; and
// the verdicts alone on one core.
func BenchmarkBulk(b *testing.B) {
	const workloads, rows, bins = 100_000, 10_000_000, 24 * 14
	e, text := sample.Large(workloads, 400, 2000)
	p, _ := policy.Parse(text)
	c := decide.Compile(e, p, estate.Instant{})
	r := rand.New(rand.NewPCG(5, 6))
	var ends decide.Ends
	for i := range 20_000 {
		at := c.At(sample.LargeAddr(i*5), estate.Instant{})
		ends.Class = append(ends.Class, at.Class)
		ends.Group = append(ends.Group, int32(i%400))
	}
	var cols decide.Columns
	cols.Starts = make([]int32, rows+1)
	for i := range rows {
		cols.Client, cols.Server = append(cols.Client, int32(r.IntN(len(ends.Class)))),
			append(cols.Server, int32(r.IntN(len(ends.Class))))
		cols.Point, cols.Connections = append(cols.Point, sample.LargePoint(r)), append(cols.Connections, 1)
		cols.When = append(cols.When, int32(r.IntN(bins)))
		cols.Starts[i+1] = int32(i + 1)
	}
	rules := make([]int32, rows)
	c.Evaluate(cols, ends, rules, bins) // fills the tables
	b.Run("10M-with-totals", func(b *testing.B) {
		for b.Loop() {
			c.Evaluate(cols, ends, rules, bins)
		}
		b.ReportMetric(rows/1e6/(b.Elapsed().Seconds()/float64(b.N)), "Mverdicts/s")
	})
	b.Run("one-core", func(b *testing.B) {
		walk := decide.NewWalk(e, p, estate.Instant{})
		const few = 300
		ask := func() {
			for i := range few {
				walk.Decide(estate.Endpoint{Addr: sample.LargeAddr(int(cols.Client[i]) * 5),
					Workload: cols.Client[i] * 5}, estate.Endpoint{Addr: sample.LargeAddr(int(cols.Server[i]) * 5),
					Workload: cols.Server[i] * 5}, cols.Point[i])
			}
		}
		ask()
		start := time.Now()
		ask()
		plain := time.Since(start) / few
		one := decide.Columns{Client: cols.Client[:1<<20], Server: cols.Server[:1<<20], Point: cols.Point[:1<<20]}
		b.ResetTimer()
		for b.Loop() {
			c.Verdicts(one, ends.Class, rules[:1<<20])
		}
		each := b.Elapsed().Seconds() / float64(b.N) / (1 << 20)
		start = time.Now()
		const times = 20
		for range times {
			c.Lookups(one, ends.Class)
		}
		limit := time.Since(start).Seconds() / times / (1 << 20)
		b.ReportMetric(1/each/1e6, "Mverdicts/s")
		b.ReportMetric(1/limit/1e6, "Mlook-ups/s")
		b.ReportMetric(plain.Seconds()/each, "×walk")
	})
}
