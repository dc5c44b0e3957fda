package demo_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/demo"
)

var end = time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)

func company(t *testing.T) (*demo.Company, *reach.View) {
	c := demo.Generate(demo.Options{End: end})
	e, conflicts := estate.New(c.Workloads)
	require.Empty(t, conflicts)
	p, errs := policy.Parse(c.Policy)
	require.Empty(t, errs)
	var b flow.Buckets
	for _, r := range c.Records {
		b.Add(r)
	}
	all := b.All()
	return c, reach.New(decide.Compile(e, p, estate.InstantOf(end)), all, all[0].Hour, all[len(all)-1].Hour+1)
}

// seen returns the conversations between two names ("*" is anybody) on a service.
func seen(v *reach.View, client, server, spec string) []*reach.Conversation {
	var out []*reach.Conversation
	is := func(pattern, name string) bool {
		return pattern == "*" || pattern == name || strings.HasSuffix(pattern, "*") &&
			strings.HasPrefix(name, strings.TrimSuffix(pattern, "*"))
	}
	for i := range v.Len() {
		c := v.At(i)
		if is(client, v.Name(c.Client)) && is(server, v.Name(c.Server)) && (spec == "*" || spec == c.Point.String()) {
			out = append(out, &c)
		}
	}
	return out
}

func TestTheSameSeedMakesTheSameCompany(t *testing.T) {
	a, b := demo.Generate(demo.Options{End: end, Days: 3}), demo.Generate(demo.Options{End: end, Days: 3})
	require.Equal(t, a, b)
	other := demo.Generate(demo.Options{End: end, Days: 3, Seed: 2})
	require.NotEqual(t, a.Records, other.Records)
	first, last := a.Records[0].Start.Time(), a.Records[len(a.Records)-1].Start.Time()
	require.False(t, first.Before(end.Truncate(time.Hour).Add(-72*time.Hour)))
	require.True(t, last.Before(end))
}

func TestTheCompanyIsAboutAsLargeAsAsked(t *testing.T) {
	for _, n := range []int{200, 420, 3000} {
		c := demo.Generate(demo.Options{End: end, Days: 1, Workloads: n})
		require.InDelta(t, n, len(c.Workloads), float64(n)/5)
		_, conflicts := estate.New(c.Workloads)
		require.Empty(t, conflicts)
	}
}

func TestThePolicyIsCanonicalAndItsAssertionsDoNotBreak(t *testing.T) {
	c, v := company(t)
	p, _ := policy.Parse(c.Policy)
	require.Equal(t, c.Policy, p.Format())
	for _, r := range prove.Assertions(v.Compiled) {
		require.NotEqual(t, prove.Broken, r.Outcome, r.Assert.String())
	}
}

func TestStories(t *testing.T) {
	c, v := company(t)
	tag := func(id, key string) string {
		for _, w := range c.Workloads {
			if w.ID == id {
				t, _ := w.Tag(key)
				return t.Value
			}
		}
		return "no such workload"
	}

	rogue := seen(v, "booking-logic-t03", "fares-store-01", "tcp/5432")
	require.Len(t, rogue, 1)
	require.Equal(t, decide.Uncovered, rogue[0].Verdict)
	require.Empty(t, tag("booking-logic-t03", "env"))

	lacking, odd := 0, map[string]int{}
	for _, w := range c.Workloads {
		if _, ok := w.Tag("tier"); !ok {
			lacking++
		}
		if env, ok := w.Tag("env"); ok && env.Value != "live" && expr.Fold(strings.Trim(env.Value, " -")) == "live" {
			odd[env.Value]++
		}
	}
	require.Equal(t, 9, lacking)
	require.Equal(t, map[string]int{"Live ": 1, "live-": 1}, odd)

	require.Greater(t, len(seen(v, "10.40.7.19", "*", "tcp/445")), 100, "a machine at a depot scans")
	require.Greater(t, len(seen(v, "booking-*", "booking-*", "tcp/22")), 30,
		"ssh from everywhere to everywhere in booking")
	require.Greater(t, len(seen(v, "freight-*", "freight-*", "tcp/22")), 30)

	crane := seen(v, "gangway-02", "freight-crane-*", "tcp/23")
	require.Len(t, crane, 2)
	for _, conv := range crane {
		require.Equal(t, decide.Permit, conv.Verdict)
		require.NotNil(t, conv.Rule.Until)
	}

	terminals := seen(v, "roster-term-*", "roster-logic-*", "tcp/8443")
	require.NotEmpty(t, terminals)
	for _, conv := range terminals {
		later := v.Compiled.At(conv.Client.Addr, estate.InstantOf(end))
		require.NotEqual(t, conv.Client.Workload, later.Workload, "the address belongs to somebody else now")
	}

	for _, conv := range seen(v, "vault-*", "manifest-store-*", "tcp/873") {
		i, ok := v.Find(conv.Client.Endpoint, conv.Server.Endpoint, conv.Point)
		require.True(t, ok)
		require.Len(t, v.RowsOf(i), 3, "on three nights only")
	}
	require.Equal(t, int64(2), seen(v, "boarding-entry-02", "manifest-store-01", "tcp/5432")[0].Connections)

	totals := v.Totals(reach.Query{})
	require.Positive(t, totals.Leaks)
	require.Positive(t, totals.Chokes)
	for _, conv := range seen(v, "roster-logic-t01", "roster-store-01", "tcp/5432") {
		require.True(t, conv.WouldLeak())
	}

	fresh := seen(v, "*", "booking-entry-17", "tcp/443")
	for _, conv := range fresh {
		require.Equal(t, decide.Permit, conv.Verdict, "no rule had to change for the new machine")
	}
	require.Equal(t, "directory", c.Workloads[len(c.Workloads)-1].Tags[0].Source)

	newest, ok := v.Compiled.Estate.ByID("fares-store-06")
	require.True(t, ok)
	at := v.Compiled.At(v.Compiled.Estate.Workload(newest).Leases[0].Addr, estate.InstantOf(end))
	require.Equal(t, expr.No, v.Compiled.Group("fares-store-live", at), "the group pins names and misses the newest")
}

// What is sent live is like what happened before: an hour of it adds hardly any
// new conversations.
func TestLiveTrafficResemblesItsHistory(t *testing.T) {
	type key struct {
		client, server netip.Addr
		point          service.Point
	}
	end := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for _, workloads := range []int{420, 2000} {
		known := map[key]bool{}
		for _, r := range demo.Generate(demo.Options{Workloads: workloads, End: end}).Records {
			known[key{r.Client, r.Server, r.Point}] = true
		}
		fresh := map[key]bool{}
		usual, odd := demo.Habits(workloads, end.Add(7*time.Hour))
		require.NotEmpty(t, odd)
		for _, r := range append(usual, odd...) {
			if k := (key{r.Client, r.Server, r.Point}); !known[k] {
				fresh[k] = true
			}
		}
		require.Less(t, len(fresh)*100, 2*len(known), "of %d, %d would be new", len(known), len(fresh))
	}
}

// Whatever the size of the company, rules that all take part in are not called wide.
// Only of many machines that may call the five stores whose names a group pins, few do.
func TestRulesAreNotCalledWideForTheSizeOfTheCompany(t *testing.T) {
	wide := func(workloads int) (out []string) {
		c := demo.Generate(demo.Options{Workloads: workloads, End: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)})
		e, conflicts := estate.New(c.Workloads)
		require.Empty(t, conflicts)
		p, errs := policy.Parse(c.Policy)
		require.Empty(t, errs)
		compiled := decide.Compile(e, p, estate.Instant{Sec: 1_795_424_400})
		b := flow.Buckets{Changes: e.ChangedHands}
		for _, r := range c.Records {
			b.Add(r)
		}
		all := b.All()
		v := reach.New(compiled, all, all[0].Hour, all[len(all)-1].Hour+1)
		for _, f := range prove.Evident(compiled, v.Evidence()) {
			if f.Kind == prove.TooWide {
				out = append(out, policy.Lines(c.Policy)[f.Line-1])
			}
		}
		return out
	}
	for _, n := range []int{420, 1500, 6000} {
		require.Subset(t, []string{"permit fares-logic-live -> fares-store-live on postgres"}, wide(n),
			"at %d workloads", n)
	}
}
