package derive

// Several rules of one shape, said as one that holds within one application.

import (
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// Together says rules that differ only in values which both of their sides share
// as one: what they have in common, and "same KEY" for what differs. find gives a
// group by its name, or nil. What comes back are the groups that the rule names, of
// which find may not know some, and the rule. An error says in what the rules
// differ.
func Together(rules []*policy.Rule, find func(string) *policy.Group) ([]*policy.Group, *policy.Rule, error) {
	if len(rules) < 2 {
		return nil, nil, fmt.Errorf("found %d rules, expected two at least", len(rules))
	}
	type sides [2]tests
	all := make([]sides, len(rules))
	var beside [2][]policy.Operand
	for i, r := range rules {
		if r.On.String() != rules[0].On.String() || !slices.Equal(r.Same, rules[0].Same) {
			return nil, nil, fmt.Errorf("“%s” and “%s” differ in more than their groups", rules[0].Sentence(),
				r.Sentence())
		}
		for k, list := range [2]policy.List{r.Left, r.Right} {
			named := func(o policy.Operand) bool { return namesMachines(o, find) }
			at := slices.IndexFunc(list.Items, func(o policy.Operand) bool { return !named(o) })
			var g *policy.Group
			if at >= 0 && list.Items[at].Kind == policy.InGroup {
				g = find(list.Items[at].Name)
			}
			// machines beside the group: their tags do not say yet that they belong to it
			for n, o := range list.Items {
				if n != at && !named(o) {
					g = nil
				} else if n != at && !slices.Contains(beside[k], o) {
					beside[k] = append(beside[k], o)
				}
			}
			if list.Any || g == nil || len(g.Include)+len(g.Exclude) > 0 {
				return nil, nil, fmt.Errorf("a side of “%s” is not one group", r.Sentence())
			}
			tests, ok := testsOf(g.Expr)
			if !ok {
				return nil, nil, fmt.Errorf("the group %s is not a list of tags joined by and", g.Name)
			}
			all[i][k] = tests
		}
	}
	same := slices.Clone(rules[0].Same)
	out := &policy.Rule{Action: policy.Permit, On: rules[0].On}
	var added []*policy.Group
	for k, to := range [2]*policy.List{&out.Left, &out.Right} {
		var kept []*expr.Expr
		for _, first := range all[0][k] {
			key := first.Key
			agree, within := true, true
			for i := range all {
				mine := all[i][k].of(key)
				if mine == nil || len(all[i][k]) != len(all[0][k]) {
					return nil, nil, fmt.Errorf("the groups of “%s” and “%s” test different tags",
						rules[0].Sentence(), rules[i].Sentence())
				}
				other := all[i][1-k].of(key)
				agree = agree && mine.String() == first.String()
				within = within && other != nil && other.String() == mine.String()
			}
			switch {
			case agree:
				kept = append(kept, first)
			case !within:
				return nil, nil, fmt.Errorf("%s differs between the rules, and between the sides of one", key)
			case !slices.Contains(same, first.Key):
				same = append(same, first.Key)
			}
		}
		g := groupOf(kept, find, added)
		if !slices.Contains(added, g) {
			added = append(added, g)
		}
		to.Items = append([]policy.Operand{{Name: g.Name}}, beside[k]...)
		for _, o := range beside[k] {
			if g := find(o.Name); o.Kind == policy.InGroup && !slices.Contains(added, g) {
				added = append(added, g)
			}
		}
	}
	out.Same = same
	return added, out, nil
}

// namesMachines reports whether an operand is a machine, or a group that lists some by their ids.
func namesMachines(o policy.Operand, find func(string) *policy.Group) bool {
	if o.Kind == policy.InGroup {
		g := find(o.Name)
		return g != nil && g.Expr != nil && g.Expr.Op == expr.In && g.Expr.Key == expr.Key{Field: true, Name: "id"}
	}
	return o.Kind == policy.IsWorkload
}

// tests are those for one value that an expression joins by and, in their order.
type tests []*expr.Expr

// of returns the test of a key; nil: there is none.
func (t tests) of(key expr.Key) *expr.Expr {
	for _, e := range t {
		if e.Key == key {
			return e
		}
	}
	return nil
}

// testsOf takes an expression apart; false: it is more than such tests.
func testsOf(e *expr.Expr) (out tests, ok bool) {
	kids := []*expr.Expr{e}
	if e.Op == expr.And {
		kids = e.Kids
	}
	for _, k := range kids {
		if k.Op != expr.Is || out.of(k.Key) != nil {
			return nil, false
		}
		out = append(out, k)
	}
	return out, true
}

// groupOf returns the group of the workloads that pass all tests: one of those that
// were added, or a new one with a name of its own.
func groupOf(tests []*expr.Expr, find func(string) *policy.Group, added []*policy.Group) *policy.Group {
	name, text := "workloads", "not outside"
	if len(tests) > 0 {
		var names, texts []string
		for _, t := range tests {
			if n := plain(t.Values[0]); n != "" {
				names = append(names, n)
			}
			texts = append(texts, t.String())
		}
		if len(names) == 1 && syntax.IsKeyword(names[0]) {
			names = append(names, "group")
		}
		if len(names) > 0 {
			name = strings.Join(names, "-")
		}
		text = strings.Join(texts, " and ")
	}
	for _, x := range added {
		if x.Expr.String() == text {
			return x
		}
	}
	base := name
	for i := 2; ; i++ {
		known := find(name)
		if known != nil && known.Expr.String() == text {
			return known
		}
		if known == nil && !slices.ContainsFunc(added, func(x *policy.Group) bool { return x.Name == name }) {
			break
		}
		name = fmt.Sprintf("%s-%d", base, i)
	}
	e, errs := expr.ParseText(text)
	if len(errs) > 0 {
		panic("derive: a group of its own making cannot be read: " + errs[0].Error())
	}
	return &policy.Group{Head: policy.Head{Note: "Derived"}, Name: name, Expr: e}
}
