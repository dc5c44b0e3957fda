package derive

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/syntax"
)

// Role is a value of a tag.
type Role struct{ Key, Value string }

// How a role that serves everybody is told from one that serves its own application.
const (
	callers   = 3 // a machine of it is called from so many applications
	mostRoles = 8
)

// SharedServices returns the roles (values of the tags for tiers and applications) that serve
// everybody, such as name servers, and that explain conversations across a border: at least
// half of the workloads of such a role are each called, in pairs, from three applications or
// more. Pairs are clients and servers, indexes of workloads; those outside are left out. The
// roles that explain most come first, and one that explains no more than those before it
// does not come.
func SharedServices(e *estate.Estate, pairs [][2]int32) []Role {
	keys := structural(e)
	value := func(i int32, k int) string {
		t, _ := e.Workload(i).Tag(keys[k])
		return expr.Fold(t.Value)
	}
	from := map[int32]map[string]bool{} // applications, by server
	for _, p := range pairs {
		if p[0] < 0 || p[1] < 0 {
			continue
		}
		if from[p[1]] == nil {
			from[p[1]] = map[string]bool{}
		}
		from[p[1]][value(p[0], 0)] = true
	}
	members, serving := map[Role]int{}, map[Role]int{}
	for i, w := range e.All() {
		for k := range 2 {
			if v := value(i, k); v != "" && w.Retired.IsZero() {
				r := Role{keys[k], v}
				members[r]++
				if len(from[i]) >= callers {
					serving[r]++
				}
			}
		}
	}
	left := slices.DeleteFunc(slices.Clone(pairs), func(p [2]int32) bool { return p[0] < 0 || p[1] < 0 })
	var out []Role
	for len(out) < mostRoles {
		explains := map[Role]int{}
		for _, p := range left {
			of := map[Role]bool{}
			for _, end := range p {
				for k := range 2 {
					of[Role{keys[k], value(end, k)}] = true
				}
			}
			for r := range of {
				if n := serving[r]; n > 0 && 2*n >= members[r] {
					explains[r]++
				}
			}
		}
		if len(explains) == 0 {
			break
		}
		var all []Role
		for r := range explains {
			all = append(all, r)
		}
		best := slices.MaxFunc(all, func(a, b Role) int {
			return cmp.Or(explains[a]-explains[b], members[b]-members[a], strings.Compare(b.Key, a.Key),
				strings.Compare(b.Value, a.Value))
		})
		out = append(out, best)
		left = slices.DeleteFunc(left, func(p [2]int32) bool { return has(e, p[0], best) || has(e, p[1], best) })
	}
	return out
}

// has reports whether a workload has a role.
func has(e *estate.Estate, i int32, r Role) bool {
	t, ok := e.Workload(i).Tag(r.Key)
	return ok && expr.Fold(t.Value) == expr.Fold(r.Value)
}

// noneOf returns the end of an expression, for the workloads that have none of some roles. One
// that lacks the tag is among them: nobody knows that it serves everybody.
func noneOf(roles []Role) string {
	byKey := map[string][]string{}
	var keys []string
	for _, r := range roles {
		k := syntax.Name(r.Key)
		if byKey[k] == nil {
			keys = append(keys, k)
		}
		byKey[k] = append(byKey[k], syntax.Name(r.Value))
	}
	var b strings.Builder
	for _, k := range keys {
		test := " is " + strings.Join(byKey[k], "")
		if vs := byKey[k]; len(vs) > 1 {
			test = " in (" + strings.Join(vs, ", ") + ")"
		}
		b.WriteString(" and (lacks " + k + " or not " + k + test + ")")
	}
	return b.String()
}
