package policy

import (
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

// Format prints the policy in the canonical layout: a statement a line, single
// blanks, clauses in the order of the grammar, comments kept, one blank line
// where there were several, none at the start and the end.
func (p *Policy) Format() string {
	var b strings.Builder
	blank := false
	for _, item := range p.Items {
		line := ""
		if item.Statement != nil {
			line = item.Statement.String()
		}
		if item.Comment != "" {
			if line != "" {
				line += "  "
			}
			line += item.Comment
		}
		if line == "" {
			blank = b.Len() > 0
			continue
		}
		if blank {
			b.WriteByte('\n')
			blank = false
		}
		b.WriteString(line)
		b.WriteByte('\n')
	}
	return b.String()
}

func withNote(s, note string) string {
	if note != "" {
		s += " " + syntax.Quote(note)
	}
	return s
}

func (s *Service) String() string {
	return withNote("service "+syntax.Name(s.Name)+" = "+specsText(s.Specs), s.Note)
}

func (g *Group) String() string {
	return withNote("group "+syntax.Name(g.Name)+" = "+g.Body(), g.Note)
}

// Body is what stands after the = of a group, without the note.
func (g *Group) Body() string {
	s := g.Expr.String()
	if len(g.Include) > 0 {
		s += " include " + names(g.Include)
	}
	if len(g.Exclude) > 0 {
		s += " exclude " + names(g.Exclude)
	}
	return s
}

func names(list []string) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = syntax.Name(n)
	}
	return strings.Join(out, ", ")
}

func (a *Area) String() string {
	s := "area " + syntax.Name(a.Name) + " = " + syntax.Name(a.Group.Name)
	if a.Owner != "" {
		s += " owner " + syntax.Name(a.Owner)
	}
	return withNote(s, a.Note)
}

func (l *Layer) String() string { return withNote("layer "+syntax.Name(l.Name), l.Note) }

// Sentence is the rule without its note, as if it were on.
func (r *Rule) Sentence() string {
	bare := *r
	bare.Note, bare.Off = "", false
	return bare.String()
}

func (r *Rule) String() string {
	s := ""
	if r.Off {
		s = "off "
	}
	if r.Action == Apart {
		list := make([]string, len(r.Groups))
		for i, g := range r.Groups {
			list[i] = g.Name
		}
		s += "apart " + names(list)
	} else {
		s += r.Action.String() + " " + sentence(r.Left, r.Right, r.On)
	}
	return withNote(s+r.Clauses.String(), r.Note)
}

func (a *Assert) String() string { return withNote(a.Sentence(), a.Note) }

// Sentence is the assertion without its note.
func (a *Assert) Sentence() string {
	return "assert " + a.Kind.String() + " " + sentence(a.Left, a.Right, a.On) + a.Clauses.String()
}

func sentence(left, right List, on Services) string {
	return left.String() + " -> " + right.String() + " on " + on.String()
}

// String prints the clauses in the order of the grammar, each after a blank.
func (c Clauses) String() string {
	s := ""
	if c.Within != nil {
		s += " within " + syntax.Name(c.Within.Name)
	}
	if c.Area != nil {
		s += " area " + syntax.Name(c.Area.Name)
	}
	if len(c.Same) > 0 {
		s += " same " + keysText(c.Same)
	}
	if len(c.Across) > 0 {
		s += " across " + keysText(c.Across)
	}
	if c.Until != nil {
		s += " until " + c.Until.String()
	}
	if c.Log {
		s += " log"
	}
	return s
}

func keysText(keys []expr.Key) string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = k.String()
	}
	return strings.Join(out, ", ")
}

func (l List) String() string {
	if l.Any {
		return "any"
	}
	out := make([]string, len(l.Items))
	for i, o := range l.Items {
		out[i] = o.String()
	}
	return strings.Join(out, ", ")
}

// String prints the operand as it stands in a LIST: a group whose name reads as
// an address is quoted.
func (o Operand) String() string {
	switch o.Kind {
	case IsOutside:
		return "outside"
	case InPrefix:
		return expr.PrefixText(o.Prefix)
	case IsWorkload:
		return "workload " + syntax.Name(o.Name)
	}
	if _, address, _ := expr.ReadPrefix(o.Name); address {
		return syntax.Quote(o.Name)
	}
	return syntax.Name(o.Name)
}

func (s Services) String() string {
	if s.Any {
		return "any"
	}
	return specsText(s.Specs)
}

func specsText(specs []Spec) string {
	out := make([]string, len(specs))
	for i, s := range specs {
		switch _, spec, _ := service.ParseSpec(s.Service); {
		case s.Service == "":
			out[i] = s.Range.String()
		case spec:
			out[i] = syntax.Quote(s.Service)
		default:
			out[i] = syntax.Name(s.Service)
		}
	}
	return strings.Join(out, ", ")
}
