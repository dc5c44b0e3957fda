package derive_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
)

// What serves every environment is taken out of those that are kept apart; a server that
// three applications of another environment misuse by one machine each is not, if its
// own kind does no such thing.
func TestWhatServesEveryEnvironmentIsNotKeptApart(t *testing.T) {
	var all []estate.Workload
	index := map[string]int32{}
	add := func(app, tier, env string) {
		id := fmt.Sprintf("%s-%s-%s-%d", app, tier, env, len(all))
		index[fmt.Sprintf("%s %s %s", app, tier, env)] = int32(len(all))
		all = append(all, estate.Workload{ID: id, Leases: []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 0, 0,
			byte(len(all) + 1)}), From: estate.Beginning, Until: estate.End}},
			Tags: []estate.Tag{{Key: "app", Value: app}, {Key: "env", Value: env}, {Key: "tier", Value: tier}}})
	}
	for _, app := range []string{"booking", "fares", "tides", "roster"} {
		for _, env := range []string{"live", "trial"} {
			add(app, "logic", env)
			add(app, "store", env)
		}
	}
	add("names", "shared", "live")
	add("clock", "shared", "live")
	e, conflicts := estate.New(all)
	require.Empty(t, conflicts)

	var pairs [][2]int32
	for _, app := range []string{"booking", "fares", "tides"} {
		for _, service := range []string{"names", "clock"} {
			pairs = append(pairs, [2]int32{index[app+" logic trial"], index[service+" shared live"]})
		}
		pairs = append(pairs, [2]int32{index[app+" logic trial"], index["fares store live"]})
	}
	pairs = append(pairs, [2]int32{estate.Outside, index["names shared live"]})
	require.Equal(t, []derive.Role{{Key: "tier", Value: "shared"}}, derive.SharedServices(e, pairs))
	require.Empty(t, derive.SharedServices(e, pairs[8:]))

	empty, _ := policy.Parse("")
	tier := derive.Role{Key: "tier", Value: "shared"}
	texts := func(p *policy.Policy, roles ...derive.Role) (out, ids []string) {
		for _, s := range derive.Starters(e, p, roles...) {
			out, ids = append(out, s.Text), append(ids, s.ID)
		}
		return out, ids
	}
	found, ids := texts(empty, tier)
	require.Contains(t, found, `group live-own = member of live and (lacks tier or not tier is shared)`)
	require.Contains(t, found, `apart live-own, trial "Environments are kept apart"`)
	require.Contains(t, found, `assert never trial -> live-own on any "Nothing of trial reaches live-own"`)
	two, _ := texts(empty, derive.Role{Key: "app", Value: "names"}, derive.Role{Key: "app", Value: "clock"})
	require.Contains(t, two, "group live-own = member of live and (lacks app or not app in (names, clock))")

	// The rule alone brings its group, and what that is made of.
	all2 := derive.Starters(e, empty, tier)
	text, bad := derive.Begin("", all2, []string{"guardrail apart live-own, trial"})
	require.Nil(t, bad)
	p, errs := policy.Parse(text)
	require.Empty(t, errs, text)
	require.Len(t, p.GroupOrder, 3)

	text, bad = derive.Begin("", all2, ids)
	require.Nil(t, bad)
	p, errs = policy.Parse(text)
	require.Empty(t, errs, text)
	found, _ = texts(p, tier)
	require.Empty(t, found, "nothing is offered twice")
}
