package sample

import (
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// jobs makes what few machines need: copies between environments, callbacks to
// high ports, a port range, one machine of its own.
func (g *grower) jobs() {
	for n := range g.f.Jobs {
		live, trial := g.find("", "store", grownEnvs[0]), g.find("", "store", grownEnvs[1])
		if len(live) == 0 || len(trial) == 0 {
			return
		}
		switch n % 4 {
		case 0: // a copy, every night, of much
			a, b := g.one(live), g.one(trial)
			g.out.Needs++
			for week := range 2 {
				for day := range 7 {
					g.flow(week, day, a, b, tcpPoint(873), 2, true, "")
					last := len(g.out.Weeks[week]) - 1
					g.out.Weeks[week][last].Bytes = 40 << 20
				}
			}
		case 1: // passive data ports
			m := g.one(live)
			lo := uint32(30000 + 1000*g.r.IntN(5))
			g.out.Needs++
			g.known = append(g.known, grownNeed{g.find(m.app, m.tier, m.env), g.find("logs", "", ""),
				func() service.Point {
					return tcpPoint(lo + uint32(g.r.IntN(400)))
				}, 0.9, nil, false})
		case 2: // callbacks to ports that systems take by turns
			m := g.one(live)
			g.out.Needs++
			g.known = append(g.known, grownNeed{g.find("people", "", ""), g.find(m.app, m.tier, m.env),
				func() service.Point {
					return tcpPoint(49152 + uint32(g.r.IntN(16000)))
				}, 0.9, nil, false})
		case 3: // one machine reads the stores of another application, all day
			a, b := g.one(live), g.one(live)
			if a.app != b.app {
				g.need(1, []*grownMachine{a}, g.find(b.app, "store", b.env), 0.95, nil, tcpPoint(1433))
			}
		}
	}
}

func (g *grower) awake(list []*grownMachine, week int) []*grownMachine {
	var out []*grownMachine
	for _, m := range list {
		if week == 1 || !m.late && !m.asleep {
			out = append(out, m)
		}
	}
	if len(out) == 0 {
		return list[:1]
	}
	return out
}

// talk makes the traffic of a need in a week: each client keeps to a few servers,
// and to others in another week.
func (g *grower) talk(week int, n grownNeed) {
	if n.turns {
		g.byTurns(week, n)
		return
	}
	for _, c := range g.awake(n.clients, week) {
		var to []*grownMachine
		for _, s := range g.awake(n.servers, week) {
			if s != c && (n.agree == nil || n.agree(c, s)) {
				to = append(to, s)
			}
		}
		if len(to) == 0 {
			continue
		}
		keeps := min(len(to), 1+g.r.IntN(3))
		rounds := len(n.clients) <= 3 || len(n.clients) <= 6 && n.clients[0].tier == "core"
		if rounds { // pollers and the like go round
			keeps = len(to)
		}
		g.r.Shuffle(len(to), func(i, j int) { to[i], to[j] = to[j], to[i] })
		for day := range 7 {
			if !rounds {
				if g.r.Float64() < n.talk {
					g.flow(week, day, c, to[g.r.IntN(keeps)], n.point(), 1+g.r.Int64N(30), true, "")
				}
				continue
			}
			for _, s := range to {
				if g.r.Float64() < n.talk*0.5 {
					g.flow(week, day, c, s, n.point(), 1+g.r.Int64N(12), true, "")
				}
			}
		}
	}
}

// byTurns makes the traffic of a need of which each day another client has the turn.
func (g *grower) byTurns(week int, n grownNeed) {
	for day := range 7 {
		c := g.one(n.clients)
		for _, s := range g.awake(n.servers, week) {
			if s != c && g.r.Float64() < n.talk {
				g.flow(week, day, c, s, n.point(), 1+g.r.Int64N(12), true, "")
			}
		}
	}
}

func (g *grower) flow(week, day int, from, to *grownMachine, p service.Point, n int64, needed bool, kind string) {
	at := estate.Instant{Sec: 1_795_392_000 + int64(week*7+day)*86400 + g.r.Int64N(86400)}
	g.out.Weeks[week] = append(g.out.Weeks[week], Labelled{flow.Record{Start: at, End: at, Client: from.addr,
		Server: to.addr,
		Point:  p, Connections: n, Packets: 4 * n, Bytes: n * (300 + g.r.Int64N(4000)), Outcome: flow.Carried}, needed,
		kind})
}

// attacks makes what nobody needs. Attackers know what the policy looks like: they
// use its services, next door and one tier too far, a little, for a few days.
func (g *grower) attacks(week int) {
	some := func(days, times int, kind string, f func() (a, b *grownMachine, p service.Point)) {
		for range times {
			a, b, p := f()
			if a == nil || b == nil || a == b || g.needed(a, b, p) {
				continue
			}
			for _, day := range g.r.Perm(7)[:1+g.r.IntN(days)] {
				g.flow(week, day, a, b, p, 1+g.r.Int64N(4), false, kind)
			}
		}
	}
	live := g.find("", "", grownEnvs[0])
	needs := func() grownNeed { return g.known[g.r.IntN(len(g.known))] }
	// on an opened service, to another application
	some(3, 10, "next door", func() (a, b *grownMachine, p service.Point) {
		n := needs()
		s := g.one(n.servers)
		return g.one(live), s, n.point()
	})
	some(3, 8, "a tier too far", func() (a, b *grownMachine, p service.Point) {
		s := g.one(live)
		if s.tier != "store" {
			return nil, nil, 0
		}
		return g.one(g.find(s.app, "", s.env)), s, tcpPoint([]uint32{5432, 3306}[g.r.IntN(2)])
	})
	some(3, 8, "across environments", func() (a, b *grownMachine, p service.Point) {
		if g.f.Envs < 2 {
			return nil, nil, 0
		}
		trial := g.find("", "", grownEnvs[1])
		if len(trial) == 0 {
			return nil, nil, 0
		}
		return g.one(trial), g.one(live), tcpPoint([]uint32{5432, 8080, 8443}[g.r.IntN(3)])
	})
	some(2, 14, "from machine to machine", func() (a, b *grownMachine, p service.Point) {
		return g.one(g.all), g.one(g.all), tcpPoint([]uint32{22, 3389, 445, 5985}[g.r.IntN(4)])
	})
	some(3, 8, "out", func() (a, b *grownMachine, p service.Point) {
		to := &grownMachine{addr: netip.AddrFrom4([4]byte{byte(30 + g.r.IntN(150)), byte(g.r.IntN(256)),
			byte(g.r.IntN(256)), 9})}
		return g.one(live), to, tcpPoint([]uint32{443, 4444, 8081, 53}[g.r.IntN(4)])
	})
	some(1, 6, "in", func() (a, b *grownMachine, p service.Point) {
		from := &grownMachine{addr: netip.AddrFrom4([4]byte{byte(30 + g.r.IntN(150)), byte(g.r.IntN(256)),
			byte(g.r.IntN(256)), 7})}
		return from, g.one(live), tcpPoint([]uint32{22, 8443, 8444, 3389}[g.r.IntN(4)])
	})
	some(1, 12, "mistake", func() (a, b *grownMachine, p service.Point) {
		return g.one(g.all), g.one(g.all), tcpPoint([]uint32{5432, 8080, 9443, 1521, 80}[g.r.IntN(5)])
	})
	g.attacksInside(some, needs)
	scanner := g.one(live)
	for range 50 {
		to := g.one(g.all)
		p := tcpPoint([]uint32{21, 22, 23, 80, 135, 443, 445, 1433, 3306, 3389, 5432, 8080}[g.r.IntN(12)])
		if to == scanner || g.needed(scanner, to, p) {
			continue
		}
		g.flow(week, 2, scanner, to, p, 1, false, "scan")
		last := &g.out.Weeks[week][len(g.out.Weeks[week])-1]
		last.Bytes, last.Packets = 0, 1
		if g.r.IntN(2) == 0 {
			last.Outcome = flow.Dropped
		}
	}
}

// attacksInside makes what hides inside the rules that one would write first: siblings of the machine
// that administers, and pairs of tiers that talk, but for the tag that binds them.
func (g *grower) attacksInside(some func(days, times int, kind string, f func() (a, b *grownMachine,
	p service.Point)), needs func() grownNeed) {
	if g.f.Idle > 0 {
		some(2, 10, "from an idle sibling", func() (a, b *grownMachine, p service.Point) {
			if g.r.IntN(3) == 0 {
				return g.one(g.find("vault", "", "")[1:]), g.one(g.find("", "store", "")), tcpPoint(873)
			}
			return g.one(g.find("helm", "", "")[1:]), g.one(g.all), tcpPoint(22)
		})
	}
	if g.f.Bound > 0 || g.f.Sites > 3 {
		some(2, 6, "across what binds", func() (a, b *grownMachine, p service.Point) {
			for range 200 {
				n := needs()
				a, b = g.one(n.clients), g.one(n.servers)
				if n.agree != nil && a.app == b.app && a.env == b.env && !n.agree(a, b) {
					return a, b, n.point()
				}
			}
			return nil, nil, 0
		})
	}
}

// needed reports whether one of the needs holds of a conversation.
func (g *grower) needed(a, b *grownMachine, p service.Point) bool {
	for _, n := range g.known {
		if slices.Contains(n.clients, a) && slices.Contains(n.servers, b) && (n.agree == nil || n.agree(a, b)) {
			for range 40 { // a range shows itself
				if n.point() == p {
					return true
				}
			}
		}
	}
	return false
}
