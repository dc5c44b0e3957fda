package prove

// Findings about groups and the closing rule.

import (
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// mostByTags is of how many groups it is tried: each takes a walk over the estate.
const mostByTags = 200

// byTags says a group that pins names by the tags that its members share: those
// whose keys other groups read too, for they say what a workload is. nil if more
// would join than are in it.
func (f *finder) byTags(g *policy.Group) *Fix {
	if f.byTag++; f.byTag > mostByTags {
		return nil
	}
	members := map[int32]bool{}
	f.c.Estate.Held(f.c.AsOf, func(ep estate.Endpoint) {
		if f.c.Group(g.Name, f.c.At(ep.Addr, f.c.AsOf)) == expr.Yes {
			members[ep.Workload] = true
		}
	})
	var shared []estate.Tag
	first := true
	for i := range members {
		w := f.c.Estate.Workload(i)
		if first {
			shared, first = slices.Clone(w.Tags), false
			continue
		}
		shared = slices.DeleteFunc(shared, func(t estate.Tag) bool {
			have, _ := w.Tag(t.Key)
			return expr.Fold(have.Value) != expr.Fold(t.Value)
		})
	}
	others := func(tags []estate.Tag) (n int) {
		for i, w := range f.c.Estate.All() {
			if !members[i] && w.Retired.IsZero() && !slices.ContainsFunc(tags, func(t estate.Tag) bool {
				have, _ := w.Tag(t.Key)
				return expr.Fold(have.Value) != expr.Fold(t.Value)
			}) {
				n++
			}
		}
		return n
	}
	shared = slices.DeleteFunc(shared, func(t estate.Tag) bool { return !f.read()[t.Key] })
	if len(shared) == 0 || others(shared) > len(members) {
		return nil
	}
	slices.SortFunc(shared, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
	var tests []string
	for _, t := range shared {
		tests = append(tests, expr.Key{Name: t.Key}.String()+" is "+syntax.Name(t.Value))
	}
	text := strings.Join(tests, " and ")
	e, errs := expr.ParseText(text)
	if len(errs) > 0 {
		return nil // a value that no expression can name
	}
	said := *g
	said.Expr, said.Include = e, nil
	return &Fix{"Use tags: " + text, []policy.Edit{{Op: policy.Change, Line: g.Line, Text: said.String()}},
		true}
}

func (f *finder) groups() {
	counts := map[string]decide.GroupCount{}
	for i, n := range f.c.GroupCounts(f.c.AsOf) {
		counts[f.c.Policy.GroupOrder[i].Name] = n
	}
	outside := map[string]bool{}
	for _, p := range f.c.Outside(f.c.AsOf) {
		f.c.EachGroup(p, func(g *policy.Group, t expr.Truth) {
			if t == expr.Yes {
				outside[g.Name] = true
			}
		})
	}
	used := used(f.c.Policy)
	for _, item := range f.c.Policy.Items {
		g, ok := item.Statement.(*policy.Group)
		if !ok {
			continue
		}
		find := func(kind Kind, fix *Fix, format string, args ...any) {
			f.out = append(f.out, Finding{Kind: kind, Line: g.Line, Group: g.Name,
				Words: fmt.Sprintf(format, args...), Fix: fix})
		}
		drop := &Fix{Words: "Remove it", Edits: []policy.Edit{{Op: policy.Remove, Line: g.Line}}}
		if used[g.Name] {
			drop = nil
		}
		if counts[g.Name].In == 0 && !outside[g.Name] {
			find(EmptyGroup, drop, "It has no members.")
		} else if !used[g.Name] {
			find(UnusedGroup, drop, "No rule, area, assertion or other group names it.")
		}
		if n := counts[g.Name].Undecided; n > 0 {
			what := "workloads"
			if n == 1 {
				what = "workload"
			}
			find(Undecided, nil, "Of %d %s it cannot tell: a tag is missing.", n, what)
		}
		if pinned(g) {
			find(PinsNames, f.byTags(g), "It lists names or ids: a new machine does not join on its own.")
		}
	}
}

// pinned reports whether a group lists workloads by name or id.
func pinned(g *policy.Group) bool {
	pins := len(g.Include) > 0
	g.Expr.Walk(func(e *expr.Expr) {
		if e.Key.Field && (e.Key.Name == "name" || e.Key.Name == "id") && (e.Op == expr.Is || e.Op == expr.In) {
			pins = true
		}
	})
	return pins
}

// used returns the groups that something names.
func used(p *policy.Policy) map[string]bool {
	out := map[string]bool{}
	for _, item := range p.Items {
		if item.Statement != nil {
			policy.EachNamed(item.Statement, func(group string) { out[group] = true })
		}
	}
	return out
}

// closing reports a policy that says nothing of the rest.
func (f *finder) closing() {
	if len(f.c.Policy.Layers) == 0 {
		return
	}
	last := f.c.Policy.Layers[len(f.c.Policy.Layers)-1]
	for _, r := range last.Rules {
		if !r.Off {
			return
		}
	}
	f.out = append(f.out, Finding{Kind: NoClosing, Line: last.Line,
		Words: fmt.Sprintf("The last layer, %s, has no rule, so traffic that no rule above matches stays uncovered.",
			syntax.Name(last.Name)),
		Fix: &Fix{"Reject the rest in it",
			[]policy.Edit{{Op: policy.Add, Layer: last.Name, Text: "reject any -> any on any"}}, true}})
}
