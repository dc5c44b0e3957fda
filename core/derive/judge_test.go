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
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/demo"
)

// company derives from the demo company, with what a person needs to judge.
func company(t *testing.T, edit func(*derive.Input)) (*decide.Compiled, []derive.Conversation, *derive.Result) {
	end := time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)
	c := demo.Generate(demo.Options{End: end})
	e, _ := estate.New(c.Workloads)
	p, errs := policy.Parse(c.Policy)
	require.Empty(t, errs)
	compiled := decide.Compile(e, p, estate.InstantOf(end))
	var seen derive.Gather
	for _, r := range c.Records {
		seen.Add(derive.Observed(compiled, r))
	}
	in := derive.Input{Compiled: compiled, Conversations: seen.Conversations, Balance: derive.DefaultBalance,
		Judged: true}
	if edit != nil {
		edit(&in)
	}
	return compiled, seen.Conversations, derive.Derive(in)
}

// with compiles the policy with a rule and its groups added.
func with(t *testing.T, c *decide.Compiled, rule *policy.Rule, groups []*policy.Group) *decide.Compiled {
	var lines []string
	for _, g := range groups {
		lines = append(lines, g.String())
	}
	p, errs := policy.Parse(policy.InsertAllowances(c.Policy.Format(), append(lines, rule.String())))
	require.Empty(t, errs, rule.String())
	return c.WithPolicy(p, c.AsOf).After
}

func permitted(c *decide.Compiled, v *derive.Conversation) bool {
	client, server := c.At(v.Client.Addr, v.First), c.At(v.Server.Addr, v.First)
	return decide.VerdictOf(c.Decide(client, server, v.Point)) == decide.Permit
}

// What is offered instead of a proposal does what it says: a narrower rule lets
// in as many of the conversations as it says and nothing that the proposal does
// not; a wider one lets in all of them.
func TestAlternativesDoWhatTheySay(t *testing.T) {
	c, seen, r := company(t, nil)
	narrower, wider := 0, 0
	check := func(p *derive.Proposal) {
		whole := with(t, c, p.Rule, p.Groups)
		for _, i := range p.Conversations {
			require.True(t, permitted(whole, &seen[i]), "%s permits its evidence", p.Rule)
		}
		unseen := p.Opened - p.Pairs
		for _, a := range p.Narrower {
			require.Less(t, a.Unseen, unseen, "%s: %s does not narrow", p.Rule, a.Rule)
			unseen = a.Unseen
			narrower++
			part := with(t, c, a.Rule, a.Groups)
			n := 0
			for _, i := range p.Conversations {
				if permitted(part, &seen[i]) {
					n++
				}
			}
			require.Len(t, a.Conversations, n, "%s: %s", p.Rule, a.Rule)
			require.Less(t, a.Opened, max(2, p.Opened+1), "%s: %s", p.Rule, a.Rule)
			for i := range seen {
				require.False(t, permitted(part, &seen[i]) && !permitted(whole, &seen[i]), "%s: %s", p.Rule, a.Rule)
			}
		}
		for _, a := range p.Wider {
			wider++
			more := with(t, c, a.Rule, a.Groups)
			for _, i := range p.Conversations {
				require.True(t, permitted(more, &seen[i]), "%s: %s", p.Rule, a.Rule)
			}
			require.GreaterOrEqual(t, a.Opened, p.Opened)
		}
	}
	for i := range r.Proposals {
		check(&r.Proposals[i])
	}
	for i := range r.Wide {
		check(&r.Wide[i])
	}
	require.Greater(t, narrower, 10)
	require.Greater(t, wider, 10)
}

// The whole path is there at once, and each point is what one gets by asking for
// it alone.
func TestThePathIsWhatEachBalanceGives(t *testing.T) {
	_, _, r := company(t, nil)
	require.Len(t, r.Path, len(r.Curve))
	for i, at := range r.Path {
		require.Equal(t, r.Curve[i], at.CurvePoint)
		require.Len(t, at.Proposals, at.Rules)
		_, _, alone := company(t, func(in *derive.Input) { in.Balance, in.Judged = at.Balance, false })
		for k := range at.Proposals {
			require.Equal(t, alone.Proposals[k].Rule.String(), at.Proposals[k].Rule.String())
		}
	}
}

// In a scope, only what touches it is proposed, and as it would be without.
func TestScope(t *testing.T) {
	c, seen, _ := company(t, nil)
	inside := func(p decide.Placed) bool { return c.Group("booking-live", p) == expr.Yes }
	_, _, r := company(t, func(in *derive.Input) {
		in.Scope = func(a, b decide.Placed) bool {
			return inside(a) ||
				inside(b)
		}
	})
	require.NotEmpty(t, r.Proposals)
	for _, p := range r.Proposals {
		for _, i := range p.Conversations {
			require.True(t, inside(seen[i].Client) || inside(seen[i].Server))
		}
	}
}

// Anybody → an application on ssh is not proposed, but shown with who made most
// of it, and narrowed in one step.
func TestWhatIsTooWideIsShownWithWhoMadeIt(t *testing.T) {
	_, _, r := company(t, nil)
	found := false
	for _, p := range r.Wide {
		require.True(t, p.Rule.Left.Any)
		require.True(t, strings.HasPrefix(p.Warnings[0], "anybody could reach it; "))
		if strings.Contains(p.Rule.String(), "any -> booking on tcp/22") {
			found = true
			require.NotEmpty(t, p.Narrower)
			require.True(t, slices.ContainsFunc(p.Narrower, func(a derive.Alternative) bool {
				return strings.HasPrefix(a.Rule.String(), "permit gangway -> booking on tcp/22")
			}), "the administrators' machines are one of them")
		}
	}
	require.True(t, found)
	for _, p := range r.Proposals {
		require.False(t, p.Rule.Left.Any)
	}
}

// A permit that nothing of the window needs is gone; one that is over, or that
// something needs, is not.
func TestRulesWithoutEvidence(t *testing.T) {
	c, seen, _ := company(t, nil)
	text := policy.InsertAllowances(c.Policy.Format(), []string{"permit gangway -> cranes on tcp/2222",
		"permit gangway -> cranes on tcp/2223 until 2026-01-01"})
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	after := c.WithPolicy(p, c.AsOf).After
	for i := range seen {
		v := &seen[i]
		v.Client, v.Server = after.At(v.Client.Addr, v.First), after.At(v.Server.Addr, v.First)
	}
	var gone []string
	for _, i := range derive.Gone(derive.Input{Compiled: after, Conversations: seen}) {
		gone = append(gone, p.Rules[i].String())
	}
	require.Contains(t, gone, "permit gangway -> cranes on tcp/2222")
	require.NotContains(t, gone, "permit gangway -> cranes on tcp/2223 until 2026-01-01")
	require.NotContains(t, gone, "permit workloads -> names on dns")
}
