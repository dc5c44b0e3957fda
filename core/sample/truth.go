package sample

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Shape says what kind of estate Truth makes.
type Shape struct {
	Name     string
	Apps     int
	Envs     []string
	Machines int     // of a role, at most
	Uses     int     // other applications that one uses, at most
	Fill     float64 // share of the pairs that a rule opens that talk in a week
	Untagged float64 // share of the machines that lack a tag
}

// Shapes are estates that differ in what is hard about them.
var Shapes = []Shape{
	{"few large applications", 6, []string{"prod", "test"}, 24, 2, 0.5, 0},
	{"many small applications", 40, []string{"prod", "test", "dev"}, 4, 3, 0.8, 0},
	{"one environment", 15, []string{"prod"}, 10, 4, 0.6, 0},
	{"sparse traffic", 20, []string{"prod", "uat"}, 12, 3, 0.2, 0},
	{"missing tags", 12, []string{"prod", "test"}, 12, 3, 0.5, 0.04},
}

// Truth is an estate with the policy that it really follows, and two weeks of
// traffic.
type Truth struct {
	Workloads []estate.Workload
	Policy    string // one rule for each need
	Rules     int
	Weeks     [2][]Labelled
}

// Labelled is a flow and whether somebody needs it.
type Labelled struct {
	flow.Record
	Needed bool
}

type truthRole struct {
	app, tier, env string
	all            []int // workloads; some are there from the second week on only
}

// MakeTruth makes an estate of a shape. The same seed gives the same one.
func MakeTruth(shape Shape, seed uint64) *Truth {
	m := &truthMaker{r: rand.New(rand.NewPCG(seed, 99)), shape: shape, out: &Truth{}, groups: map[string]bool{}}
	m.estate()
	m.policy()
	m.unwanted()
	m.out.Policy = strings.Join(m.defs, "\n") + "\nlayer allowances\n" + strings.Join(m.rules, "\n") + "\n"
	m.out.Rules = len(m.rules)
	return m.out
}

type truthMaker struct {
	r           *rand.Rand
	shape       Shape
	out         *Truth
	roles       []*truthRole
	groups      map[string]bool
	defs, rules []string
	next        int
	late        map[int]bool
}

func (m *truthMaker) machine(app, tier, env string) int {
	i := len(m.out.Workloads)
	m.next += 1 + m.r.IntN(3)
	w := estate.Workload{ID: fmt.Sprintf("m%05d", i), Name: fmt.Sprintf("%s-%s-%02d", app, tier, i),
		Leases: []estate.Lease{{Addr: LargeAddr(m.next), From: estate.Beginning, Until: estate.End}}}
	for k, v := range map[string]string{"app": app, "tier": tier, "env": env} {
		w.SetTag(estate.Tag{Key: k, Value: v})
	}
	if m.r.Float64() < m.shape.Untagged {
		w.SetTag(estate.Tag{Key: []string{"app", "tier", "env"}[m.r.IntN(3)]})
	}
	m.out.Workloads = append(m.out.Workloads, w)
	return i
}

func (m *truthMaker) role(app, tier, env string, n int) *truthRole {
	r := &truthRole{app: app, tier: tier, env: env}
	for range n {
		r.all = append(r.all, m.machine(app, tier, env))
	}
	if n >= 3 && m.r.IntN(3) == 0 { // it grows: a machine more in the second week
		late := m.machine(app, tier, env)
		r.all = append(r.all, late)
		m.late[late] = true
	}
	m.roles = append(m.roles, r)
	return r
}

var truthTiers = []string{"entry", "logic", "store", "queue"}

func (m *truthMaker) estate() {
	m.late = map[int]bool{}
	for a := range m.shape.Apps {
		tiers := 2 + m.r.IntN(3)
		for _, env := range m.shape.Envs {
			for _, t := range truthTiers[:tiers] {
				m.role(fmt.Sprintf("app%02d", a), t, env, 1+m.r.IntN(m.shape.Machines))
			}
		}
	}
	for _, s := range []string{"dns", "ntp", "logs", "directory", "backup", "jump", "monitor"} {
		m.role(s, "shared", m.shape.Envs[0], 2+m.r.IntN(2))
	}
}

func (m *truthMaker) find(app, tier, env string) []*truthRole {
	var out []*truthRole
	for _, r := range m.roles {
		if (app == "" || r.app == app) && (tier == "" || r.tier == tier) && (env == "" || r.env == env) {
			out = append(out, r)
		}
	}
	return out
}

// need writes a rule down and makes its traffic: between roles that it joins,
// some of the pairs in each week, not the same ones.
func (m *truthMaker) need(left, right, on, clauses string, pairs [][2]*truthRole, pt service.Point, days int) {
	m.rules = append(m.rules,
		strings.TrimSpace(fmt.Sprintf("permit %s -> %s on %s %s", m.group(left), m.group(right), on, clauses)))
	for _, p := range pairs {
		for week := range 2 {
			for _, c := range p[0].all {
				if week == 0 && m.late[c] {
					continue
				}
				talked := false
				for _, s := range p[1].all {
					if c == s || week == 0 && m.late[s] || m.r.Float64() > m.shape.Fill && talked {
						continue
					}
					talked = true
					for _, d := range m.r.Perm(7)[:days] {
						m.flow(week, d, m.addr(c), m.addr(s), pt, 1+m.r.Int64N(40), true)
					}
				}
			}
		}
	}
}

func (m *truthMaker) addr(i int) netip.Addr { return m.out.Workloads[i].Leases[0].Addr }

func (m *truthMaker) flow(week, day int, from, to netip.Addr, pt service.Point, n int64, needed bool) {
	at := estate.Instant{Sec: 1_795_392_000 + int64(week*7+day)*86400 + m.r.Int64N(86400)}
	m.out.Weeks[week] = append(m.out.Weeks[week],
		Labelled{flow.Record{Start: at, End: at, Client: from, Server: to, Point: pt, Connections: n, Bytes: n * 900,
			Outcome: flow.Carried}, needed})
}

// group names the machines of an application and a tier, either of them free.
func (m *truthMaker) group(name string) string {
	if name == "any" || name == "outside" || m.groups[name] {
		return name
	}
	m.groups[name] = true
	app, tier, _ := strings.Cut(name, "-")
	def := "app is " + app
	switch {
	case name == "all":
		def = "not outside"
	case app == "every":
		def = "tier is " + tier
	case tier != "":
		def += " and tier is " + tier
	}
	m.defs = append(m.defs, "group "+name+" = "+def)
	return name
}

func (m *truthMaker) policy() {
	tcp := func(port uint32) service.Point { return service.PointOf(service.TCP, port) }
	within := func(a, at, b, bt string) (out [][2]*truthRole) {
		for _, env := range m.shape.Envs {
			for _, c := range m.find(a, at, env) {
				for _, s := range m.find(b, bt, env) {
					out = append(out, [2]*truthRole{c, s})
				}
			}
		}
		return out
	}
	every := func(to *truthRole) (out [][2]*truthRole) {
		for _, r := range m.roles {
			if r != to && r.app != to.app {
				out = append(out, [2]*truthRole{r, to})
			}
		}
		return out
	}
	turned := func(ps [][2]*truthRole) [][2]*truthRole {
		for i := range ps {
			ps[i][0], ps[i][1] = ps[i][1], ps[i][0]
		}
		return ps
	}
	for a := range m.shape.Apps {
		app := fmt.Sprintf("app%02d", a)
		port := uint32(8000 + m.r.IntN(1500))
		m.need(app+"-entry", app+"-logic", fmt.Sprintf("tcp/%d", port), "same env",
			within(app, "entry", app, "logic"), tcp(port), 2+m.r.IntN(5))
		if len(m.find(app, "store", "")) > 0 {
			db := []uint32{5432, 3306, 1521}[m.r.IntN(3)]
			m.need(app+"-logic", app+"-store", fmt.Sprintf("tcp/%d", db), "same env",
				within(app, "logic", app, "store"), tcp(db), 4)
		}
		if len(m.find(app, "queue", "")) > 0 {
			m.need(app+"-logic", app+"-queue", "tcp/5671", "same env", within(app, "logic", app, "queue"), tcp(5671),
				3)
		}
		for range m.r.IntN(m.shape.Uses + 1) {
			other := fmt.Sprintf("app%02d", m.r.IntN(m.shape.Apps))
			if other != app {
				m.need(app+"-logic", other+"-entry", "tcp/8443", "same env", within(app, "logic", other, "entry"),
					tcp(8443), 1+m.r.IntN(4))
			}
		}
		if m.r.IntN(4) == 0 { // a job that runs once a week
			m.need(app+"-logic", "logs", "tcp/9200", "",
				[][2]*truthRole{{m.find(app, "logic", m.shape.Envs[0])[0], m.find("logs", "", "")[0]}}, tcp(9200), 1)
		}
	}
	dns, ntp, logs := m.find("dns", "", "")[0], m.find("ntp", "", "")[0], m.find("logs", "", "")[0]
	dir, backup, jump, monitor := m.find("directory", "", "")[0], m.find("backup", "", "")[0],
		m.find("jump", "", "")[0], m.find("monitor", "", "")[0]
	m.need("all", "dns", "udp/53", "", every(dns), service.PointOf(service.UDP, 53), 5)
	m.need("all", "ntp", "udp/123", "", every(ntp), service.PointOf(service.UDP, 123), 5)
	m.need("all", "logs", "tcp/6514", "", every(logs), tcp(6514), 5)
	m.need("all", "directory", "tcp/636", "", every(dir), tcp(636), 2)
	m.need("monitor", "all", "tcp/9100", "", turned(every(monitor)), tcp(9100), 4)
	m.need("jump", "all", "tcp/22", "", turned(every(jump)), tcp(22), 1)
	var stores [][2]*truthRole
	for _, s := range m.find("", "store", m.shape.Envs[0]) {
		stores = append(stores, [2]*truthRole{backup, s})
	}
	m.need("backup", "every-store", "tcp/10050", "", stores, tcp(10050), 2)
	m.outside()
}

// outside makes customers of some entry machines, many, each for a while.
func (m *truthMaker) outside() {
	for _, e := range m.find("", "entry", m.shape.Envs[0]) {
		if m.r.IntN(3) > 0 {
			continue
		}
		m.rules = append(m.rules, "permit outside -> "+m.group(e.app+"-entry")+" on tcp/443")
		for week := range 2 {
			for range 40 {
				a := netip.AddrFrom4([4]byte{198, 51, byte(m.r.IntN(256)), byte(m.r.IntN(256))})
				s := e.all[m.r.IntN(len(e.all))]
				if week == 1 || !m.late[s] {
					m.flow(week, m.r.IntN(7), a, m.addr(s), service.PointOf(service.TCP, 443), 1+m.r.Int64N(9), true)
				}
			}
		}
	}
}

// unwanted makes attacks and mistakes in both weeks: movement from machine to
// machine on administration services, scans, test machines at the databases of
// others, machines that send things out, and wrong addresses.
func (m *truthMaker) unwanted() {
	any := func() int { return m.r.IntN(len(m.out.Workloads)) }
	for week := range 2 {
		add := func(from, to int, pt service.Point, n int64) {
			if from != to {
				m.flow(week, m.r.IntN(7), m.addr(from), m.addr(to), pt, n, false)
			}
		}
		for range 3 { // an intruder moves on, a few steps
			at := any()
			for range 6 {
				to := any()
				add(at, to, service.PointOf(service.TCP, []uint32{22, 3389, 445, 5985}[m.r.IntN(4)]), 1+m.r.Int64N(6))
				at = to
			}
		}
		scanner := any()
		for range 60 {
			add(scanner, any(), service.PointOf(service.TCP, []uint32{22, 80, 443, 445, 3306, 5432}[m.r.IntN(6)]), 1)
		}
		for range 12 { // mistakes
			c, s := m.roles[m.r.IntN(len(m.roles))], m.roles[m.r.IntN(len(m.roles))]
			if c.app != s.app && c.tier != "shared" && s.tier != "shared" {
				add(c.all[0], s.all[0], service.PointOf(service.TCP, []uint32{5432, 3306, 8443, 9443}[m.r.IntN(4)]),
					1+m.r.Int64N(2))
			}
		}
		if len(m.shape.Envs) > 1 {
			for range 12 { // across environments
				c := m.find("", "logic", m.shape.Envs[1])
				s := m.find("", "store", m.shape.Envs[0])
				if len(s) > 0 {
					add(c[m.r.IntN(len(c))].all[0], s[m.r.IntN(len(s))].all[0],
						service.PointOf(service.TCP, []uint32{5432, 3306, 1521}[m.r.IntN(3)]), 1+m.r.Int64N(30))
				}
			}
		}
		for range 8 { // out
			m.flow(week, m.r.IntN(7), m.addr(any()), netip.AddrFrom4([4]byte{203, 0, 113, byte(m.r.IntN(256))}),
				service.PointOf(service.TCP, []uint32{4444, 8081, 443}[m.r.IntN(3)]), 1+m.r.Int64N(20), false)
		}
	}
}
