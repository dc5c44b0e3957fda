package assembly_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	groupingrest "lucidorchard/grouping/rest"
)

// BenchmarkGrowth sends what is four times as large: a cost that is about linear
// grows about four times.
func BenchmarkGrowth(b *testing.B) {
	rules := func(n int, rule func(i int) string) string {
		var text strings.Builder
		text.WriteString("group live = env is live\n")
		for i := range 200 {
			fmt.Fprintf(&text, "group g%d = app is a%d and tier is t%d\n", i, i%40, i%5)
		}
		text.WriteString("layer allowances\n")
		for i := range n {
			text.WriteString(rule(i) + "\n")
		}
		return text.String()
	}
	policy := func(text func(n int) string, paths ...string) func(c assemblytest.Client, n int) time.Duration {
		return func(c assemblytest.Client, n int) time.Duration {
			require.Equal(b, 201, c.Replace(0, text(n)))
			start := time.Now()
			for _, p := range paths {
				require.Equal(b, 200, c.Call("GET", p, nil, nil))
			}
			return time.Since(start)
		}
	}
	overlapping := func(n int) string {
		return rules(n, func(i int) string {
			return fmt.Sprintf("%s live -> live on tcp/%d-%d", []string{"permit", "reject"}[i%2], 1000+i, 1100+2*i)
		})
	}
	apart := func(n int) string {
		return rules(n, func(i int) string {
			return fmt.Sprintf("permit g%d -> g%d on tcp/%d", i%200, (i/200)%200, 1000+i)
		})
	}
	preview := func(path string, text func(n int) string, want int) func(c assemblytest.Client, n int) time.Duration {
		return func(c assemblytest.Client, n int) time.Duration {
			file := text(n)
			start := time.Now()
			var raw any
			require.Equal(b, want, c.Call("POST", path, file, &raw), fmt.Sprint(raw))
			return time.Since(start)
		}
	}
	for _, x := range []struct {
		name string
		n    int
		run  func(c assemblytest.Client, n int) time.Duration
	}{
		{"Policy", 5000, policy(apart, "/api/v1/policy")},
		{"Groups", 5000, policy(apart, "/api/v1/groups")},
		{"Findings", 5000, policy(overlapping, "/api/v1/findings")},
		{"FindingsOfOtherRules", 5000, policy(apart, "/api/v1/findings")},
		{"GroupOfCIDRs", 12_500, func(c assemblytest.Client, n int) time.Duration {
			var list []string
			for i := range n {
				list = append(list, fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&255, i&255))
			}
			c.Begin()
			start := time.Now()
			var p groupingrest.GroupPreview
			require.Equal(b, 200, c.Call("POST", "/api/v1/groups/preview",
				map[string]any{"name": "", "text": "address in " + strings.Join(list, ", ")}, &p))
			return time.Since(start)
		}},
		{"WorkloadsOfOneID", 20_000, preview("/api/v1/imports/workloads?preview=true", func(n int) string {
			var text strings.Builder
			text.WriteString("id,addresses,from,until\n")
			for i := range n {
				fmt.Fprintf(&text, "one,10.%d.%d.%d,2020-01-01T00:00:00Z,2021-01-01T00:00:00Z\n", i>>16, i>>8&255,
					i&255)
			}
			return text.String()
		}, 200)},
		{"FileOfOneLine", 1 << 20, preview("/api/v1/imports/flows?preview=true",
			func(n int) string { return strings.Repeat("x", n) }, 200)},
		{"LineOfManyCells", 1 << 18, preview("/api/v1/imports/flows?preview=true",
			func(n int) string { return strings.Repeat("abc,", n) }, 422)},
	} {
		b.Run(x.name, func(b *testing.B) {
			var small, large time.Duration
			for range b.N {
				small, large = x.run(assemblytest.Serve(b), x.n), x.run(assemblytest.Serve(b), 4*x.n)
			}
			b.ReportMetric(float64(small.Milliseconds()), "ms-small")
			b.ReportMetric(float64(large.Milliseconds()), "ms-large")
			b.ReportMetric(float64(large)/float64(small), "growth-of-4")
			b.ReportMetric(0, "ns/op")
		})
	}
}
