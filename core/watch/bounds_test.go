package watch_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
)

// heldFrom gathers what a policy that rejects all turned away: connections from clients to
// servers on a port.
func heldFrom(t *testing.T, tried [][3]string) (held []watch.Matter) {
	var ws []estate.Workload
	for i := range 40 {
		ws = append(ws, estate.Workload{ID: fmt.Sprintf("m%02d", i), Name: fmt.Sprintf("m%02d", i),
			Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End,
				Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)})}}})
	}
	e, _ := estate.New(ws)
	at := estate.Instant{Sec: 1_795_000_000}
	c := compile(t, e, "layer l\nreject any -> any on any\n", at)
	var b flow.Buckets
	for _, x := range tried {
		var port uint32
		_, err := fmt.Sscan(x[2], &port)
		require.NoError(t, err)
		b.Add(flow.Record{Start: at, End: at, Client: netip.MustParseAddr(x[0]), Server: netip.MustParseAddr(x[1]),
			Point: service.PointOf(service.TCP, port), Connections: 1, Outcome: flow.Dropped})
	}
	all := b.All()
	for _, m := range watch.Gather(reach.New(c, all, all[0].Hour, all[0].Hour+1), watch.Watched{}).Matters {
		if m.Kind == watch.Held {
			held = append(held, m)
		}
	}
	return held
}

// One client is said server by server up to four of them; five are many, and ten a scan.
func TestFromHowManyOnItIsMany(t *testing.T) {
	for n, want := range map[int]struct {
		matters int
		many    bool
		scan    bool
	}{4: {4, false, false}, 5: {1, true, false}, 9: {1, true, false}, 10: {1, true, true}} {
		var tried [][3]string
		for i := range n {
			tried = append(tried, [3]string{"10.0.0.1", fmt.Sprintf("10.0.0.%d", i+2), "443"})
		}
		held := heldFrom(t, tried)
		require.Len(t, held, want.matters, "%d servers", n)
		require.Equal(t, want.many, held[0].What.Kind == "many", "%d servers", n)
		require.Equal(t, want.scan, held[0].Scan, "%d servers", n)
	}
}

// So it is with clients of one server.
func TestFromHowManyClientsOnItIsMany(t *testing.T) {
	for n, want := range map[int]int{4: 4, 5: 1} {
		var tried [][3]string
		for i := range n {
			tried = append(tried, [3]string{fmt.Sprintf("10.0.0.%d", i+2), "10.0.0.1", "443"})
		}
		held := heldFrom(t, tried)
		require.Len(t, held, want, "%d clients", n)
		require.Equal(t, n >= 5, held[0].Who.Kind == "many")
	}
}

// Clients outside that each try many are one matter from the fifth on.
func TestNoiseFromOutsideIsOne(t *testing.T) {
	for n, want := range map[int]int{4: 4, 5: 1} {
		var tried [][3]string
		for client := range n {
			for server := range 6 {
				tried = append(tried, [3]string{fmt.Sprintf("203.0.%d.1", 100+client), fmt.Sprintf("10.0.0.%d",
					6*client+server+1), "443"})
			}
		}
		held := heldFrom(t, tried)
		require.Len(t, held, want, "%d clients outside", n)
	}
}
