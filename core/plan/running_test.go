package plan_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// A conversation whose opening was seen ends if it is rejected; one that was picked up in
// its middle only if neither direction excuses it.
func TestRunningConversationsThatEnd(t *testing.T) {
	a, b := netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2")
	var ws []estate.Workload
	for id, addr := range map[string]netip.Addr{"a": a, "b": b} {
		ws = append(ws, estate.Workload{ID: id, Leases: []estate.Lease{{Addr: addr, From: estate.Beginning,
			Until: estate.End}}})
	}
	e, _ := estate.New(ws)
	under := func(rules string) *plan.Decider {
		p, errs := policy.Parse("layer l\n" + rules)
		require.Empty(t, errs)
		return plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{0, 1}, plan.Gate,
			plan.Both).Decider()
	}
	const closed = "reject any -> any on any\n"
	const high, low = 50000, 443
	for _, x := range []struct {
		what, rules    string
		client, server uint16 // ports, as tracked from a to b
		proto          uint8
		proven, ends   bool
	}{
		{"rejected and proven", closed, high, low, service.TCP, true, true},
		{"permitted and proven", "permit workload a -> workload b on tcp/443\n" + closed, high, low, service.TCP, true,
			false},
		{"the other direction does not excuse what is proven", "permit workload b -> workload a on any\n" + closed,
			high, low, service.TCP, true, true},
		{"tracked the wrong way round, permitted", "permit workload b -> workload a on tcp/443\n" + closed, low, high,
			service.TCP, false, false},
		{"tracked the wrong way round, of udp", "permit workload b -> workload a on udp/443\n" + closed, low, high,
			service.UDP, false, false},
		{"rejected, but the other direction is permitted, whatever the ports",
			"permit workload b -> workload a on any\n" + closed, high, low,
			service.TCP, false, false},
		{"both rejected", closed, low, high, service.TCP, false, true},
		{"tracked the wrong way round, rejected, else no rule", "reject workload b -> workload a on tcp/443\n", low,
			high, service.TCP, false, true},
		{"no rule for the call, answers rejected", "reject workload a -> any on any\n", low, high, service.TCP, false,
			false},
		{"rejected, answers without a rule", "reject workload a -> workload b on tcp/443\n", high, low, service.TCP,
			false, true},
		{"ports that do not tell: the tracked direction", "reject workload a -> workload b on udp\n", 123, 123,
			service.UDP, false, true},
		{"ports that do not tell, no rule", "reject workload b -> workload a on udp\n", 123, 123, service.UDP, false,
			false},
		{"nobody's rule", "", high, low, service.TCP, false, false},
		{"a ping", closed, 0, 8 << 8, service.ICMP, false, true},
	} {
		r := plan.Running{Client: netip.AddrPortFrom(a, x.client), Server: netip.AddrPortFrom(b, x.server),
			Proto: x.proto, Proven: x.proven}
		require.Equal(t, x.ends, under(x.rules).Ends(r, 0), x.what)
	}
}
