package likeness_test

import (
	"fmt"
	"testing"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/likeness"
	"lucidorchard/demo"
)

// How often a suggestion is right, and for how much of what is missing there is
// one, if a tenth of the tags of each structural key is hidden; with the names
// that the machines have, and with names that tell nothing.
func BenchmarkSuggest(b *testing.B) {
	for _, n := range []int{420, 4000, 20_000} {
		c := demo.Generate(demo.Options{Workloads: n, Days: 3, Seed: uint64(n),
			End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
		e, _ := estate.New(c.Workloads)
		seen := links(c, e)
		for _, plain := range []bool{false, true} {
			b.Run(fmt.Sprintf("workloads=%d/plain-names=%v", n, plain), func(b *testing.B) {
				var right, wrong, silent int
				for b.Loop() {
					right, wrong, silent = score(c.Workloads, seen, structural, 1, plain)
				}
				b.ReportMetric(100*float64(right)/float64(right+wrong), "%precision")
				b.ReportMetric(100*float64(right+wrong)/float64(right+wrong+silent), "%coverage")
			})
		}
		b.Run(fmt.Sprintf("workloads=%d/what-is-missing", n), func(b *testing.B) {
			found := 0
			for b.Loop() {
				found = len(likeness.Suggest(e, seen, structural))
			}
			b.ReportMetric(float64(found), "suggestions")
		})
	}
}
