package decide_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// A trace goes through the rules in order up to the one that decides, and what
// it says of groups is what the groups say.
func TestTraceIsTheWalkInWords(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, p, at := sample.Estate(t), parse(t, sample.Policy(t)), sample.Instant(t)
		w := decide.NewWalk(e, p, at)
		for range 20 {
			client := e.At(rapid.SampledFrom(sample.Addresses).Draw(t, "client"), at)
			server := e.At(rapid.SampledFrom(sample.Addresses).Draw(t, "server"), at)
			pt := rapid.SampledFrom(sample.Points).Draw(t, "point")
			tr := w.Trace(client, server, pt)
			require.Same(t, w.Decide(client, server, pt), tr.Rule)
			for i, s := range tr.Steps {
				require.Same(t, p.Rules[i], s.Rule)
				require.Equal(t, w.Matches(s.Rule, client, server, pt), s.Matches)
				require.Equal(t, s.Matches, s.Failed == "", s.Failed)
				require.Equal(t, s.Matches, s.Rule == tr.Rule)
				for _, m := range s.Because {
					ep := client
					if m.Server {
						ep = server
					}
					require.Equal(t, w.Group(m.Group, ep), m.Truth)
				}
			}
			for _, m := range tr.Client {
				require.Equal(t, expr.Yes, w.Group(m.Group, client))
			}
			for _, m := range tr.Server {
				require.Equal(t, expr.Yes, w.Group(m.Group, server))
			}
			if tr.Rule == nil {
				require.Len(t, tr.Steps, len(p.Rules))
			}
			if tr.Closest != nil {
				require.Nil(t, tr.Rule)
				require.False(t, tr.Closest.Matches)
			}
		}
	})
}

func TestTraceSaysWhichPartFailed(t *testing.T) {
	machine := func(id, addr, env, app string) estate.Workload {
		w := estate.Workload{ID: id,
			Leases: []estate.Lease{{Addr: netipAddr(addr), From: estate.Beginning, Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "env", Value: env, Source: "sheet", By: "import"})
		w.SetTag(estate.Tag{Key: "app", Value: app})
		return w
	}
	e, _ := estate.New([]estate.Workload{machine("a", "10.0.0.1", "live", "x"),
		machine("b", "10.0.0.2", "trial", "y"), machine("c", "10.0.0.3", "", "y")})
	at := estate.Instant{Sec: 1_795_000_000}
	trace := func(text, client, server string) decide.Trace {
		p, errs := policy.Parse("group live = env is live\ngroup trial = env is trial include c2 exclude b2\ngroup " +
			"both = member of live or member of trial\narea yard = live\nlayer l\n" + text)
		require.Empty(t, errs)
		return decide.NewWalk(e, p, at).Trace(e.At(netipAddr(client), at), e.At(netipAddr(server), at),
			service.PointOf(service.TCP, 443))
	}
	for rule, want := range map[string]string{
		"off permit any -> any on any":              "the rule is off",
		"permit any -> any on any until 2026-01-01": "its last day has passed",
		"permit trial -> any on any":                "the client is not in its left side",
		"permit any -> live on any":                 "the server is not in its right side",
		"permit any -> any on tcp/1":                "the service differs",
		"permit any -> any on any within live":      "not both are within the group",
		"permit outside -> any on any":              "the client is not in its left side",
		"permit any -> any on any same env":         "the two differ in a key of same",
		"permit any -> any on any across app, kind": "the two agree in the keys of across",
		"apart trial, both":                         "",
		"permit 10.0.0.2 -> any on any":             "the client is not in its left side",
	} {
		require.Equal(t, want, trace(rule, "10.0.0.1", "10.0.0.2").Steps[0].Failed, rule)
	}
	require.Equal(t, "neither is in its area", trace("permit any -> any on any area yard", "10.0.0.3",
		"10.0.0.2").Steps[0].Failed)

	// The chain goes down to the tag and its source.
	tr := trace("permit both -> trial on tcp/443", "10.0.0.1", "10.0.0.2")
	require.Equal(t, "both", tr.Client[0].Group)
	reason := tr.Client[0].Reasons[0]
	require.Equal(t, "live", reason.Group)
	require.Equal(t, "sheet", reason.Kids[0].Tag.Source)
	require.Equal(t, "env is live", reason.Kids[0].Text)

	// What is one tag away from matching is the closest, and says which tag.
	tr = trace("permit any -> any on udp\nreject live -> trial on tcp/443\npermit trial -> live on icmp", "10.0.0.1",
		"10.0.0.3")
	require.Equal(t, 7, tr.Closest.Rule.Line)
	require.Equal(t, []string{"env"}, expr.MissingKeys(tr.Closest.Because[0].Reasons))
	require.Nil(t, trace("permit outside -> outside on udp", "10.0.0.1", "10.0.0.3").Closest)
}
