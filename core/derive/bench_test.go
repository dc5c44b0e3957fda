package derive_test

import (
	"fmt"
	"testing"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/demo"
)

// Deriving from the demo company at growing sizes.
func BenchmarkDerive(b *testing.B) {
	for _, workloads := range []int{420, 2000, 5000} {
		b.Run(fmt.Sprintf("workloads=%d", workloads), func(b *testing.B) {
			company := demo.Generate(demo.Options{Workloads: workloads, Days: 7, End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
			e, _ := estate.New(company.Workloads)
			p, _ := policy.Parse(company.Policy)
			c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
			var seen derive.Gather
			for _, r := range company.Records {
				seen.Add(derive.Observed(c, r))
			}
			var r *derive.Result
			for b.Loop() {
				r = derive.Derive(derive.Input{Compiled: c, Conversations: seen.Conversations, Balance: derive.DefaultBalance})
			}
			b.ReportMetric(float64(len(seen.Conversations)), "conversations")
			b.ReportMetric(float64(len(r.Proposals)), "rules")
		})
	}
}
