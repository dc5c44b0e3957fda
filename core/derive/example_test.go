package derive_test

import (
	"fmt"
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Conversations that no rule decides become rules in the words of the tags.
func ExampleDerive() {
	var ws []estate.Workload
	for i := range 12 {
		tier := []string{"entry", "logic"}[i%2]
		w := estate.Workload{ID: fmt.Sprint(tier, i),
			Leases: []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 20, 1, byte(i)}), From: estate.Beginning,
				Until: estate.End}}}
		for _, t := range [][2]string{{"app", "booking"}, {"env", "live"}, {"tier", tier}} {
			w.SetTag(estate.Tag{Key: t[0], Value: t[1]})
		}
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	p, _ := policy.Parse("")
	c := decide.Compile(e, p, estate.Instant{Sec: 1_795_600_000})
	var seen []derive.Conversation
	for from := range 12 {
		for to := range 12 {
			if from%2 == 0 && to%2 == 1 && (from+to)%3 > 0 { // entry machines call most of the logic
				conv := derive.Conversation{Client: c.At(ws[from].Leases[0].Addr, c.AsOf),
					Server: c.At(ws[to].Leases[0].Addr, c.AsOf), Point: service.PointOf(service.TCP, 8443),
					Connections: 40}
				for day := range int64(7) {
					at := estate.Instant{Sec: 1_795_000_000 + day*86400}
					conv.Days.Add(at)
					if day == 0 {
						conv.First = at
					}
					conv.Last = at
				}
				seen = append(seen, conv)
			}
		}
	}
	result := derive.Derive(derive.Input{Compiled: c, Conversations: seen, Balance: 0.5})
	fmt.Println(result.Considered, "considered,", result.Covered, "covered by", len(result.Proposals), "rule")
	fmt.Println(result.Proposals[0].Rule.On, result.Proposals[0].Days, "days")
	// Output:
	// 24 considered, 24 covered by 1 rule
	// tcp/8443 7 days
}
