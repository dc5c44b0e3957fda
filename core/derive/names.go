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
			if t == expr.Yes && len(g.Include) == 0 && len(g.Exclude) == 0 {
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

func (n *namer) group(s side) (*policy.Group, policy.Ref) {
	k := s.key()
	if g := n.byTags[k]; g != nil {
		return g, policy.Ref{Name: g.Name}
	}
	var set []byte
	for i, w := range n.d.c.Estate.All() {
		r := n.d.ofWorkload[i]
		if (s.tags == [3]string{} || r.workload < 0 && s.holds(r)) && hasLease(w) {
			set = fmt.Appendf(set, "%d ", i)
		}
	}
	if name, ok := n.sets[string(set)]; ok {
		return nil, policy.Ref{Name: name}
	}
	g := &policy.Group{}
	var names, tests []string
	for i, v := range s.shown {
		if v != "" {
			names = append(names, plain(v))
			tests = append(tests, expr.Key{Name: n.d.keys[i]}.String()+" is "+syntax.Name(v))
		}
	}
	if len(tests) == 0 {
		names, tests = []string{"workloads"}, []string{"not outside"}
	}
	e, errs := expr.ParseText(strings.Join(tests, " and "))
	if len(errs) > 0 {
		panic("derive: a group of its own making cannot be read: " + errs[0].Error())
	}
	g.Expr = e
	g.Note = "Derived"
	g.Name = strings.Join(names, "-")
	for i := 2; n.taken[g.Name]; i++ {
		g.Name = fmt.Sprintf("%s-%d", strings.Join(names, "-"), i)
	}
	n.taken[g.Name] = true
	n.byTags[k] = g
	n.added = append(n.added, g)
	return g, policy.Ref{Name: g.Name}
}

func hasLease(w *estate.Workload) bool {
	return slices.ContainsFunc(w.Leases, func(l estate.Lease) bool { return !l.Empty() })
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
