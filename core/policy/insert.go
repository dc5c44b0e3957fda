package policy

import (
	"strings"

	"lucidorchard/core/syntax"
)

// InsertAllowances adds lines for groups and rules to a policy text without
// touching what stands in it: last in the layer allowances, behind its last
// rule; the layer is added where it is missing, before a layer closing if there
// is one. The text must be free of errors.
func InsertAllowances(text string, lines []string) string {
	if len(lines) == 0 {
		return text
	}
	p, _ := Parse(text)
	eol := "\n"
	if strings.Contains(text, "\r\n") {
		eol = "\r\n"
	}
	physical := strings.SplitAfter(text, "\n")
	if physical[len(physical)-1] == "" {
		physical = physical[:len(physical)-1]
	}
	after := len(physical) // how many physical lines stand before the new ones
	found := false
	for i, item := range p.Items {
		l, ok := item.Statement.(*Layer)
		if !ok {
			continue
		}
		if l.Name == Closing && !found {
			after = item.First - 1
			for k := i - 1; k >= 0 && p.Items[k].Statement == nil && p.Items[k].Comment != ""; k-- {
				after = p.Items[k].First - 1 // a comment right above the layer speaks of it
			}
		}
		if l.Name == Allowances {
			found = true
			after = item.Last
			for _, later := range p.Items[i+1:] {
				if r, ok := later.Statement.(*Rule); ok && r.Layer == l {
					after = later.Last
				}
			}
		}
	}
	var b strings.Builder
	write := func(s string) {
		b.WriteString(s)
		if s != "" && !strings.HasSuffix(s, "\n") {
			b.WriteString(eol)
		}
	}
	for _, s := range physical[:after] {
		write(s)
	}
	if after > 0 && strings.HasSuffix(strings.TrimRight(physical[after-1], "\r\n"), `\`) {
		b.WriteString(eol) // ends a last line that would continue on the next
	}
	if !found {
		write("layer " + Allowances)
	}
	for _, s := range lines {
		write(s)
	}
	for _, s := range physical[after:] {
		b.WriteString(s)
	}
	return b.String()
}

// AppendAsserts adds assertions, a line each, to the end of a text that is free of
// errors. Errors stand where they are in the lines.
func AppendAsserts(text, lines string) (string, []*syntax.Error) {
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	before := strings.Count(text, "\n")
	loose, errs := ParseLoose(lines)
	for _, item := range loose.Items {
		if _, ok := item.Statement.(*Assert); item.Statement != nil && !ok {
			errs = append(errs, syntax.Errorf(syntax.Pos{Line: item.First, Col: 1},
				"found a %s, expected an assertion: assert never, always or only", KindOf(item.Statement)))
		}
	}
	if len(errs) == 0 {
		if _, all := Parse(text + lines); len(all) > 0 {
			for _, e := range all {
				errs = append(errs, syntax.Errorf(syntax.Pos{Line: max(1, e.Line-before), Col: e.Col}, "%s",
					e.Message))
			}
		}
	}
	return text + lines, errs
}

// KindOf reports what a statement is, in a word.
func KindOf(s Statement) string {
	switch s.(type) {
	case *Service:
		return "service"
	case *Group:
		return "group"
	case *Area:
		return "area"
	case *Layer:
		return "layer"
	case *Assert:
		return "assertion"
	}
	return "rule"
}
