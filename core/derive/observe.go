package derive

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// edge is what was seen from one machine to another on one service. Machines are
// numbered: workloads by their index, outside addresses after them.
type edge struct {
	client, server int32
	first, n       int32      // of deriver.order: its conversations
	rs             [2]float64 // what it says of its client and of its server; see work
	r              float64    // how reliable it is: 0 chance, 1 day after day
	block          int32      // which two roles: those of one service, from 0
	open           bool       // the policy does not decide it
	crossing       bool       // between environments, and not from or to what they share
	covered        bool
}

type deriver struct {
	in         Input
	c          *decide.Compiled
	keys       [3]string // of application, tier, environment
	meant      [][3]string
	shown      map[[2]string]string // how a folded value is written
	present    []bool               // workloads that hold an address some time
	valuesOf   map[expr.Key]int
	early      []int32          // of workloads: a number for the tags that they have
	roleOf     []int32          // of workloads
	roleTags   [][3]string      // of roles
	roleSize   []int            // machines of roles
	tried      map[int32]string // of those that scan: what they tried
	sets       []*set
	setsOf     [][]int32
	hints      []MissingTag
	workloads  int32 // machines from here on are outside addresses
	outside    []netip.Addr
	outsideIDs map[netip.Addr]int32
	namedBy    []string // of outside addresses: the policy's group that holds it
	ends       [][2]int32
	svcOf      []int32
	points     []service.Range // of services
	order      []int32         // conversations, by service, client and server
	edges      [][]edge        // by service
	considered int
	days       int
	envCount   int
	open       []bool // conversations that are to be considered
	scanned    []bool // conversations
	kinds      []kind
	kindOf     []int32 // of conversations
	callers    map[sharedKey]map[string]bool
	common     map[[2]string]bool // applications and environments that are there for the others
	groups     [][]*set           // of the policy, by workload
	copies     [2]int             // see findMirrored: cases in which both do, and all

	relations []relation // that pairs may agree in
	dropped   []int32    // with Judged: conversations of which the network let nothing through
}

// sharedKey is one side of traffic: an application and environment, and a service.
type sharedKey struct {
	app, env string
	client   bool
	point    service.Point
}

func newDeriver(in Input) *deriver {
	d := &deriver{in: in, c: in.Compiled, valuesOf: map[expr.Key]int{}, outsideIDs: map[netip.Addr]int32{},
		shown: map[[2]string]string{}, callers: map[sharedKey]map[string]bool{}, common: map[[2]string]bool{},
		tried: map[int32]string{}}
	e := d.c.Estate
	d.keys = structural(e)
	d.workloads = int32(e.Bound())
	d.meant = make([][3]string, e.Bound())
	d.present = make([]bool, e.Bound())
	u := usualValues(e)
	envs := map[string]bool{}
	spelled := map[[2]string]map[string]int{}
	for i, w := range e.All() {
		d.present[i] = slices.ContainsFunc(w.Leases, func(l estate.Lease) bool { return !l.Empty() })
		for k, key := range d.keys {
			t, _ := w.Tag(key)
			d.meant[i][k] = u.of(key, t.Value)
		}
		for _, t := range w.Tags {
			k := [2]string{t.Key, expr.Fold(t.Value)}
			if spelled[k] == nil {
				spelled[k] = map[string]int{}
			}
			spelled[k][t.Value]++
		}
		if d.meant[i][2] != "" {
			envs[d.meant[i][2]] = true
		}
	}
	d.envCount = len(envs)
	for k, ways := range spelled { // as most write it
		best := ""
		for way, n := range ways {
			if best == "" || n > ways[best] || n == ways[best] && way < best {
				best = way
			}
		}
		d.shown[k] = best
	}
	return d
}

// number assigns a number to a machine.
func (d *deriver) number(p decide.Placed) int32 {
	if p.Workload != estate.Outside {
		return p.Workload
	}
	n, ok := d.outsideIDs[p.Addr]
	if !ok {
		n = d.workloads + int32(len(d.outside))
		d.outsideIDs[p.Addr] = n
		d.outside = append(d.outside, p.Addr)
		group := ""
		d.c.EachGroup(p, func(g *policy.Group, t expr.Truth) {
			if t == expr.Yes && namesAddresses(g.Expr) && (group == "" || g.Name < group) {
				group = g.Name
			}
		})
		d.namedBy = append(d.namedBy, group)
	}
	return n
}

func (d *deriver) isOutside(m int32) bool { return m >= d.workloads }

// tags are those that a machine is meant to have; of an outside address none.
func (d *deriver) tags(m int32) [3]string {
	if d.isOutside(m) {
		return [3]string{}
	}
	return d.meant[m]
}

// role numbers what a machine is; all that is outside is one.
func (d *deriver) role(m int32) int32 {
	if d.isOutside(m) {
		return -1
	}
	return d.roleOf[m]
}

// reliability is how sure it is that something recurs that was seen so often on so
// many days.
func reliability(connections int64, days int) float64 {
	return 1 - 0.65*byDays[min(len(byDays)-1, days)]*byConnections[min(int64(len(byConnections)-1), connections)]
}

// The two parts of reliability.
var (
	byDays        [65]float64
	byConnections [65]float64
)

func init() {
	for n := range byDays {
		byDays[n] = math.Pow(0.6, float64(max(1, n)-1))
		byConnections[n] = math.Pow(0.85, math.Log2(float64(max(1, n))))
	}
}

// observe numbers the machines and finds what is to be considered. It is false if
// it was told to stop.
func (d *deriver) observe() bool {
	in := &d.in
	n := len(in.Conversations)
	d.ends, d.svcOf = make([][2]int32, n), make([]int32, n)
	d.open = make([]bool, n)
	var all Days
	const part = 100_000
	for from := 0; from < n; from += 2 * part {
		if in.Progress != nil && !in.Progress(0.2*float64(from)/float64(n)) {
			return false
		}
		for i := from; i < min(n, from+2*part); i++ {
			c := &in.Conversations[i]
			all |= c.Days
			d.ends[i] = [2]int32{d.number(c.Client), d.number(c.Server)}
		}
		var considered [2]int
		decide.Parallel(2, 2, func(_, half int) {
			for i := min(n, from+half*part); i < min(n, from+(half+1)*part); i++ {
				c := &in.Conversations[i]
				if c.Connections == 0 {
					continue
				}
				if LeftOpen(d.c, c.Client, c.Server, c.Point) && (in.Scope == nil || in.Scope(c.Client, c.Server)) {
					d.open[i] = true
					considered[half]++
				}
			}
		})
		d.considered += considered[0] + considered[1]
	}
	d.days = all.Count()
	d.early, _ = setMaker{d}.numberRoles()
	d.findKinds()
	steps := []func(){d.findScans, d.findServices, strayPlacer{d}.placeStrays, setMaker{d}.finalRoles, d.findShared,
		setMaker{d}.makeSets, d.makeEdges, mirror{d}.findMirrored}
	for k, step := range steps {
		step()
		if in.Progress != nil && !in.Progress(0.2+0.09*float64(k+1)/float64(len(steps))) {
			return false
		}
	}
	return true
}

// kind is what conversations have in common before anything is known of them: the tags of
// their client and of their server, and the point. Servers outside are each their own.
type kind struct {
	client, server int32 // tags; -1 is outside
	outside        int32 // the outside machine that serves; -1: none
	point          service.Point
}

// findKinds numbers the kinds, so that what is asked of millions of conversations is looked
// up once for each.
func (d *deriver) findKinds() {
	index := map[kind]int32{}
	d.kindOf = make([]int32, len(d.ends))
	for i := range d.ends {
		k := kind{d.earlyRole(d.ends[i][0]), d.earlyRole(d.ends[i][1]), -1, d.in.Conversations[i].Point}
		if d.isOutside(d.ends[i][1]) {
			k.outside = d.ends[i][1]
		}
		if d.kindOf[i] = numbered(index, k); int(d.kindOf[i]) == len(d.kinds) {
			d.kinds = append(d.kinds, k)
		}
	}
}

// earlyRole is the number of a machine's tags; of all that is outside, -1.
func (d *deriver) earlyRole(m int32) int32 {
	if d.isOutside(m) {
		return -1
	}
	return d.early[m]
}

// appOf is the application of a machine. One that nobody has tagged stands for itself, so that
// the only name server is known to serve everybody before it has a tag. Outside has none.
func (d *deriver) appOf(m int32) string {
	if app := d.tags(m)[0]; app != "" || d.isOutside(m) {
		return app
	}
	return "workload " + d.c.Estate.Workload(m).ID
}

// findShared finds which applications others share: those that the machines of
// three others call on a service across environments, and those that call so many.
func (d *deriver) findShared() {
	note := func(k sharedKey, app string) {
		if app == "" || app == k.app {
			return
		}
		if d.callers[k] == nil {
			d.callers[k] = map[string]bool{}
		}
		d.callers[k][app] = true
	}
	type way struct{ a, b, svc int32 }
	const often = 3 // that something is seen once says little; that it is seen between many, more
	once := map[way]int{}
	for i := range d.ends {
		c := &d.in.Conversations[i]
		w := way{d.role(d.ends[i][0]), d.role(d.ends[i][1]), d.svcOf[i]}
		if once[w] >= often {
			continue
		}
		a, b := d.tags(d.ends[i][0]), d.tags(d.ends[i][1])
		if d.scanned[i] || c.Connections == 0 {
			continue
		}
		if once[w]++; c.Connections <= 2 && c.Days.Count() <= 1 && once[w] < often {
			continue
		}
		once[w] = often
		p := d.points[d.svcOf[i]].Lo
		note(sharedKey{d.appOf(d.ends[i][1]), b[2], false, p}, a[0])
		note(sharedKey{d.appOf(d.ends[i][0]), a[2], true, p}, b[0])
	}
	apps := map[string]bool{}
	for _, t := range d.meant {
		if t[0] != "" {
			apps[t[0]] = true
		}
	}
	for k, others := range d.callers {
		if len(others) >= 3 && (!k.client || len(others)*5 >= 3*len(apps)) {
			d.common[[2]string{k.app, k.env}] = true
		}
	}
}

// ofTheEstate reports whether a machine's application is there for the others,
// whatever the service: three of them call it on some, or it calls most of them.
func (d *deriver) ofTheEstate(m int32) bool {
	return !d.isOutside(m) && d.common[[2]string{d.appOf(m), d.tags(m)[2]}]
}

// shared reports whether a machine's application is one that the estate shares on
// a service.
func (d *deriver) shared(m int32, client bool, p service.Point) bool {
	return !d.isOutside(m) && len(d.callers[sharedKey{d.appOf(m), d.tags(m)[2], client, p}]) >= 3
}

// crosses reports whether a conversation is between environments, and neither
// side is what they share.
func (d *deriver) crosses(i int) bool {
	if d.ofTheEstate(d.ends[i][0]) || d.ofTheEstate(d.ends[i][1]) {
		return false
	}
	a, b, p := d.tags(d.ends[i][0]), d.tags(d.ends[i][1]), d.points[d.svcOf[i]].Lo
	if d.envCount > 1 && d.unplaced(i) {
		return true
	}
	return a[2] != "" && b[2] != "" && a[2] != b[2] && !d.shared(d.ends[i][0], true, p) &&
		!d.shared(d.ends[i][1], false, p)
}

// unplaced reports whether one end of a conversation lacks an environment, and the
// other is not what environments share: then nobody can tell whether it crosses.
func (d *deriver) unplaced(i int) bool {
	p := d.points[d.svcOf[i]].Lo
	lacks := func(m int32) bool { return !d.isOutside(m) && d.tags(m)[2] == "" }
	a, b := d.ends[i][0], d.ends[i][1]
	if d.ofTheEstate(a) || d.ofTheEstate(b) {
		return false
	}
	return lacks(a) && !d.isOutside(b) && !d.shared(b, false, p) || lacks(b) && !d.isOutside(a) && !d.shared(a, true, p)
}

// placed is a conversation with its ends: the client in the upper half.
type placed struct {
	ends uint64
	at   int32
}

// sortByEnds sorts by client and server, whose numbers are below machines; what has the same
// ends stays in its order. It returns the sorted ones and the room that it needed. Many are
// sorted digit by digit, which takes a time that grows as they do.
func sortByEnds(all, spare []placed, machines uint64) (sorted, left []placed) {
	const digit, few = 11, 500
	if len(all) < few {
		slices.SortStableFunc(all, func(a, b placed) int { return cmp.Compare(a.ends, b.ends) })
		return all, spare
	}
	spare = slices.Grow(spare[:0], len(all))[:len(all)]
	for _, half := range [2]int{0, 32} {
		for low := 0; machines>>low > 0; low += digit {
			shift := half + low
			var counts [1 << digit]int32
			for i := range all {
				counts[all[i].ends>>shift&(1<<digit-1)]++
			}
			at := int32(0)
			for i, n := range counts {
				counts[i] = at
				at += n
			}
			for i := range all {
				k := all[i].ends >> shift & (1<<digit - 1)
				spare[counts[k]] = all[i]
				counts[k]++
			}
			all, spare = spare, all
		}
	}
	return all, spare
}

// makeEdges gathers the conversations by service, client and server.
func (d *deriver) makeEdges() {
	taken := func(i int) bool { return !d.scanned[i] && d.in.Conversations[i].Connections > 0 }
	starts := make([]int32, len(d.points)+1) // of the services, in order
	for i := range d.ends {
		if taken(i) {
			starts[d.svcOf[i]+1]++
		}
	}
	for s := range d.points {
		starts[s+1] += starts[s]
	}
	d.order = make([]int32, starts[len(d.points)])
	filled := slices.Clone(starts)
	for i := range d.ends {
		if s := d.svcOf[i]; taken(i) {
			d.order[filled[s]] = int32(i)
			filled[s]++
		}
	}
	machines := uint64(d.workloads) + uint64(len(d.outside))
	var rooms, spares [2][]placed
	d.edges = make([][]edge, len(d.points))
	decide.Parallel(2, len(d.points), func(worker, s int) {
		list := d.order[starts[s]:starts[s+1]]
		blocks := map[[2]int32]int32{}
		var crossing []bool // by block
		room := rooms[worker][:0]
		for _, i := range list {
			room = append(room, placed{uint64(d.ends[i][0])<<32 | uint64(d.ends[i][1]), i})
		}
		room, spares[worker] = sortByEnds(room, spares[worker], machines)
		for n, x := range room {
			list[n] = x.at
		}
		rooms[worker] = room
		pairs := 0
		for n := range room {
			if n == 0 || room[n].ends != room[n-1].ends {
				pairs++
			}
		}
		edges := make([]edge, 0, pairs)
		for from := 0; from < len(list); {
			to := from
			var days Days
			var connections int64
			x := edge{client: d.ends[list[from]][0], server: d.ends[list[from]][1], first: starts[s] + int32(from)}
			for ; to < len(list) && d.ends[list[to]] == d.ends[list[from]]; to++ {
				c := &d.in.Conversations[list[to]]
				days |= c.Days
				connections += min(c.Connections, 1<<40)
				x.open = x.open || d.open[list[to]]
			}
			x.n = int32(to - from)
			pair := [2]int32{d.role(x.client), d.role(x.server)}
			n, ok := blocks[pair]
			if !ok {
				n = int32(len(blocks))
				blocks[pair] = n
				crossing = append(crossing, d.crosses(int(list[from])))
			}
			x.block, x.crossing = n, crossing[n]
			x.r = reliability(connections, days.Count())
			edges = append(edges, x)
			from = to
		}
		d.edges[s] = edges
	})
}

// conversations returns the open conversations of an edge.
func (d *deriver) conversations(x *edge) (out []int32) {
	for _, i := range d.order[x.first : x.first+x.n] {
		if d.open[i] {
			out = append(out, i)
		}
	}
	return out
}
