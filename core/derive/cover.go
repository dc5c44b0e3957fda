package derive

// Which rules say what was seen: those that save most bits.

import (
	"cmp"
	"maps"
	"math"
	"slices"
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
	strays      [2][]int32 // machines beside the items: their tags do not say yet that they belong there
	standIns    [2][]standIn
	anyone      bool // the left side is anybody, whoever they are
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
	d.findRelations()
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
				proposer(d).settled(r)
			}
			proposer(d).standInsOf(rules)
			rules = slices.DeleteFunc(rules, func(r *draft) bool {
				return !slices.ContainsFunc(r.edges, func(x *edge) bool { return x.open })
			})
		}
		out[k] = rules
	}
	return out
}

// weightOf returns the price of what is opened, in seven steps. The usual balance is
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
	danger := dangerOf(d.points[svc])
	var byBlock [][]int32
	if len(edges) < len(d.edges[svc]) {
		byBlock = blocksOfEdges(d.edges[svc])
	}
	crossings := d.crossings(svc)
	out := make([][]*draft, len(balances))
	for _, part := range d.strata(edges) {
		for k, rules := range d.coverPart(s, svc, part, balances, danger) {
			for _, r := range rules {
				for i, x := range r.edges { // a part has copies
					at, _ := slices.BinarySearchFunc(edges, x.first, func(e edge, first int32) int {
						return cmp.Compare(e.first, first)
					})
					r.edges[i] = &edges[at]
				}
			}
			out[k] = append(out[k], rules...)
		}
	}
	for k, b := range balances {
		out[k] = d.absorbed(out[k])
		for _, x := range crossings {
			out[k] = append(out[k], d.alone(svc, x, aloneCrossing))
		}
		if !whole(b) {
			for _, r := range out[k] {
				r.n = proposer(d).pairs(r)
				r.edges = nil
			}
			continue
		}
		out[k] = d.alike(out[k])
		if byBlock != nil {
			for _, r := range out[k] {
				d.whole(svc, r, byBlock)
			}
		}
	}
	return out
}

// coverPart finds the rules of a part of a service, for each balance.
func (d coverer) coverPart(s *scratch, svc int, part stratum, balances []float64, danger float64) [][]*draft {
	s.weight, s.tight = weightOf(DefaultBalance), false
	edges := part.edges
	all := slices.DeleteFunc(d.candidates(s, edges, danger), func(c candidate) bool {
		return d.speaksFor(&c, part.bound) || d.silent(s, &c, edges)
	})
	for i := range all {
		d.judgeCandidate(s, edges, &all[i], danger)
		all[i].first = all[i].value
	}
	out := make([][]*draft, len(balances))
	for k, b := range balances {
		for i := range edges {
			edges[i].covered = false
		}
		s.weight, s.tight = weightOf(b), b < 0.3
		out[k] = d.choose(s, svc, edges, all, danger)
		for _, r := range out[k] {
			for _, key := range part.same {
				if !slices.Contains(r.same, key) {
					r.same = append(r.same, key)
				}
			}
		}
	}
	return out
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
		if d.isOutside(m) || danger >= administered || !servers && pinned(danger) {
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

// wordsSame is the price of a clause, and unseen that of opening one kind of
// machine to another that was never seen calling it.
const (
	wordsSame   = 3.0
	unseen      = 8.0
	unseenAside = 2.0
)

// crossings returns what crosses environments day after day, and moves as much as
// others on the service: somebody has set that up.
func (d coverer) crossings(svc int) (out []*edge) {
	env := expr.Key{Name: d.keys[2]}
	usual := int64(-1) // bytes of an edge: the median of those that do not cross
	for i := range d.edges[svc] {
		x := &d.edges[svc][i]
		if !x.crossing || !x.open || proposer(d).realTag(x.client, env) == "" ||
			proposer(d).realTag(x.server, env) == "" {
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
