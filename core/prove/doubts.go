package prove

import (
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/likeness"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// Words are the tag keys that workloads have, each with its values in lower case.
type Words map[string]map[string]bool

// WordsOf gathers those of an estate.
func WordsOf(e *estate.Estate) Words {
	out := Words{}
	for _, w := range e.All() {
		if !w.Retired.IsZero() {
			continue
		}
		for _, t := range w.Tags {
			if out[t.Key] == nil {
				out[t.Key] = map[string]bool{}
			}
			out[t.Key][expr.Fold(t.Value)] = true
		}
	}
	return out
}

func (w Words) keys() []string {
	out := make([]string, 0, len(w))
	for k := range w {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Key reports that nothing has a tag, with the nearest that something has; blank:
// something has it, or it is a field.
func (w Words) Key(k expr.Key) string {
	if k.Field || k.Name == "" || w[k.Name] != nil {
		return ""
	}
	return "nothing has a tag " + k.String() + orNearest(likeness.Nearest(k.Name, w.keys()))
}

func orNearest(near string) string {
	if near == "" {
		return ""
	}
	return "; the nearest is " + near
}

// Keys says of the keys of an expression what Key does, each once.
func (w Words) Keys(e *expr.Expr) (said []string) {
	e.Walk(func(x *expr.Expr) {
		if words := w.Key(x.Key); words != "" && !slices.Contains(said, words) {
			said = append(said, words)
		}
	})
	return said
}

// doubts reports what in an expression can be read, and hardly is what is meant:
// keys and values that nothing has.
func (w Words) doubts(e *expr.Expr) []string {
	said := w.Keys(e)
	e.Walk(func(x *expr.Expr) {
		switch x.Op {
		case expr.Is, expr.IsNot, expr.In, expr.NotIn:
		default:
			return
		}
		have := w[x.Key.Name]
		if x.Key.Field || have == nil {
			return
		}
		for i, v := range x.Folded() {
			if have[v] {
				continue
			}
			var all []string
			for v := range have {
				all = append(all, v)
			}
			slices.Sort(all)
			words := fmt.Sprintf("nothing has %s %s%s", x.Key, syntax.Quote(x.Values[i]),
				orNearest(likeness.Nearest(v, all)))
			if !slices.Contains(said, words) {
				said = append(said, words)
			}
		}
	})
	return said
}

// Doubts reports what in the statements that are new in a policy can be read, and
// hardly is what is meant: tags, values and workloads that there are none of,
// days that have passed. Each begins with the statement that it is about.
func Doubts(before *policy.Policy, after *decide.Compiled) []string {
	known := map[string]bool{}
	for _, item := range before.Items {
		if item.Statement != nil {
			known[item.Statement.String()] = true
		}
	}
	var words Words
	var out []string
	for _, item := range after.Policy.Items {
		if item.Statement == nil || known[item.Statement.String()] {
			continue
		}
		if words == nil {
			words = WordsOf(after.Estate)
		}
		for _, said := range words.statement(item.Statement, after) {
			name := item.Statement.String()
			if g, ok := item.Statement.(*policy.Group); ok {
				name = "group " + syntax.Name(g.Name)
			}
			out = append(out, name+": "+said)
		}
	}
	return out
}

func (w Words) statement(s policy.Statement, c *decide.Compiled) []string {
	switch x := s.(type) {
	case *policy.Group:
		var out []string
		if x.Expr != nil {
			out = w.doubts(x.Expr)
		}
		for _, id := range slices.Concat(x.Include, x.Exclude) {
			out = append(out, noWorkload(id, c)...)
		}
		return out
	case *policy.Rule:
		return w.clauses(x.Clauses, [2]policy.List{x.Left, x.Right}, c)
	case *policy.Assert:
		return w.clauses(x.Clauses, [2]policy.List{x.Left, x.Right}, c)
	}
	return nil
}

func (w Words) clauses(x policy.Clauses, sides [2]policy.List, c *decide.Compiled) (out []string) {
	for _, k := range slices.Concat(x.Same, x.Across) {
		if said := w.Key(k); said != "" {
			out = append(out, said)
		}
	}
	if x.Until != nil && x.Until.Past(c.AsOf) {
		out = append(out, fmt.Sprintf("%s has passed, so it no longer decides anything", x.Until))
	}
	for _, side := range sides {
		for _, o := range side.Items {
			if o.Kind == policy.IsWorkload {
				out = append(out, noWorkload(o.Name, c)...)
			}
		}
	}
	return out
}

func noWorkload(id string, c *decide.Compiled) []string {
	if _, ok := c.Estate.ByID(id); ok {
		return nil
	}
	near := ""
	for _, w := range c.Estate.All() {
		if strings.EqualFold(w.ID, id) || strings.EqualFold(w.Name, id) {
			near = w.ID
			break
		}
	}
	return []string{"there is no workload " + syntax.Name(id) + orNearest(near)}
}
