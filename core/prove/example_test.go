package prove_test

import (
	"fmt"
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
)

// An assertion speaks of all traffic, seen or not, and comes with a
// counterexample where it does not hold.
func ExampleAssertions() {
	w := estate.Workload{ID: "fares-store-01",
		Leases: []estate.Lease{{Addr: netip.MustParseAddr("10.20.5.10"), From: estate.Beginning, Until: estate.End}}}
	w.SetTag(estate.Tag{Key: "tier", Value: "store"})
	e, _ := estate.New([]estate.Workload{w})
	p, _ := policy.Parse("group stores = tier is store\nlayer allowances\npermit outside -> stores on " +
		"tcp/443\nreject any -> stores on tcp/1-1023\n" +
		"assert never outside -> stores on tcp/400-450\nassert never outside -> stores on tcp/22\n")
	for _, r := range prove.Assertions(decide.Compile(e, p, estate.Instant{})) {
		fmt.Println(r.Assert, "·", r.Outcome)
		if r.Outcome != prove.Holds {
			fmt.Println("  ", r.Server.Addr, r.Point, "by line", r.Rule.Line)
		}
	}
	// Output:
	// assert never outside -> stores on tcp/400-450 · broken
	//    10.20.5.10 tcp/443 by line 3
	// assert never outside -> stores on tcp/22 · holds
}
