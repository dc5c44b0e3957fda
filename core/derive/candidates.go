package derive

import (
	"fmt"
	"math"
	"slices"
)

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
			inside, outside := d.farEnds(s, edges, u.edges, servers)
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
				if danger >= administered && forOneOfMany(&c, edges) || d.idle(&c, edges, danger) {
					continue
				}
				out = append(out, d.withClauses(c, key, edges)...)
				if m, key := mirror(d).inEveryEnvironment(c, edges, to, danger); key != "" && !known[key] {
					known[key] = true
					out = append(out, d.withClauses(m, key, edges)...)
				}
			}
		}
	}
	return out
}

// farEnds returns who is on the other side of some edges, with how sure it is that they are
// meant: machines, and outside addresses.
func (d coverer) farEnds(s *scratch, edges []edge, of []int32, servers bool) (inside, outside []seen) {
	for _, i := range of {
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
	return inside, outside
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

// rolesOf returns the roles of an item.
func (d coverer) rolesOf(x *item) []roleCount {
	switch {
	case x.set != nil:
		return x.set.roles
	case x.all, x.group != "", x.prefix.IsValid(), d.isOutside(x.m):
		return []roleCount{{role: -1, n: 1}}
	}
	return []roleCount{{role: d.roleOf[x.m], n: 1}}
}

// withClauses returns a candidate as it is, and limited to one application where both
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

// judgeCandidate counts the bits that a candidate saves now.
func (d coverer) judgeCandidate(s *scratch, edges []edge, c *candidate, danger float64) {
	copied := mirror(d).copied(c, danger)
	roles, solid, sizes := d.rolesOn(s, edges, c, copied)
	d.spread(s, edges, c, danger)
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
			f = d.scattered(x.set, solid[k], roles[k], worse)
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

// solidRoles returns how many machines of each role are on one side of a candidate (0: clients), but for
// those that are much less sure to recur than what is usual there: attacks come from anywhere, too.
func (d coverer) solidRoles(s *scratch, edges []edge, c *candidate, side int) map[int32]int {
	sum, squares := 0.0, 0.0
	for _, i := range c.edges {
		m := [2]int32{edges[i].client, edges[i].server}[side]
		if sure := edges[i].rs[side]; sure > s.surest[m] {
			if s.surest[m] == 0 {
				s.sides = append(s.sides, m)
			}
			s.surest[m] = sure
		}
	}
	for _, m := range s.sides {
		sum, squares = sum+s.surest[m], squares+s.surest[m]*s.surest[m]
	}
	out := map[int32]int{}
	for _, m := range s.sides {
		if s.surest[m] >= accidental*squares/sum {
			out[d.role(m)]++
		}
		s.surest[m] = 0
	}
	s.sides = s.sides[:0]
	return out
}

// accidental is from which share of what is usual on a side on its machines are no accidents there.
const accidental = 0.8

// rolesOn returns how many machines, and of how many roles, are on either side of a candidate for
// sure. Where it would be copied to other environments, it returns how large the sides are then.
func (d coverer) rolesOn(s *scratch, edges []edge, c *candidate, copied float64) (roles, solid [2]int,
	sizes [2]float64) {
	for k := range 2 {
		s.now++
		for r, n := range d.solidRoles(s, edges, c, k) {
			solid[k] += n
			if r >= 0 {
				s.roles[r] = s.now
				roles[k]++
			}
		}
		if copied > 0 {
			sizes[k] = mirror(d).askedFor(s, [2]*item{&c.left, &c.right}[k].set, copied)
		}
	}
	return roles, solid, sizes
}

// spread notes in the scratch which blocks and members the edges of a candidate touch, and
// what of them is open.
func (d coverer) spread(s *scratch, edges []edge, c *candidate, danger float64) {
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
