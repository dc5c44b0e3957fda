package plan_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/sample"
)

// Asked as one, expressions say of each workload what each says by itself, one
// endpoint after another.
func TestGuardsAskedAtOnceSayTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		var all []*expr.Expr
		for range rapid.IntRange(1, 4).Draw(t, "expressions") {
			e, errs := expr.ParseText(sample.Expr(t, 2, 0))
			require.Empty(t, errs)
			all = append(all, e)
		}
		walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
		for i, g := range plan.Guarded(c, all) {
			best := map[int32]expr.Truth{}
			c.Estate.Held(c.AsOf, func(ep estate.Endpoint) {
				truth := all[i].Eval(decide.Subject(c.Estate, ep), func(n string) expr.Truth {
					return walk.Group(n,
						ep)
				})
				if was, seen := best[ep.Workload]; !seen || truth == expr.Yes || truth == expr.Undecided &&
					was == expr.No {
					best[ep.Workload] = truth
				}
			})
			for w, truth := range best {
				require.Equal(t, truth == expr.Yes, slices.Contains(g.In, w), "%s of %d", all[i], w)
				require.Equal(t, truth == expr.Undecided, slices.Contains(g.Undecided, w), "%s of %d", all[i], w)
			}
		}
	})
}

// The members of a group, as prefixes, are those addresses of which the walk says yes.
func TestMembersAreThePrefixesOfAGroup(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
		for _, g := range c.Policy.GroupOrder {
			prefixes := plan.Members(c, g.Name)
			for _, a := range sample.Addresses {
				in := slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
				require.Equal(t, walk.Group(g.Name, c.Estate.At(a, c.AsOf)) == expr.Yes, in, "%s in %s", a, g.Name)
			}
		}
	})
}
