package flow_test

import (
	"fmt"
	"net/netip"

	"lucidorchard/core/flow"
)

// The two directions of a connection, as an exporter reports them, become one
// record from client to server.
func ExampleJoiner() {
	client, server := netip.MustParseAddr("10.20.1.10"), netip.MustParseAddr("10.20.5.10")
	there := flow.Observation{Src: client, Dst: server, SrcPort: 40_000, DstPort: 5432, Proto: 6,
		Flags: flow.SYN | flow.ACK, HasFlags: true, Start: 1_000_000, End: 3_000_000, Packets: 5, Bytes: 400}
	back := there
	back.Src, back.Dst, back.SrcPort, back.DstPort, back.Bytes = server, client, 5432, 40_000, 9000
	j := flow.NewJoiner(flow.JoinOptions{Hold: 10e6}, flow.NewSides())
	j.Add(&back, 3_100_000)
	j.Add(&there, 3_200_000)
	j.Flush(3_300_000, func(*flow.Joined) { fmt.Println("not yet: others may have seen it, too") })
	j.Flush(5_000_000, func(r *flow.Joined) {
		fmt.Println(r.Client, "->", r.Server, r.Point, r.Connections, "connection of", r.Bytes, "octets,",
			r.ReplyBytes, "of them back")
	})
	// Output:
	// 10.20.1.10 -> 10.20.5.10 tcp/5432 1 connection of 9400 octets, 9000 of them back
}
