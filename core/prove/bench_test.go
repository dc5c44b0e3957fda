package prove_test

import (
	"fmt"
	"testing"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/sample"
)

// All findings of a policy, exact over all points.
func BenchmarkFindings(b *testing.B) {
	for _, size := range []struct{ workloads, groups, rules int }{{1000, 100, 100}, {10_000, 400, 1000},
		{100_000, 400, 2000}, {100_000, 1000, 10_000}} {
		b.Run(fmt.Sprintf("workloads=%d/rules=%d", size.workloads, size.rules), func(b *testing.B) {
			e, text := sample.Large(size.workloads, size.groups, size.rules)
			p, _ := policy.Parse(text)
			c := decide.Compile(e, p, estate.Instant{})
			n := 0
			for b.Loop() {
				n = len(prove.Findings(c))
			}
			b.ReportMetric(float64(n), "findings")
			b.ReportMetric(float64(c.Classes()), "classes")
		})
	}
}

// Assertions over all endpoints and services.
func BenchmarkAssertions(b *testing.B) {
	e, text := sample.Large(100_000, 400, 2000)
	for i := range 100 {
		text += fmt.Sprintf("assert never app%d-store -> app%d-entry on any across env\nassert never trial -> "+
			"app%d-store on tcp/5432\n", i%99, (i+1)%99, i%99)
	}
	p, _ := policy.Parse(text)
	c := decide.Compile(e, p, estate.Instant{})
	for b.Loop() {
		prove.Assertions(c)
	}
	b.ReportMetric(float64(len(p.Asserts)), "assertions")
}
