package derive_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
)

var everyBalance = []float64{0, 0.15, 0.3, 0.5, 0.65, 0.8, 1}

// One machine of five does all the work, every day; that two others called once each does not
// make it their group's, at no balance.
func TestIdleSiblingsAreLeftOut(t *testing.T) {
	for _, service := range []string{"tcp/22", "tcp/873"} {
		w := harbour(t)
		w.role("tools", "core", "shared", 5)
		for i, id := range w.ids("-store-") {
			w.sees("tools-core-shared-4", id, service, i%7, (i+3)%7)
		}
		for i, id := range w.ids("-logic-live-") {
			w.sees("tools-core-shared-4", id, service, i%7)
		}
		w.sees("tools-core-shared-1", "fares-store-live-1", service, 2)
		w.sees("tools-core-shared-2", "tides-store-live-3", service, 4, 5)
		for _, b := range everyBalance {
			for _, rule := range having(w.derive("", b), " on "+service) {
				require.Contains(t, rule, "permit workload tools-core-shared-4 -> ", "at %v", b)
			}
		}
	}
}

// Machines that take turns are their group, although each day it is one of them.
func TestThoseWhoTakeTurnsAreTheirGroup(t *testing.T) {
	w := harbour(t)
	w.role("tools", "core", "shared", 5)
	for day, m := range []int{3, 1, 4, 3, 5, 1, 4} {
		for i, id := range w.ids("-") {
			if (i+day)%5 == 0 {
				w.sees(fmt.Sprintf("tools-core-shared-%d", m), id, "tcp/22", day)
			}
		}
	}
	require.Equal(t, []string{"permit tools -> workloads on tcp/22"}, having(w.derive("", 0.5), "tcp/22"))

	// Two of five on a few days may be chance.
	w = harbour(t)
	w.role("tools", "core", "shared", 5)
	for i, id := range w.ids("-") {
		w.sees(fmt.Sprintf("tools-core-shared-%d", 2+i%2), id, "tcp/22", 2)
	}
	require.Equal(t, []string{"permit tools -> workloads on tcp/22"}, having(w.derive("", 0.5), "tcp/22"))
}

// A tier whose pairs agree in a tag that only its application has is bound to it, at every balance
// and although one pair disagrees; no wider rule speaks for it.
func TestABindingTagIsAClause(t *testing.T) {
	w := harbour(t)
	w.role("mill", "logic", "live", 9)
	w.role("mill", "store", "live", 6)
	for i := range w.workloads {
		var n int
		if _, err := fmt.Sscanf(w.workloads[i].ID, "mill-logic-live-%d", &n); err == nil {
			w.workloads[i].SetTag(estate.Tag{Key: "line", Value: fmt.Sprint("l", n%3)})
		}
		if _, err := fmt.Sscanf(w.workloads[i].ID, "mill-store-live-%d", &n); err == nil {
			w.workloads[i].SetTag(estate.Tag{Key: "line", Value: fmt.Sprint("l", n%3)})
		}
	}
	for n := 1; n <= 9; n++ {
		for s := 1; s <= 6; s++ {
			if n%3 == s%3 {
				w.sees(fmt.Sprintf("mill-logic-live-%d", n), fmt.Sprintf("mill-store-live-%d", s), "tcp/5432", week...)
			}
		}
	}
	w.sees("mill-logic-live-1", "mill-store-live-2", "tcp/5432", 3)
	for _, app := range []string{"booking", "fares", "tides", "roster"} {
		for n := range 4 {
			for s := range 4 {
				w.sees(fmt.Sprintf("%s-logic-live-%d", app, n+1), fmt.Sprintf("%s-store-live-%d", app, s+1), "tcp/5432",
					1, 3, 4, 6)
			}
		}
	}
	for _, b := range everyBalance {
		r := w.derive("", b)
		require.Equal(t, []string{"permit mill-logic-live -> mill-store-live on tcp/5432 same line"}, having(r, "mill"),
			"at %v", b)
		require.Equal(t, derive.Reason(""), reasonOf(w, r, "booking-logic-live-1", "booking-store-live-2"))
		require.NotEmpty(t, reasonOf(w, r, "mill-logic-live-1", "mill-store-live-2"))
		for _, rule := range having(r, "tcp/5432") {
			require.NotContains(t, rule, "permit logic ->", "mill would be in it")
		}
	}
}

// What everybody may call has one rule, although the devices of one application keep to the
// server of their site.
func TestARuleForEverybodyAbsorbsThoseThatATagBinds(t *testing.T) {
	w := harbour(t)
	w.role("names", "core", "shared", 1)
	w.workloads[len(w.workloads)-1].ID = "names-c"
	w.role("fleet", "device", "live", 30)
	servers := []string{"names-core-shared-1", "names-core-shared-2", "names-c"}
	site := func(n int) string { return fmt.Sprint("site-", n%3) }
	for i := range w.workloads {
		m := &w.workloads[i]
		var n int
		if _, err := fmt.Sscanf(m.ID, "fleet-device-live-%d", &n); err == nil {
			m.SetTag(estate.Tag{Key: "site", Value: site(n)})
		} else if k := slices.Index(servers, m.ID); k >= 0 {
			m.SetTag(estate.Tag{Key: "site", Value: site(k)})
		} else {
			m.SetTag(estate.Tag{Key: "site", Value: site(i)})
		}
	}
	for i, id := range w.ids("-") {
		var n int
		if _, err := fmt.Sscanf(id, "fleet-device-live-%d", &n); err == nil {
			w.sees(id, servers[n%3], "udp/53", week...)
		} else if !slices.Contains(servers, id) {
			w.sees(id, servers[i%3], "udp/53", 1, 2, 4)
			w.sees(id, servers[(i+1)%3], "udp/53", 1, 3, 5)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit workloads -> names on udp/53"}, having(r, "udp/53"))
	require.Equal(t, r.Considered, r.Covered, "what was bound counts as evidence of the rule")
	require.Len(t, r.Proposals[0].Conversations, r.Considered)
}

// The only server of a service that everybody uses needs no tag to be known as that.
func TestAnUntaggedServerOfTheWholeEstate(t *testing.T) {
	w := harbour(t)
	w.role("logs", "core", "shared", 2)
	w.workloads = append(w.workloads, estate.Workload{ID: "clock", Leases: []estate.Lease{{Addr: w.addr("10.9.9.9"),
		From: estate.Beginning, Until: estate.End}},
		Tags: []estate.Tag{{Key: "env", Value: "shared"}, {Key: "tier", Value: "core"}}})
	for i, id := range w.ids("-") {
		if i%4 != 0 {
			w.sees(id, "clock", "udp/123", 1, 2, 4)
			w.sees(id, "names-core-shared-1", "udp/53", 1, 2, 4)
			w.sees(id, "logs-core-shared-2", "tcp/6514", 1, 2, 4)
		}
	}
	require.Equal(t, []string{"permit workloads -> workload clock on udp/123"}, having(w.derive("", 0.5), "udp/123"))
}

// A tier that never calls, though its machines are many, is not among the clients.
func TestASilentTierIsNoClient(t *testing.T) {
	w := harbour(t)
	for _, app := range []string{"booking", "fares", "tides", "roster", "freight"} {
		for _, tier := range []string{"entry", "logic"} {
			for n := 1; n <= 4; n++ {
				w.sees(fmt.Sprintf("%s-%s-live-%d", app, tier, n), "names-core-shared-1", "tcp/8530", 1, 4)
			}
		}
	}
	for _, b := range everyBalance {
		for _, rule := range having(w.derive("", b), "tcp/8530") {
			require.NotContains(t, rule, "permit live ->", "at %v", b)
		}
	}
}

// A rule that opens much more than was seen, or what the network drops today, says so.
func TestWarningsOfWhatARuleOpens(t *testing.T) {
	w := harbour(t)
	w.judged = true
	for n := 1; n <= 4; n++ {
		for s := 1; s <= 3; s++ {
			w.sees(fmt.Sprintf("booking-logic-live-%d", n), fmt.Sprintf("fares-logic-live-%d", s), "tcp/8443", week...)
		}
	}
	w.sees("booking-logic-live-1", "fares-logic-live-4", "tcp/8443", week...)
	for i := len(w.records) - len(week); i < len(w.records); i++ {
		w.records[i].Outcome = flow.Dropped
	}
	r := w.derive("", 0.5)
	require.Len(t, r.Proposals, 1)
	require.Equal(t, []string{"permits 1 conversation that the network drops today"}, r.Proposals[0].Warnings)

	w = harbour(t)
	w.judged = true
	w.role("fleet", "device", "live", 24)
	w.role("fleet", "hub", "live", 20)
	for i := range 24 {
		w.sees(fmt.Sprintf("fleet-device-live-%d", i+1), fmt.Sprintf("fleet-hub-live-%d", i%20+1), "tcp/8883", week...)
	}
	r = w.derive("", 0.5)
	require.Len(t, r.Proposals, 1)
	require.Equal(t, []string{"opens 20 × what was seen"}, r.Proposals[0].Warnings)

	// Customers call two of four.
	w = harbour(t)
	for i := range 30 {
		w.sees(fmt.Sprintf("%d.%d.7.9", 20+i*5, i*3), fmt.Sprintf("booking-entry-live-%d", 1+i%2), "tcp/443", i%7)
		w.sees(fmt.Sprintf("%d.%d.7.9", 20+i*5, i*3), fmt.Sprintf("fares-entry-live-%d", 1+i%4), "tcp/8443", i%7)
	}
	r = w.derive("", 1)
	require.Len(t, having(r, "outside -> booking-entry-live"), 1, "%s", rules(r))
	for _, p := range r.Proposals {
		if strings.Contains(p.Rule.String(), "booking-entry-live") {
			require.Contains(t, p.Warnings, "2 of 4 servers were never called from outside", "%s", p.Rule)
		} else {
			require.NotContains(t, fmt.Sprint(p.Warnings), "from outside", "%s", p.Rule)
		}
	}
}
