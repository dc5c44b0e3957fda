package derive

import "math"

// What never happens inside a rule is evidence, too: here, members of a group that never do
// what one of them does all the time.

const (
	improbable   = 0.005 // from here on down, chance is no explanation
	hardlyActive = 6     // one that calls a sixth of what the busiest does may be an accident
)

// pinned reports whether machines that do nothing are left out of a rule from their group: on
// services by which others are administered, read or copied.
func pinned(danger float64) bool { return danger > 1 }

// idle reports whether a candidate is from a set of which only few machines call, again and
// again, while the others had as many occasions: days on which one of the few called. Then the
// few are meant, and are candidates themselves.
//
// Each day of an active machine is a trial: if all members were alike, it would be any of n.
// That it always is one of k has a chance of (n over k)·(k/n)^days.
func (d coverer) idle(c *candidate, edges []edge, danger float64) bool {
	if c.left.set == nil || !pinned(danger) {
		return false
	}
	n := len(c.left.set.members)
	calls, days := map[int32]int{}, map[int32]Days{}
	most := 0
	for _, i := range c.edges {
		x := &edges[i]
		calls[x.client]++
		days[x.client] |= d.daysOf(x)
		most = max(most, calls[x.client])
	}
	k, trials := 0, 0
	for m, times := range calls {
		if times*hardlyActive >= most {
			k++
			trials += days[m].Count()
		}
	}
	few := k*3 <= n
	if danger >= administered {
		few = k*2 <= n
	}
	return few && lnChoose(n, k)+float64(trials)*math.Log(float64(k)/float64(n)) < math.Log(improbable)
}

// lnChoose is the natural logarithm of n over k.
func lnChoose(n, k int) float64 {
	lg := func(x int) float64 { v, _ := math.Lgamma(float64(x) + 1); return v }
	return lg(n) - lg(k) - lg(n-k)
}

// silent reports whether a candidate is from a set of which a whole application, or tier, never
// calls, though its machines are so many that chance is no explanation: then narrower sets are meant.
// What everybody may call is not asked about: some always have no use for it.
func (d coverer) silent(s *scratch, c *candidate, edges []edge) bool {
	x := c.left.set
	if x == nil || x.everybody() || len(x.roles) < 2 {
		return false
	}
	seen := d.solidRoles(s, edges, c, 0)
	there := map[string]bool{}
	for _, r := range d.rolesOf(&c.right) {
		if r.role >= 0 {
			there[d.roleTags[r.role][0]] = true
		}
	}
	for k := range 2 { // application, tier
		size, takes := map[string]int{}, map[string]int{}
		all, members := 0, 0
		for _, r := range x.roles {
			if c.same&sameApp != 0 && !there[d.roleTags[r.role][0]] {
				continue // it has nobody to call
			}
			v := d.roleTags[r.role][k]
			size[v] += int(r.n)
			members += int(r.n)
			takes[v] += seen[r.role]
			all += seen[r.role]
		}
		for v, n := range size {
			share := float64(n) / float64(members)
			if v != "" && takes[v] == 0 && float64(all)*math.Log1p(-min(0.999, share)) < math.Log(improbable) {
				return true
			}
		}
	}
	return false
}
