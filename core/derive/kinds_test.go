package derive_test

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// harbour is a town of five applications with an entry, a logic and a store tier,
// and what they share.
func harbour(t *testing.T) *town {
	w := &town{t: t}
	for _, app := range []string{"booking", "fares", "tides", "roster", "freight"} {
		for _, tier := range []string{"entry", "logic", "store"} {
			w.role(app, tier, "live", 4)
			w.role(app, tier, "trial", 2)
		}
	}
	w.role("names", "core", "shared", 2)
	w.role("helm", "core", "shared", 4)
	return w
}

func (w *town) ids(part string) (out []string) {
	for _, m := range w.workloads {
		if strings.Contains(m.ID, part) {
			out = append(out, m.ID)
		}
	}
	return out
}

// has reports which of the rules contain a text.
func having(r *derive.Result, part string) (out []string) {
	for _, rule := range rules(r) {
		if strings.Contains(rule, part) {
			out = append(out, rule)
		}
	}
	return out
}

func reasonOf(w *town, r *derive.Result, client, server string) derive.Reason {
	for _, a := range r.Aside {
		for _, i := range a.Conversations {
			if c := w.conversations[i]; c.Client.Addr == w.addr(client) && c.Server.Addr == w.addr(server) {
				return a.Reason
			}
		}
	}
	return ""
}

// Services of the whole estate are one rule, from or to everybody, also where some
// were quiet.
func TestServicesOfTheWholeEstate(t *testing.T) {
	w := harbour(t)
	for i, id := range w.ids("-") {
		if i%5 != 0 {
			w.sees(id, "names-core-shared-1", "udp/53", 1, 2, 4)
		}
		if i%4 == 0 {
			w.sees("helm-core-shared-2", id, "tcp/22", i%7, (i+3)%7)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit workloads -> names on udp/53"}, having(r, "udp/53"))
	require.Equal(t, []string{"permit workload helm-core-shared-2 -> workloads on tcp/22"}, having(r, "tcp/22"),
		"one machine of four, to everybody")
}

// An administration service of one machine is for it, not for its group; of
// several, on several days, for the group.
func TestOneMachineNotItsGroup(t *testing.T) {
	w := harbour(t)
	w.role("deck", "core", "live", 4)
	for i := 1; i <= 4; i++ {
		w.sees("deck-core-live-3", fmt.Sprintf("tides-logic-live-%d", i), "tcp/5985", week...)
		for k := 1; k <= 4; k++ {
			w.sees(fmt.Sprintf("deck-core-live-%d", k), fmt.Sprintf("roster-store-live-%d", i), "tcp/5986", 1, 3, 5)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit workload deck-core-live-3 -> tides-logic-live on tcp/5985"}, having(r, "5985"))
	require.Equal(t, []string{"permit deck -> roster-store-live on tcp/5986"}, having(r, "5986"))
}

// Callers from one network get its prefix; those who come from everywhere, all of
// the outside; never both.
func TestOutsideIsNotOnePlace(t *testing.T) {
	w := harbour(t)
	for i := range 12 {
		w.sees(fmt.Sprintf("198.51.100.%d", 66+i*4), "fares-entry-live-1", "tcp/8444", i%7)
		w.sees(fmt.Sprintf("198.51.100.%d", 66+i*4), "booking-entry-live-2", "tcp/443", i%7)
	}
	for i := range 30 {
		w.sees(fmt.Sprintf("%d.%d.7.9", 20+i*5, i*3), fmt.Sprintf("booking-entry-live-%d", 1+i%4), "tcp/443", i%7)
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit 198.51.100.64/26 -> workload fares-entry-live-1 on tcp/8444"}, having(r, "8444"))
	require.Equal(t, []string{"permit outside -> booking-entry-live on tcp/443"}, having(r, "443"))
}

// What talks only where a tag is the same gets that clause, for any tag.
func TestOnlyWithin(t *testing.T) {
	w := &town{t: t}
	w.role("meter", "device", "live", 24)
	w.role("meter", "hub", "live", 8)
	for i := range w.workloads {
		w.workloads[i].SetTag(estate.Tag{Key: "pier", Value: fmt.Sprint("p", i%4)})
	}
	for i := range 24 {
		w.sees(fmt.Sprintf("meter-device-live-%d", i+1), fmt.Sprintf("meter-hub-live-%d", 1+i%8), "tcp/8883", week...)
	}
	require.Equal(t, []string{"permit meter-device-live -> meter-hub-live on tcp/8883 same pier"},
		rules(w.derive("", 0.5)))
}

// Where environments are copies of each other, one that was quiet gets what the others have, and it
// is said; where they are not, or the balance is tight, it does not.
func TestEnvironmentsThatAreCopies(t *testing.T) {
	made := func(trial func(app int) bool) *town {
		w := &town{t: t}
		for app := range 12 {
			for _, env := range []string{"live", "trial"} {
				for _, tier := range []string{"entry", "logic"} {
					w.role(fmt.Sprint("app", app), tier, env, 2)
				}
				if env == "live" || trial(app) {
					for _, k := range []string{"1", "2"} {
						w.sees(fmt.Sprintf("app%d-entry-%s-%s", app, env, k),
							fmt.Sprintf("app%d-logic-%s-%s", app, env, k),
							fmt.Sprintf("tcp/%d", 7000+50*app), week...)
					}
				}
			}
		}
		return w
	}
	most := made(func(app int) bool { return app != 5 })
	r := most.derive("", 0.5)
	require.Equal(t, []string{"permit app5-entry -> app5-logic on tcp/7250 same env"}, having(r, "7250"))
	for _, p := range r.Proposals {
		only := strings.Contains(p.Why, "seen in live only: environments are copies in 22 of 23 such cases")
		require.Equal(t, strings.Contains(p.Rule.String(), "7250"), only, p.Why)
	}
	require.Equal(t, []string{"permit app5-entry-live -> app5-logic-live on tcp/7250"},
		having(most.derive("", 0.15), "7250"))
	few := made(func(app int) bool { return app < 2 })
	require.Equal(t, []string{"permit app5-entry-live -> app5-logic-live on tcp/7250"},
		having(few.derive("", 0.5), "7250"))
	require.Equal(t, []string{"permit app1-entry -> app1-logic on tcp/7050 same env"},
		having(few.derive("", 0.5), "7050"))
}

// Services are joined only where both sides are the same: joining opens nothing.
func TestJoiningOpensNothing(t *testing.T) {
	w := harbour(t)
	for i := 1; i <= 4; i++ {
		w.sees(fmt.Sprintf("booking-entry-live-%d", i), "tides-logic-live-1", "tcp/80", week...)
		w.sees(fmt.Sprintf("booking-entry-live-%d", i), "tides-logic-live-2", "tcp/80", week...)
		w.sees(fmt.Sprintf("fares-entry-live-%d", i), "tides-logic-live-1", "tcp/8444", week...)
		w.sees(fmt.Sprintf("fares-entry-live-%d", i), "tides-logic-live-3", "tcp/8444", week...)
	}
	require.Equal(t, []string{"permit booking-entry-live -> tides-logic-live on tcp/80",
		"permit fares-entry-live -> tides-logic-live on tcp/8444"}, rules(w.derive("", 0.5)))
}

// Ports that are taken by turns are one range, its edges rounded.
func TestRanges(t *testing.T) {
	w := harbour(t)
	for i := 1; i <= 4; i++ {
		for day := range 4 {
			w.sees(fmt.Sprintf("roster-logic-live-%d", i), fmt.Sprintf("freight-store-live-%d", i),
				fmt.Sprintf("tcp/%d", 10081+(i*2+day)%8), day)
			w.sees(fmt.Sprintf("tides-logic-live-%d", i), "freight-logic-live-1",
				fmt.Sprintf("tcp/%d", 49200+(i*3571+day*1733)%15000), day)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit roster-logic-live -> freight-store-live on tcp/10080-10089"}, having(r, "1008"))
	require.Len(t, having(r, "tcp/49152-65535"), 1)
}

// A pair that stands alone is set aside, with its signs.
func TestAPairThatStandsAlone(t *testing.T) {
	w := harbour(t)
	w.judged = true
	w.sees("fares-logic-live-2", "203.0.113.77", "tcp/8081", 2, 4)
	r := w.derive("", 0.5)
	require.Empty(t, rules(r))
	require.Equal(t, derive.Lone, reasonOf(w, r, "fares-logic-live-2", "203.0.113.77"))
	require.Equal(t, []string{"6 connections on 2 days of 2; 1 of 4 clients of its kind"}, r.Aside[0].Signs)
}

// A copy between environments that runs every night and moves much is proposed
// alone and exact; what crosses a little is set aside.
func TestNeededCrossings(t *testing.T) {
	w := harbour(t)
	w.sees("fares-store-live-1", "fares-store-trial-2", "tcp/873", week...)
	for i := range w.records {
		w.records[i].Bytes = 5 << 20
	}
	w.sees("booking-logic-trial-1", "fares-store-live-1", "tcp/5432", 1, 2, 3)
	for i := range w.records[7:] {
		w.records[7+i].Bytes = 900
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit workload fares-store-live-1 -> workload fares-store-trial-2 on tcp/873"},
		rules(r))
	require.NotEmpty(t, r.Proposals[0].Alone)
	require.Contains(t, r.Proposals[0].Warnings, "crosses environments")
	require.Equal(t, derive.Crossing, reasonOf(w, r, "booking-logic-trial-1", "fares-store-live-1"))
}

// A misspelt tag is read as what it looks like, said as worth setting, and its
// machine named beside its group.
func TestAMisspeltTag(t *testing.T) {
	w := harbour(t)
	w.workloads[0].SetTag(estate.Tag{Key: "tier", Value: "entryy"}) // booking-entry-live-1
	for i := 1; i <= 4; i++ {
		w.sees(fmt.Sprintf("booking-entry-live-%d", i), fmt.Sprintf("booking-logic-live-%d", i), "tcp/8443", week...)
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit booking-entry-live, workload booking-entry-live-1 -> booking-logic-live on tcp/8443"},
		rules(r))
	require.Equal(t, []derive.MissingTag{{Workload: "booking-entry-live-1", Key: "tier", Value: "entry", Was: "entryy",
		Settles: 1}}, r.Tags)
}

// On estates of every family: no side has more than six items, each proposal says
// why, what is looked at is covered or set aside once, and nothing that a filter
// may take crosses environments. A tenth of the conversations less changes few of
// the rules.
func TestEveryFamily(t *testing.T) {
	same, all := 0, 0
	for _, f := range sample.Families {
		x := fieldOf(t, f, 2)
		q, r := x.derived(t, derive.DefaultBalance)
		require.LessOrEqual(t, q.widest, 6, f.Name)
		require.GreaterOrEqual(t, share(q.seen), 97.0, f.Name)
		require.GreaterOrEqual(t, share(q.kept(false)), 97.0, f.Name)
		require.LessOrEqual(t, q.rules, q.need+q.need/3, f.Name)
		aside := 0
		for _, a := range r.Aside {
			aside += len(a.Conversations)
		}
		require.Equal(t, r.Considered, r.Covered+aside, f.Name)
		for _, p := range r.Proposals {
			require.NotEmpty(t, p.Why, "%s: %s", f.Name, p.Rule)
			require.False(t, p.Alone == "" && strings.Contains(strings.Join(p.Warnings, " "), "crosses environments"),
				p.Rule)
		}
		less := x.less(3)
		_, again := less.derived(t, derive.DefaultBalance)
		for _, p := range slices.Concat(r.Proposals, again.Proposals) {
			if service.Administration.Contains(p.Rule.On.Specs[0].Range.Lo) {
				require.NotRegexp(t, `^1 of \d+ call`, p.Why, "%s: %s: one machine administers, not its group", f.Name,
					p.Rule)
			}
			for _, l := range []policy.List{p.Rule.Left, p.Rule.Right} {
				require.True(t, slices.IsSortedFunc(l.Items, func(a, b policy.Operand) int {
					return cmp.Or(cmp.Compare(a.Kind, b.Kind), strings.Compare(a.String(), b.String()))
				}), "%s: %s: its items are in no order", f.Name, p.Rule)
			}
		}
		have := map[string]bool{}
		for _, rule := range rules(again) {
			have[rule] = true
		}
		for _, rule := range rules(r) {
			all++
			if have[rule] {
				same++
			} else if testing.Verbose() {
				t.Log(f.Name, rule)
			}
		}
	}
	t.Logf("%.1f %% of %d rules stay the same to the letter", 100*float64(same)/float64(all), all)
	require.Greater(t, float64(same), 0.92*float64(all))
}

// Rules that are chosen from dense traffic that was thinned out are those that all
// of it gives.
func TestThinningChangesNoRule(t *testing.T) {
	x := fieldOf(t, sample.Families[4], 1)
	_, all := x.derived(t, derive.DefaultBalance)
	defer derive.ThinFrom(10)()
	_, some := x.derived(t, derive.DefaultBalance)
	require.Equal(t, rules(all), rules(some))
	for i := range all.Proposals {
		require.Equal(t, all.Proposals[i].Conversations, some.Proposals[i].Conversations)
	}
}
