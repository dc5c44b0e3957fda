package prove_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
)

func TestWhatHardlyIsMeantIsPointedAt(t *testing.T) {
	a := estate.Workload{ID: "a-1", Name: "first"}
	a.SetTag(estate.Tag{Key: "env", Value: "Live"})
	a.SetTag(estate.Tag{Key: "tier", Value: "store"})
	e, conflicts := estate.New([]estate.Workload{a})
	require.Empty(t, conflicts)
	asOf := estate.InstantOf(time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC))
	const old = "group old = envv is live\n"
	before, errs := policy.Parse(old)
	require.Empty(t, errs)
	after, errs := policy.Parse(old + `group stores = tier is store and env is liev
group some = env in (live, LIVE) include a-1, a-2
layer allowances
permit stores -> stores on tcp/1 same site across envv
permit workload FIRST -> stores on tcp/2 until 2026-11-19
permit workload a-1 -> stores on tcp/3 until 2026-11-20
assert never stores -> outside on any across tierr
`)
	require.Empty(t, errs)
	require.Equal(t, []string{
		`group stores: nothing has env "liev"; the nearest is live`,
		`group some: there is no workload a-2`,
		`permit stores -> stores on tcp/1 same site across envv: nothing has a tag site`,
		`permit stores -> stores on tcp/1 same site across envv: nothing has a tag envv; the nearest is env`,
		`permit workload FIRST -> stores on tcp/2 until 2026-11-19: 2026-11-19 has passed, so it no longer decides anything`,
		`permit workload FIRST -> stores on tcp/2 until 2026-11-19: there is no workload FIRST; the nearest is a-1`,
		`assert never stores -> outside on any across tierr: nothing has a tag tierr; the nearest is tier`,
	}, prove.Doubts(before, decide.Compile(e, after, asOf)))
}
