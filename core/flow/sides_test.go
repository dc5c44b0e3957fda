package flow_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// network makes connections of servers with many and few clients, on
// registered and odd ports, and what exporters with faults send of them.
type network struct {
	rand   *rand.Rand
	truths []truth
}

type fault struct {
	name     string
	flags    bool        // the exporter knows TCP flags
	loss     float64     // of records
	oneSided float64     // share of connections of which only one direction is exported
	sampling int64       // one of so many packets
	active   flow.Micros // time-out
}

var faults = []fault{
	{name: "flags", flags: true, loss: 0.02, sampling: 1, active: 60 * second},
	{name: "no flags", loss: 0.02, sampling: 1, active: 60 * second},
	{name: "one-sided", loss: 0.02, oneSided: 0.5, sampling: 1, active: 300 * second},
	{name: "sampled", flags: true, loss: 0.02, sampling: 20, active: 60 * second},
	{name: "lossy", loss: 0.25, oneSided: 0.2, sampling: 1, active: 30 * second},
}

func newNetwork(seed uint64, connections int) *network {
	n := &network{rand: rand.New(rand.NewPCG(seed, 3))}
	type served struct {
		addr  netip.Addr
		point service.Point
		peers int
	}
	var servers []served
	for i := range 400 {
		proto, port := uint8(service.TCP), uint32(0)
		switch n.rand.IntN(6) {
		case 0:
			port = []uint32{443, 80, 22, 5432, 3306, 636}[n.rand.IntN(6)]
		case 1:
			proto, port = service.UDP, []uint32{53, 123, 514, 161}[n.rand.IntN(4)]
		case 2, 3:
			port = []uint32{8080, 8443, 9092, 7411, 6443, 10250, 15672}[n.rand.IntN(7)]
		case 4:
			port = uint32(2000 + n.rand.IntN(28000))
		default: // a service in the range that clients' ports come from
			port = uint32(33000 + n.rand.IntN(27000))
		}
		servers = append(servers, served{host(2, i), service.PointOf(proto, port), 1 + n.rand.IntN(60)})
	}
	for i := range connections {
		s := servers[min(len(servers)-1, int(n.rand.ExpFloat64()*90))]
		packets := 1 + int64(n.rand.ExpFloat64()*12)
		c := truth{
			conversation: conversation{host(1, n.rand.IntN(s.peers)*7+int(s.point.Port())%40), s.addr, s.point},
			clientPort:   uint16(32768 + n.rand.IntN(28232)),
			start:        began + flow.Micros(i)*2000, length: flow.Micros(n.rand.ExpFloat64() * 20e6),
			out: sums{0, packets, packets * 200}, back: sums{0, packets, packets * 900},
			refused: n.rand.IntN(40) == 0,
		}
		if s.point.Proto() == service.UDP {
			c.refused = false
		}
		if c.refused {
			c.out, c.back = sums{0, 1, 60}, sums{0, 1, 40}
		}
		n.truths = append(n.truths, c)
	}
	return n
}

// exported returns what reaches the collector.
func (n *network) exported(f fault) []arrival {
	var all []arrival
	for i := range n.truths {
		c := &n.truths[i]
		only := -1
		if n.rand.Float64() < f.oneSided {
			only = n.rand.IntN(2)
		}
		for k, reply := range []bool{false, true} {
			if only >= 0 && only != k {
				continue
			}
			for _, o := range c.observe(0, reply, f.active, f.flags) {
				if n.rand.Float64() < f.loss {
					continue
				}
				if f.sampling > 1 {
					var kept int64
					for range o.Packets {
						if n.rand.Int64N(f.sampling) == 0 {
							kept++
						}
					}
					if kept == 0 {
						continue
					}
					o.Bytes = o.Bytes / o.Packets * kept * f.sampling
					if kept < o.Packets { // the opening is seldom among them, and the first packet is a later one
						o.Flags &^= flow.SYN | flow.FIN
						o.Start += flow.Micros(n.rand.Int64N(int64(o.End-o.Start) + 1))
					}
					o.Packets = kept * f.sampling
				}
				all = append(all, arrival{o.End + 15*second + flow.Micros(n.rand.IntN(3e6)), o})
			}
		}
	}
	return all
}

// rightWay returns the share of the conversations that stand the right way round.
func rightWay(seed uint64, f fault, connections int) (conversations int, share float64) {
	n := newNetwork(seed, connections)
	is := map[conversation]bool{}
	for _, c := range n.truths {
		is[c.conversation] = true
	}
	got := totals(run(flow.NewJoiner(flow.JoinOptions{}, flow.NewSides()), n.exported(f)))
	right, wrong := 0, 0
	for c := range got {
		if is[c] {
			right++
		} else {
			wrong++
		}
	}
	return right + wrong, float64(right) / float64(right+wrong)
}

// The sides are right for nearly all, whatever the exporters' faults; the
// benchmark prints the figures over more.
func TestServersAreFound(t *testing.T) {
	for _, f := range faults {
		_, share := rightWay(1, f, 30_000)
		require.Greater(t, share, 0.97, f.name)
	}
}

// BenchmarkSides measures the share of conversations that stand the right way
// round, by the exporters' faults, over several seeds.
func BenchmarkSides(b *testing.B) {
	for _, f := range faults {
		b.Run(f.name, func(b *testing.B) {
			var all, right float64
			for range b.N {
				for seed := range uint64(4) {
					n, share := rightWay(10+seed, f, 60_000)
					all += float64(n)
					right += float64(n) * share
				}
			}
			b.ReportMetric(100*right/all, "%right")
			b.ReportMetric(all/float64(4*b.N), "conversations")
		})
	}
}
