package plan_test

import (
	"encoding/json"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

// retagged is an estate of which some workloads have other tags, or other addresses.
func retagged(t *rapid.T, e *estate.Estate) *estate.Estate {
	var ws []estate.Workload
	for _, w := range e.All() {
		c := *w
		c.Tags = slices.Clone(w.Tags)
		if rapid.Bool().Draw(t, "moves") {
			c.SetTag(estate.Tag{Key: rapid.SampledFrom([]string{"tier", "env"}).Draw(t, "key"),
				Value: rapid.SampledFrom([]string{"entry", "store", "live", "trial"}).Draw(t, "value")})
		}
		if rapid.IntRange(0, 5).Draw(t, "leaves") == 0 {
			c.Leases = nil
		}
		ws = append(ws, c)
	}
	next, conflicts := estate.New(ws)
	require.Empty(t, conflicts)
	return next
}

// What a plan becomes by the moves to the next one is the next one; it goes over a wire
// and back without a change; its parts have names of their own.
func TestMovesLeadFromOnePlanToTheNext(t *testing.T) {
	moved := 0
	once := func(t *rapid.T) {
		c := drawn(t)
		p, errs := policy.Parse("group members = tier is entry\nlayer first\npermit members -> any on tcp/7\n" +
			sample.Policy(t))
		require.Empty(t, errs)
		guards := someGuards(t, c.Estate)
		planOf := func(e *estate.Estate) *plan.Plan {
			return plan.NewPlanner(decide.Compile(e, p, c.AsOf)).Plan(guards, plan.Gate, plan.Both)
		}
		before, after := planOf(c.Estate), planOf(retagged(t, c.Estate))
		names := map[string]bool{}
		for _, s := range before.Sets {
			require.False(t, names[s.Name], s.Name)
			names[s.Name] = true
		}
		for _, x := range before.Classes {
			require.False(t, names[x.Name], x.Name)
			names[x.Name] = true
		}
		raw, err := json.Marshal(before)
		require.NoError(t, err)
		var read plan.Plan
		require.NoError(t, json.Unmarshal(raw, &read))
		require.Equal(t, before.Hash(), read.Hash(), "%s", raw)
		require.Equal(t, before.RulesHash(), read.RulesHash())

		short, moves := after.Short(&read)
		raw, err = json.Marshal(short)
		require.NoError(t, err)
		var said plan.Plan
		require.NoError(t, json.Unmarshal(raw, &said))
		filled, err := said.Filled(&read)
		require.NoError(t, err)
		filled, err = filled.Moved(moves)
		require.NoError(t, err)
		require.Equal(t, after.Hash(), filled.Hash(), "a short plan leads to the same")
		if len(after.Sets) > 0 && len(before.Sets) > 0 && after.Sets[0].Name == before.Sets[0].Name {
			_, err = said.Filled(&plan.Plan{})
			require.ErrorContains(t, err, "has no set "+after.Sets[0].Name)
		}

		m, same := read.Difference(after)
		if !same {
			require.NotEqual(t, before.RulesHash(), after.RulesHash())
			return
		}
		require.Equal(t, m.Nothing(), before.Hash() == after.Hash())
		raw, err = json.Marshal(m)
		require.NoError(t, err)
		var over plan.Moves
		require.NoError(t, json.Unmarshal(raw, &over))
		next, err := read.Moved(over)
		require.NoError(t, err)
		require.Equal(t, after.Hash(), next.Hash())
		if !m.Nothing() {
			moved++
		}
	}
	for round := 0; moved < 3 && round < 20; round++ { // not every hundred estates have one that moves
		rapid.Check(t, once)
	}
	require.Positive(t, moved)
}

// What comes to a union of sets, and goes, is found near to what moved in one of them.
func TestUnionsAreFollowed(t *testing.T) {
	changed := 0
	rapid.Check(t, func(t *rapid.T) {
		draw := func() plan.Addresses {
			return rapid.Custom(func(t *rapid.T) plan.Addresses {
				var all []plan.Addresses
				for range rapid.IntRange(0, 6).Draw(t, "spans") {
					base := rapid.SampledFrom([]string{"0.0.0.0", "10.0.0.0", "255.255.255.200", "::",
						"fd00::"}).Draw(t, "base")
					first := netip.MustParseAddr(base)
					for range rapid.IntRange(0, 40).Draw(t, "from") {
						first = first.Next()
					}
					last := first
					for range rapid.IntRange(0, 5).Draw(t, "more") {
						if last.Next().IsValid() {
							last = last.Next()
						}
					}
					all = append(all, plan.Addresses{{First: first, Last: last}})
				}
				return plan.Union(all...)
			}).Draw(t, "set")
		}
		n := rapid.IntRange(1, 4).Draw(t, "sets")
		var before, after []plan.Addresses
		var moved []plan.Span
		for range n {
			a := draw()
			b := a
			if rapid.Bool().Draw(t, "changes") {
				b = draw()
			}
			before, after = append(before, a), append(after, b)
			for _, s := range a {
				if !slices.Contains(b, s) {
					moved = append(moved, s)
				}
			}
			for _, s := range b {
				if !slices.Contains(a, s) {
					moved = append(moved, s)
				}
			}
		}
		was, is := plan.Union(before...), plan.Union(after...)
		added, removed := plan.UnionSince(before, after, moved)
		var wantAdded, wantRemoved plan.Addresses
		for _, s := range is {
			if !slices.Contains(was, s) {
				wantAdded = append(wantAdded, s)
			}
		}
		for _, s := range was {
			if !slices.Contains(is, s) {
				wantRemoved = append(wantRemoved, s)
			}
		}
		require.Equal(t, wantAdded.String(), added.String())
		require.Equal(t, wantRemoved.String(), removed.String())
		changed += len(added) + len(removed)
		for _, a := range []string{"0.0.0.3", "10.0.0.9", "255.255.255.255", "::5", "fd00::1"} {
			addr := netip.MustParseAddr(a)
			require.Equal(t, slices.ContainsFunc(after, func(x plan.Addresses) bool { return x.Contains(addr) }),
				is.Contains(addr))
		}
	})
	require.Greater(t, changed, 50)
}
