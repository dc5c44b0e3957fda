package sample

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Family is a kind of estate whose structure is drawn at random: what it has of
// each thing that makes deriving a policy hard.
type Family struct {
	Name     string
	Apps     [2]int  // applications, from and to
	Machines [2]int  // of an application's tier
	Giant    int     // machines of one tier of one application; 0: none
	Envs     int     // environments
	Sites    int     // sites; devices talk only within theirs
	Talk     float64 // share of the days on which a client calls
	Untidy   float64 // share of the machines with a tag that is missing, or misspelt
	Wrong    float64 // share of the machines with a tag of others
	Outskirt int     // partners, customers and desks
	Jobs     int     // copies between environments, callbacks, port ranges, machines of their own
	ByOwner  int     // needs that hold for one owner's, or one kind's, only
	Bound    int     // applications whose tiers talk only where a tag of theirs agrees: a line, a tenant, a rack
	Idle     int     // siblings, that do nothing, of the machine that administers, copies, polls
	Turns    int     // machines that administer by turns; 0: one does
	IPv6     bool
}

// Families are the kinds of estates by what is hard about them.
var Families = []Family{
	{Name: "plain", Apps: [2]int{4, 9}, Machines: [2]int{2, 8}, Envs: 2, Sites: 1, Talk: 0.6},
	{Name: "sparse", Apps: [2]int{4, 8}, Machines: [2]int{2, 9}, Envs: 2, Sites: 2, Talk: 0.15},
	{Name: "sites", Apps: [2]int{3, 6}, Machines: [2]int{3, 8}, Envs: 2, Sites: 5, Talk: 0.5, ByOwner: 1},
	{Name: "small", Apps: [2]int{16, 30}, Machines: [2]int{1, 3}, Envs: 2, Sites: 2, Talk: 0.5},
	{Name: "giant", Apps: [2]int{3, 5}, Machines: [2]int{3, 20}, Giant: 300, Envs: 3, Sites: 3, Talk: 0.4},
	{Name: "outskirts", Apps: [2]int{4, 8}, Machines: [2]int{2, 7}, Envs: 2, Sites: 2, Talk: 0.5, Outskirt: 4},
	{Name: "untidy", Apps: [2]int{4, 8}, Machines: [2]int{3, 9}, Envs: 2, Sites: 2, Talk: 0.6, Untidy: 0.06,
		Wrong: 0.02},
	{Name: "jobs", Apps: [2]int{4, 8}, Machines: [2]int{2, 8}, Envs: 3, Sites: 2, Talk: 0.5, Jobs: 4},
	{Name: "six", Apps: [2]int{4, 8}, Machines: [2]int{2, 8}, Envs: 2, Sites: 2, Talk: 0.5, Outskirt: 2, Jobs: 2,
		IPv6: true},
	{Name: "all of it", Apps: [2]int{6, 12}, Machines: [2]int{2, 10}, Envs: 3, Sites: 3, Talk: 0.4, Untidy: 0.04,
		Wrong: 0.01, Outskirt: 3, Jobs: 3, ByOwner: 1},
	{Name: "idle siblings", Apps: [2]int{4, 8}, Machines: [2]int{2, 8}, Envs: 2, Sites: 2, Talk: 0.5, Idle: 4},
	{Name: "by turns", Apps: [2]int{4, 8}, Machines: [2]int{2, 8}, Envs: 2, Sites: 2, Talk: 0.5, Turns: 5},
	{Name: "bound", Apps: [2]int{4, 8}, Machines: [2]int{6, 16}, Envs: 2, Sites: 3, Talk: 0.4, Bound: 3},
	{Name: "bound and idle", Apps: [2]int{5, 9}, Machines: [2]int{4, 12}, Envs: 2, Sites: 4, Talk: 0.3, Untidy: 0.03,
		Bound: 2, Idle: 3},
}

// Grown is an estate of a family, with two weeks of traffic and what of it is
// needed.
type Grown struct {
	Workloads []estate.Workload
	Needs     int // rules that a person would write
	Weeks     [2][]Labelled
}

// Labelled is a flow with what it is: needed, an attack, or a mistake.
type Labelled struct {
	flow.Record
	Needed bool
	Kind   string // of an attack, or mistake
}

// machine is one of a grown estate, with the tags that it should have.
type grownMachine struct {
	addr           netip.Addr
	app, tier, env string
	site, owner    string
	bound          [2]string // a tag that few applications have, and its value
	kind           string
	late           bool // it comes in the second week
	asleep         bool // it says nothing in the first
}

type grower struct {
	boundApps map[string]bool
	r         *rand.Rand
	f         Family
	all       []*grownMachine
	out       *Grown
	host      int
	known     []grownNeed
}

// grownNeed is what somebody needs: each of the clients may call each of the
// servers.
type grownNeed struct {
	clients, servers []*grownMachine
	point            func() service.Point
	talk             float64 // share of the days on which a client calls
	agree            func(a, b *grownMachine) bool
	turns            bool // one of them each day
}

// Grow makes an estate of a family. The same seed gives the same one.
func Grow(f Family, seed uint64) *Grown {
	g := &grower{r: rand.New(rand.NewPCG(seed, 4711)), f: f, out: &Grown{}, boundApps: map[string]bool{}}
	g.machines()
	g.shared()
	g.applications()
	g.outskirts()
	g.jobs()
	for week := range 2 {
		for _, n := range g.known {
			g.talk(week, n)
		}
		g.attacks(week)
	}
	g.list()
	return g.out
}

func (g *grower) between(a, b int) int { return a + g.r.IntN(b-a+1) }

func (g *grower) one(list []*grownMachine) *grownMachine { return list[g.r.IntN(len(list))] }

var (
	grownEnvs  = []string{"live", "trial", "build"}
	grownTiers = [][]string{{"entry", "logic", "store"}, {"front", "store"}, {"entry", "logic", "cache", "store"},
		{"device", "hub", "store"}, {"logic", "store"}}
	grownSites  = []string{"north", "quay", "hill", "delta", "mill"}
	grownOwners = []string{"ash", "birch", "cedar", "elm"}
)

func (g *grower) add(app, tier, env, site, kind string) *grownMachine {
	g.host += 1 + g.r.IntN(3)
	a := netip.AddrFrom4([4]byte{10, byte(g.host >> 16), byte(g.host >> 8), byte(g.host)})
	if g.f.IPv6 && g.r.IntN(2) == 0 {
		a = netip.AddrFrom16([16]byte{0xfd, 0x20, 0, byte(len(site)), 13: byte(g.host >> 16), 14: byte(g.host >> 8),
			15: byte(g.host)})
	}
	m := &grownMachine{addr: a, app: app, tier: tier, env: env, site: site, kind: kind,
		owner: grownOwners[(len(app)*7+int(app[0]))%len(grownOwners)]}
	g.all = append(g.all, m)
	return m
}

func (g *grower) machines() {
	apps := g.between(g.f.Apps[0], g.f.Apps[1])
	for n := range apps {
		app := fmt.Sprintf("%s%d", []string{"ledger", "fleet", "press", "tally", "orders"}[n%5], n)
		tiers := grownTiers[g.r.IntN(len(grownTiers))]
		if g.f.Sites >= 4 && n == 0 {
			tiers = grownTiers[3]
		}
		bound := ""
		if n < g.f.Bound {
			bound = []string{"line", "tenant", "rack"}[(n+g.r.IntN(3))%3]
			g.boundApps[app] = true
		}
		values := 3 + g.r.IntN(3)
		for e := range g.f.Envs {
			if e > 0 && g.r.IntN(4) == 0 {
				continue // it has no such environment
			}
			for i, tier := range tiers {
				count := g.between(g.f.Machines[0], g.f.Machines[1])
				if e > 0 {
					count = max(1, count/2)
				}
				if tier == "device" {
					count *= 3
				}
				if g.f.Giant > 0 && n == 0 && e == 0 && i == 0 {
					count = g.f.Giant
				}
				for range count {
					kind := "server"
					if tier == "device" {
						kind = "device"
					}
					m := g.add(app, tier, grownEnvs[e], grownSites[g.r.IntN(g.f.Sites)], kind)
					if bound != "" {
						m.bound = [2]string{bound, fmt.Sprint(bound[:1], g.r.IntN(values))}
					}
					m.late = count > 2 && g.r.IntN(8) == 0
					m.asleep = count > 3 && g.r.IntN(12) == 0
				}
			}
		}
	}
	for _, app := range []string{"names", "time", "logs", "people", "patches", "poller", "vault", "helm"} {
		n := g.between(1, 3)
		switch app {
		case "poller", "vault", "helm":
			n = max(n, g.f.Idle+1, g.f.Turns)
		}
		for range n {
			g.add(app, "core", "shared", grownSites[g.r.IntN(g.f.Sites)], "server")
		}
	}
}

func (g *grower) find(app, tier, env string) (out []*grownMachine) {
	for _, m := range g.all {
		if (app == "" || m.app == app) && (tier == "" || m.tier == tier) && (env == "" || m.env == env) {
			out = append(out, m)
		}
	}
	return out
}

// need notes what somebody needs, as so many rules.
func (g *grower) need(rules int, clients, servers []*grownMachine, talk float64, agree func(a, b *grownMachine) bool,
	points ...service.Point) {
	if len(clients) == 0 || len(servers) == 0 {
		return
	}
	g.out.Needs += rules
	for _, p := range points {
		g.known = append(g.known, grownNeed{clients, servers, func() service.Point { return p }, talk, agree, false})
	}
}

func tcpPoint(port uint32) service.Point { return service.PointOf(service.TCP, port) }
func udpPoint(port uint32) service.Point { return service.PointOf(service.UDP, port) }

// shared makes the services of the whole estate.
func (g *grower) shared() {
	all := g.all
	g.need(1, all, g.find("names", "", ""), 0.9, nil, udpPoint(53))
	g.need(0, all, g.find("names", "", ""), 0.06, nil, tcpPoint(53))
	g.need(1, all, g.find("time", "", ""), 0.5, nil, udpPoint(123))
	g.need(1, all, g.find("logs", "", ""), 0.8, nil, tcpPoint(6514))
	g.need(1, all, g.find("people", "", ""), 0.3, nil, tcpPoint(636))
	g.need(1, all, g.find("patches", "", ""), 0.12, nil, tcpPoint(8530))
	working := func(app string) []*grownMachine {
		list := g.find(app, "", "")
		if g.f.Idle > 0 {
			return list[:1]
		}
		return list
	}
	g.need(1, working("poller"), all, 0.5, nil, tcpPoint(9100))
	var stores []*grownMachine
	for _, m := range all {
		if m.tier == "store" {
			stores = append(stores, m)
		}
	}
	lo := uint32(10000 + 10*g.r.IntN(400))
	g.out.Needs++
	g.known = append(g.known, grownNeed{clients: working("vault"), servers: stores, point: func() service.Point {
		return tcpPoint(lo + uint32(g.r.IntN(10)))
	}, talk: 0.4})
	if g.f.Idle > 0 {
		g.need(1, working("vault"), stores, 0.4, nil, tcpPoint(873))
	}
	if g.f.Turns > 0 {
		g.need(1, g.find("helm", "", ""), all, 0.12, nil, tcpPoint(22))
		g.known[len(g.known)-1].turns = true
		return
	}
	g.need(1, g.find("helm", "", "")[:1], all, 0.12, nil, tcpPoint(22))
}

func sameEnvOf(a, b *grownMachine) bool  { return a.env == b.env }
func sameSiteOf(a, b *grownMachine) bool { return a.env == b.env && a.site == b.site }
func boundTo(a, b *grownMachine) bool    { return a.env == b.env && a.bound == b.bound }

// applications makes what applications need of their own tiers and of each other.
func (g *grower) applications() {
	byApp := map[string][]string{}
	var apps []string
	for _, m := range g.all {
		if m.env != "shared" && !slices.Contains(byApp[m.app], m.tier) {
			if byApp[m.app] == nil {
				apps = append(apps, m.app)
			}
			byApp[m.app] = append(byApp[m.app], m.tier)
		}
	}
	envsOf := func(a, b []*grownMachine) int {
		seen := map[string]bool{}
		for _, m := range a {
			for _, o := range b {
				if m.env == o.env {
					seen[m.env] = true
					break
				}
			}
		}
		return len(seen)
	}
	for _, app := range apps {
		tiers := byApp[app]
		for i := 1; i < len(tiers); i++ {
			port := []uint32{8080, 8443, 7400, 9443, 6100}[g.r.IntN(5)]
			switch tiers[i] {
			case "store":
				port = []uint32{5432, 3306}[g.r.IntN(2)]
			case "cache":
				port = 6379
			case "hub":
				port = 8883
			}
			agree := sameEnvOf
			if tiers[i] == "hub" && g.f.Sites > 1 {
				agree = sameSiteOf
			}
			if g.boundApps[app] {
				agree = boundTo
			}
			clients, servers := g.find(app, tiers[i-1], ""), g.find(app, tiers[i], "")
			g.need(envsOf(clients, servers), clients, servers, g.f.Talk, agree, tcpPoint(port))
		}
		if g.r.IntN(3) == 0 {
			peers := g.find(app, tiers[len(tiers)-1], "")
			if len(peers) > 3 {
				g.need(envsOf(peers, peers), peers, peers, g.f.Talk, sameEnvOf, tcpPoint(7800))
			}
		}
		if other := apps[g.r.IntN(len(apps))]; other != app && g.r.IntN(2) == 0 {
			from, to := byApp[app], byApp[other]
			clients, servers := g.find(app, from[len(from)-2], ""), g.find(other, to[max(0, len(to)-2)], "")
			g.need(envsOf(clients, servers), clients, servers, g.f.Talk*0.8, sameEnvOf, tcpPoint(8080))
		}
	}
	for range g.f.ByOwner {
		owner := grownOwners[g.r.IntN(len(grownOwners))]
		var clients []*grownMachine
		for _, m := range g.find("", "store", grownEnvs[0]) {
			if m.owner == owner {
				clients = append(clients, m)
			}
		}
		if len(clients) > 2 {
			g.need(1, clients, g.find("people", "", ""), g.f.Talk, nil, tcpPoint(7443))
		}
	}
}

// outskirts makes customers from everywhere, partners from one network, desks.
func (g *grower) outskirts() {
	outside := func(a, b byte, bits int, n int) (out []*grownMachine) {
		for range n {
			v4 := [4]byte{a, b, byte(g.r.IntN(256)), byte(1 + g.r.IntN(254))}
			if bits > 24 {
				v4[2], v4[3] = 64, byte(128+g.r.IntN(1<<(32-bits)))
			} else if bits > 16 {
				v4[2] = 4 + byte(g.r.IntN(1<<(24-bits)))
			}
			if a == 0 {
				v4 = [4]byte{byte(20 + g.r.IntN(180)), byte(g.r.IntN(256)), byte(g.r.IntN(256)),
					byte(1 + g.r.IntN(254))}
			}
			out = append(out, &grownMachine{addr: netip.AddrFrom4(v4), env: "outside"})
		}
		return out
	}
	var fronts [][]*grownMachine
	for _, tier := range []string{"entry", "front"} {
		seen := map[string]bool{}
		for _, m := range g.find("", tier, grownEnvs[0]) {
			if !seen[m.app] {
				seen[m.app] = true
				fronts = append(fronts, g.find(m.app, tier, grownEnvs[0]))
			}
		}
	}
	for n := range g.f.Outskirt {
		if len(fronts) == 0 {
			return
		}
		to := fronts[n%len(fronts)]
		switch n % 4 {
		case 0: // customers: others every week
			g.out.Needs++
			for week := range 2 {
				for _, c := range outside(0, 0, 0, 60) {
					g.flow(week, g.r.IntN(7), c, g.one(g.awake(to, week)), tcpPoint(443), 1+g.r.Int64N(9), true, "")
				}
			}
		case 1: // a partner
			g.need(1, outside(198, 51, 26, 14), to, 0.4, nil, tcpPoint(8444))
		case 2: // desks
			g.need(1, outside(172, 20, 22, 60), to, 0.3, nil, tcpPoint(443))
		case 3: // out to a supplier
			g.need(1, g.find("patches", "", ""), outside(203, 7, 28, 5), 0.5, nil, tcpPoint(443))
		}
	}
}

// list writes the machines down, not always as they are.
func (g *grower) list() {
	for i, m := range g.all {
		w := estate.Workload{ID: fmt.Sprintf("g%05d", i), Name: fmt.Sprintf("%s-%s-%03d", m.app, m.tier, i),
			Kind:   m.kind,
			Leases: []estate.Lease{{Addr: m.addr, From: estate.Beginning, Until: estate.End}}}
		tags := map[string]string{"app": m.app, "tier": m.tier, "env": m.env, "site": m.site, "owner": m.owner,
			"rack": fmt.Sprint("r", g.r.IntN(20)), "built": fmt.Sprint("image-", g.r.IntN(4))}
		if m.bound[0] != "" {
			tags[m.bound[0]] = m.bound[1]
		}
		key := []string{"app", "tier", "env"}[g.r.IntN(3)]
		switch x := g.r.Float64(); {
		case x < g.f.Untidy/2:
			delete(tags, key)
		case x < g.f.Untidy:
			v := tags[key]
			k := 1 + g.r.IntN(len(v)-1)
			tags[key] = v[:k] + v[k-1:]
		case x < g.f.Untidy+g.f.Wrong && key != "env":
			other := g.one(g.all)
			tags[key] = map[string]string{"app": other.app, "tier": other.tier}[key]
		}
		for _, k := range []string{"app", "tier", "env", "site", "owner", "rack", "built", "line", "tenant"} {
			if tags[k] != "" {
				w.SetTag(estate.Tag{Key: k, Value: tags[k]})
			}
		}
		g.out.Workloads = append(g.out.Workloads, w)
	}
}
