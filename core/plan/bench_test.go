package plan_test

import (
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

// A release of 2,000 rules for 1,000 points that guard 100,000 workloads: the time until
// all plans are rendered, beside the time to compile the policy in the same run.
func BenchmarkPlansOfARelease(b *testing.B) {
	e, text := sample.Large(100_000, 2000, 2000)
	p, errs := policy.Parse(text)
	require.Empty(b, errs)
	asOf := estate.Instant{Sec: 1_795_000_000}
	var points []*expr.Expr
	for i := range 1000 {
		g, errs := expr.ParseText(fmt.Sprintf("app is app%d and site is %s", i/2,
			[]string{"northquay", "southquay"}[i%2]))
		require.Empty(b, errs)
		points = append(points, g)
	}
	var c *decide.Compiled
	b.Run("compile", func(b *testing.B) {
		for b.Loop() {
			c = decide.Compile(e, p, asOf)
		}
	})
	b.Run("render", func(b *testing.B) {
		for b.Loop() {
			planner := plan.NewPlanner(c)
			rules, sets, guarded := 0, 0, 0
			for _, g := range plan.Guarded(c, points) {
				made := planner.Plan(g.In, plan.Gate, plan.Both)
				require.NoError(b, nft.Write(io.Discard, made, nft.Options{}))
				_ = made.Hash()
				guarded += len(g.In)
				sets += len(made.Sets)
				for _, class := range made.Classes {
					rules += len(class.Server) + len(class.Client)
				}
			}
			b.ReportMetric(float64(guarded), "guarded")
			b.ReportMetric(float64(rules)/1000, "rules/point")
			b.ReportMetric(float64(sets)/1000, "sets/point")
		}
	})
}
