package decide_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

type question struct {
	client, server decide.Placed
	point          service.Point
}

func questions(c *decide.Compiled, workloads, n int) []question {
	r := rand.New(rand.NewPCG(1, 2))
	out := make([]question, n)
	for i := range out {
		out[i] = question{c.At(sample.LargeAddr(r.IntN(workloads)), estate.Instant{}),
			c.At(sample.LargeAddr(r.IntN(workloads)), estate.Instant{}), sample.LargePoint(r)}
	}
	return out
}

// One verdict from the compiled form, and how many times the plain walk (with
// memberships looked up, not evaluated) takes for the same questions.
func BenchmarkVerdict(b *testing.B) {
	for _, rules := range []int{100, 1000, 10_000} {
		b.Run(fmt.Sprintf("rules=%d", rules), func(b *testing.B) {
			const workloads = 2000
			e, text := sample.Large(workloads, 400, rules)
			p, _ := policy.Parse(text)
			c, w := decide.Compile(e, p, estate.Instant{}), decide.NewWalk(e, p, estate.Instant{})
			qs := questions(c, workloads, 1000)
			for _, q := range qs { // fills what both remember
				c.Rule(q.client, q.server, q.point)
				w.Decide(q.client.Endpoint, q.server.Endpoint, q.point)
			}
			start := time.Now()
			for _, q := range qs {
				w.Decide(q.client.Endpoint, q.server.Endpoint, q.point)
			}
			walk := time.Since(start) / time.Duration(len(qs))
			b.ResetTimer()
			for i := 0; i < b.N; i++ {
				q := &qs[i%len(qs)]
				c.Rule(q.client, q.server, q.point)
			}
			one := float64(b.Elapsed()) / float64(b.N)
			b.ReportMetric(float64(walk)/one, "×walk")
			b.ReportMetric(1e3/one, "Mverdicts/s")
		})
	}
}

// Compiling from a parsed policy, with memory for each workload.
func BenchmarkCompile(b *testing.B) {
	for _, size := range []struct{ workloads, groups, rules int }{{1000, 100, 100}, {10_000, 1000, 1000},
		{100_000, 1000, 2000}} {
		b.Run(fmt.Sprintf("workloads=%d/rules=%d", size.workloads, size.rules), func(b *testing.B) {
			e, text := sample.Large(size.workloads, size.groups, size.rules)
			p, _ := policy.Parse(text)
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			var c *decide.Compiled
			for b.Loop() {
				c = decide.Compile(e, p, estate.Instant{})
			}
			runtime.GC()
			runtime.ReadMemStats(&after)
			b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/float64(size.workloads), "B/workload")
			b.ReportMetric(float64(c.Classes()), "classes")
		})
	}
}
