// Package demo makes up Saltmarsh Ferries, the company that every example,
// test and picture shows: its workloads, two weeks of traffic, and a policy
// that is half done. The same options give the same company.
//
// Start reading at Generate.
package demo

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
)

// Options say how large the company is and when its two weeks end.
type Options struct {
	Workloads int       // about how many; 0 is 420
	Days      int       // 0 is 14
	End       time.Time // the traffic ends at the start of this hour
	Seed      uint64    // 0 is 1
}

// Company is what Generate makes.
type Company struct {
	Workloads []estate.Workload
	Records   []flow.Record // in the order of their start
	Policy    string        // a draft that is half done
}

// Generate makes the company.
func Generate(o Options) *Company {
	if o.Workloads == 0 {
		o.Workloads = 420
	}
	if o.Days == 0 {
		o.Days = 14
	}
	if o.Seed == 0 {
		o.Seed = 1
	}
	b := &builder{
		Options: o, rand: rand.New(rand.NewPCG(o.Seed, 7)), byRole: map[role][]int{},
		end:  o.End.UTC().Truncate(time.Hour),
		next: map[string]int{},
	}
	b.begin = b.end.Add(-time.Duration(o.Days) * 24 * time.Hour)
	b.estate()
	b.traffic()
	return &Company{b.workloads, b.records, Policy(b.end)}
}

type role struct{ app, tier, env string }

type builder struct {
	Options
	rand       *rand.Rand
	begin, end time.Time
	workloads  []estate.Workload
	byRole     map[role][]int // true roles, whatever the tags say
	next       map[string]int // next host number of a subnet
	records    []flow.Record
}

// The applications with how many live machines each tier has, at 420 workloads.
var applications = []struct {
	name                     string
	subnet                   int
	entry, logic, bus, store int
}{
	{"booking", 3, 16, 22, 4, 6},
	{"boarding", 4, 20, 14, 0, 5},
	{"manifest", 5, 5, 8, 0, 4},
	{"fares", 6, 6, 10, 0, 6},
	{"tides", 7, 8, 8, 6, 5},
	{"roster", 8, 5, 9, 0, 4},
	{"freight", 9, 9, 15, 7, 6},
}

var sharedMachines = []struct {
	name string
	n    int
}{{"names", 4}, {"clock", 2}, {"logbook", 4}, {"keys", 3}, {"vault", 3}, {"gangway", 4}}

var environments = []struct {
	name, suffix string
	net          int // second octet at northquay; southquay has the next
	share        float64
}{{"live", "", 20, 1}, {"trial", "t", 60, 0.47}, {"bench", "b", 70, 0.24}}

func (b *builder) estate() {
	scale := float64(b.Workloads) / 420
	for _, env := range environments {
		for _, a := range applications {
			for _, t := range []struct {
				name string
				n    int
			}{{"entry", a.entry}, {"logic", a.logic}, {"bus", a.bus}, {"store", a.store}} {
				n := int(float64(t.n)*env.share*scale + 0.5)
				if t.n > 0 {
					n = max(n, 1)
				}
				for i := range n {
					site := i % 2
					id := fmt.Sprintf("%s-%s-%s%02d", a.name, t.name, env.suffix, i+1)
					b.add(id, role{a.name, t.name, env.name}, site, b.address(env.net+site, a.subnet))
				}
			}
		}
	}
	for k, s := range sharedMachines {
		n := max(s.n, int(float64(s.n)*scale/8))
		for i := range n {
			b.add(fmt.Sprintf("%s-%02d", s.name, i+1), role{s.name, "shared", "live"}, i%2, b.address(20+i%2, 32+k))
		}
	}
	b.add("freight-crane-01", role{"freight", "crane", "live"}, 1, b.address(21, 9))
	b.add("freight-crane-02", role{"freight", "crane", "live"}, 1, b.address(21, 9))
	b.stories()
}

// address returns the next free address of a subnet; large companies run over
// into higher subnets.
func (b *builder) address(net, subnet int) netip.Addr {
	key := fmt.Sprint(net, " ", subnet)
	n := b.next[key]
	b.next[key] = n + 1
	third := subnet + 40*(n/240)
	return netip.AddrFrom4([4]byte{10, byte(net + third/250*2), byte(third % 250), byte(10 + n%240)})
}

func (b *builder) add(id string, r role, site int, addr netip.Addr) int {
	siteName := []string{"northquay", "southquay"}[site]
	at := time.Date(2026, 3, 12, 6, 30, 0, 0, time.UTC)
	tag := func(key, value string) estate.Tag {
		return estate.Tag{Key: key, Value: value, Source: "inventory", By: "import", At: at}
	}
	w := estate.Workload{ID: id, Name: id, OS: "debian", Kind: "vm",
		Tags:   []estate.Tag{tag("app", r.app), tag("env", r.env), tag("site", siteName), tag("tier", r.tier)},
		Leases: []estate.Lease{{Addr: addr, From: estate.Beginning, Until: estate.End}}}
	if r.tier == "crane" {
		w.OS, w.Kind = "", "appliance"
	}
	if r.tier == "store" && r.env == "live" {
		v6 := addr.As4()
		w.Leases = append(w.Leases,
			estate.Lease{Addr: netip.AddrFrom16([16]byte{0xfd, 0, 0, v6[1], 0, v6[2], 15: v6[3]}),
				From: estate.Beginning, Until: estate.End})
	}
	b.workloads = append(b.workloads, w)
	i := len(b.workloads) - 1
	b.byRole[r] = append(b.byRole[r], i)
	return i
}

// stories bends the estate: what is missing, misspelt, reused or new.
func (b *builder) stories() {
	w := func(r role, k int) *estate.Workload {
		all := b.byRole[r]
		return &b.workloads[all[k%len(all)]]
	}
	drop := func(w *estate.Workload, key string) { w.SetTag(estate.Tag{Key: key}) }
	rename := func(w *estate.Workload, name string) { w.Name = name }

	// A trial machine whose environment nobody wrote down queries the live fares store.
	drop(w(role{"booking", "logic", "trial"}, 2), "env")

	// Nine without a tier; four of them talk like others that have one.
	for k, r := range []role{{"booking", "logic", "live"}, {"booking", "logic", "live"},
		{"freight", "logic", "trial"}, {"boarding", "entry", "live"}} {
		m := w(r, 6+k)
		drop(m, "tier")
		rename(m, fmt.Sprintf("%s-x-77%02d", r.app[:2], 19+k))
	}
	for k, name := range []string{"srv-0412", "gate-old-3", "tmp-8831", "ro-17", "box-5"} {
		app := []string{"booking", "boarding", "tides", "roster", "freight"}[k]
		i := b.add("wl-"+name, role{app, "unknown", "live"}, k%2, b.address(20+k%2, 12))
		drop(&b.workloads[i], "tier")
		rename(&b.workloads[i], name)
	}
	spell := func(w *estate.Workload, value string) {
		w.SetTag(estate.Tag{Key: "env", Value: value, Source: "inventory", By: "import",
			At: time.Date(2026, 3, 12, 6, 30, 0, 0, time.UTC)})
	}
	spell(w(role{"tides", "logic", "live"}, 3), "Live ")
	spell(w(role{"roster", "logic", "live"}, 2), "live-")

	// Gate scanners are started and stopped every day and reuse addresses: last
	// week theirs belonged to roster terminals.
	switchDay := estate.InstantOf(b.end.Add(-7 * 24 * time.Hour).Truncate(24 * time.Hour))
	for k := range 4 {
		m := w(role{"boarding", "entry", "live"}, 12+k)
		addr := m.Leases[0].Addr
		m.Leases[0].From = switchDay
		i := b.add(fmt.Sprintf("roster-term-%02d", k+1), role{"roster", "term", "live"}, k%2, addr)
		b.workloads[i].Leases[0].Until = switchDay
		b.workloads[i].SetTag(estate.Tag{Key: "tier", Value: "entry", Source: "inventory", By: "import", At: b.begin})
	}

	// A machine that was added yesterday, rightly tagged.
	yesterday := b.end.Add(-26 * time.Hour)
	i := b.add(fmt.Sprintf("booking-entry-%02d", len(b.byRole[role{"booking", "entry", "live"}])+1),
		role{"booking", "entry", "live"}, 0, b.address(20, 3))
	b.workloads[i].Leases[0].From = estate.InstantOf(yesterday)
	for _, t := range b.workloads[i].Tags {
		t.At, t.Source, t.By = yesterday, "directory", "directory sync"
		b.workloads[i].SetTag(t)
	}
}
