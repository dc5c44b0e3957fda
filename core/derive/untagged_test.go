package derive_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
)

// A machine that lacks a tier is named alone, apart from the others, and the
// proposal says that tagging it is the better way.
func TestAnUntaggedMachineStandsAlone(t *testing.T) {
	w := &town{t: t}
	w.role("booking", "entry", "live", 3)
	w.role("booking", "logic", "live", 3)
	w.workloads[2].SetTag(estate.Tag{Key: "tier"})
	for _, k := range []string{"1", "2", "3"} {
		w.sees("booking-entry-live-"+k, "booking-logic-live-1", "tcp/8443", week...)
	}
	r := w.derive("", 0.5)
	require.ElementsMatch(t, []string{
		"permit booking-entry-live -> booking-logic-live on tcp/8443",
		"permit workload booking-entry-live-3 -> booking-logic-live on tcp/8443",
	}, rules(r))
	for i, p := range r.Proposals {
		require.Equal(t, rules(r)[i] != "permit booking-entry-live -> booking-logic-live on tcp/8443",
			len(p.Warnings) > 0)
	}
	// Tagged, it is one of the others and needs no rule of its own.
	w.workloads[2].SetTag(estate.Tag{Key: "tier", Value: "entry"})
	require.Equal(t, []string{"permit booking-entry-live -> booking-logic-live on tcp/8443"},
		rules(w.derive("", 0.5)))
}
