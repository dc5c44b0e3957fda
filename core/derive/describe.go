package derive

// How a side of a rule is said: which sets of workloads, or parts of the outside,
// those that were seen stand for.

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"lucidorchard/core/service"
)

// evidence is the price of leaving somebody out who was surely seen, in bits.
const evidence = 10.0

// seen is a machine that takes part, with how sure it is that it does.
type seen struct {
	m int32
	r float64
}

// item is one part of a side: a set, one machine, or a part of the outside.
type item struct {
	set    *set
	m      int32        // one machine, if set is nil and no prefix is valid
	prefix netip.Prefix // of outside addresses
	group  string       // of the policy, that holds outside addresses
	all    bool         // all that is outside
}

func (d *deriver) holds(x *item, m int32) bool {
	switch {
	case x.set != nil:
		return !d.isOutside(m) && x.set.has(m)
	case x.all:
		return d.isOutside(m)
	case x.group != "":
		return d.isOutside(m) && d.namedBy[m-d.workloads] == x.group
	case x.prefix.IsValid():
		return d.isOutside(m) && x.prefix.Contains(d.outside[m-d.workloads])
	}
	return x.m == m
}

// itemKey distinguishes items and orders them.
func (d *deriver) itemKey(x *item) string {
	switch {
	case x.set != nil:
		return "1 " + x.set.key()
	case x.all:
		return "3 outside"
	case x.group != "":
		return "3 group " + x.group
	case x.prefix.IsValid():
		return "3 " + x.prefix.String()
	case d.isOutside(x.m):
		return "3 " + d.outside[x.m-d.workloads].String()
	}
	return "2 " + d.c.Estate.Workload(x.m).ID
}

func (x *item) words() float64 {
	switch {
	case x.set != nil:
		return x.set.words
	case x.all:
		return wordsOutside
	case x.group != "":
		return wordsGroup
	case x.prefix.IsValid():
		return wordsPrefix
	}
	return wordsSingle
}

// size is how many machines an item is; of the outside, how many were seen.
func (d *deriver) size(x *item, took int) int {
	switch {
	case x.set != nil:
		return len(x.set.members)
	case x.all, x.group != "", x.prefix.IsValid():
		return took
	}
	return 1
}

// opened is the price, at a weight of 1, of letting those in who were not seen:
// high where few of their peers take part, and on services from which much can be
// done.
func (d *deriver) opened(n, took, danger float64) float64 {
	took = min(took, n)
	p := (took + 0.5) / (n + 1)
	if danger >= veryDangerous { // nobody gets this for being like somebody
		p = took / (n + 2)
	}
	return danger * (n - took) * (1 - p)
}

// The share of the price that is left where those who take part come from all
// parts of a set, in proportion: then the others are only not seen yet.
const (
	dispersed    = 0.15
	partsOfASet  = 4 // applications that a set has at least, for that
	enoughSeen   = 6 // machines that take part
	enoughDanger = 9 // of services from which much can be done
)

// scattered is the factor for the price of a set, of which so many machines, in so
// many roles, take part.
func (d *deriver) scattered(x *set, took, roles int, danger float64) float64 {
	enough := enoughSeen
	if danger >= 2 {
		enough = enoughDanger
	}
	if x.apps < partsOfASet || took < enough {
		return 1
	}
	if float64(roles) >= 0.6*float64(min(took, len(x.roles))) {
		return dispersed // no more can be expected
	}
	n := float64(len(x.members))
	if t := float64(took); float64(roles) < 0.6*(t-t*t*x.largest/2) {
		return 1 // at least so many can be expected
	}
	expected := 0.0
	for _, r := range x.roles {
		expected += 1 - math.Exp(float64(took)*math.Log1p(-min(0.999999, float64(r.n)/n)))
	}
	if float64(roles) < 0.6*expected {
		return 1
	}
	return dispersed
}

// veryDangerous is a service that a single connection says nothing for: what is not
// more sure than chance does not count.
const veryDangerous, chance = 4, 0.45

// counts is how much it counts that somebody takes part.
func counts(r, danger float64) float64 {
	if danger >= veryDangerous {
		return max(0, r-chance) / (1 - chance)
	}
	return r
}

// remote are services by which machines are reached from others of their kind, and
// intruders move on (IANA: epmap, netbios-ssn, microsoft-ds).
var remote = service.NewSet(service.Range{Lo: service.PointOf(service.TCP, 135), Hi: service.PointOf(service.TCP, 135)},
	service.Range{Lo: service.PointOf(service.TCP, 139), Hi: service.PointOf(service.TCP, 139)},
	service.Range{Lo: service.PointOf(service.TCP, 445), Hi: service.PointOf(service.TCP, 445)})

// dangerOf is how much worse than usual it is to open a service to a client.
func dangerOf(r service.Range) float64 {
	switch {
	case service.Administration.Contains(r.Lo):
		return 5
	case remote.Contains(r.Lo):
		return 3
	case service.Databases.Contains(r.Lo), service.Copying.Contains(r.Lo):
		return 1.5
	}
	return 1
}

// scratch is room that is used again and again.
type scratch struct {
	weight  float64   // of what is opened
	tight   bool      // nothing is opened in an environment for being done in another
	v, k    []float64 // by set: bits that it saves, and how many of it take part
	touched []int32
	miss    [2][]float64 // by machine: how likely it is that it does not recur
	missing [2][]int32   // those with a miss below one
	price   []float64
	took    [2][]bool  // by machine: it takes part
	takers  [2][]int32 // those that do
	roles   []int32    // by role: when it was seen
	now     int32
	// By set: the role that was seen last, and how many were.
	lastRole, seenRoles []int32
	blocks              []float64 // by block: how likely it is that it does not recur
	blocksSeen          []int32
	surest              []float64 // by machine: of its edges, how sure the surest is
	sides               []int32   // those with any
}

func (d *deriver) newScratch() *scratch {
	s := &scratch{v: make([]float64, len(d.sets)), k: make([]float64, len(d.sets)),
		roles: make([]int32, len(d.roleTags)),
		price: make([]float64, len(d.sets)), lastRole: make([]int32, len(d.sets)),
		seenRoles: make([]int32, len(d.sets))}
	n := int(d.workloads) + len(d.outside)
	for i := range 2 {
		s.miss[i], s.took[i] = make([]float64, n), make([]bool, n)
	}
	s.surest = make([]float64, n)
	return s
}

// describe says machines in sets: greedily that which saves most bits, while any
// saves some. The others are left.
func (d *deriver) describe(s *scratch, all []seen, danger float64) []item {
	if danger >= veryDangerous {
		sure := all[:0:0]
		for _, x := range all {
			if x.r = counts(x.r, danger); x.r > 0 {
				sure = append(sure, x)
			}
		}
		all = sure
	}
	slices.SortFunc(all, func(a, b seen) int {
		return cmp.Or(cmp.Compare(d.roleOf[a.m], d.roleOf[b.m]), cmp.Compare(a.m, b.m))
	})
	for _, x := range all {
		for _, id := range d.setsOf[x.m] {
			if s.v[id] == 0 && s.k[id] == 0 {
				s.touched = append(s.touched, id)
			}
			s.v[id] += evidence * x.r
			s.k[id]++
			if r := d.roleOf[x.m] + 1; s.lastRole[id] != r {
				s.lastRole[id] = r
				s.seenRoles[id]++
			}
		}
	}
	slices.Sort(s.touched)
	price := s.price
	for _, id := range s.touched {
		x := d.sets[id]
		price[id] = x.words + s.weight*d.opened(float64(len(x.members)), s.k[id], danger)*
			d.scattered(x, int(s.k[id]), int(s.seenRoles[id]), danger)
		if all, seen := float64(len(x.roles)), float64(s.seenRoles[id]); all > 1 && x.apps < partsOfASet {
			price[id] += s.weight * unseenAside * (all - seen) * (1 - seen/all)
		}
	}
	var out []item
	left := all
	for words := 0.0; ; words = wordsMore {
		best, gain := int32(-1), 0.0
		for _, id := range s.touched {
			if g := s.v[id] - words - price[id]; g > gain+1e-9 {
				best, gain = id, g
			}
		}
		var single *seen
		for i := range left {
			if g := evidence*left[i].r - wordsSingle - words; g > gain+1e-9 {
				single, gain = &left[i], g
			}
		}
		if single == nil && best < 0 {
			break
		}
		next := make([]seen, 0, len(left))
		if single != nil {
			out = append(out, item{m: single.m})
		} else {
			out = append(out, item{set: d.sets[best]})
		}
		for _, x := range left {
			if d.holds(&out[len(out)-1], x.m) {
				for _, id := range d.setsOf[x.m] {
					s.v[id] -= evidence * x.r
				}
			} else {
				next = append(next, x)
			}
		}
		left = next
	}
	for _, id := range s.touched {
		s.v[id], s.k[id], s.lastRole[id], s.seenRoles[id] = 0, 0, 0, 0
	}
	s.touched = s.touched[:0]
	return out
}

// describeOutside says outside addresses: by groups of the policy that hold them,
// by the smallest prefixes where they are concentrated, else as all outside.
func (d *deriver) describeOutside(all []seen) []item {
	var out []item
	inGroup := map[string]float64{}
	var rest []seen
	for _, x := range all {
		if g := d.namedBy[x.m-d.workloads]; g != "" {
			inGroup[g] += x.r
		} else {
			rest = append(rest, x)
		}
	}
	for g, r := range inGroup {
		if r >= 0.5 {
			out = append(out, item{group: g})
		}
	}
	slices.SortFunc(out, func(a, b item) int { return cmp.Compare(a.group, b.group) })
	nets := map[netip.Prefix][]seen{}
	weight := 0.0
	for _, x := range rest {
		nets[d.network(x.m)] = append(nets[d.network(x.m)], x)
		weight += x.r
	}
	type cluster struct {
		list []seen
		r    float64
		net  netip.Prefix
	}
	var clusters []cluster
	for net, list := range nets {
		c := cluster{list: list, net: net}
		for _, x := range list {
			c.r += x.r
		}
		clusters = append(clusters, c)
	}
	slices.SortFunc(clusters, func(a, b cluster) int {
		return cmp.Or(cmp.Compare(b.r, a.r), a.net.Addr().Compare(b.net.Addr()))
	})
	if len(clusters) >= 6 && len(rest) >= 8 && clusters[0].r < 0.7*weight {
		return append(out, item{all: true})
	}
	for _, c := range clusters {
		switch {
		case len(out) >= 4:
		case len(c.list) >= 2 && c.r >= 0.9:
			out = append(out, item{prefix: d.around(c.list)})
		case c.r >= 0.85: // one address, again and again
			out = append(out, item{m: c.list[0].m})
		}
	}
	return out
}

// network is the part of the outside in which addresses count as neighbours.
func (d *deriver) network(m int32) netip.Prefix {
	a := d.outside[m-d.workloads]
	bits := 16
	if a.Is6() {
		bits = 40
	}
	p, _ := a.Prefix(bits)
	return p
}

// around is the smallest prefix that holds addresses; where these are few, and
// fill little of it, the next one: what comes later is as likely outside its edge.
func (d *deriver) around(list []seen) netip.Prefix {
	first := d.outside[list[0].m-d.workloads]
	bits := first.BitLen()
	for _, x := range list[1:] {
		a := d.outside[x.m-d.workloads]
		for bits > 0 {
			if p, _ := first.Prefix(bits); p.Contains(a) {
				break
			}
			bits--
		}
	}
	for few := 8; len(list) < few && bits > first.BitLen()-8; few /= 2 {
		bits--
	}
	p, _ := first.Prefix(bits)
	return p
}
