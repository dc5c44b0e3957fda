package derive

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"lucidorchard/core/expr"
)

// What never happens inside a rule is evidence, too: here, pairs whose values of a tag differ.
// Devices that talk within their line only get a rule with the clause "same line", and no wider
// rule speaks for them.

const (
	meantBy     = 8.0  // so many times e more likely than by chance, agreement in a tag is meant
	accidents   = 0.15 // share of the pairs that do not agree all the same: attacks and mistakes
	mostSimilar = 0.7  // a tag of which pairs agree by chance more often tells nothing
)

// stratum is a part of the edges of a service, and the tags that both ends of each agree in.
type stratum struct {
	same  []expr.Key
	edges []edge
	// Of the part without such tags: kinds of clients and servers that other strata speak for.
	bound map[kindPair]bool
}

// kindPair is the application and tier of a client and of a server.
type kindPair struct{ client, server [2]string }

// kindsOf returns what the ends of an edge are; false, if the tags do not say it.
func (d coverer) kindsOf(x *edge) (k kindPair, ok bool) {
	a, b := d.tags(x.client), d.tags(x.server)
	k = kindPair{[2]string{a[0], a[1]}, [2]string{b[0], b[1]}}
	return k, a[0] != "" && a[1] != "" && b[0] != "" && b[1] != ""
}

// relation is a tag that pairs may agree in, and a number for each workload's value; 0: none.
type relation struct {
	key   expr.Key
	value []int32
}

// findRelations finds the tags that pairs may agree in: all but the structural ones that more than
// one workload has the same value of, at most sixteen.
func (d coverer) findRelations() {
	const most = 16
	numbers := map[string]map[string]int32{}
	times := map[string][]int{}
	of := map[string][]int32{}
	for i, w := range d.c.Estate.All() {
		for _, t := range w.Tags {
			v := expr.Fold(strings.TrimSpace(t.Value))
			if slices.Contains(d.keys[:], t.Key) || v == "" {
				continue
			}
			if numbers[t.Key] == nil {
				numbers[t.Key], times[t.Key], of[t.Key] = map[string]int32{}, []int{0}, make([]int32, d.workloads)
			}
			n := numbers[t.Key][v]
			if n == 0 {
				n = int32(len(times[t.Key]))
				numbers[t.Key][v] = n
				times[t.Key] = append(times[t.Key], 0)
			}
			of[t.Key][i] = n
			times[t.Key][n]++
		}
	}
	shared := func(key string) (n int) {
		for _, have := range times[key] {
			if have > 1 {
				n += have
			}
		}
		return n
	}
	keys := slices.SortedFunc(maps.Keys(of), func(a, b string) int {
		return cmp.Or(shared(b)-shared(a), strings.Compare(a, b))
	})
	d.relations = nil
	for _, k := range keys[:min(most, len(keys))] {
		if len(numbers[k]) > 1 && shared(k) > 3 {
			d.relations = append(d.relations, relation{expr.Key{Name: k}, of[k]})
		}
	}
}

// of returns the numbers of the values of two machines, 0 for one that has none.
func (r relation) of(a, b int32) (x, y int32) {
	if int(a) < len(r.value) {
		x = r.value[a]
	}
	if int(b) < len(r.value) {
		y = r.value[b]
	}
	return x, y
}

// strata parts the edges of a service by the tags that bind their kinds of clients and servers.
// The first has those that nothing binds.
func (d coverer) strata(edges []edge) []stratum {
	byPair := map[kindPair][]int32{}
	for i := range edges {
		if k, ok := d.kindsOf(&edges[i]); ok && !edges[i].crossing {
			byPair[k] = append(byPair[k], int32(i))
		}
	}
	pairs := slices.SortedFunc(maps.Keys(byPair), func(a, b kindPair) int {
		return strings.Compare(fmt.Sprint(a), fmt.Sprint(b))
	})
	binds := d.bindings(edges, pairs, byPair)
	if len(binds) == 0 {
		return []stratum{{edges: edges}}
	}
	free := stratum{bound: map[kindPair]bool{}}
	by := map[string]*stratum{}
	var order []string
	for i := range edges {
		x := &edges[i]
		k, _ := d.kindsOf(x)
		keys := binds[k]
		if len(keys) == 0 || x.crossing {
			free.edges = append(free.edges, *x)
			continue
		}
		free.bound[k] = true
		if slices.ContainsFunc(keys, func(r relation) bool {
			a, b := r.of(x.client, x.server)
			return a != 0 && b != 0 && a != b
		}) {
			free.edges = append(free.edges, *x) // an accident; to be judged by itself
			continue
		}
		var same []expr.Key
		for _, r := range keys {
			same = append(same, r.key)
		}
		name := fmt.Sprint(same)
		if by[name] == nil {
			by[name] = &stratum{same: same}
			order = append(order, name)
		}
		by[name].edges = append(by[name].edges, *x)
	}
	slices.Sort(order)
	out := []stratum{free}
	for _, name := range order {
		out = append(out, *by[name])
	}
	return out
}

// bindings returns the tags that bind kinds of clients and servers: nearly all pairs agree in it,
// in several values, and chance would hardly make them. Where tiers of one application talk, those
// of all applications are looked at together: what each of them says is added up.
func (d coverer) bindings(edges []edge, pairs []kindPair, byPair map[kindPair][]int32) map[kindPair][]relation {
	type tiers struct{ client, server string }
	out := map[kindPair][]relation{}
	for _, r := range d.relations {
		sum := map[tiers]float64{}
		single := map[kindPair]float64{}
		for _, k := range pairs {
			single[k] = d.bindsPair(edges, byPair[k], r)
			if k.client[0] == k.server[0] {
				sum[tiers{k.client[1], k.server[1]}] += single[k]
			}
		}
		for _, k := range pairs {
			within := k.client[0] == k.server[0]
			if single[k] >= 2*meantBy || single[k] > 0 && within &&
				max(single[k], sum[tiers{k.client[1], k.server[1]}]) >= meantBy {
				out[k] = append(out[k], r)
			}
		}
	}
	return out
}

// bindsPair returns how much more likely (the natural logarithm of the ratio) it is that a tag
// binds some edges, between one kind of clients and one of servers, than that they agree in it by
// chance. Below 0 chance is more likely; 0: the edges do not show it.
func (d coverer) bindsPair(edges []edge, list []int32, r relation) float64 {
	agree, across, n, differ := 0.0, 0.0, 0, 0
	first, several := int32(0), false
	for _, i := range list {
		x := &edges[i]
		switch a, b := r.of(x.client, x.server); {
		case a == 0 || b == 0:
		case a == b:
			agree += x.r
			n++
			several = several || first != 0 && first != a
			first = a
		default:
			across += x.r
			differ++
		}
	}
	if n+differ == 0 {
		return 0
	}
	if n <= differ {
		return -meantBy
	}
	// Pairs that do not agree count by how likely they are to recur, compared with the others.
	but := across / agree * float64(n)
	p := max(0.001, chanceOf(edges, list, r))
	if p == 1 {
		return 0
	}
	says := float64(n)*math.Log((1-accidents)/p) + but*math.Log(accidents/(1-p))
	if !several || 2*n < len(list) || p > mostSimilar || but > 2*accidents*float64(n) {
		return min(0, says)
	}
	return says
}

// chanceOf is how often a client and a server of some edges, drawn at random, agree in a tag.
func chanceOf(edges []edge, list []int32, r relation) float64 {
	type member struct {
		m      int32
		server bool
	}
	counted := map[member]bool{}
	clients, servers := map[int32]float64{}, map[int32]float64{}
	all := [2]float64{}
	for _, i := range list {
		a, b := r.of(edges[i].client, edges[i].server)
		if a == 0 || b == 0 {
			continue
		}
		if k := (member{edges[i].client, false}); !counted[k] {
			counted[k] = true
			clients[a]++
			all[0]++
		}
		if k := (member{edges[i].server, true}); !counted[k] {
			counted[k] = true
			servers[b]++
			all[1]++
		}
	}
	same := 0.0
	for v, n := range servers {
		same += n * clients[v]
	}
	return same / all[0] / all[1]
}

// speaksFor reports whether a candidate opens pairs that other strata speak for: it holds clients
// and servers of such kinds. What everybody may call, or who calls everybody, does so whatever binds
// some of them.
func (d coverer) speaksFor(c *candidate, bound map[kindPair]bool) bool {
	everybody := func(x *item) bool { return x.set != nil && x.set.everybody() }
	if len(bound) == 0 || c.same&sameApp == 0 && (everybody(&c.left) || everybody(&c.right)) {
		return false
	}
	kinds := func(x *item) map[[2]string]bool {
		out := map[[2]string]bool{}
		for _, r := range d.rolesOf(x) {
			if r.role >= 0 {
				t := d.roleTags[r.role]
				out[[2]string{t[0], t[1]}] = true
			}
		}
		return out
	}
	left, right := kinds(&c.left), kinds(&c.right)
	for k := range bound {
		if left[k.client] && right[k.server] && (c.same&sameApp == 0 || k.client[0] == k.server[0]) {
			return true
		}
	}
	return false
}

// absorbed drops the rules of strata that a rule without their tags permits all the same; their
// edges become its own. Of several such rules that with the fewest clauses takes them: no other
// absorbs it.
func (d coverer) absorbed(rules []*draft) []*draft {
	holds := func(wide, x *item) bool {
		if wide.set != nil && wide.set.everybody() {
			return x.set != nil || !x.all && x.group == "" && !x.prefix.IsValid() && !d.isOutside(x.m)
		}
		return d.itemKey(wide) == d.itemKey(x)
	}
	var out []*draft
	for _, r := range rules {
		into := r
		for _, w := range rules {
			if r.alone == "" && w.alone == "" && len(w.same) < len(into.same) &&
				!slices.ContainsFunc(w.same, func(key expr.Key) bool { return !slices.Contains(r.same, key) }) &&
				holds(&w.left[0], &r.left[0]) && holds(&w.right[0], &r.right[0]) {
				into = w
			}
		}
		if into == r {
			out = append(out, r)
		} else {
			into.edges = append(into.edges, r.edges...)
		}
	}
	return out
}
