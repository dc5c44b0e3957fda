package sample

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/service"
)

// Large makes an estate of the size of a real one and a policy for it: a group
// for each application and tier, separations, rules between groups, a closing.
// The same numbers give the same estate.
func Large(workloads, groups, rules int) (*estate.Estate, string) {
	r := rand.New(rand.NewPCG(uint64(workloads), uint64(rules)))
	tiers := []string{"entry", "logic", "store", "bus"}
	envs := []string{"live", "trial", "bench"}
	apps := max(1, groups/len(tiers))
	ws := make([]estate.Workload, workloads)
	for i := range ws {
		ws[i] = estate.Workload{ID: fmt.Sprintf("w%d", i), Name: fmt.Sprintf("host-%d", i), Kind: "vm", OS: "linux",
			Tags: []estate.Tag{
				{Key: "app", Value: fmt.Sprintf("app%d", r.IntN(apps))},
				{Key: "env", Value: envs[r.IntN(len(envs))]},
				{Key: "site", Value: []string{"northquay", "southquay"}[r.IntN(2)]},
				{Key: "tier", Value: tiers[r.IntN(len(tiers))]},
			},
			Leases: []estate.Lease{{Addr: LargeAddr(i), From: estate.Beginning, Until: estate.End}}}
	}
	e, _ := estate.New(ws)
	var b strings.Builder
	var names []string
	for a := range apps {
		for _, t := range tiers {
			name := fmt.Sprintf("app%d-%s", a, t)
			names = append(names, name)
			fmt.Fprintf(&b, "group %s = app is app%d and tier is %s\n", name, a, t)
		}
	}
	b.WriteString("group live = env is live\ngroup trial = env is trial\nlayer separations\napart live, " +
		"trial\nlayer allowances\n")
	for range rules {
		port := []int{443, 5432, 8443, 9000 + r.IntN(100)}[r.IntN(4)]
		fmt.Fprintf(&b, "permit %s -> %s on tcp/%d same env\n", names[r.IntN(len(names))], names[r.IntN(len(names))],
			port)
	}
	b.WriteString("layer closing\nreject any -> live on any\n")
	return e, b.String()
}

// LargeAddr is the address of Large's i-th workload.
func LargeAddr(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
}

// LargePoint draws one of the services of Large's rules.
func LargePoint(r *rand.Rand) service.Point {
	return service.PointOf(service.TCP, []uint32{443, 5432, 8443, uint32(9000 + r.IntN(100))}[r.IntN(4)])
}
