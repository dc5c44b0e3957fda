package derive

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// role is one side of a pattern: the workloads with the same structural tags, a
// single workload that lacks one of them, or a part of the outside.
type role struct {
	id             int32
	key            string // identity and order
	app, tier, env string // folded; empty for single workloads and outside
	shown          [3]string
	group          string // a group of the policy that holds outside addresses
	outside        bool
	members        int // workloads of the role in the estate; 0 for outside
	workload       int32
}

// pattern is what was seen between two roles on one service.
type pattern struct {
	client, server *role
	points         service.Range
	conversations  []int
	connections    int64
	days           Days
	clients        map[int32]int // workload → conversations; outside addresses count as one each below zero
	servers        map[int32]int
	members        [2][]int32 // clients and servers, one for each conversation, before they are counted
}

type deriver struct {
	in         Input
	c          *decide.Compiled
	keys       [3]string // of application, tier, environment
	roles      map[string]*role
	ofWorkload []*role
	considered int
	open       []int // indexes of the conversations considered
	usual      map[usualKey]map[string]int
	numbered   int32
	sides      map[[3]string]side      // by conjunction of tags
	ends       [][2]*role              // of each conversation: client and server
	placed     map[decide.Placed]*role // of outside endpoints
	patterns   []*pattern
	outsiders  map[netip.Addr]int32 // outside addresses, numbered below zero
	allRoles   int
	days       int

	pairOf        []int32    // of each conversation: which two roles on which service
	pairs         int        // how many there are
	doubtful      []*pattern // of administration services, that were set aside
	sizesOfGroups map[string]int

	environments int // how many different ones workloads have
}

type usualKey struct {
	role   int32
	client bool
	point  service.Point
}

// pairKey is two roles and a service.
type pairKey struct {
	client, server int32
	point          service.Point
}

// structural finds the keys that stand for application, tier and environment:
// of the usual words, the one that most workloads have.
func structural(e *estate.Estate) [3]string {
	words := [3][]string{{"app", "application", "system"}, {"tier", "role"}, {"env", "environment", "stage"}}
	count := map[string]int{}
	for _, w := range e.All() {
		for _, t := range w.Tags {
			if t.Value != "" {
				count[t.Key]++
			}
		}
	}
	var out [3]string
	for i, ws := range words {
		out[i] = slices.MaxFunc(ws, func(a, b string) int {
			return cmp.Or(count[a]-count[b], slices.Index(ws, b)-slices.Index(ws, a))
		})
	}
	return out
}

func newDeriver(in Input) *deriver {
	d := &deriver{in: in, c: in.Compiled, roles: map[string]*role{}, usual: map[usualKey]map[string]int{},
		outsiders: map[netip.Addr]int32{}, placed: map[decide.Placed]*role{}, sides: map[[3]string]side{}}
	e := d.c.Estate
	d.keys = structural(e)
	d.ofWorkload = make([]*role, e.Bound())
	for i, w := range e.All() {
		var shown [3]string
		whole := true
		for k, key := range d.keys {
			t, ok := w.Tag(key)
			shown[k] = t.Value
			whole = whole && ok
		}
		r := &role{key: "workload " + w.ID, members: 1, workload: int32(i), shown: shown}
		if whole {
			key := expr.Fold(fmt.Sprintf("%q %q %q", shown[0], shown[1], shown[2]))
			if have := d.roles[key]; have != nil {
				r = have
				r.members++
			} else {
				r.key, r.workload = key, -1
				r.app, r.tier, r.env = expr.Fold(shown[0]), expr.Fold(shown[1]), expr.Fold(shown[2])
				d.roles[key] = r
				d.allRoles++
			}
		} else {
			r.app, r.env = expr.Fold(shown[0]), expr.Fold(shown[2])
			d.roles[r.key] = r
		}
		d.number(r)
		d.ofWorkload[i] = r
	}
	envs := map[string]bool{}
	for _, r := range d.roles {
		if r.env != "" {
			envs[r.env] = true
		}
	}
	d.environments = len(envs)
	return d
}

// number gives a role its id, once.
func (d *deriver) number(r *role) {
	if r.id == 0 {
		d.numbered++
		r.id = d.numbered
	}
}

// roleOf gives the role of an endpoint. Outside is cut by the policy's groups.
func (d *deriver) roleOf(p decide.Placed) *role {
	if p.Workload != estate.Outside {
		return d.ofWorkload[p.Workload]
	}
	if r := d.placed[p]; r != nil {
		return r
	}
	key, group := "outside", ""
	d.c.EachGroup(p, func(g *policy.Group, t expr.Truth) {
		if t == expr.Yes && namesAddresses(g.Expr) && (group == "" || g.Name < group) {
			group = g.Name
		}
	})
	if group != "" {
		key += " " + group
	}
	r := d.roles[key]
	if r == nil {
		r = &role{key: key, group: group, outside: true, workload: -1}
		d.number(r)
		d.roles[key] = r
	}
	d.placed[p] = r
	return r
}

// namesAddresses reports whether an expression selects by address alone.
func namesAddresses(e *expr.Expr) bool {
	found := false
	e.Walk(func(k *expr.Expr) { found = found || k.Op == expr.AddressIn })
	return found
}

// member numbers the machines of a side: workloads from zero, outside addresses
// below.
func (d *deriver) member(p decide.Placed) int32 {
	if p.Workload != estate.Outside {
		return p.Workload
	}
	n, ok := d.outsiders[p.Addr]
	if !ok {
		n = int32(-1 - len(d.outsiders))
		d.outsiders[p.Addr] = n
	}
	return n
}

// observe finds the conversations to consider and notes what is usual: which
// applications each role talks with on each service.
func (d *deriver) observe() bool {
	var all Days
	d.ends = make([][2]*role, len(d.in.Conversations))
	d.pairOf = make([]int32, len(d.in.Conversations))
	index := map[pairKey]int32{}
	var noted []bool // by pair
	for i := range d.in.Conversations {
		if i%100_000 == 0 && d.in.Progress != nil && !d.in.Progress(0.6*float64(i)/float64(len(d.in.Conversations))) {
			return false
		}
		c := &d.in.Conversations[i]
		all |= c.Days
		client, server := d.roleOf(c.Client), d.roleOf(c.Server)
		d.ends[i] = [2]*role{client, server}
		k := pairKey{client.id, server.id, c.Point}
		pair, known := index[k]
		if !known {
			pair = int32(len(index))
			index[k] = pair
			noted = append(noted, false)
		}
		d.pairOf[i] = pair
		if !noted[pair] && c.Connections > 0 && (c.Connections > 2 || c.Days.Count() > 1) {
			noted[pair] = true
			d.note(usualKey{client.id, true, c.Point}, peer(server))
			d.note(usualKey{server.id, false, c.Point}, peer(client))
		}
		if c.Connections == 0 {
			continue
		}
		if r := d.c.Decide(c.Client, c.Server, c.Point); (r == nil || r.InClosing()) &&
			(d.in.Scope == nil || d.in.Scope(c.Client, c.Server)) {
			d.open = append(d.open, i)
		}
	}
	d.pairs = len(index)
	d.considered = len(d.open)
	d.days = all.Count()
	d.guessEnvironments()
	return true
}

// guessEnvironments finds where machines that lack an environment belong: where
// nearly all are that they talk with, but for what applications share. A machine
// of which this cannot be told keeps none.
func (d *deriver) guessEnvironments() {
	const enough, nearly = 3, 0.8
	votes := map[*role]map[string]int{}
	vote := func(r, other *role, otherIsServer bool, p service.Point) {
		if r.outside || r.workload < 0 || r.env != "" || other.env == "" || d.shared(other, !otherIsServer, p) {
			return
		}
		if votes[r] == nil {
			votes[r] = map[string]int{}
		}
		votes[r][other.env]++
	}
	for i := range d.in.Conversations {
		if c := &d.in.Conversations[i]; c.Connections > 0 {
			vote(d.ends[i][0], d.ends[i][1], true, c.Point)
			vote(d.ends[i][1], d.ends[i][0], false, c.Point)
		}
	}
	found := map[*role]string{}
	for r, envs := range votes {
		all, best := 0, ""
		for env, n := range envs {
			all += n
			if best == "" || n > envs[best] || n == envs[best] && env < best {
				best = env
			}
		}
		if envs[best] >= enough && float64(envs[best]) >= nearly*float64(all) {
			found[r] = best
		}
	}
	for r, env := range found {
		r.env = env
	}
}

func (d *deriver) note(k usualKey, app string) {
	m := d.usual[k]
	if m == nil {
		m = map[string]int{}
		d.usual[k] = m
	}
	m[app]++
}

// peer names the application of a role, for counting how many different ones
// another role talks with.
func peer(r *role) string {
	if r.outside {
		return "outside"
	}
	return r.app
}

// shared reports whether a role talks with so many applications on a service
// that it is one of those that an estate shares: name servers, monitors, the
// machines of administrators.
func (d *deriver) shared(r *role, client bool, p service.Point) bool {
	n := 0
	for app := range d.usual[usualKey{r.id, client, p}] {
		if app != "" && app != "outside" && app != r.app {
			n++
		}
	}
	return n >= 3
}
