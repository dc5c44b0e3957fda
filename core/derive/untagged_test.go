package derive_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
)

// A machine that lacks a tier, and does what one tier does, is named beside the
// group of the others; the tag is worth setting.
func TestAnUntaggedMachineStandsBesideItsGroup(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 3)
	w.role("booking", "logic", "live", 3)
	w.role("fares", "logic", "live", 3)
	w.workloads[2].SetTag(estate.Tag{Key: "tier"})
	for _, k := range []string{"1", "2", "3"} {
		w.sees("booking-entry-live-"+k, "booking-logic-live-1", "tcp/8443", week...)
		w.sees("booking-entry-live-"+k, "fares-logic-live-"+k, "tcp/8080", week...)
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit booking-entry-live, workload booking-entry-live-3 -> booking-logic-live on tcp/8443",
		"permit booking-entry-live, workload booking-entry-live-3 -> fares on tcp/8080"}, rules(r))
	require.Equal(t, []derive.MissingTag{{Workload: "booking-entry-live-3", Key: "tier", Value: "entry", Settles: 2}},
		r.Tags)
	// Tagged, it is one of the others and needs no rule of its own.
	w.workloads[2].SetTag(estate.Tag{Key: "tier", Value: "entry"})
	require.Equal(t, []string{"permit booking-entry-live -> booking-logic-live on tcp/8443",
		"permit booking-entry-live -> fares on tcp/8080"}, rules(w.derive("", 0.5)))
}

// Several machines that lack a tag, and behave alike, are named once, by a group that every rule
// names; each rule is about the same machines, also where one of them was quiet.
func TestUntaggedMachinesAreNamedOnce(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 6)
	w.role("booking", "logic", "live", 3)
	w.role("fares", "logic", "live", 3)
	for _, i := range []int{2, 4} {
		w.workloads[i].SetTag(estate.Tag{Key: "tier"})
	}
	for k := 1; k <= 6; k++ {
		client := fmt.Sprint("booking-entry-live-", k)
		w.sees(client, "booking-logic-live-1", "tcp/8443", week...)
		w.sees(client, "booking-logic-live-2", "tcp/8444", week...)
		if k != 5 {
			w.sees(client, fmt.Sprint("fares-logic-live-", 1+k%3), "tcp/8080", week...)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{
		"permit booking-entry-live, untagged-like-booking-entry-live -> booking-logic-live on tcp/8443-8444",
		"permit booking-entry-live, untagged-like-booking-entry-live -> fares on tcp/8080"}, rules(r))
	text := strings.Join(r.Lines(), "\n")
	require.Contains(t, text, `group untagged-like-booking-entry-live = `+
		`id in (booking-entry-live-3, booking-entry-live-5) "Derived: tag them like booking-entry-live"`)
	require.Len(t, r.Tags, 2)

	// What was taken is named again as it is.
	again := w.derive(policy.InsertAllowances("", r.Lines()[:len(r.Groups)]), 0.5)
	require.Equal(t, rules(r), rules(again))
	require.Empty(t, again.Groups)
}
