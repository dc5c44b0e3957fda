package derive_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
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
