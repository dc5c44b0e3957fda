package derive

import (
	"slices"
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// standIn is the machines that behave like those of a set, and lack the tags that it asks for.
type standIn struct {
	like    *set
	members []int32
}

// likeWhich returns the set of some items that a machine belongs to by what it does; nil: none.
func (d proposer) likeWhich(items []item, m int32) *set {
	for _, x := range items {
		if x.set != nil && x.set.group == "" && x.set.has(m) {
			return x.set
		}
	}
	return nil
}

// withRoom returns those of the strays that a side has room for: those that are like one set take
// one item.
func (d proposer) withRoom(items []item, strays []int32) []int32 {
	room := max(0, mostItems-len(items))
	var sets []*set
	return slices.DeleteFunc(strays, func(m int32) bool {
		s := d.likeWhich(items, m)
		if s != nil && slices.Contains(sets, s) {
			return false
		}
		sets = append(sets, s)
		return len(sets) > room
	})
}

// standInsOf gathers the strays of all rules by the sets that they are like, so that several are
// named once, by a group of their own, and not in each rule.
func (d proposer) standInsOf(rules []*draft) {
	all := map[*set][]int32{}
	each := func(f func(r *draft, k int, s *set, m int32)) {
		for _, r := range rules {
			for k, items := range [2][]item{r.left, r.right} {
				for _, m := range r.strays[k] {
					if s := d.likeWhich(items, m); s != nil {
						f(r, k, s, m)
					}
				}
			}
		}
	}
	each(func(_ *draft, _ int, s *set, m int32) {
		if !slices.Contains(all[s], m) {
			all[s] = append(all[s], m)
		}
	})
	for _, ms := range all {
		slices.SortFunc(ms, func(a, b int32) int {
			return strings.Compare(d.c.Estate.Workload(a).ID, d.c.Estate.Workload(b).ID)
		})
	}
	each(func(r *draft, k int, s *set, _ int32) {
		if len(all[s]) > 1 && !slices.ContainsFunc(r.standIns[k], func(x standIn) bool { return x.like == s }) {
			r.standIns[k] = append(r.standIns[k], standIn{s, all[s]})
		}
	})
	for _, r := range rules {
		for k := range r.standIns {
			for _, s := range r.standIns[k] {
				for _, m := range s.members {
					if !slices.Contains(r.strays[k], m) {
						r.strays[k] = append(r.strays[k], m)
					}
				}
			}
		}
	}
}

// standIn finds the group of the policy that has just these machines, or makes one.
func (n *namer) standIn(s standIn) (*policy.Group, policy.Ref) {
	key := "stand-in " + s.like.key()
	if g := n.byTags[key]; g != nil {
		return g, policy.Ref{Name: g.Name}
	}
	if name, ok := n.sets[membersKey(s.members)]; ok {
		return nil, policy.Ref{Name: name}
	}
	_, like := n.group(s.like)
	ids := make([]string, len(s.members))
	for i, m := range s.members {
		ids[i] = syntax.Name(n.d.c.Estate.Workload(m).ID)
	}
	e, errs := expr.ParseText("id in (" + strings.Join(ids, ", ") + ")")
	if len(errs) > 0 {
		panic("derive: a group of its own making cannot be read: " + errs[0].Error())
	}
	g := &policy.Group{Expr: e, Name: n.free("untagged-like-" + plain(like.Name))}
	g.Note = "Derived: tag them like " + like.Name
	n.byTags[key] = g
	n.added = append(n.added, g)
	return g, policy.Ref{Name: g.Name}
}
