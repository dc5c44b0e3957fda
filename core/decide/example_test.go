package decide_test

import (
	"fmt"
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

func ferries() (*estate.Estate, *policy.Policy) {
	machine := func(id, addr, env string) estate.Workload {
		w := estate.Workload{ID: id,
			Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "env", Value: env})
		return w
	}
	e, _ := estate.New([]estate.Workload{machine("fares-store-01", "10.20.5.10", "live"),
		machine("booking-logic-t03", "10.20.9.3", "")})
	p, _ := policy.Parse("group live = env is live\ngroup trial = env is trial\nlayer separations\napart live, " +
		"trial\n")
	return e, p
}

// The compiled form decides fast; the walk says why.
func ExampleCompile() {
	e, p := ferries()
	c := decide.Compile(e, p, estate.Instant{})
	client, server := c.At(netip.MustParseAddr("10.20.9.3"), c.AsOf), c.At(netip.MustParseAddr("10.20.5.10"), c.AsOf)
	pt := service.PointOf(service.TCP, 5432)
	fmt.Println(decide.VerdictOf(c.Decide(client, server, pt)))
	fmt.Println("in trial:", c.Group("trial", client))

	// With the tag that it lacks, the same question has an answer.
	w := *e.Workload(client.Workload)
	w.SetTag(estate.Tag{Key: "env", Value: "trial"})
	e, touched, _ := e.With([]estate.Workload{w}, nil)
	after := c.WithEstate(e, touched).After
	client = after.At(client.Addr, after.AsOf)
	fmt.Println(decide.VerdictOf(after.Decide(client, server, pt)))
	fmt.Println(decide.NewWalk(e, p, after.AsOf).Trace(client.Endpoint, server.Endpoint, pt).Rule)
	// Output:
	// uncovered
	// in trial: undecided
	// reject
	// apart live, trial
}
