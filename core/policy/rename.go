package policy

import (
	"slices"

	"lucidorchard/core/expr"
	"lucidorchard/core/plural"
	"lucidorchard/core/syntax"
)

// refs calls f with every place where a statement names a group, so that the
// name can be read or replaced.
func refs(st Statement, f func(name *string)) {
	list := func(l List) {
		for i := range l.Items {
			if l.Items[i].Kind == InGroup {
				f(&l.Items[i].Name)
			}
		}
	}
	within := func(r *Ref) {
		if r != nil {
			f(&r.Name)
		}
	}
	switch st := st.(type) {
	case *Rule:
		list(st.Left)
		list(st.Right)
		within(st.Within)
		for i := range st.Groups {
			f(&st.Groups[i].Name)
		}
	case *Assert:
		list(st.Left)
		list(st.Right)
		within(st.Within)
	case *Area:
		f(&st.Group.Name)
	case *Group:
		st.Expr.Walk(func(e *expr.Expr) {
			if e.Op == expr.MemberOf {
				f(&e.Group)
			}
		})
	}
}

// EachNamed calls f with every group that a statement names; its own name is not
// meant.
func EachNamed(st Statement, f func(group string)) { refs(st, func(name *string) { f(*name) }) }

// Names reports whether a statement names a group; its own name is not meant.
func Names(st Statement, group string) bool {
	found := false
	EachNamed(st, func(name string) { found = found || name == group })
	return found
}

// RenameGroup returns the text with a group, and everything that names it, under
// another name.
func RenameGroup(text, from, to string) (string, *EditError) {
	p, errs := Parse(text)
	if len(errs) > 0 {
		return "", &EditError{"the policy has errors", errs}
	}
	g := p.Groups[from]
	switch {
	case g == nil:
		return "", refuse("found no group %s to rename", syntax.Name(from))
	case to == "":
		return "", refuse("found an empty name, expected one for the group")
	case from != to && p.Groups[to] != nil:
		return "", refuse("found a group %s already, expected another name", syntax.Name(to))
	}
	g.Name = to
	for _, item := range p.Items {
		if item.Statement != nil {
			refs(item.Statement, func(name *string) {
				if *name == from {
					*name = to
				}
			})
		}
	}
	return checked(p)
}

// DropGroup returns the text without a group: it is taken out of the lists that
// name it, and rules and assertions that nothing would be left of are removed. It
// says which lines change and which go. What cannot do without it (an area, a
// within, another group's expression) is an error.
func DropGroup(text, name string) (after string, changed, removed []int, err *EditError) {
	p, errs := Parse(text)
	if len(errs) > 0 {
		return "", nil, nil, &EditError{"the policy has errors", errs}
	}
	g := p.Groups[name]
	if g == nil {
		return "", nil, nil, refuse("found no group %s to remove", syntax.Name(name))
	}
	gone := map[Statement]bool{g: true}
	without := func(l *List) (empty bool) {
		n := len(l.Items)
		l.Items = slices.DeleteFunc(slices.Clone(l.Items), func(o Operand) bool {
			return o.Kind == InGroup &&
				o.Name == name
		})
		return !l.Any && n > 0 && len(l.Items) == 0
	}
	for _, item := range p.Items {
		st := item.Statement
		if st == nil || st == g || !Names(st, name) {
			continue
		}
		empty := false
		switch st := st.(type) {
		case *Rule:
			if st.Within != nil && st.Within.Name == name {
				return "", nil, nil, refuse("line %d limits a rule to within %s; change that first", st.Line,
					syntax.Name(name))
			}
			left, right := without(&st.Left), without(&st.Right)
			st.Groups = slices.DeleteFunc(slices.Clone(st.Groups), func(r Ref) bool { return r.Name == name })
			empty = left || right || st.Action == Apart && len(st.Groups) < 2
		case *Assert:
			if st.Within != nil && st.Within.Name == name {
				return "", nil, nil, refuse("line %d limits an assertion to within %s; change that first", st.Line,
					syntax.Name(name))
			}
			left, right := without(&st.Left), without(&st.Right)
			empty = left || right
		case *Area:
			return "", nil, nil, refuse("the area on line %d is the group %s; give it another group first", st.Line,
				syntax.Name(name))
		case *Group:
			return "", nil, nil, refuse("the group %s on line %d asks for its members; change that first",
				syntax.Name(st.Name), st.Line)
		}
		if empty {
			gone[st] = true
			removed = append(removed, item.First)
		} else {
			changed = append(changed, item.First)
		}
	}
	p.Items = slices.DeleteFunc(p.Items, func(item Item) bool {
		return item.Statement != nil &&
			gone[item.Statement]
	})
	after, err = checked(p)
	return after, changed, removed, err
}

// checked prints a policy that was changed and reads it again.
func checked(p *Policy) (string, *EditError) {
	text := p.Format()
	if _, errs := Parse(text); len(errs) > 0 {
		return "", &EditError{"the policy would have " + plural.Of(len(errs), "error") + ": " + errs[0].Message, errs}
	}
	return text, nil
}
