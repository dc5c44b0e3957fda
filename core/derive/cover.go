package derive

// Which rules say what was seen: those that save most bits.

import (
	"cmp"
	"container/heap"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
)

// coverer chooses rules that cover the conversations of a service.
type coverer struct{ *deriver }

// draft is a rule that is being made.
type draft struct {
	left, right []item
	points      service.Set
	same        []expr.Key
	edges       []*edge    // that it covers
	alone       string     // why it stands alone; blank: it may be joined with others
	took        [2]int     // clients and servers that were seen
	members     [2]int     // and that there are
	n           int        // conversations that it covers, where edges were not kept
	strays      [2][]int32 // machines named beside the items: their tags do not say yet that they belong there
	anyone      bool       // the left side is anybody, whoever they are
}

// candidate is a rule of one service that may be taken.
type candidate struct {
	left, right item
	edges       []int32
	gain        float64 // bits that it saves: what it says, without what it costs
	cost, value float64
	ratio       float64    // what it costs for each bit that it says
	words, open float64    // of the cost: of saying it, and of what it opens at a weight of 1
	spared      [2]float64 // of both: what is not counted because environments are copies
	first       float64    // its value before anything was covered
	took        [2]int
	key         string
	same        uint8 // sameEnv, sameApp
	blocks      int   // pairs of roles that it opens
}

// weighed notes what a candidate says and costs now.
func (c *candidate) weighed(s *scratch, value float64) {
	c.value, c.cost = value, c.price(s)
	c.gain, c.ratio = value-c.cost, c.cost/max(value, 1e-9)
}

// price is what a candidate costs now.
func (c *candidate) price(s *scratch) float64 {
	if s.tight {
		return c.words + c.spared[0] + s.weight*(c.open+c.spared[1])
	}
	return c.words + s.weight*c.open
}

// Clauses that a candidate has.
const (
	sameEnv = 1 << iota
	sameApp
)

const mostItems = 6

// cover finds the rules for some balances: 0 opens hardly more than was seen, 1
// takes what is common for all. Of those that are not kept whole, only their
// number and what they open is known.
// Nil: progress, which is told the share that is done, said stop.
func (d coverer) cover(balances []float64, whole func(balance float64) bool,
	progress func(share float64) bool) [][]*draft {
	byService := make([][][]*draft, len(d.points))
	rooms := [2]*scratch{d.newScratch(), d.newScratch()}
	// The largest first, so that none is left alone at the end.
	order := make([]int, len(d.points))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return len(d.edges[b]) - len(d.edges[a]) })
	total := 0
	for _, list := range d.edges {
		total += len(list)
	}
	var mu sync.Mutex
	done, stop := 0, false
	report := func(more int) bool {
		mu.Lock()
		defer mu.Unlock()
		done += more
		stop = stop || !progress(float64(done)/float64(max(1, total)))
		return !stop
	}
	decide.Parallel(2, len(d.points), func(worker, n int) {
		if report(0) {
			byService[order[n]] = d.coverService(rooms[worker], order[n], balances, whole)
			report(len(d.edges[order[n]]))
		}
	})
	if stop {
		return nil
	}
	out := make([][]*draft, len(balances))
	for k, b := range balances {
		var rules []*draft
		for _, lists := range byService {
			if lists != nil {
				rules = append(rules, lists[k]...)
			}
		}
		rules = d.joined(rules, b)
		if whole(b) {
			for _, r := range rules {
				proposer{d.deriver}.settled(r)
			}
			rules = slices.DeleteFunc(rules, func(r *draft) bool {
				return !slices.ContainsFunc(r.edges, func(x *edge) bool { return x.open })
			})
		}
		out[k] = rules
	}
	return out
}

// weightOf gives the price of what is opened, in seven steps. The usual balance is
// 0.5.
func weightOf(balance float64) float64 {
	return [...]float64{6, 3.2, 2.1, 1.5, 1.0, 0.7, 0.45}[min(6, max(0, int(balance*6+0.5)))]
}

// coverService finds the rules of one service, for each balance. What they may be
// is found once.
func (d coverer) coverService(s *scratch, svc int, balances []float64, whole func(float64) bool) [][]*draft {
	if !slices.ContainsFunc(d.edges[svc], func(x edge) bool { return x.open }) {
		return nil
	}
	edges := d.work(svc)
	s.weight, s.tight = weightOf(DefaultBalance), false
	danger := dangerOf(d.points[svc])
	all := d.candidates(s, edges, danger)
	var byBlock [][]int32
	if len(edges) < len(d.edges[svc]) {
		byBlock = blocksOfEdges(d.edges[svc])
	}
	for i := range all {
		d.judgeCandidate(s, edges, &all[i], danger)
		all[i].first = all[i].value
	}
	crossings := d.crossings(svc)
	out := make([][]*draft, len(balances))
	for k, b := range balances {
		for i := range edges {
			edges[i].covered = false
		}
		s.weight, s.tight = weightOf(b), b < 0.3
		rules := d.choose(s, svc, edges, all, danger)
		for _, x := range crossings {
			rules = append(rules, d.alone(svc, x, aloneCrossing))
		}
		if whole(b) {
			rules = d.alike(rules)
		}
		if byBlock != nil && whole(b) {
			for _, r := range rules {
				d.whole(svc, r, byBlock)
			}
		}
		if !whole(b) {
			for _, r := range rules {
				r.n = proposer{d.deriver}.pairs(r)
				r.edges = nil
			}
		}
		out[k] = rules
	}
	return out
}

// choose takes candidates until none saves anything more.
func (d coverer) choose(s *scratch, svc int, edges []edge, all []candidate, danger float64) []*draft {
	var queue byRatio
	for i := range all {
		if all[i].weighed(s, all[i].first); all[i].gain > 0 {
			queue = append(queue, &all[i])
		}
	}
	heap.Init(&queue)
	var chosen []candidate
	for len(queue) > 0 {
		c := queue[0]
		before := c.gain
		d.judgeCandidate(s, edges, c, danger)
		switch {
		case c.gain <= 0:
			heap.Pop(&queue)
			continue
		case c.gain < before-1e-9:
			heap.Fix(&queue, 0) // perhaps another one is better now
			continue
		}
		heap.Pop(&queue)
		chosen = append(chosen, *c)
		for _, i := range c.edges {
			edges[i].covered = true
		}
	}
	chosen = needed(edges, d.exchanged(s, edges, chosen, all, danger))
	var out []*draft
	for _, c := range chosen {
		r := &draft{left: []item{c.left}, right: []item{c.right}, points: service.Set{d.points[svc]}, took: c.took}
		if c.same&sameEnv != 0 {
			r.same = append(r.same, expr.Key{Name: d.keys[2]})
		}
		if c.same&sameApp != 0 {
			r.same = append(r.same, expr.Key{Name: d.keys[0]})
		}
		for _, i := range c.edges {
			r.edges = append(r.edges, &edges[i])
		}
		out = append(out, r)
	}
	return out
}

// exchanged puts a wider rule in the place of those that it holds, of one or several, where that
// says more for less; until none does.
func (d coverer) exchanged(s *scratch, edges []edge, chosen, all []candidate, danger float64) []candidate {
	in := make([]bool, len(edges))
	first := make([]int32, len(edges)) // by edge: one more than the chosen rule that begins with it
	for range 4 {
		clear(first)
		next := make([]int32, len(chosen)) // that begins with the same edge
		keys := map[string]bool{}
		for n := range chosen {
			keys[chosen[n].key] = true
			i := chosen[n].edges[0]
			next[n], first[i] = first[i], int32(n+1)
		}
		gone := make([]bool, len(chosen))
		var more []candidate
		for k := range all {
			c := &all[k]
			if keys[c.key] {
				continue
			}
			most := c.first // that it may save: with all that begins in it
			for _, i := range c.edges {
				for n := first[i]; n > 0; n = next[n-1] {
					if !gone[n-1] && len(chosen[n-1].edges) <= len(c.edges) {
						most += chosen[n-1].cost
					}
				}
			}
			if most == c.first || most < c.price(s) {
				continue
			}
			for _, i := range c.edges {
				in[i] = true
			}
			var held []int
			saved := 0.0
			for _, i := range c.edges {
				for n := first[i]; n > 0; n = next[n-1] {
					x := &chosen[n-1]
					if !gone[n-1] && !slices.ContainsFunc(x.edges, func(i int32) bool { return !in[i] }) {
						held = append(held, int(n-1))
						saved += x.cost
					}
				}
			}
			for _, i := range c.edges {
				in[i] = false
			}
			if len(held) == 0 || saved+c.first < c.price(s) {
				continue
			}
			d.judgeCandidate(s, edges, c, danger)
			if saved+c.gain <= 1e-9 { // its gain counts only what is not covered yet
				continue
			}
			for _, n := range held {
				gone[n] = true
			}
			more = append(more, *c)
			for _, i := range c.edges {
				edges[i].covered = true
			}
		}
		if len(more) == 0 {
			break
		}
		var kept []candidate
		for n := range chosen {
			if !gone[n] {
				kept = append(kept, chosen[n])
			}
		}
		chosen = append(kept, more...)
	}
	return chosen
}

// byRatio has the candidates that cost least for what they say first.
type byRatio []*candidate

func (q byRatio) Len() int { return len(q) }
func (q byRatio) Less(i, j int) bool {
	a, b := q[i], q[j]
	return cmp.Or(cmp.Compare(a.ratio, b.ratio), cmp.Compare(b.gain, a.gain), strings.Compare(a.key, b.key)) < 0
}
func (q byRatio) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *byRatio) Push(x any)   { *q = append(*q, x.(*candidate)) }
func (q *byRatio) Pop() any {
	n := len(*q) - 1
	x := (*q)[n]
	*q = (*q)[:n]
	return x
}

// needed drops rules all of whose evidence others have too.
func needed(edges []edge, chosen []candidate) []candidate {
	times := make([]int32, len(edges))
	for n := range chosen {
		for _, i := range chosen[n].edges {
			times[i]++
		}
	}
	return slices.DeleteFunc(chosen, func(c candidate) bool {
		if slices.ContainsFunc(c.edges, func(i int32) bool { return times[i] == 1 && edges[i].open }) {
			return false
		}
		for _, i := range c.edges {
			times[i]--
		}
		return true
	})
}

// unit is one side that the other is found for.
type unit struct {
	side  item
	edges []int32
}

// unitsOf gathers the edges of a service by the sets, and single machines, that
// their servers (or clients) are in.
func (d coverer) unitsOf(edges []edge, servers bool, danger float64) []unit {
	bySet, bySingle := map[int32][]int32{}, map[int32][]int32{}
	// A machine is looked at by itself where hardly any of its kind do the same.
	takes := make([]int32, len(d.roleTags))
	last := map[int32]bool{}
	for i := range edges {
		m := edges[i].client
		if servers {
			m = edges[i].server
		}
		if !d.isOutside(m) && !last[m] {
			last[m] = true
			takes[d.roleOf[m]]++
		}
	}
	byItself := func(m int32) bool {
		if d.isOutside(m) || danger >= administered {
			return true
		}
		r := d.roleOf[m]
		return d.roleSize[r] > 1 && int(takes[r])*2 <= d.roleSize[r] || slices.Contains(d.meant[m][:], "")
	}
	for i := range edges {
		x := &edges[i]
		if x.crossing {
			continue
		}
		m := x.client
		if servers {
			m = x.server
		}
		if byItself(m) {
			bySingle[m] = append(bySingle[m], int32(i))
		}
		if d.isOutside(m) {
			continue
		}
		for _, id := range d.setsOf[m] {
			if d.sets[id].unit {
				bySet[id] = append(bySet[id], int32(i))
			}
		}
	}
	var out []unit
	for _, id := range slices.Sorted(maps.Keys(bySet)) {
		out = append(out, unit{item{set: d.sets[id]}, bySet[id]})
	}
	var outside []seen
	for _, m := range slices.Sorted(maps.Keys(bySingle)) {
		if !d.isOutside(m) {
			out = append(out, unit{item{m: m}, bySingle[m]})
			continue
		}
		miss, side := 1.0, 0
		if servers {
			side = 1
		}
		for _, i := range bySingle[m] {
			miss *= 1 - edges[i].rs[side]
		}
		outside = append(outside, seen{m, 1 - miss})
	}
	if len(outside) > 0 {
		for _, x := range d.describeOutside(outside) {
			u := unit{side: x}
			for _, o := range outside {
				if d.holds(&x, o.m) {
					u.edges = append(u.edges, bySingle[o.m]...)
				}
			}
			out = append(out, u)
		}
	}
	return out
}

// candidates finds the rules that may say a service.
func (d coverer) candidates(s *scratch, edges []edge, danger float64) []candidate {
	var out []candidate
	known := map[string]bool{}
	to := map[*set][]int32{} // edges by the sets that their servers are in
	for _, servers := range [2]bool{true, false} {
		units := d.unitsOf(edges, servers, danger)
		if servers {
			for _, u := range units {
				if u.side.set != nil {
					to[u.side.set] = u.edges
				}
			}
		}
		for _, u := range units {
			open := false
			for _, i := range u.edges {
				open = open || edges[i].open
			}
			if !open {
				continue
			}
			var inside, outside []seen
			for _, i := range u.edges {
				m, far := edges[i].server, 1
				if servers {
					m, far = edges[i].client, 0
				}
				if edges[i].rs[far] == 0 {
					continue // another edge stands for it
				}
				if s.miss[0][m] == 0 {
					s.miss[0][m] = 1
					s.missing[0] = append(s.missing[0], m)
				}
				s.miss[0][m] *= 1 - edges[i].rs[far]
			}
			slices.Sort(s.missing[0])
			for _, m := range s.missing[0] {
				x := seen{m, 1 - s.miss[0][m]}
				s.miss[0][m] = 0
				if d.isOutside(m) {
					outside = append(outside, x)
				} else {
					inside = append(inside, x)
				}
			}
			s.missing[0] = s.missing[0][:0]
			far := danger
			if !servers {
				far = 1 + (danger-1)/4
			}
			sides := d.describe(s, inside, far)
			if len(outside) > 0 {
				sides = append(sides, d.describeOutside(outside)...)
			}
			for _, x := range sides {
				c := candidate{left: x, right: u.side}
				if !servers {
					c.left, c.right = u.side, x
				}
				key := d.itemKey(&c.left) + " -> " + d.itemKey(&c.right)
				if known[key] {
					continue
				}
				known[key] = true
				for _, i := range u.edges {
					m := edges[i].server
					if servers {
						m = edges[i].client
					}
					if d.holds(&x, m) {
						c.edges = append(c.edges, i)
					}
				}
				if danger >= administered && forOneOfMany(&c, edges) {
					continue
				}
				out = append(out, d.withClauses(c, key, edges)...)
				if m, key := (mirror{d.deriver}).inEveryEnvironment(c, edges, to, danger); key != "" && !known[key] {
					known[key] = true
					out = append(out, d.withClauses(m, key, edges)...)
				}
			}
		}
	}
	return out
}

// administered is from which danger on a service administers machines.
const administered = 2

// forOneOfMany reports whether a candidate is from a set of which one machine alone was seen:
// that one is meant, and is a candidate itself.
func forOneOfMany(c *candidate, edges []edge) bool {
	return c.left.set != nil && len(c.left.set.members) > 1 && !slices.ContainsFunc(c.edges, func(i int32) bool {
		return edges[i].client != edges[c.edges[0]].client
	})
}

// rolesOf gives the roles of an item.
func (d coverer) rolesOf(x *item) []roleCount {
	switch {
	case x.set != nil:
		return x.set.roles
	case x.all, x.group != "", x.prefix.IsValid(), d.isOutside(x.m):
		return []roleCount{{role: -1, n: 1}}
	}
	return []roleCount{{role: d.roleOf[x.m], n: 1}}
}

// withClauses gives a candidate as it is, and limited to one application where both
// sides have several. Where both have several environments, and none of it
// crosses them, it always is limited to one.
func (d coverer) withClauses(c candidate, key string, edges []edge) []candidate {
	a, b := d.rolesOf(&c.left), d.rolesOf(&c.right)
	several := func(list []roleCount, k int) bool {
		first := ""
		for _, r := range list {
			if r.role < 0 {
				return false
			}
			if v := d.roleTags[r.role][k]; v != "" && first == "" {
				first = v
			} else if v != "" && v != first {
				return true
			}
		}
		return false
	}
	agrees := func(i int32, k int) bool {
		x, y := d.tags(edges[i].client)[k], d.tags(edges[i].server)[k]
		return x != "" && x == y
	}
	if several(a, 2) && several(b, 2) {
		var within []int32
		in, across := 0.0, 0.0
		for _, i := range c.edges {
			switch x, y := d.tags(edges[i].client)[2], d.tags(edges[i].server)[2]; {
			case x != "" && x == y:
				in += max(edges[i].r, edges[i].rs[0])
				within = append(within, i)
			case x != "" && y != "":
				across += edges[i].r
			}
		}
		if across <= 0.1*in && in > 0 {
			c.same, c.edges = sameEnv, within
		}
	}
	out := []candidate{c}
	if several(a, 0) && several(b, 0) {
		with := c
		with.edges = nil
		with.same |= sameApp
		for _, i := range c.edges {
			if agrees(i, 0) {
				with.edges = append(with.edges, i)
			}
		}
		if len(with.edges) > 0 {
			out = append(out, with)
		}
	}
	for i := range out {
		out[i].key = fmt.Sprint(key, " ", out[i].same)
		out[i].blocks = d.blocksOf(a, b, out[i].same)
	}
	return out
}

// blocksOf counts the pairs of roles that two sides open to each other.
func (d coverer) blocksOf(a, b []roleCount, same uint8) int {
	if same == 0 {
		return len(a) * len(b)
	}
	key := func(role int32) (out [2]string) {
		if same&sameEnv != 0 {
			out[0] = d.roleTags[role][2]
		}
		if same&sameApp != 0 {
			out[1] = d.roleTags[role][0]
		}
		return out
	}
	count := map[[2]string]int{}
	for _, r := range a {
		count[key(r.role)]++
	}
	n := 0
	for _, r := range b {
		n += count[key(r.role)]
	}
	return n
}

// wordsSame is the price of a clause, and unseen that of opening one kind of
// machine to another that was never seen calling it.
const (
	wordsSame   = 3.0
	unseen      = 8.0
	unseenAside = 2.0
)

// judgeCandidate counts the bits that a candidate saves now.
func (d coverer) judgeCandidate(s *scratch, edges []edge, c *candidate, danger float64) {
	roles := [2]int{}
	copied := mirror{d.deriver}.copied(c, danger)
	var sizes [2]float64
	for k := range 2 {
		s.now++
		for _, i := range c.edges {
			m := edges[i].server
			if k == 0 {
				m = edges[i].client
			}
			if r := d.role(m); r >= 0 && s.roles[r] != s.now {
				s.roles[r] = s.now
				roles[k]++
			}
		}
		if copied > 0 {
			sizes[k] = mirror{d.deriver}.askedFor(s, [2]*item{&c.left, &c.right}[k].set, copied)
		}
	}
	for _, i := range c.edges {
		x := &edges[i]
		for int(x.block) >= len(s.blocks) {
			s.blocks = append(s.blocks, 0)
		}
		if s.blocks[x.block] == 0 {
			s.blocks[x.block] = 1
			s.blocksSeen = append(s.blocksSeen, x.block)
		}
		s.blocks[x.block] *= 1 - x.r
		for k, m := range [2]int32{x.client, x.server} {
			if x.rs[k] == 0 {
				continue // another edge stands for it
			}
			if !s.took[k][m] && (danger < veryDangerous || x.rs[k] > chance) {
				s.took[k][m] = true
				s.takers[k] = append(s.takers[k], m)
			}
			if x.open && !x.covered {
				if s.miss[k][m] == 0 {
					s.miss[k][m] = 1
					s.missing[k] = append(s.missing[k], m)
				}
				s.miss[k][m] *= 1 - x.rs[k]
			}
		}
	}
	spared := [2]float64{2 * wordsSame * copied, 0}
	value, words, open := 0.0, wordsRule+c.left.words()+c.right.words(), 0.0
	if c.same&sameEnv != 0 {
		words += wordsSame - spared[0]
	}
	if c.same&sameApp != 0 {
		words += wordsSame
	}
	if c.left.set != nil && c.right.set != nil && related(c.left.set, c.right.set, d.keys[0]) {
		words -= 3 // what belongs together talks
	}
	seenBlocks, distinct := 0.0, float64(len(s.blocksSeen))
	for _, b := range s.blocksSeen {
		seenBlocks += 1 - s.blocks[b]
		s.blocks[b] = 0
	}
	s.blocksSeen = s.blocksSeen[:0]
	// What comes from all parts in proportion comes between all parts, too.
	between := float64(c.blocks) * (1 - math.Pow(1-1/max(1.000001, float64(c.blocks)), float64(len(c.edges))))
	everywhere := distinct >= 0.5*between
	factor := 1.0
	for k, x := range [2]*item{&c.left, &c.right} {
		for _, m := range s.missing[k] {
			value += evidence * counts(1-s.miss[k][m], danger)
			s.miss[k][m] = 0
		}
		c.took[k] = len(s.takers[k])
		for _, m := range s.takers[k] {
			s.took[k][m] = false
		}
		s.missing[k], s.takers[k] = s.missing[k][:0], s.takers[k][:0]
		worse := danger
		if k == 1 {
			worse = 1 + (danger-1)/4
		}
		size := float64(d.size(x, c.took[k]))
		if copied > 0 {
			size = sizes[k]
		}
		price, f := d.opened(size, float64(c.took[k]), worse), 1.0
		if x.set != nil && everywhere {
			f = d.scattered(x.set, c.took[k], roles[k], worse)
			factor = min(factor, f)
		}
		open += f * price
		if copied > 0 {
			spared[1] += f * (d.opened(float64(d.size(x, c.took[k])), float64(c.took[k]), worse) - price)
		}
		if x.all {
			words += 6
		}
	}
	each := unseen
	if len(d.rolesOf(&c.left)) == 1 || len(d.rolesOf(&c.right)) == 1 {
		each = unseenAside // the price of the other side says most of it
	}
	if b := float64(c.blocks); b > 1 {
		price := factor * each * math.Sqrt(danger) * (b - seenBlocks) * (1 - seenBlocks/b)
		open += (1 - copied) * price
		spared[1] += copied * price
	}
	c.words, c.open, c.spared = words, open, spared
	c.weighed(s, value)
}

// related reports whether two sets are of one application.
func related(a, b *set, app string) bool {
	of := func(s *set) string {
		for _, t := range s.tests {
			if t.key.Name == app && !t.key.Field {
				return t.value
			}
		}
		return ""
	}
	return of(a) != "" && of(a) == of(b)
}

// crossings gives what crosses environments day after day, and moves as much as
// others on the service: somebody has set that up.
func (d coverer) crossings(svc int) (out []*edge) {
	env := expr.Key{Name: d.keys[2]}
	usual := int64(-1) // bytes of an edge: the median of those that do not cross
	for i := range d.edges[svc] {
		x := &d.edges[svc][i]
		if !x.crossing || !x.open || (proposer{d.deriver}).realTag(x.client, env) == "" || (proposer{d.deriver}).realTag(x.server, env) == "" {
			continue
		}
		if n := d.daysOf(x).Count(); n < 4 || n*5 < d.days*3 {
			continue
		}
		if usual < 0 {
			var all []int64
			for k := range d.edges[svc] {
				if !d.edges[svc][k].crossing {
					all = append(all, d.bytes(&d.edges[svc][k]))
				}
			}
			slices.Sort(all)
			if usual = math.MaxInt64 / 2; len(all) > 0 {
				usual = all[len(all)/2]
			}
		}
		// What it moves may not be known: then a person has to say it.
		if own := d.bytes(x); own >= 1<<20 || own > 0 && own >= 2*usual {
			out = append(out, x)
		}
	}
	return out
}

// alone makes a rule of one edge that stands alone: exact.
func (d coverer) alone(svc int, x *edge, why string) *draft {
	return &draft{left: []item{{m: x.client}}, right: []item{{m: x.server}}, points: service.Set{d.points[svc]},
		edges: []*edge{x}, alone: why, took: [2]int{1, 1}}
}

func (d coverer) bytes(x *edge) (n int64) {
	for _, i := range d.order[x.first : x.first+x.n] {
		n += min(d.in.Conversations[i].Bytes, 1<<50)
	}
	return n
}

// Why a rule is not merged with others, and has to be looked at by itself.
const (
	aloneCrossing = "it crosses environments"
	aloneAdmin    = "an administration service, opened widely"
	aloneOneDay   = "it rests on one day"
)

func (d coverer) daysOf(x *edge) (days Days) {
	for _, i := range d.order[x.first : x.first+x.n] {
		days |= d.in.Conversations[i].Days
	}
	return days
}

// alike adds to each rule the clauses "same KEY" that all of its traffic keeps to,
// beside those for environment and application, which candidates have: where both
// sides have several values of a tag, and pairs agree far more often than chance
// would make them.
func (d coverer) alike(rules []*draft) []*draft {
	var keys []expr.Key
	for k := range d.valuesOf {
		if !k.Field {
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, func(a, b expr.Key) int { return strings.Compare(a.Name, b.Name) })
	for _, r := range rules {
		r.members = [2]int{d.size(&r.left[0], 0), d.size(&r.right[0], 0)}
		// Within one application, other tags agree by themselves.
		if r.left[0].set == nil || r.right[0].set == nil || slices.Contains(r.same, expr.Key{Name: d.keys[0]}) {
			continue
		}
		for _, k := range keys {
			if d.keepsTo(r, k) {
				r.same = append(r.same, k)
			}
		}
	}
	var more []*draft
	for _, r := range rules {
		more = append(more, d.beside(r)...)
	}
	return append(rules, more...)
}

// beside gives rules of their own to the machines of a rule with clauses that lack
// the tag in question: by what they do they belong to it, but no clause holds of
// them until they are tagged.
func (d coverer) beside(r *draft) (out []*draft) {
	if len(r.same) == 0 || r.left[0].set == nil || r.right[0].set == nil {
		return nil
	}
	by := map[int32]*draft{}
	for _, x := range r.edges {
		for side, m := range [2]int32{x.client, x.server} {
			other := [2]int32{x.server, x.client}[side]
			if d.isOutside(m) || (proposer{d.deriver}).agrees(r, m) {
				continue
			}
			to := d.setWith(other, 7)
			if to == nil {
				continue
			}
			n := by[m*2+int32(side)]
			if n == nil {
				n = &draft{left: []item{{m: m}}, right: []item{{set: to}}, points: r.points, took: [2]int{1, 1},
					members: [2]int{1, len(to.members)}}
				if side == 1 {
					n.left, n.right = n.right, n.left
				}
				by[m*2+int32(side)] = n
				out = append(out, n)
			}
			if (judge{d.deriver}).anyHolds(n.left, x.client) && (judge{d.deriver}).anyHolds(n.right, x.server) {
				n.edges = append(n.edges, x)
			}
		}
	}
	return out
}

// setWith gives the set of those that are tagged like a machine, by some of
// application (1), tier (2) and environment (4).
func (d coverer) setWith(m int32, mask uint8) *set {
	if d.isOutside(m) {
		return nil
	}
	for _, id := range d.setsOf[m] {
		if s := d.sets[id]; s.group == "" && s.mask == mask {
			return s
		}
	}
	tests, ok := setMaker{d.deriver}.tests(m, mask)
	if !ok {
		return nil
	}
	s := &set{tests: tests, mask: mask, words: wordsOfMask[mask]}
	for w := range d.c.Estate.All() {
		holds := d.present[w]
		for i := range 3 {
			holds = holds && (mask&(1<<i) == 0 || d.meant[w][i] == d.meant[m][i])
		}
		if holds {
			s.members = append(s.members, w)
		}
	}
	return s
}

// keepsTo reports whether the traffic of a rule stays where a tag is the same.
func (d coverer) keepsTo(r *draft, k expr.Key) bool {
	spread := func(s *set) map[string]float64 {
		out := map[string]float64{}
		for _, m := range s.members {
			if v := (setMaker{d.deriver}).tagOf(m, k); v != "" {
				out[v]++
			}
		}
		return out
	}
	a, b := spread(r.left[0].set), spread(r.right[0].set)
	if len(a) < 2 || len(b) < 2 {
		return false
	}
	same, other := 0, 0
	values := map[string]bool{}
	for _, x := range r.edges {
		va, vb := setMaker{d.deriver}.tagOf(x.client, k), setMaker{d.deriver}.tagOf(x.server, k)
		switch {
		case va == "" || vb == "":
		case va == vb:
			same++
			values[va] = true
		default:
			other++
		}
	}
	var na, nb, chance float64
	for _, n := range a {
		na += n
	}
	for v, n := range b {
		nb += n
		chance += n * a[v]
	}
	return other == 0 && same >= 8 && len(values) >= 2 && chance/na/nb <= 0.6
}

// joined joins rules that differ in one thing only into one with a list, which
// opens nothing that they do not.
func (d coverer) joined(rules []*draft, balance float64) []*draft {
	sides := func(list []item) string {
		keys := make([]string, len(list))
		for i := range list {
			keys[i] = d.itemKey(&list[i])
		}
		slices.Sort(keys)
		return strings.Join(keys, ", ")
	}
	rest := func(r *draft) string { return fmt.Sprint(r.same, r.alone != "", " ") }
	kind := func(list []item) string { return d.itemKey(&list[0])[:1] }
	join := func(key func(*draft) string, merge func(into, r *draft) bool) {
		by := map[string]*draft{}
		var out []*draft
		for _, r := range rules {
			k := rest(r) + key(r)
			if into := by[k]; into != nil && r.alone == "" && merge(into, r) {
				into.edges = append(into.edges, r.edges...)
				into.n += r.n
				continue
			}
			by[k] = r
			out = append(out, r)
		}
		rules = out
	}
	admin := func(r *draft) string { return fmt.Sprint(service.Administration.Contains(r.points[0].Lo)) }
	join(func(r *draft) string { return sides(r.left) + " -> " + sides(r.right) + admin(r) }, func(into, r *draft) bool {
		into.points = into.points.Union(r.points)
		return true
	})
	if balance >= 0.3 {
		for _, left := range [2]bool{true, false} {
			join(func(r *draft) string {
				if left {
					return kind(r.left) + sides(r.right) + fmt.Sprint(r.points)
				}
				return kind(r.right) + sides(r.left) + fmt.Sprint(r.points)
			}, func(into, r *draft) bool {
				to, from := &into.right, r.right
				if left {
					to, from = &into.left, r.left
				}
				if len(*to)+len(from) > mostItems {
					return false
				}
				*to = append(slices.Clone(*to), from...)
				for i := range into.took {
					if (i == 0) == left {
						into.took[i] += r.took[i]
						into.members[i] += r.members[i]
					}
				}
				return true
			})
		}
	}
	type named struct {
		r           *draft
		left, right string
	}
	order := make([]named, len(rules))
	for i, r := range rules {
		order[i] = named{r, sides(r.left), sides(r.right)}
	}
	slices.SortStableFunc(order, func(a, b named) int {
		return cmp.Or(strings.Compare(a.right, b.right), strings.Compare(a.left, b.left),
			slices.CompareFunc(a.r.points, b.r.points, func(x, y service.Range) int {
				return cmp.Or(cmp.Compare(x.Lo, y.Lo), cmp.Compare(x.Hi, y.Hi))
			}))
	})
	for i := range order {
		rules[i] = order[i].r
	}
	return rules
}
