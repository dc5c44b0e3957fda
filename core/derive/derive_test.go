package derive_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/demo"
)

var end = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func derived(t *testing.T, c *demo.Company, text string, balance float64) (*derive.Result, *policy.Policy,
	derive.Gather) {
	e, conflicts := estate.New(c.Workloads)
	require.Empty(t, conflicts)
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	compiled := decide.Compile(e, p, estate.InstantOf(end))
	var seen derive.Gather
	for _, r := range c.Records {
		seen.Add(derive.Observed(compiled, r))
	}
	result := derive.Derive(derive.Input{Compiled: compiled, Conversations: seen.Conversations, Balance: balance})
	after, errs := policy.Parse(policy.InsertAllowances(text, result.Lines()))
	require.Empty(t, errs)
	return result, after, seen
}

func TestDerivedRulesOfTheDemo(t *testing.T) {
	c := demo.Generate(demo.Options{End: end})
	result, after, seen := derived(t, c, c.Policy, derive.DefaultBalance)
	e, _ := estate.New(c.Workloads)
	before, _ := policy.Parse(c.Policy)
	asOf := estate.InstantOf(end)
	was, is := decide.Compile(e, before, asOf), decide.Compile(e, after, asOf)

	aside := map[derive.Reason][]int{}
	set := map[int]bool{}
	for _, a := range result.Aside {
		aside[a.Reason] = a.Conversations
		for _, i := range a.Conversations {
			require.False(t, set[i], "set aside twice")
			set[i] = true
		}
	}
	considered := 0
	for i, v := range seen.Conversations {
		at := v.First
		old := was.Decide(was.At(v.Client.Addr, at), was.At(v.Server.Addr, at), v.Point)
		now := is.Decide(is.At(v.Client.Addr, at), is.At(v.Server.Addr, at), v.Point)
		if old != nil && !old.InClosing() {
			require.Equal(t, old.String(), now.String(), "what the draft decides stays as it is")
			continue
		}
		if v.Connections == 0 {
			continue
		}
		considered++
		if !set[i] {
			require.Equal(t, decide.Permit, decide.VerdictOf(now), "neither permitted nor set aside: %s -> %s %s",
				v.Client.Addr, v.Server.Addr, v.Point)
		} else {
			require.NotEqual(t, decide.Permit, decide.VerdictOf(now), "set aside and yet permitted: %s -> %s %s",
				v.Client.Addr, v.Server.Addr, v.Point)
		}
	}
	require.Equal(t, considered, result.Considered)

	label := func(i int) string {
		v := seen.Conversations[i]
		name := func(p decide.Placed) string {
			if p.Workload == estate.Outside {
				return p.Addr.String()
			}
			return e.Workload(p.Workload).ID
		}
		return name(v.Client) + " -> " + name(v.Server) + " " + v.Point.String()
	}
	has := func(why derive.Reason, prefix string) {
		require.True(t, slices.ContainsFunc(aside[why],
			func(i int) bool { return strings.HasPrefix(label(i), prefix) }), "%s in %s", prefix, why)
	}
	has(derive.Scan, "10.40.7.19 -> ")
	has(derive.OneOff, "boarding-entry-02 -> manifest-store-01 tcp/5432")
	has(derive.Crossing, "booking-logic-t03 -> fares-store-01 tcp/5432") // whatever else it talks with is in trial
	has(derive.Admin, "booking-")
}

func TestDerivationIsDeterministicAndShortensWithBalance(t *testing.T) {
	c := demo.Generate(demo.Options{End: end, Days: 4})
	a, _, _ := derived(t, c, "layer closing\nreject any -> any on any", 0.5)
	b, _, _ := derived(t, c, "layer closing\nreject any -> any on any", 0.5)
	require.Equal(t, a.Lines(), b.Lines())
	require.NotEmpty(t, a.Proposals)
	require.LessOrEqual(t, a.Curve[len(a.Curve)-1].Rules, a.Curve[0].Rules)
	require.Greater(t, a.Curve[len(a.Curve)-1].Opened, a.Curve[0].Opened)
	for _, p := range a.Proposals {
		require.NotEmpty(t, p.Conversations)
		require.Regexp(t, `^[0-9,]+ of [0-9,]+ pairs? seen, \d+ days?$`, p.Rule.Note)
		require.Greater(t, p.Connections, int64(0))
	}
}

func TestDroppedTrafficIsNotProposed(t *testing.T) {
	c := demo.Generate(demo.Options{End: end, Days: 2})
	for i := range c.Records {
		c.Records[i].Outcome = flow.Dropped
	}
	result, _, _ := derived(t, c, "", 1)
	require.Zero(t, result.Considered)
	require.Empty(t, result.Lines())
}
