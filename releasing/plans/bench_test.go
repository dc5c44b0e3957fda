package plans_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/rollout"
	"lucidorchard/core/sample"
	"lucidorchard/releasing/plans"
)

// BenchmarkATagAtManyPoints measures how long it takes to work out, for 1,000 points that
// guard 100,000 workloads by a policy of 2,000 rules, whom a change of a tag concerns and
// what moves there; beside how long all plans take anew, in the same run.
func BenchmarkATagAtManyPoints(b *testing.B) {
	e, text := sample.Large(100_000, 2000, 2000)
	p, errs := policy.Parse(text)
	require.Empty(b, errs)
	c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
	teller := &plans.Teller{Policy: func(int) (*policy.Policy, error) { return p, nil }}
	points := make([]plans.Point, 1000)
	for i := range points {
		points[i] = plans.Point{Kind: plan.Gate, Side: plan.Both, Runs: rollout.Runs{Enforces: 1},
			Guards: fmt.Sprintf("app is app%d and site is %s", i/2, []string{"northquay", "southquay"}[i%2])}
	}
	have := make([]string, len(points))
	moved, whole := 0, 0
	tell := func(version int64) {
		s := plans.StateOf(c, version, nil)
		s.At, s.Draft = c.AsOf, 1
		for i := range points {
			told, err := teller.Told(s, points[i], have[i], points)
			require.NoError(b, err)
			if told.ID != have[i] {
				if have[i] = told.ID; told.Enforces.Plan == nil {
					moved++
				} else {
					whole++
				}
			}
		}
	}
	tell(0)
	r := rand.New(rand.NewPCG(5, 5))
	b.Run("anew", func(b *testing.B) {
		for b.Loop() {
			teller = &plans.Teller{Policy: teller.Policy}
			tell(0)
		}
	})
	b.Run("tag", func(b *testing.B) {
		moved, whole = 0, 0
		for b.Loop() {
			w := *e.Workload(int32(r.IntN(e.Len())))
			w.SetTag(estate.Tag{Key: "tier", Value: []string{"entry", "logic", "store", "bus"}[r.IntN(4)]})
			next, touched, _ := e.With([]estate.Workload{w}, nil)
			e, c = next, c.WithEstate(next, touched).After
			tell(int64(b.N))
		}
		b.ReportMetric(float64(moved)/float64(b.N), "points-moved")
		b.ReportMetric(float64(whole)/float64(b.N), "points-told-all")
	})
}
