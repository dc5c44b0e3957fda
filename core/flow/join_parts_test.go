package flow_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// What was dropped, and what has ended both ways, is sent off long before what may still
// be answered; copies that come after that count for nothing more.
func TestWhatIsOverIsSentOffSoon(t *testing.T) {
	dropped := &truth{conversation: conversation{host(1, 1), host(2, 1), service.PointOf(service.TCP, 22)},
		clientPort: 40001, start: began,
		length: second, out: sums{1, 1, 60}}
	ended := &truth{conversation: conversation{host(1, 2), host(2, 2), service.PointOf(service.TCP, 443)},
		clientPort: 40002, start: began,
		length: second, out: sums{1, 4, 400}, back: sums{1, 4, 4000}}
	open := &truth{conversation: conversation{host(1, 3), host(2, 3), service.PointOf(service.TCP, 443)},
		clientPort: 40003, start: began,
		length: second, out: sums{1, 4, 400}}
	j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
	got := map[netip.Addr]sums{}
	flush := func(at flow.Micros) (n int) {
		j.Flush(at, func(x *flow.Joined) {
			n++
			have := got[x.Client]
			got[x.Client] = sums{have.connections + x.Connections, have.packets + x.Packets, have.bytes + x.Bytes}
		})
		return n
	}
	see := func(c *truth, reply bool, observer int32, at flow.Micros) {
		for _, o := range c.observe(observer, reply, 600*second, true) {
			if c == dropped {
				o.Outcome = flow.Dropped
			}
			j.Add(&o, at)
		}
	}
	now := began + 2*second
	for _, c := range []*truth{dropped, ended, open} {
		see(c, false, 1, now)
	}
	see(ended, true, 1, now+second/10)
	require.Zero(t, flush(now+second/4))
	require.Equal(t, 2, flush(now+second), "what was dropped, and what has ended")
	for _, c := range []*truth{dropped, ended} { // another exporter's copies
		see(c, false, 2, now+4*second)
	}
	see(ended, true, 2, now+4*second)
	require.Equal(t, 1, flush(now+11*second), "what may still be answered")
	flush(now + 60*second)
	require.Equal(t, map[netip.Addr]sums{dropped.client: {1, 1, 60}, ended.client: {1, 8, 4400},
		open.client: {1, 4, 400}}, got)
}

// A connection of which each part comes after the last was sent off, the answer among them,
// is one connection, the right way round; nothing of it is lost or counted twice.
func TestPartsThatComeAfterTheHoldAreOneConnection(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		proto := rapid.SampledFrom([]uint8{service.TCP, service.UDP}).Draw(t, "protocol")
		j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
		client, server := netip.MustParseAddr("10.0.0.9"), netip.MustParseAddr("10.0.0.2")
		var connections, bytes int64
		now := flow.Micros(1_795_000_000e6)
		emit := func(x *flow.Joined) {
			require.Equal(t, [2]netip.Addr{client, server}, [2]netip.Addr{x.Client, x.Server})
			require.Equal(t, service.PointOf(proto, 443), x.Point)
			connections += x.Connections
			bytes += x.Bytes
		}
		sent := int64(0)
		for part := range rapid.IntRange(2, 12).Draw(t, "parts") {
			o := flow.Observation{Src: client, Dst: server, SrcPort: 50000, DstPort: 443, Proto: proto, Start: now,
				End:     now,
				Packets: 2, Bytes: rapid.Int64Range(1, 1000).Draw(t, "bytes"), Numbered: true}
			if answers := part > 0 && rapid.Bool().Draw(t, "answers"); answers {
				o.Src, o.Dst, o.SrcPort, o.DstPort = server, client, 443, 50000
			}
			if proto == service.TCP {
				o.HasFlags, o.Flags = true, flow.ACK
				if part == 0 {
					o.Flags = flow.SYN
				}
			}
			sent += o.Bytes
			j.Add(&o, now)
			now += flow.Micros(rapid.Int64Range(11e6, 200e6).Draw(t, "gap"))
			j.Flush(now, emit)
			require.Zero(t, j.Waiting(), "it does not wait longer than it holds")
		}
		require.EqualValues(t, 1, connections)
		require.Equal(t, sent, bytes)
	})
}

// What is told of both directions, and leaves no doubt who the client is, waits for copies only; all
// else for what may still come. Whoever tells of it later tells of no other connection.
func TestBothDirectionsAreEnough(t *testing.T) {
	at := func(s float64) flow.Micros { return flow.Micros(s * 1e6) }
	one := flow.Observation{Src: sample.Addresses[0], Dst: sample.Addresses[1], SrcPort: 40_000, DstPort: 443,
		Proto: 6, Flags: flow.SYN | flow.ACK,
		HasFlags: true, Start: at(1), End: at(2), Packets: 4, Bytes: 400}
	reversed := func(o flow.Observation) flow.Observation {
		o.Src, o.Dst, o.SrcPort, o.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
		o.Start += 1000
		return o
	}
	asked := one
	asked.Flags = flow.SYN
	for name, c := range map[string]struct {
		all  []flow.Observation
		soon bool
	}{
		"one direction":     {[]flow.Observation{asked}, false},
		"both, and who":     {[]flow.Observation{asked, reversed(one)}, true},
		"both, other way":   {[]flow.Observation{reversed(one), asked}, true},
		"packets of a pair": {[]flow.Observation{packet(asked), packet(reversed(one))}, false},
		"nobody can tell": {[]flow.Observation{between(50_000, 50_001, one), reversed(between(50_000, 50_001, one))},
			false},
	} {
		j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
		for i := range c.all {
			j.Add(&c.all[i], at(3))
		}
		n, connections := 0, int64(0)
		count := func(x *flow.Joined) { n++; connections += x.Connections }
		j.Flush(at(3.4), count)
		require.Zero(t, n, "%s: others may have seen it", name)
		j.Flush(at(3.6), count)
		require.Equal(t, c.soon, n == 1, name)
		for i := range c.all { // another exporter, and later the same one again
			o := c.all[i]
			o.Observer = 2
			j.Add(&o, at(5))
			o = c.all[i]
			o.Start, o.End = at(6), at(7)
			j.Add(&o, at(8))
		}
		j.Flush(at(30), count)
		require.Equal(t, int64(1), connections, name)
		require.LessOrEqual(t, n, 2, name)
	}
}

func packet(o flow.Observation) flow.Observation {
	o.Packet = true
	return o
}

func between(from, to uint16, o flow.Observation) flow.Observation {
	o.SrcPort, o.DstPort, o.HasFlags, o.Flags = from, to, false, 0
	return o
}

// What nobody can tell apart any more counts for nothing, and connections
// that follow each other on one pair of ports fill nothing up.
func TestManyObserversAndManyConnectionsOnOnePairOfPorts(t *testing.T) {
	c := truth{conversation: conversation{host(1, 1), host(2, 1), service.PointOf(service.TCP, 443)},
		clientPort: 40001, start: began, length: 3000, out: sums{0, 5, 500}, back: sums{0, 5, 900}}
	var all []arrival
	for o := range int32(40) {
		for _, x := range c.observe(2*o, false, 60*second, true) {
			all = append(all, arrival{began + second, x})
		}
	}
	require.Equal(t, map[conversation]sums{c.conversation: {1, 5, 500}},
		totals(run(flow.NewJoiner(flow.JoinOptions{}, flow.NewSides()), all)))

	j := flow.NewJoiner(flow.JoinOptions{Most: 50}, flow.NewSides())
	all = nil
	for i := range 3000 {
		next := c
		next.start += flow.Micros(i) * 5000
		for _, reply := range []bool{false, true} {
			for _, x := range next.observe(0, reply, 60*second, true) {
				all = append(all, arrival{x.End, x})
			}
		}
	}
	got := totals(run(j, all))
	require.Equal(t, sums{3000, 30_000, 4_200_000}, got[c.conversation])
	require.LessOrEqual(t, j.Queued(), 4*50+2)
}
