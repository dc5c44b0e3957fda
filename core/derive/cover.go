package derive

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lucidorchard/core/service"
)

// side is one item of a rule that is being made: a conjunction of structural
// tags (nil values are free), a single workload, or a part of the outside.
type side struct {
	name    string    // its key, once it is known
	role    *role     // a single workload or outside
	addr    string    // a single outside address
	tags    [3]string // folded; "" is free
	shown   [3]string
	members int
}

func (s side) key() string {
	if s.name != "" {
		return s.name
	}
	switch {
	case s.addr != "":
		return "outside " + s.addr
	case s.role != nil:
		return s.role.key
	}
	return fmt.Sprintf("%q %q %q", s.tags[0], s.tags[1], s.tags[2])
}

// draft is a rule that is being made from patterns.
type draft struct {
	left, right []side
	points      service.Set
	sameEnv     bool
	anyone      bool // the left side is anybody, whoever they are
	patterns    []*pattern
}

func sidesKey(ss []side) string {
	if len(ss) == 1 {
		return ss[0].key()
	}
	keys := make([]string, len(ss))
	for i, s := range ss {
		keys[i] = s.key()
	}
	slices.Sort(keys)
	return strings.Join(keys, ", ")
}

// pairs counts the pairs of endpoints, times services, that were seen.
func (r *draft) pairs() int {
	n := 0
	for _, p := range r.patterns {
		n += len(p.conversations)
	}
	return n
}

// opened estimates the pairs times services that the rule opens. A part of the
// outside counts with the addresses that were seen, a range of ports once.
func (r *draft) opened(d *deriver) int {
	count := func(ss []side, seen func(*pattern) map[int32]int) int {
		n := 0
		for _, s := range ss {
			if s.members > 0 {
				n += s.members
				continue
			}
			addrs := map[int32]bool{}
			for _, p := range r.patterns {
				for m := range seen(p) {
					if m < 0 {
						addrs[m] = true
					}
				}
			}
			n += len(addrs)
		}
		return n
	}
	clients := count(r.left, func(p *pattern) map[int32]int { return p.clients })
	servers := count(r.right, func(p *pattern) map[int32]int { return p.servers })
	n := clients * servers
	if r.sameEnv {
		n = 0
		envs := map[string]bool{}
		for _, role := range d.roles {
			envs[role.env] = true
		}
		for env := range envs {
			n += d.membersIn(r.left, env) * d.membersIn(r.right, env)
		}
	}
	return n * max(1, len(r.points))
}

func (d *deriver) membersIn(ss []side, env string) int {
	n := 0
	for _, role := range d.roles {
		if role.env == env && role.workload < 0 && !role.outside &&
			slices.ContainsFunc(ss, func(s side) bool { return s.role == nil && s.holds(role) }) {
			n += role.members
		}
	}
	return n
}

func (s side) holds(r *role) bool {
	for i, v := range [3]string{r.app, r.tier, r.env} {
		if s.tags[i] != "" && s.tags[i] != v {
			return false
		}
	}
	return true
}

// conjunction makes a side of some of a role's tags and counts its members.
func (d *deriver) conjunction(r *role, app, tier, env bool) side {
	var s side
	for i, use := range [3]bool{app, tier, env} {
		if use {
			s.tags[i] = [3]string{r.app, r.tier, r.env}[i]
		}
	}
	if have, known := d.sides[s.tags]; known {
		for i := range s.tags {
			if s.tags[i] != "" {
				have.shown[i] = r.shown[i]
			}
		}
		return have
	}
	for _, other := range d.roles {
		if other.workload < 0 && !other.outside && s.holds(other) {
			s.members += other.members
		}
	}
	for i := range s.tags {
		if s.tags[i] != "" {
			s.shown[i] = r.shown[i]
		}
	}
	s.name = s.key()
	d.sides[s.tags] = s
	return s
}

// pointsKey tells sets of points apart.
func pointsKey(s service.Set) string {
	if len(s) == 1 {
		return " " + strconv.FormatUint(uint64(s[0].Lo), 36) + "-" + strconv.FormatUint(uint64(s[0].Hi), 36)
	}
	return fmt.Sprint(s)
}

// cover says the patterns in rules. A balance of 0 opens hardly more than was
// seen, 1 takes what is common for all.
func (d *deriver) cover(balance float64) []*draft {
	var rules []*draft
	for _, p := range d.patterns {
		rules = append(rules, &draft{
			left:     d.sidesOf(p.client, p.clients, balance),
			right:    d.sidesOf(p.server, p.servers, balance),
			points:   service.Set{p.points},
			patterns: []*pattern{p},
		})
	}
	if balance > 0 {
		rules = d.everyone(rules, balance)
		rules = d.everyEnvironment(rules)
	}
	// Rules that differ in one thing only are one rule with a list, which opens
	// nothing more.
	rules = join(rules, func(r *draft) string { return sidesKey(r.left) + " -> " + sidesKey(r.right) },
		func(into, r *draft) {
			into.points = into.points.Union(r.points)
		})
	if balance >= 0.3 {
		rules = join(rules, func(r *draft) string { return sidesKey(r.right) + pointsKey(r.points) + kindOf(r.left) },
			func(into, r *draft) {
				into.left = unite(into.left, r.left)
			})
		rules = join(rules, func(r *draft) string { return sidesKey(r.left) + pointsKey(r.points) + kindOf(r.right) },
			func(into, r *draft) {
				into.right = unite(into.right, r.right)
			})
	}
	slices.SortStableFunc(rules, func(a, b *draft) int {
		return cmp.Or(cmp.Compare(sidesKey(a.right), sidesKey(b.right)),
			cmp.Compare(sidesKey(a.left), sidesKey(b.left)),
			slices.CompareFunc(a.points, b.points, func(x,
				y service.Range) int {
				return cmp.Or(cmp.Compare(x.Lo, y.Lo), cmp.Compare(x.Hi, y.Hi))
			}))
	})
	return rules
}

// kindOf keeps lists apart that should be judged apart: single workloads,
// groups, and the outside.
func kindOf(ss []side) string {
	switch {
	case ss[0].role == nil:
		return " groups"
	case ss[0].role.outside:
		return " outside"
	}
	return " workloads"
}

func join(rules []*draft, key func(*draft) string, merge func(into, r *draft)) []*draft {
	byKey := map[string]*draft{}
	var out []*draft
	for _, r := range rules {
		k := fmt.Sprint(r.sameEnv) + " " + key(r)
		if into := byKey[k]; into != nil {
			merge(into, r)
			into.patterns = append(into.patterns, r.patterns...)
			continue
		}
		byKey[k] = r
		out = append(out, r)
	}
	return out
}

func unite(a, b []side) []side {
	out := slices.Clone(a)
	for _, s := range b {
		if !slices.ContainsFunc(out, func(have side) bool { return have.key() == s.key() }) {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(x, y side) int { return strings.Compare(x.key(), y.key()) })
	return out
}

// sidesOf says who of a role takes part: the role where many of it do, for the
// others will; single machines where few do.
func (d *deriver) sidesOf(r *role, seen map[int32]int, balance float64) []side {
	members := slices.Sorted(maps.Keys(seen))
	if r.outside {
		if r.group != "" || len(members) > 4 {
			return []side{{role: r}}
		}
		var out []side
		for addr, n := range d.outsiders {
			if slices.Contains(members, n) {
				out = append(out, side{role: r, addr: addr.String(), members: 1})
			}
		}
		slices.SortFunc(out, func(a, b side) int { return strings.Compare(a.addr, b.addr) })
		return out
	}
	if r.workload >= 0 {
		return []side{{role: r, members: 1}}
	}
	share := float64(len(members)) / float64(r.members)
	narrow := 0.5 - 0.7*balance // at the default: 0.15
	if r.members > 3 && len(members) <= 4 && share < narrow {
		var out []side
		for _, m := range members {
			id := d.c.Estate.Workload(m).ID
			out = append(out, side{role: &role{key: "workload " + id, members: 1, workload: m}, members: 1})
		}
		return out
	}
	return []side{d.conjunction(r, true, true, true)}
}

// everyone finds services that most roles of the estate use, or that one role
// uses with most of the others, and says them with one rule.
func (d *deriver) everyone(rules []*draft, balance float64) []*draft {
	most := max(4, int(float64(d.allRoles)*(1-0.6*balance)+0.999))
	for _, fromServer := range []bool{true, false} {
		near := func(r *draft) []side {
			if fromServer {
				return r.right
			}
			return r.left
		}
		far := func(r *draft) *[]side {
			if fromServer {
				return &r.left
			}
			return &r.right
		}
		count := map[string]map[string]bool{}
		apps := map[string]map[string]bool{}
		key := func(r *draft) string { return sidesKey(near(r)) + pointsKey(r.points) }
		eligible := func(r *draft) bool {
			ss := *far(r)
			return len(ss) > 0 && !slices.ContainsFunc(ss, func(s side) bool {
				return s.role != nil &&
					s.role.outside || s.tags == [3]string{} && s.role == nil
			})
		}
		for _, r := range rules {
			if !eligible(r) {
				continue
			}
			k := key(r)
			if count[k] == nil {
				count[k], apps[k] = map[string]bool{}, map[string]bool{}
			}
			for _, p := range r.patterns {
				other := p.client
				if !fromServer {
					other = p.server
				}
				if other.workload < 0 {
					count[k][other.key] = true
					apps[k][other.app] = true
				}
			}
		}
		for _, r := range rules {
			if k := key(r); eligible(r) && len(count[k]) >= most && len(apps[k]) >= 3 {
				*far(r) = []side{{members: d.c.Estate.Len()}}
			}
		}
		rules = join(rules, func(r *draft) string {
			return sidesKey(r.left) + " -> " + sidesKey(r.right) + pointsKey(r.points)
		}, func(*draft, *draft) {})
	}
	return rules
}

// everyEnvironment finds what tiers do alike in several environments and says
// it once, with "same" for the environment: it then holds for the next
// environment too.
func (d *deriver) everyEnvironment(rules []*draft) []*draft {
	wide := func(ss []side) (side, bool) {
		if len(ss) == 1 && ss[0].role == nil && ss[0].tags[2] != "" {
			s := ss[0]
			s.tags[2], s.shown[2], s.name = "", "", ""
			return s, true
		}
		return side{}, false
	}
	key := func(r *draft) string {
		a, okA := wide(r.left)
		b, okB := wide(r.right)
		if !okA || !okB || r.left[0].tags[2] != r.right[0].tags[2] {
			return ""
		}
		return a.key() + " -> " + b.key() + pointsKey(r.points)
	}
	count := map[string]int{}
	for _, r := range rules {
		count[key(r)]++
	}
	out := []*draft{}
	made := map[string]*draft{}
	for _, r := range rules {
		k := key(r)
		if k == "" || count[k] < 2 {
			out = append(out, r)
			continue
		}
		if made[k] == nil {
			p := r.patterns[0]
			made[k] = &draft{
				left:    []side{d.conjunction(p.client, true, true, false)},
				right:   []side{d.conjunction(p.server, true, true, false)},
				points:  r.points,
				sameEnv: true,
			}
			out = append(out, made[k])
		}
		made[k].patterns = append(made[k].patterns, r.patterns...)
	}
	return out
}
