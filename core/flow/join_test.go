package flow_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

const second = flow.Micros(1e6)

// began is where the made-up traffic begins.
const began = flow.Micros(1_795_000_000e6)

type conversation struct {
	client, server netip.Addr
	point          service.Point
}

type sums struct{ connections, packets, bytes int64 }

// truth is one connection as it was.
type truth struct {
	conversation
	clientPort uint16
	start      flow.Micros
	length     flow.Micros
	out, back  sums
	refused    bool
}

func host(net, n int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(net), byte(n >> 8), byte(n)})
}

// observe returns what an exporter sends of one direction, cut into intervals of
// at most active.
func (c *truth) observe(observer int32, reply bool, active flow.Micros, flags bool) []flow.Observation {
	o := flow.Observation{
		Src: c.client, Dst: c.server, SrcPort: c.clientPort, DstPort: uint16(c.point.Port()), Proto: c.point.Proto(),
		Observer: observer, Start: c.start, End: c.start + c.length, Packets: c.out.packets, Bytes: c.out.bytes,
	}
	first, later := uint8(flow.SYN|flow.ACK|flow.PSH|flow.FIN), uint8(flow.ACK|flow.PSH|flow.FIN)
	if c.refused || c.out.packets == 1 {
		first = flow.SYN
	}
	if reply {
		o.Src, o.Dst, o.SrcPort, o.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
		o.Packets, o.Bytes = c.back.packets, c.back.bytes
		o.Start += 1500
		o.End = max(o.End, o.Start)
		if first = flow.SYN | flow.ACK | flow.PSH | flow.FIN; c.back.packets == 1 {
			first = flow.SYN | flow.ACK
		}
		if c.refused {
			first = flow.RST | flow.ACK
		}
	}
	if o.Packets == 0 {
		return nil
	}
	o.HasFlags = flags && o.Proto == service.TCP
	var out []flow.Observation
	if c.out.packets == 1 || c.back.packets == 1 {
		active = o.End - o.Start + 1
	}
	parts := min(o.Packets, int64((o.End-o.Start)/active)+1)
	span := (o.End - o.Start) / flow.Micros(parts)
	for k := range parts {
		p := o
		p.Packets, p.Bytes = o.Packets/parts, o.Bytes/parts
		p.Start = o.Start + flow.Micros(k)*span
		p.End = p.Start + span - 1
		if k == parts-1 {
			p.Packets, p.Bytes, p.End = o.Packets-k*p.Packets, o.Bytes-k*p.Bytes, o.End
		}
		if p.HasFlags {
			if p.Flags = first; k > 0 {
				p.Flags = later
			}
		}
		out = append(out, p)
	}
	return out
}

// arrival is an observation with when it reaches the collector.
type arrival struct {
	at flow.Micros
	flow.Observation
}

// run joins what arrives and gives all that is sent off.
func run(j *flow.Joiner, all []arrival) []flow.Joined {
	slices.SortStableFunc(all, func(a, b arrival) int { return int(a.at - b.at) })
	var out []flow.Joined
	emit := func(x *flow.Joined) { out = append(out, *x) }
	for i := range all {
		j.Add(&all[i].Observation, all[i].at)
		if i%64 == 0 {
			j.Flush(all[i].at, emit)
		}
	}
	if n := len(all); n > 0 {
		j.Close(all[n-1].at, emit)
	}
	return out
}

func totals(all []flow.Joined) map[conversation]sums {
	out := map[conversation]sums{}
	for _, x := range all {
		k := conversation{x.Client, x.Server, x.Point}
		t := out[k]
		out[k] = sums{t.connections + x.Connections, t.packets + x.Packets, t.bytes + x.Bytes}
	}
	return out
}

// What several exporters saw of both directions in intervals is counted once,
// to the byte, whatever the order of arrival.
func TestJoinedIsWhatWasSent(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := map[conversation]sums{}
		var all []arrival
		ports := map[string]bool{}
		for i := range rapid.IntRange(1, 12).Draw(t, "connections") {
			proto := rapid.SampledFrom([]uint8{service.TCP, service.UDP}).Draw(t, "protocol")
			c := truth{
				conversation: conversation{host(1, rapid.IntRange(1, 3).Draw(t, "client")),
					host(2, rapid.IntRange(1, 2).Draw(t, "server")), service.PointOf(proto, 443)},
				clientPort: uint16(40000 + rapid.IntRange(0, 500).Draw(t, "port")), start: began +
					flow.Micros(i)*second, length: flow.Micros(rapid.Int64Range(0, 400e6).Draw(t, "length")),
				out: sums{0, rapid.Int64Range(1, 50).Draw(t, "packets"),
					rapid.Int64Range(100, 9000).Draw(t, "bytes")},
				back: sums{0, rapid.Int64Range(0, 50).Draw(t, "packets back"),
					rapid.Int64Range(100, 9000).Draw(t, "bytes back")},
			}
			if c.back.packets == 0 {
				c.back.bytes = 0
			}
			if k := fmt.Sprint(c.conversation, c.clientPort); ports[k] {
				continue
			} else {
				ports[k] = true
			}
			sum := want[c.conversation]
			want[c.conversation] = sums{sum.connections + 1, sum.packets + c.out.packets + c.back.packets, sum.bytes +
				c.out.bytes + c.back.bytes}
			observers := rapid.IntRange(1, 4).Draw(t, "observers")
			active := flow.Micros(rapid.Int64Range(5e6, 120e6).Draw(t, "active time-out"))
			for o := range observers {
				late := flow.Micros(rapid.Int64Range(0, 8e6).Draw(t, "late"))
				for _, reply := range []bool{false, true} {
					for _, x := range c.observe(int32(2*o), reply, active, true) {
						all = append(all, arrival{x.End + late, x})
						if rapid.IntRange(0, 9).Draw(t, "twice") == 0 {
							all = append(all, arrival{x.End + late, x})
						}
					}
				}
			}
		}
		require.Equal(t, want, totals(run(flow.NewJoiner(flow.JoinOptions{}, flow.NewSides()), all)))
	})
}

func TestSecondConnectionOnTheSamePorts(t *testing.T) {
	one := truth{conversation: conversation{host(1, 1), host(2, 1), service.PointOf(service.TCP, 8443)},
		clientPort: 40001, start: began, length: second, out: sums{0, 9, 900}, back: sums{0, 8, 800}}
	two := one
	two.start += 30 * second
	var all []arrival
	for _, c := range []truth{one, two} {
		for _, reply := range []bool{false, true} {
			for _, x := range c.observe(0, reply, 60*second, true) {
				all = append(all, arrival{x.End, x})
			}
		}
	}
	require.Equal(t, map[conversation]sums{one.conversation: {2, 34, 3400}},
		totals(run(flow.NewJoiner(flow.JoinOptions{}, flow.NewSides()), all)))
}

// Another exporter's copy is not counted again, though its clock is seconds
// ahead; what the same exporter tells of the same ports is a new connection.
func TestClocksOfExportersDiffer(t *testing.T) {
	c := truth{conversation: conversation{host(1, 1), host(2, 1), service.PointOf(service.TCP, 443)},
		clientPort: 40001, start: began, length: 3000, out: sums{0, 5, 500}, back: sums{0, 5, 900}}
	ahead := c
	ahead.start += 4 * second
	var all []arrival
	for o, c := range []truth{c, ahead} {
		for _, reply := range []bool{false, true} {
			for _, x := range c.observe(int32(2*o), reply, 60*second, true) {
				all = append(all, arrival{began + second, x})
			}
		}
	}
	require.Equal(t, map[conversation]sums{c.conversation: {1, 10, 1400}},
		totals(run(flow.NewJoiner(flow.JoinOptions{}, flow.NewSides()), all)))
}

func TestDirectionsAndOutcomes(t *testing.T) {
	a, b := host(1, 1), host(2, 1)
	tcp := func(src, dst netip.Addr, ps, pd uint16, flags uint8, packets int64, o flow.Outcome) flow.Observation {
		return flow.Observation{Src: src, Dst: dst, SrcPort: ps, DstPort: pd, Proto: service.TCP, Flags: flags,
			HasFlags: true, Packets: packets, Bytes: 60 * packets, Outcome: o, Start: began, End: began}
	}
	udp := func(src, dst netip.Addr, ps, pd uint16, at flow.Micros) flow.Observation {
		return flow.Observation{Src: src, Dst: dst, SrcPort: ps, DstPort: pd, Proto: service.UDP, Packets: 1,
			Bytes: 60, Start: began + at, End: began + at}
	}
	icmp := func(src, dst netip.Addr, typeCode uint16) flow.Observation {
		return flow.Observation{Src: src, Dst: dst, DstPort: typeCode, Proto: service.ICMP, Packets: 1, Bytes: 84,
			Start: began, End: began}
	}
	for name, c := range map[string]struct {
		seen    []flow.Observation
		client  netip.Addr
		spec    string
		outcome flow.Outcome
		reason  flow.Reason
	}{
		"a SYN that nobody answers": {[]flow.Observation{tcp(a, b, 40000, 9999, flow.SYN, 3,
			flow.Unknown)}, a, "tcp/9999", flow.Unknown, flow.BySYN},
		"an odd pair of ports, by the SYN": {[]flow.Observation{tcp(a, b, 443, 50000, flow.SYN, 1,
			flow.Unknown), tcp(b, a, 50000, 443, flow.SYN|flow.ACK, 1, flow.Unknown)}, a, "tcp/50000", flow.Carried,
			flow.BySYN},
		"only the answer": {[]flow.Observation{tcp(b, a, 7000, 50000, flow.SYN|flow.ACK, 1,
			flow.Unknown)}, a, "tcp/7000", flow.Unknown, flow.BySYN},
		"dropped by a firewall": {[]flow.Observation{tcp(a, b, 40000, 22, flow.SYN, 3,
			flow.Dropped)}, a, "tcp/22", flow.Dropped, flow.BySYN},
		"refused in the name of the server": {[]flow.Observation{tcp(a, b, 40000, 22, flow.SYN, 1,
			flow.Dropped), tcp(b, a, 22, 40000, flow.RST|flow.ACK, 1, flow.Unknown)}, a, "tcp/22", flow.Dropped,
			flow.BySYN},
		"dropped in part and answered": {[]flow.Observation{tcp(a, b, 40000, 22, flow.SYN|flow.ACK, 9,
			flow.Dropped), tcp(b, a, 22, 40000, flow.SYN|flow.ACK, 9, flow.Unknown)}, a, "tcp/22", flow.Carried,
			flow.ByPort},
		"forwarded": {[]flow.Observation{tcp(a, b, 40000, 22, flow.SYN, 1,
			flow.Carried)}, a, "tcp/22", flow.Carried, flow.BySYN},
		"who was heard first": {[]flow.Observation{udp(b, a, 40001, 40002, 0),
			udp(a, b, 40002, 40001, 900)}, b, "udp/40002", flow.Carried, flow.ByFirst},
		"a registered port": {[]flow.Observation{udp(b, a, 53, 40002, 0)}, a, "udp/53",
			flow.Unknown, flow.ByPort},
		"an echo and its reply": {[]flow.Observation{icmp(b, a, 0), icmp(a, b, 8<<8)}, a,
			"icmp/8.0", flow.Carried, flow.ByType},
		"only the reply": {[]flow.Observation{icmp(b, a, 0)}, a, "icmp/8.0", flow.Unknown,
			flow.ByType},
		"a message that says what is unreachable": {[]flow.Observation{icmp(b, a, 3<<8|1)}, b, "icmp/3.1",
			flow.Unknown, flow.ByType},
		"no type": {[]flow.Observation{{Src: a, Dst: b, Proto: service.ICMP, NoType: true, Packets: 1, Start: began,
			End: began}}, a, "icmp", flow.Unknown, flow.ByGuess},
		"ICMPv6": {[]flow.Observation{{Src: netip.MustParseAddr("fd00::2"), Dst: netip.MustParseAddr("fd00::1"),
			DstPort: 129 << 8, Proto: service.ICMP6, Packets: 1, Start: began, End: began}},
			netip.MustParseAddr("fd00::1"), "icmp6/128.0", flow.Unknown, flow.ByType},
		"a tunnel": {[]flow.Observation{{Src: a, Dst: b, Proto: 47, Packets: 5, Start: began, End: began,
			Opener: flow.OpenedByDestination}}, b, "proto/47", flow.Unknown, flow.ByExporter},
	} {
		t.Run(name, func(t *testing.T) {
			var all []arrival
			for _, o := range c.seen {
				all = append(all, arrival{began + second, o})
			}
			got := run(flow.NewJoiner(flow.JoinOptions{}, flow.NewSides()), all)
			require.Len(t, got, 1)
			require.Equal(t, c.client, got[0].Client)
			require.Equal(t, c.spec, got[0].Point.String())
			require.Equal(t, c.outcome, got[0].Outcome)
			require.Equal(t, c.reason, got[0].Reason, got[0].Reason.String())
			require.EqualValues(t, 1, got[0].Connections)
		})
	}
}

// What a person said of a port decides, also against the flags.
func TestCorrectionsDecide(t *testing.T) {
	sides := flow.NewSides()
	sides.Serves = func(addr netip.Addr, proto uint8, port uint16, _ flow.Micros) bool {
		return addr == host(1, 1) && proto == service.TCP && port == 7411
	}
	o := flow.Observation{Src: host(1, 1), Dst: host(2, 1), SrcPort: 7411, DstPort: 443, Proto: service.TCP,
		HasFlags: true, Flags: flow.SYN, Packets: 1, Start: began, End: began}
	got := run(flow.NewJoiner(flow.JoinOptions{}, sides), []arrival{{began, o}})
	require.Equal(t, host(2, 1), got[0].Client)
	require.Equal(t, "tcp/7411", got[0].Point.String())
	require.Equal(t, flow.ByHand, got[0].Reason)
	require.EqualValues(t, 100, got[0].Confidence)
}

// Whatever arrives, no more sessions are kept than there is room for, and each
// is sent off all the same.
func TestJoinerIsBounded(t *testing.T) {
	j := flow.NewJoiner(flow.JoinOptions{Most: 100}, flow.NewSides())
	var all []arrival
	for i := range 5000 {
		for o := range int32(6) {
			all = append(all, arrival{began + flow.Micros(i)*1000,
				flow.Observation{Src: host(1, i), Dst: host(2, 1), SrcPort: 40000, DstPort: 80, Proto: service.TCP,
					Packets: 2, Bytes: 100, Observer: 2 * o, Start: began, End: began + flow.Micros(i)}})
		}
	}
	got := totals(run(j, all))
	require.Len(t, got, 5000)
	require.LessOrEqual(t, j.Sessions(), 100)
	require.Positive(t, j.Early)
	require.Zero(t, j.Waiting())
}

// A session that goes on is one connection, however often it is reported; one
// that is forgotten after the last word of it makes room.
func TestSessionsEnd(t *testing.T) {
	j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
	var got []flow.Joined
	emit := func(x *flow.Joined) { got = append(got, *x) }
	now := began
	for range 20 {
		j.Add(&flow.Observation{Src: host(1, 1), Dst: host(2, 1), SrcPort: 40000, DstPort: 5432, Proto: service.TCP,
			HasFlags: true, Flags: flow.ACK, Packets: 5, Bytes: 500, Start: now - 600*second, End: now}, now)
		j.Flush(now+15*second, emit)
		now += 600 * second
	}
	require.Len(t, got, 20)
	require.Equal(t, sums{1, 100, 10000},
		totals(got)[conversation{host(1, 1), host(2, 1), service.PointOf(service.TCP, 5432)}])
	require.Equal(t, 1, j.Sessions())
	for range 40 {
		now += 600 * second
		j.Flush(now, emit)
	}
	require.Zero(t, j.Sessions())
}

// Whoever starts anew does not count a connection again that goes on.
func TestResumedSessionsAreNotCountedAgain(t *testing.T) {
	part := func(start flow.Micros, flags uint8) flow.Observation {
		return flow.Observation{Src: host(2, 1), Dst: host(1, 1), SrcPort: 40000, DstPort: 5432, Proto: service.TCP,
			HasFlags: true, Flags: flags, Packets: 5, Bytes: 500, Start: start, End: start + second}
	}
	first := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
	require.Len(t, run(first, []arrival{{began, part(began, flow.SYN)}}), 1)
	open := first.Opened()
	require.Len(t, open, 1)
	require.Equal(t, open, first.Alive())
	require.Empty(t, first.Opened(), "each is told once")
	next := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
	next.Resume(open, began+60*second)
	got := run(next, []arrival{{began + 90*second, part(began+60*second, flow.ACK)}})
	require.Len(t, got, 1)
	require.Equal(t, []any{int64(0), int64(5), host(2, 1)}, []any{got[0].Connections, got[0].Packets, got[0].Client})

	// Also where the exporter knows no flags, and for other protocols.
	for _, proto := range []uint8{service.TCP, service.UDP} {
		o := part(began+60*second, 0)
		o.Proto, o.HasFlags = proto, false
		bare := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
		bare.Resume([]flow.Open{{Client: o.Src, Server: o.Dst, ClientPort: o.SrcPort, ServerPort: o.DstPort,
			Proto: proto}}, began+60*second)
		got := run(bare, []arrival{{began + 90*second, o}})
		require.Len(t, got, 1)
		require.Zero(t, got[0].Connections)
	}
}

// BenchmarkJoin measures what one core joins.
func BenchmarkJoin(b *testing.B) {
	n := newNetwork(5, 100_000)
	all := n.exported(fault{flags: true, sampling: 1, active: 60 * second})
	slices.SortStableFunc(all, func(a, b arrival) int { return int(a.at - b.at) })
	b.ResetTimer()
	b.ReportAllocs()
	for range b.N {
		j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
		emit := func(*flow.Joined) {}
		for i := range all {
			j.Add(&all[i].Observation, all[i].at)
			if i%1024 == 0 {
				j.Flush(all[i].at, emit)
			}
		}
	}
	b.ReportMetric(float64(len(all))*float64(b.N)/b.Elapsed().Seconds(), "records/s")
}
