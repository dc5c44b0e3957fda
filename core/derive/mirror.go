package derive

import (
	"slices"

	"lucidorchard/core/expr"
)

// mirror finds what holds in every environment alike.
type mirror struct{ *deriver }

// How far environments are copies of each other: then a rule that was seen in one of them is
// said of all, though the others were quiet.

// mirroredFrom is from which share on environments count as copies of each other, and enoughShapes
// from how many cases on that can be told.
const (
	mirroredFrom = 0.4
	ifMirrored   = 0.9
	enoughShapes = 8
)

// findMirrored finds in how many of the cases in which the same two tiers, of the same
// applications, stand in two environments, and talk on a service in one of them, they do so in
// the other.
func (d mirror) findMirrored() {
	type tier [2]string
	envs := map[tier]map[string]int{} // machines of a tier, by environment
	for r, t := range d.roleTags {
		if t[0] != "" && t[1] != "" && t[2] != "" && d.roleSize[r] > 0 {
			k := tier{t[0], t[1]}
			if envs[k] == nil {
				envs[k] = map[string]int{}
			}
			envs[k][t[2]] = d.roleSize[r]
		}
	}
	both := 0
	for svc := range d.edges {
		if dangerOf(d.points[svc]) >= administered {
			continue
		}
		seen := map[[2]tier]map[string]bool{}
		done := map[int32]bool{}
		for i := range d.edges[svc] {
			x := &d.edges[svc][i]
			if done[x.block] || x.crossing {
				continue
			}
			done[x.block] = true
			a, b := d.tags(x.client), d.tags(x.server)
			if a[2] == "" || a[2] != b[2] || a[0] == "" || a[1] == "" || b[0] == "" || b[1] == "" {
				continue
			}
			k := [2]tier{{a[0], a[1]}, {b[0], b[1]}}
			if seen[k] == nil {
				seen[k] = map[string]bool{}
			}
			seen[k][a[2]] = true
		}
		for k, in := range seen {
			for env := range envs[k[0]] {
				if n := envs[k[1]][env]; n == 0 || n == 1 && k[0] == k[1] { // nobody is called by itself
					continue
				}
				others := len(in)
				if in[env] {
					others--
					both += others
				}
				d.copies[1] += others
			}
		}
	}
	d.copies[0] = both
}

// mirrored is how sure it is that what was seen in one environment is done in the others, too: 0
// where they are not copies of each other.
func (d mirror) mirrored() float64 {
	if d.copies[1] < enoughShapes {
		return 0
	}
	if float64(d.copies[0]) >= mirroredFrom*float64(d.copies[1]) {
		return ifMirrored
	}
	return 0
}

// copied is, of a candidate that is for all environments, each for itself, how sure it is that
// what was seen in one of them is done in the others; 0: nothing speaks for that.
func (d mirror) copied(c *candidate, danger float64) float64 {
	oneTier := func(x *item) bool { return x.set != nil && x.set.mask == 3 }
	if c.same&sameEnv == 0 || danger >= administered || !oneTier(&c.left) || !oneTier(&c.right) {
		return 0
	}
	return d.mirrored()
}

// inEveryEnvironment returns a candidate between tiers in one environment as one that is for all
// environments, each for itself, and how it is called; blank: nothing speaks for that. It is told
// the edges by the sets that their servers are in.
func (d mirror) inEveryEnvironment(c candidate, edges []edge, to map[*set][]int32, danger float64) (candidate, string) {
	if danger >= administered || d.mirrored() == 0 || c.left.set == nil || c.right.set == nil ||
		c.left.set.mask != 7 || c.right.set.mask != 7 {
		return c, ""
	}
	c.left.set, c.right.set = d.allEnvironments(c.left.set), d.allEnvironments(c.right.set)
	if c.left.set == nil || c.right.set == nil {
		return c, ""
	}
	c.edges = nil
	for _, i := range to[c.right.set] {
		if d.holds(&c.left, edges[i].client) {
			c.edges = append(c.edges, i)
		}
	}
	return c, d.itemKey(&c.left) + " -> " + d.itemKey(&c.right)
}

// allEnvironments is the set of a tier in all environments; nil: it is in one only.
func (d mirror) allEnvironments(s *set) *set {
	for _, id := range d.setsOf[s.members[0]] {
		if s := d.sets[id]; s.group == "" && s.mask == 3 {
			return s
		}
	}
	return nil
}

// askedFor is how many machines of a set count as asked for, where scratch knows the roles that
// take part: all in the environments of these, and of the others as many as may not do the same.
func (d mirror) askedFor(s *scratch, x *set, copied float64) float64 {
	n, others := 0.0, 0.0
	for _, r := range x.roles {
		if s.roles[r.role] == s.now {
			n += float64(r.n)
		} else {
			others += float64(r.n)
		}
	}
	return n + (1-copied)*others
}

// onlyIn returns the environment in which alone a rule was seen, if it is for all of them, each for
// itself, because they are copies; blank: it was seen in several, or is for one.
func (d mirror) onlyIn(r *draft) (env string) {
	if d.mirrored() == 0 || !slices.Contains(r.same, expr.Key{Name: d.keys[2]}) {
		return ""
	}
	for _, x := range r.edges {
		v := d.tags(x.client)[2]
		if v == "" || env != "" && v != env {
			return ""
		}
		env = v
	}
	return env
}
