package demo

import (
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// habit is what some machines do with others, hour by hour.
type habit struct {
	point  service.Point
	fanout int     // servers of each client
	active float64 // chance that a pair talks in an hour at noon
	conns  float64 // mean connections in such an hour
	size   float64 // median bytes of a connection
	rhythm bool    // follows the day
}

func tcp(port uint32) service.Point { return service.PointOf(service.TCP, port) }
func udp(port uint32) service.Point { return service.PointOf(service.UDP, port) }

func (b *builder) traffic() {
	web := habit{point: tcp(443), fanout: 3, active: 0.28, conns: 9, size: 9e3, rhythm: true}
	logic := habit{point: tcp(8443), fanout: 3, active: 0.3, conns: 14, size: 6e3, rhythm: true}
	store := habit{point: tcp(5432), fanout: 2, active: 0.32, conns: 20, size: 3e4, rhythm: true}
	queue := habit{point: tcp(5671), fanout: 2, active: 0.25, conns: 5, size: 2e3, rhythm: true}

	depots, kiosks := b.depots(), b.depots()[:24]
	customers := b.outside("203.0.113.0", 120)
	b.fromOutside(kiosks, role{"booking", "entry", "live"}, web)
	b.fromOutside(customers, role{"booking", "entry", "live"},
		habit{point: tcp(443), fanout: 2, active: 0.05, conns: 2, size: 2e4, rhythm: true})
	gates := role{"boarding", "entry", "live"}
	b.fromOutside(depots[:16], gates, habit{point: tcp(9443), fanout: max(3, len(b.byRole[gates])*3/20), active: 0.25,
		conns: 6, size: 1e3, rhythm: true})
	for _, env := range environments {
		for _, a := range applications {
			b.between(role{a.name, "entry", env.name}, role{a.name, "logic", env.name}, logic)
			b.between(role{a.name, "logic", env.name}, role{a.name, "store", env.name}, store)
			b.between(role{a.name, "logic", env.name}, role{a.name, "bus", env.name}, queue)
		}
		b.between(role{"booking", "logic", env.name}, role{"fares", "logic", env.name}, logic)
		b.between(role{"freight", "logic", env.name}, role{"fares", "logic", env.name}, logic)
		b.between(role{"boarding", "logic", env.name}, role{"manifest", "logic", env.name},
			habit{point: tcp(8444), fanout: 2, active: 0.25, conns: 7, size: 4e3, rhythm: true})
		b.between(role{"tides", "bus", env.name}, role{"tides", "store", env.name},
			habit{point: tcp(9092), fanout: 3, active: 0.3, conns: 12, size: 8e3})
	}
	b.between(role{"roster", "logic", "live"}, role{"fares", "store", "live"},
		habit{point: tcp(5432), fanout: 1, active: 0.1, conns: 2, size: 9e3, rhythm: true})
	b.toOutside(role{"fares", "logic", "live"}, b.outside("198.51.100.0", 3),
		habit{point: tcp(443), fanout: 2, active: 0.3, conns: 11, size: 3e3, rhythm: true})
	b.toOutside(role{"tides", "logic", "live"}, b.outside("192.0.2.64", 2),
		habit{point: tcp(443), fanout: 1, active: 0.4, conns: 2, size: 6e4})

	everyone := b.everyone()
	for _, s := range []struct {
		app string
		habit
	}{
		{"names", habit{point: udp(53), fanout: 2, active: 0.14, conns: 30, size: 300}},
		{"clock", habit{point: udp(123), fanout: 1, active: 0.1, conns: 1, size: 90}},
		{"logbook", habit{point: udp(514), fanout: 1, active: 0.12, conns: 3, size: 5e3}},
		{"keys", habit{point: tcp(636), fanout: 1, active: 0.05, conns: 2, size: 3e3, rhythm: true}},
	} {
		b.pairs(everyone, b.byRole[role{s.app, "shared", "live"}], s.habit)
	}
	// Each machine is polled by one monitor and reached by one administrators'
	// machine now and then.
	for _, i := range everyone {
		b.pairs(b.byRole[role{"logbook", "shared", "live"}][i%4:i%4+1], []int{i},
			habit{point: tcp(9100), fanout: 1, active: 0.12, conns: 12, size: 2e4})
		b.pairs(b.byRole[role{"logbook", "shared", "live"}][i%4:i%4+1], []int{i},
			habit{point: service.PointOf(service.ICMP, 8<<8), fanout: 1, active: 0.06, conns: 6, size: 500})
		b.pairs(b.byRole[role{"gangway", "shared", "live"}][i%3:i%3+1], []int{i},
			habit{point: tcp(22), fanout: 1, active: 0.015, conns: 1.2, size: 4e4, rhythm: true})
	}
	b.nights()
	b.mischief()
	slices.SortStableFunc(b.records, func(x, y flow.Record) int {
		switch {
		case x.Start.Before(y.Start):
			return -1
		case y.Start.Before(x.Start):
			return 1
		}
		return 0
	})
}

// nights has the backups: of every live store each night, but of the manifest
// stores on three nights only.
func (b *builder) nights() {
	vault := b.byRole[role{"vault", "shared", "live"}]
	for _, a := range applications {
		for k, i := range b.byRole[role{a.name, "store", "live"}] {
			for day := 0; day < b.Days; day++ {
				if a.name == "manifest" && day != 3 && day != 6 && day != 11 {
					continue
				}
				b.once(vault[k%len(vault)], i, tcp(873),
					b.begin.Truncate(24*time.Hour).Add(time.Duration(day+1)*24*time.Hour+
						time.Duration(1+k%3)*time.Hour), 2, 4e8, flow.Carried)
			}
		}
	}
}

// mischief has the stories that should be found.
func (b *builder) mischief() {
	at := func(r role, k int) int { return b.byRole[r][k%len(b.byRole[r])] }
	hour := func(day, h int) time.Time { return b.begin.Add(time.Duration(day*24+h) * time.Hour) }

	// The trial booking machine without an environment, at the live fares store.
	rogue := at(role{"booking", "logic", "trial"}, 2)
	for day := 2; day < b.Days; day++ {
		for h := 8; h < 12; h++ {
			b.once(rogue, at(role{"fares", "store", "live"}, 0), tcp(5432), hour(day, h), 3, 2e4, flow.Carried)
		}
	}
	// The scanner at a depot.
	scanner := netip.MustParseAddr("10.40.7.19")
	for k, i := range b.everyone() {
		if k%2 == 0 {
			for _, port := range []uint32{22, 80, 445, 3389} {
				o := flow.Dropped
				if (k+int(port))%5 == 0 {
					o = flow.Carried
				}
				b.record(estate.InstantOf(hour(9, k%24).Add(time.Duration(k%60)*time.Minute)), scanner,
					b.addr(i, hour(9, k%24)), tcp(port), 1, 60, o)
			}
		}
	}
	// ssh from everywhere to everything within two applications.
	for _, app := range []string{"booking", "freight"} {
		var all []int
		for _, tier := range []string{"entry", "logic", "store"} {
			all = append(all, b.byRole[role{app, tier, "live"}]...)
		}
		for range len(all) * 2 {
			from, to := all[b.rand.IntN(len(all))], all[b.rand.IntN(len(all))]
			if from != to {
				b.once(from, to, tcp(22), hour(b.rand.IntN(b.Days), 7+b.rand.IntN(10)), 1+int64(b.rand.IntN(2)), 9e3,
					flow.Carried)
			}
		}
	}
	// Telnet to the cranes, which somebody still needs.
	for day := 0; day < b.Days; day++ {
		b.once(at(role{"gangway", "shared", "live"}, 1), at(role{"freight", "crane", "live"}, day), tcp(23),
			hour(day, 9), 2, 3e3, flow.Carried)
	}
	// A manifest store reached by an entry machine, twice.
	for _, day := range []int{5, 10} {
		b.once(at(role{"boarding", "entry", "live"}, 1), at(role{"manifest", "store", "live"}, 0), tcp(5432),
			hour(day, 13), 1, 4e4, flow.Carried)
	}
	// A health check between sites that is permitted and dropped (choke), and
	// trial traffic that an old device lets through although it is rejected (leak).
	for day := 0; day < b.Days; day++ {
		for h := 0; h < 24; h += 3 {
			b.once(at(role{"logbook", "shared", "live"}, 0), at(role{"tides", "entry", "live"}, 1), tcp(9100),
				hour(day, h), 3, 180, flow.Dropped)
		}
		if day%2 == 0 {
			b.once(at(role{"roster", "logic", "trial"}, 0), at(role{"roster", "store", "live"}, 0), tcp(5432),
				hour(day, 15), 1, 7e3, flow.Carried)
		}
	}
	// Roster terminals worked from the addresses that gate scanners have now.
	b.between(role{"roster", "term", "live"}, role{"roster", "logic", "live"},
		habit{point: tcp(8443), fanout: 2, active: 0.3, conns: 4, size: 5e3, rhythm: true})
	// The trial of boarding reads the tides of the day where they are published: live. It
	// needs them, although trial and live are kept apart.
	for day := 0; day < b.Days; day++ {
		for h := 4; h < 24; h += 6 {
			b.once(at(role{"boarding", "logic", "trial"}, 0), at(role{"tides", "entry", "live"}, 0), tcp(443),
				hour(day, h), 2,
				9e3, flow.Carried)
		}
	}
}

func (b *builder) everyone() []int {
	out := make([]int, 0, len(b.workloads))
	for i, w := range b.workloads {
		if w.Kind != "appliance" && w.Leases[0].Until == estate.End {
			out = append(out, i)
		}
	}
	return out
}

// depots returns addresses of kiosks and terminals in the harbour offices.
func (b *builder) depots() []netip.Addr {
	var out []netip.Addr
	for office := 1; office <= 12; office++ {
		for host := 10; host < 13; host++ {
			out = append(out, netip.AddrFrom4([4]byte{10, 40, byte(office), byte(host)}))
		}
	}
	return out
}

func (b *builder) outside(first string, n int) []netip.Addr {
	a := netip.MustParseAddr(first)
	var out []netip.Addr
	for range n {
		a = a.Next()
		out = append(out, a)
	}
	return out
}

func (b *builder) between(from, to role, h habit) { b.pairs(b.byRole[from], b.byRole[to], h) }

func (b *builder) pairs(clients, servers []int, h habit) {
	for _, i := range clients {
		for _, j := range b.choose(servers, h.fanout, i) {
			if i != j {
				b.hours(h, func(t time.Time) (netip.Addr, netip.Addr) { return b.addr(i, t), b.addr(j, t) })
			}
		}
	}
}

func (b *builder) fromOutside(clients []netip.Addr, to role, h habit) {
	for k, a := range clients {
		for _, j := range b.choose(b.byRole[to], h.fanout, k) {
			b.hours(h, func(t time.Time) (netip.Addr, netip.Addr) { return a, b.addr(j, t) })
		}
	}
}

func (b *builder) toOutside(from role, servers []netip.Addr, h habit) {
	for k, i := range b.byRole[from] {
		for f := range min(h.fanout, len(servers)) {
			a := servers[(k+f)%len(servers)]
			b.hours(h, func(t time.Time) (netip.Addr, netip.Addr) { return b.addr(i, t), a })
		}
	}
}

// choose returns n of the servers, spread over the clients: the same ones whenever
// the company is made, so that what happens now is between those between whom it
// happened before.
func (b *builder) choose(servers []int, n, client int) []int {
	if n >= len(servers) {
		return servers
	}
	var out []int
	same := rand.New(rand.NewPCG(b.Seed, uint64(client)<<32|uint64(servers[0])<<8|uint64(n)))
	start := client*7 + same.IntN(len(servers))
	for k := range n {
		out = append(out, servers[(start+k*3)%len(servers)])
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// addr returns the address that a workload holds at a time; the zero Addr if none.
func (b *builder) addr(i int, t time.Time) netip.Addr {
	at := estate.InstantOf(t)
	for _, l := range b.workloads[i].Leases {
		if l.Covers(at) {
			return l.Addr
		}
	}
	return netip.Addr{}
}

// hours plays a habit of one pair through the two weeks.
func (b *builder) hours(h habit, ends func(time.Time) (client, server netip.Addr)) {
	thin := math.Min(1, 420/float64(b.Workloads)*4)
	for t := b.begin; t.Before(b.end); t = t.Add(time.Hour) {
		p := h.active * thin
		if h.rhythm {
			p *= 0.15 + 0.85*math.Pow(math.Max(0, math.Sin((float64(t.Hour())-5)/17*math.Pi)), 1.3)
			if d := t.Weekday(); d == time.Saturday || d == time.Sunday {
				p *= 0.6
			}
		}
		if b.rand.Float64() >= p {
			continue
		}
		client, server := ends(t)
		conns := 1 + int64(b.rand.ExpFloat64()*h.conns)
		bytes := int64(float64(conns) * h.size * math.Exp(b.rand.NormFloat64()))
		start := t.Add(time.Duration(b.rand.IntN(3000)) * time.Second)
		outcome := flow.Carried
		if b.rand.IntN(40) == 0 {
			outcome = flow.Unknown
		}
		b.record(estate.InstantOf(start), client, server, h.point, conns, bytes, outcome)
	}
}

func (b *builder) once(i, j int, p service.Point, t time.Time, conns int64, size float64, o flow.Outcome) {
	client, server := b.addr(i, t), b.addr(j, t)
	b.record(estate.InstantOf(t.Add(time.Duration(b.rand.IntN(3000))*time.Second)), client, server, p, conns,
		int64(float64(conns)*size*math.Exp(0.3*b.rand.NormFloat64())), o)
}

func (b *builder) record(start estate.Instant, client, server netip.Addr, p service.Point, conns, bytes int64,
	o flow.Outcome) {
	if !client.IsValid() || !server.IsValid() {
		return // the machine does not exist at the time
	}
	if start.Before(estate.InstantOf(b.begin)) || !start.Before(estate.InstantOf(b.end)) {
		return
	}
	r := flow.Record{Start: start, End: start, Client: client, Server: server, Point: p, Connections: conns,
		Bytes: bytes, Packets: bytes/700 + conns*3, Outcome: o}
	r.End.Sec += int64(b.rand.IntN(500))
	if p.Proto() == service.TCP || p.Proto() == service.UDP {
		r.SourcePort = uint16(32768 + b.rand.IntN(28000))
	}
	leaf := server.AsSlice()
	r.Observer = "quay-leaf-" + string(rune('1'+int(leaf[1])%4))
	b.records = append(b.records, r)
}
