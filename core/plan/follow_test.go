package plan_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

// spoken is all that a plan says, without names.
func spoken(p *plan.Plan) string {
	var out []string
	for _, c := range p.Classes {
		var b strings.Builder
		fmt.Fprintln(&b, c.Addresses, c.Workloads)
		for _, rules := range [][]plan.Rule{c.Server, c.Client} {
			for _, r := range rules {
				peers := "anybody"
				if !r.Anybody() {
					peers = p.PeersOf(&r).String()
				}
				fmt.Fprintln(&b, r.Line, r.Verdict, r.On, r.Until, peers)
			}
			fmt.Fprintln(&b, "--")
		}
		out = append(out, b.String())
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// retag changes tags of some workloads of a large estate.
func retag(t *rapid.T, e *estate.Estate) (*estate.Estate, []int32) {
	var put []estate.Workload
	for range rapid.IntRange(1, 6).Draw(t, "workloads") {
		w := *e.Workload(rapid.Int32Range(0, int32(e.Len())-1).Draw(t, "workload"))
		key := rapid.SampledFrom([]string{"app", "tier", "env", "site"}).Draw(t, "key")
		w.SetTag(estate.Tag{Key: key, Value: rapid.SampledFrom(map[string][]string{"app": {"app1", "app2", "none"},
			"tier": {"entry", "store", ""}, "env": {"live", "trial", ""}, "site": {"northquay"}}[key]).Draw(t,
			"value")})
		if !slices.ContainsFunc(put, func(x estate.Workload) bool { return x.ID == w.ID }) {
			put = append(put, w)
		}
	}
	next, touched, _ := e.With(put, nil)
	return next, touched
}

// A planner that follows changes of the estate makes the plans that a new one would
// make, and says which of those that it made before are others now; the moves between
// them lead from one to the next.
func TestAPlannerFollowsTheEstate(t *testing.T) {
	followed, moved, stayed := 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		c, edit := drawn(t), sample.EditEstate
		if rapid.Bool().Draw(t, "many alike") {
			e, text := sample.Large(120, 24, 40)
			p, errs := policy.Parse(text)
			require.Empty(t, errs)
			c, edit = decide.Compile(e, p, sample.Instant(t)), retag
		}
		planner := plan.NewPlanner(c)
		var guards [][]int32
		for range 3 {
			guards = append(guards, someGuards(t, c.Estate))
		}
		made := make([]*plan.Plan, len(guards))
		for i := range guards {
			made[i] = planner.Plan(guards[i], plan.Gate, plan.Both)
		}
		for range rapid.IntRange(1, 5).Draw(t, "edits") {
			e, touched := edit(t, c.Estate)
			u := c.WithEstate(e, touched)
			c = u.After
			changed, ok := planner.Follow(u)
			if !ok {
				planner = plan.NewPlanner(c)
				for i := range guards {
					made[i] = planner.Plan(guards[i], plan.Gate, plan.Both)
				}
				continue
			}
			followed++
			fresh := plan.NewPlanner(c)
			for i := range guards {
				before := made[i]
				made[i] = planner.Plan(guards[i], plan.Gate, plan.Both)
				require.Equal(t, spoken(fresh.Plan(guards[i], plan.Gate, plan.Both)), spoken(made[i]))
				touched := slices.ContainsFunc(before.Sets, func(s plan.Set) bool { return changed.Sets[s.Name] }) ||
					slices.ContainsFunc(changed.Holders, func(w int32) bool { return slices.Contains(guards[i], w) })
				if !touched {
					stayed++
					require.Equal(t, before.Hash(), made[i].Hash(), "nothing was said to have changed")
				}
				if m, same := before.Difference(made[i]); same {
					next, err := before.Moved(m)
					require.NoError(t, err)
					require.Equal(t, made[i].Hash(), next.Hash())
					if !m.Nothing() {
						moved++
					}
				}
			}
		}
	})
	t.Logf("%d followed, %d moved, %d stayed", followed, moved, stayed)
	require.Greater(t, followed, 50)
	require.Greater(t, moved, 20)
	require.Greater(t, stayed, 20)
}

// Asked of one workload after it changed, an expression guards what it would if it were
// asked of all.
func TestGuardsAreAskedAnewOfWhatChanged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		var e *expr.Expr
		for e == nil {
			x, errs := expr.ParseText(sample.Expr(t, 2, 0))
			if len(errs) == 0 {
				e = x
			}
		}
		g := plan.Guarded(c, []*expr.Expr{e})[0]
		next, touched := sample.EditEstate(t, c.Estate)
		if !next.SameHolders(c.Estate, touched) {
			return
		}
		c = c.WithEstate(next, touched).After
		for _, w := range touched {
			g = g.Ask(c, e, w)
		}
		want := plan.Guarded(c, []*expr.Expr{e})[0]
		require.ElementsMatch(t, want.In, g.In)
		require.ElementsMatch(t, want.Undecided, g.Undecided)
	})
}
