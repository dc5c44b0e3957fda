package decide_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

func parse(t require.TestingT, text string) *policy.Policy {
	p, errs := policy.Parse(text)
	require.Empty(t, errs, text)
	return p
}

func TestCompiledAgreesWithWalk(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, p := sample.Estate(t), parse(t, sample.Policy(t))
		asOf := sample.Instant(t)
		c, w := decide.Compile(e, p, asOf), decide.NewWalk(e, p, asOf)
		for range 40 {
			at := sample.Instant(t)
			a := rapid.SampledFrom(sample.Addresses).Draw(t, "client")
			b := rapid.SampledFrom(sample.Addresses).Draw(t, "server")
			pt := rapid.SampledFrom(sample.Points).Draw(t, "point")
			client, server := e.At(a, at), e.At(b, at)
			ca, cb := c.At(a, at), c.At(b, at)
			require.Equal(t, client, ca.Endpoint)
			require.Equal(t, server, cb.Endpoint)
			for _, g := range p.GroupOrder {
				require.Equal(t, w.Group(g.Name, client), c.Group(g.Name, ca), "%s in %s", a, g.Name)
			}
			want, got := w.Decide(client, server, pt), c.Decide(ca, cb, pt)
			require.Same(t, want, got, "%s -> %s %s at %s", a, b, pt, at)
			why := w.Trace(client, server, pt)
			require.Same(t, want, why.Rule)
		}
	})
}

func TestVerdictsOfTheContract(t *testing.T) {
	live := func(id, addr, app, tier, env string) estate.Workload {
		w := estate.Workload{ID: id,
			Leases: []estate.Lease{{Addr: netipAddr(addr), From: estate.Beginning, Until: estate.End}}}
		for k, v := range map[string]string{"app": app, "tier": tier, "env": env} {
			w.SetTag(estate.Tag{Key: k, Value: v})
		}
		return w
	}
	e, conflicts := estate.New([]estate.Workload{
		live("a", "10.0.0.1", "booking", "entry", "live"),
		live("b", "10.0.0.2", "booking", "logic", "LIVE"),
		live("c", "10.0.0.3", "booking", "logic", "trial"),
		live("d", "10.0.0.4", "booking", "logic", ""),
	})
	require.Empty(t, conflicts)
	const head = "group entry = tier is entry\ngroup logic = tier is logic\ngroup notlive = not env is live\ngroup " +
		"live = env is live\ngroup trial = env is trial\nlayer l\n"
	day := estate.InstantOf(mustTime("2027-03-31T23:59:59.5Z"))
	next := estate.InstantOf(mustTime("2027-04-01T00:00:00Z"))
	for _, c := range []struct {
		rule, from, to string
		at             estate.Instant
		want           decide.Verdict
	}{
		{"permit entry -> logic on tcp/8443 same env", "10.0.0.1", "10.0.0.2", day, decide.Permit},
		{"permit entry -> logic on tcp/8443 same env", "10.0.0.1", "10.0.0.3", day, decide.Uncovered},
		{"permit entry -> logic on tcp/8443 same env", "10.0.0.1", "10.0.0.4", day, decide.Uncovered},
		{"reject any -> any on any across env", "10.0.0.1", "10.0.0.2", day, decide.Uncovered},
		{"reject any -> any on any across env", "10.0.0.1", "10.0.0.3", day, decide.Reject},
		{"reject any -> any on any across env", "10.0.0.1", "10.0.0.4", day, decide.Uncovered},
		{"reject any -> any on any across env, tier", "10.0.0.2", "10.0.0.3", day, decide.Uncovered},
		{"permit any -> notlive on any", "10.0.0.1", "10.0.0.4", day, decide.Uncovered}, // undecided is no match
		{"permit any -> notlive on any", "10.0.0.1", "10.0.0.3", day, decide.Permit},
		{"permit any -> any on any until 2027-03-31", "10.0.0.1", "10.0.0.3", day, decide.Permit},
		{"permit any -> any on any until 2027-03-31", "10.0.0.1", "10.0.0.3", next, decide.Uncovered},
		{"apart live, trial", "10.0.0.3", "10.0.0.1", day, decide.Reject},
		{"apart live, trial", "10.0.0.1", "10.0.0.2", day, decide.Uncovered},
		{"off permit any -> any on any", "10.0.0.1", "10.0.0.2", day, decide.Uncovered},
		{"permit outside -> any on any", "192.0.2.1", "10.0.0.2", day, decide.Permit},
		{"permit workload d -> any on tcp", "10.0.0.4", "10.0.0.2", day, decide.Permit},
	} {
		p := parse(t, head+c.rule)
		compiled := decide.Compile(e, p, c.at)
		got := compiled.Decide(compiled.At(netipAddr(c.from), c.at), compiled.At(netipAddr(c.to), c.at),
			service.PointOf(service.TCP, 8443))
		require.Equal(t, c.want, decide.VerdictOf(got), "%s: %s -> %s", c.rule, c.from, c.to)
	}
}
