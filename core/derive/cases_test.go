package derive_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// town is a small estate that is built role by role, with what was seen in it.
type town struct {
	t         *testing.T
	workloads []estate.Workload
	records   []flow.Record

	judged        bool
	conversations []derive.Conversation // of what was derived last
}

// role adds n machines called app-tier-env-1 and so on.
func (w *town) role(app, tier, env string, n int) {
	for i := range n {
		k := len(w.workloads)
		m := estate.Workload{ID: fmt.Sprintf("%s-%s-%s-%d", app, tier, env, i+1),
			Leases: []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 0, byte(k >> 8), byte(k)}),
				From: estate.Beginning, Until: estate.End}}}
		for key, v := range map[string]string{"app": app, "tier": tier, "env": env} {
			m.SetTag(estate.Tag{Key: key, Value: v})
		}
		w.workloads = append(w.workloads, m)
	}
}

func (w *town) addr(name string) netip.Addr {
	for _, m := range w.workloads {
		if m.ID == name {
			return m.Leases[0].Addr
		}
	}
	return netip.MustParseAddr(name)
}

// sees adds a connection on each of the days.
func (w *town) sees(client, server, spec string, days ...int) {
	r, ok, err := service.ParseSpec(spec)
	require.True(w.t, ok && err == nil, spec)
	for _, d := range days {
		at := estate.Instant{Sec: 1_795_000_000 + int64(d)*86400}
		w.records = append(w.records, flow.Record{Start: at, End: at, Client: w.addr(client), Server: w.addr(server),
			Point: r.Lo, Connections: 3, Outcome: flow.Carried})
	}
}

var week = []int{0, 1, 2, 3, 4, 5, 6}

func (w *town) derive(text string, balance float64) *derive.Result {
	e, conflicts := estate.New(w.workloads)
	require.Empty(w.t, conflicts)
	p, errs := policy.Parse(text)
	require.Empty(w.t, errs)
	c := decide.Compile(e, p, estate.Instant{Sec: 1_796_000_000})
	var seen derive.Gather
	for _, r := range w.records {
		seen.Add(derive.Observed(c, r))
	}
	w.conversations = seen.Conversations
	return derive.Derive(derive.Input{Compiled: c, Conversations: seen.Conversations, Balance: balance,
		Judged: w.judged})
}

// rules returns the proposals without their notes.
func rules(r *derive.Result) []string {
	out := []string{}
	for _, p := range r.Proposals {
		bare := *p.Rule
		bare.Note = ""
		out = append(out, bare.String())
	}
	return out
}

func asides(r *derive.Result) map[derive.Reason]int {
	out := map[derive.Reason]int{}
	for _, a := range r.Aside {
		out[a.Reason] = len(a.Conversations)
	}
	return out
}

func TestManyOfARoleStandForAll(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 8)
	w.role("booking", "logic", "live", 3)
	for i := 1; i <= 5; i++ {
		w.sees(fmt.Sprintf("booking-entry-live-%d", i), "booking-logic-live-1", "tcp/8443", week...)
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit booking-entry-live -> booking-logic-live on tcp/8443"}, rules(r))
	require.Equal(t, "group booking-entry-live = app is booking and tier is entry and env is live \"Derived\"",
		r.Groups[0].String())
	p := r.Proposals[0]
	require.Equal(t, []int{5, 24, 7, 5}, []int{p.Pairs, p.Opened, p.Days, p.Clients})
	require.InDelta(t, 5.0/24, p.Fill(), 1e-9)
	require.Equal(t, `5 of 24 pairs seen, 7 days`, p.Rule.Note)
}

func TestOneOfManyIsNarrowedToIt(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "logic", "live", 40)
	w.role("fares", "store", "live", 2)
	w.sees("booking-logic-live-7", "fares-store-live-1", "tcp/5432", week...)
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit workload booking-logic-live-7 -> fares on tcp/5432"}, rules(r))
	require.Contains(t, r.Proposals[0].Warnings, "database reached from another application")
}

func TestGroupsOfThePolicyAreUsed(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 2)
	w.role("booking", "logic", "live", 2)
	w.sees("booking-entry-live-1", "booking-logic-live-1", "tcp/8443", week...)
	w.sees("booking-entry-live-2", "booking-logic-live-2", "tcp/8443", week...)
	w.sees("10.40.1.9", "booking-entry-live-1", "tcp/443", week...)
	r := w.derive("group front = name starts x or tier is entry\ngroup depots = address in 10.40.0.0/16\ngroup "+
		"booking-logic-live = app is other", 0.5)
	require.Equal(t, []string{"permit front -> booking-logic-live-2 on tcp/8443",
		"permit depots -> front on tcp/443"}, rules(r), "a name that is taken is not taken again")
	require.Len(t, r.Groups, 1)
}

func TestAlikeInSeveralEnvironmentsIsSaidOnce(t *testing.T) {
	w := &town{t: t}
	for _, env := range []string{"live", "trial", "bench"} {
		w.role("booking", "entry", env, 2)
		w.role("booking", "logic", env, 2)
		for _, k := range []string{"1", "2"} {
			w.sees("booking-entry-"+env+"-"+k, "booking-logic-"+env+"-"+k, "tcp/8443", week...)
		}
	}
	require.Equal(t, []string{"permit booking-entry -> booking-logic on tcp/8443 same env"}, rules(w.derive("", 0.5)))
}

func TestServicesWithTheSameSidesAreOneRule(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 2)
	w.role("booking", "logic", "live", 1)
	for _, spec := range []string{"tcp/8443", "tcp/8444", "udp/7"} {
		for _, k := range []string{"1", "2"} {
			w.sees("booking-entry-live-"+k, "booking-logic-live-1", spec, week...)
		}
	}
	require.Equal(t, []string{"permit booking-entry-live -> booking-logic-live on tcp/8443-8444, udp/7"},
		rules(w.derive("", 0.5)))
}

func TestManyHighPortsBecomeARange(t *testing.T) {
	w := &town{t: t}
	w.role("freight", "logic", "live", 1)
	w.role("freight", "store", "live", 1)
	for port := 40000; port < 40030; port += 2 {
		w.sees("freight-logic-live-1", "freight-store-live-1", fmt.Sprintf("tcp/%d", port), port%7)
	}
	require.Equal(t, []string{"permit freight-logic-live -> freight-store-live on tcp/40000-40029"},
		rules(w.derive("", 0.5)))
}

func TestWhatEverybodyUsesIsForEverybody(t *testing.T) {
	w := &town{t: t}
	w.role("names", "shared", "live", 2)
	for _, app := range []string{"booking", "fares", "tides", "roster"} {
		for _, env := range []string{"live", "trial"} {
			w.role(app, "logic", env, 2)
			w.sees(app+"-logic-"+env+"-1", "names-shared-live-1", "udp/53", week...)
			w.sees(app+"-logic-"+env+"-2", "names-shared-live-2", "udp/53", week...)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit workloads -> names on udp/53"}, rules(r),
		"crossing environments to what is shared is no crossing")
	require.Empty(t, asides(r))
}

func TestWhatIsSetAside(t *testing.T) {
	w := &town{t: t}
	w.role("gangway", "shared", "live", 2)
	for _, app := range []string{"booking", "fares", "tides", "roster"} {
		w.role(app, "logic", "live", 5)
		w.role(app, "store", "live", 3)
		w.role(app, "logic", "trial", 3)
		for i := 1; i <= 5; i++ {
			w.sees("gangway-shared-live-1", fmt.Sprintf("%s-logic-live-%d", app, i), "tcp/22", week...)
		}
	}
	// An administration service from an application that administers nobody.
	w.sees("booking-logic-live-1", "booking-store-live-2", "tcp/22", 1, 2, 3)
	// Trial at a live store, day after day.
	w.sees("booking-logic-trial-1", "fares-store-live-1", "tcp/5432", week...)
	// Once.
	w.sees("fares-logic-live-1", "tides-store-live-1", "tcp/1234", 3)
	w.records[len(w.records)-1].Connections = 1
	// A scan.
	for _, m := range w.workloads {
		if !strings.HasPrefix(m.ID, "tides-logic") {
			w.sees("tides-logic-live-5", m.ID, "tcp/445", 4)
			w.records[len(w.records)-1].Connections = 1
		}
	}
	r := w.derive("", 0.5)
	for _, rule := range rules(r) {
		require.Contains(t, rule, "gangway-shared-live", rule)
		require.Contains(t, rule, "on tcp/22")
	}
	scanned := len(w.workloads) - 8
	require.Equal(t, map[derive.Reason]int{derive.Scan: scanned, derive.OneOff: 1, derive.Crossing: 1,
		derive.Admin: 1}, asides(r))
	require.Equal(t, r.Considered, r.Covered+scanned+3)
	for _, a := range r.Aside {
		require.NotEmpty(t, a.Reason.Words())
	}
}

func TestAMachineWithoutAnEnvironmentIsNotWavedThrough(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "logic", "trial", 3)
	w.role("fares", "store", "live", 1)
	w.workloads[1].SetTag(estate.Tag{Key: "env"})
	w.sees("booking-logic-trial-2", "fares-store-live-1", "tcp/5432", week...)
	r := w.derive("", 1)
	require.Empty(t, rules(r))
	require.Equal(t, map[derive.Reason]int{derive.Unplaced: 1}, asides(r))
}

func TestOnlyWhatIsUndecidedIsConsidered(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 2)
	w.role("booking", "logic", "live", 2)
	w.sees("booking-entry-live-1", "booking-logic-live-1", "tcp/8443", week...)
	w.sees("booking-entry-live-2", "booking-logic-live-2", "tcp/8443", week...)
	for text, want := range map[string]int{
		"": 2,
		"layer closing\nreject any -> any on any":                              2,
		"layer allowances\npermit any -> any on tcp/8443":                      0,
		"layer guardrails\nreject any -> any on tcp/8443":                      0,
		"layer allowances\noff permit any -> any on tcp/8443":                  2,
		"layer allowances\npermit any -> any on tcp/8443 until 2026-01-01":     2,
		"layer allowances\npermit any -> workload booking-logic-live-1 on tcp": 1,
		"layer \"closing time\"\nreject any -> any on any":                     0,
	} {
		require.Equal(t, want, w.derive(text, 0.5).Considered, text)
	}
}

func TestOtherWordsForTheStructuralTags(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 2)
	w.role("booking", "logic", "live", 2)
	for i := range w.workloads {
		for k := range w.workloads[i].Tags {
			w.workloads[i].Tags[k].Key = map[string]string{"app": "application", "env": "environment",
				"tier": "role"}[w.workloads[i].Tags[k].Key]
		}
	}
	w.sees("booking-entry-live-1", "booking-logic-live-1", "tcp/8443", week...)
	w.sees("booking-entry-live-2", "booking-logic-live-1", "tcp/8443", week...)
	r := w.derive("", 0.5)
	require.Equal(t, "group booking-entry-live = application is booking and role is entry and environment is live "+
		"\"Derived\"", r.Groups[0].String())
}

func TestProgressCanStopIt(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 2)
	w.sees("booking-entry-live-1", "booking-entry-live-2", "tcp/1", week...)
	e, _ := estate.New(w.workloads)
	p, _ := policy.Parse("")
	c := decide.Compile(e, p, estate.Instant{})
	var seen derive.Gather
	seen.Add(derive.Observed(c, w.records[0]))
	require.Nil(t, derive.Derive(derive.Input{Compiled: c, Conversations: seen.Conversations,
		Progress: func(float64) bool { return false }}))
	last := 0.0
	r := derive.Derive(derive.Input{Compiled: c, Conversations: seen.Conversations, Progress: func(d float64) bool {
		require.GreaterOrEqual(t, d, last)
		require.LessOrEqual(t, d, 1.0)
		last = d
		return true
	}})
	require.NotNil(t, r)
}
