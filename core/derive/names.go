package derive

// Names for the groups that proposals need.

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// namer finds groups for conjunctions of tags: those of the policy that hold
// just the same workloads, else new ones.
type namer struct {
	d      *deriver
	byTags map[string]*policy.Group
	taken  map[string]bool
	added  []*policy.Group
	sets   map[string]string // members → the policy's group
}

func (d *deriver) newNamer() *namer {
	n := &namer{d: d, byTags: map[string]*policy.Group{}, taken: map[string]bool{}, sets: map[string]string{}}
	members := map[string][]byte{}
	for i, w := range d.c.Estate.All() {
		if len(w.Leases) == 0 {
			continue
		}
		k := slices.IndexFunc(w.Leases, func(l estate.Lease) bool { return !l.Empty() })
		if k < 0 {
			continue
		}
		l := w.Leases[k]
		d.c.EachGroup(d.c.At(l.Addr, l.From), func(g *policy.Group, t expr.Truth) {
			if t == expr.Yes {
				members[g.Name] = fmt.Appendf(members[g.Name], "%d ", i)
			}
		})
	}
	elsewhere := netip.MustParseAddr("255.255.255.255")
	stranger := d.c.At(elsewhere, estate.Beginning)
	for _, g := range slices.Sorted(maps.Keys(d.c.Policy.Groups)) {
		n.taken[g] = true
		set := string(members[g])
		if set == "" || d.c.Group(g, stranger) == expr.Yes {
			continue
		}
		if _, have := n.sets[set]; !have {
			n.sets[set] = g
		}
	}
	return n
}

// group finds the group of a set of workloads, or makes one.
func (n *namer) group(x *set) (*policy.Group, policy.Ref) {
	if x.group != "" {
		return nil, policy.Ref{Name: x.group}
	}
	k := x.key()
	if g := n.byTags[k]; g != nil {
		return g, policy.Ref{Name: g.Name}
	}
	var members []int32
	for _, m := range x.members {
		if (proposer{n.d}).tagged(m, x) {
			members = append(members, m)
		}
	}
	if name, ok := n.sets[membersKey(members)]; ok {
		return nil, policy.Ref{Name: name}
	}
	g := &policy.Group{}
	var names, tests []string
	for _, t := range x.tests {
		shown := n.d.show(t.key.Name, t.value)
		if name := plain(shown); name != "" {
			names = append(names, name)
		}
		tests = append(tests, t.key.String()+" is "+syntax.Name(shown))
	}
	if len(names) == 0 {
		names = []string{"group"}
	}
	if len(tests) == 0 {
		names, tests = []string{"workloads"}, []string{"not outside"}
	}
	if len(names) == 1 && syntax.IsKeyword(names[0]) {
		names = append(names, "group")
	}
	e, errs := expr.ParseText(strings.Join(tests, " and "))
	if len(errs) > 0 {
		panic("derive: a group of its own making cannot be read: " + errs[0].Error())
	}
	g.Expr = e
	g.Note = "Derived"
	g.Name = n.free(strings.Join(names, "-"))
	n.byTags[k] = g
	n.added = append(n.added, g)
	return g, policy.Ref{Name: g.Name}
}

// free takes a name that no group has: the wanted one, or one with a number.
func (n *namer) free(wanted string) string {
	name := wanted
	for i := 2; n.taken[name]; i++ {
		name = fmt.Sprintf("%s-%d", wanted, i)
	}
	n.taken[name] = true
	return name
}

// membersKey distinguishes sets of machines, whatever their order.
func membersKey(members []int32) string {
	var b []byte
	for _, m := range slices.Sorted(slices.Values(members)) {
		b = fmt.Appendf(b, "%d ", m)
	}
	return string(b)
}

// plain makes a value fit for a name without quotes. Letters lose their accents.
func plain(v string) string {
	v = strings.NewReplacer("ß", "ss", "æ", "ae", "ø", "o", "ł", "l").Replace(strings.ToLower(v))
	return strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '_':
			return r
		case unicode.Is(unicode.Mn, r):
			return -1 // the accent of the letter before
		}
		return '-'
	}, norm.NFD.String(v)), "-")
}
