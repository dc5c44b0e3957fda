package policy

import (
	"fmt"
	"slices"

	"lucidorchard/core/expr"
	"lucidorchard/core/syntax"
)

// Bounds of a text.
const (
	MaxErrors = 50       // reported for one text
	MaxText   = 16 << 20 // octets that are read
)

// Parse reads a policy text. The errors are in the order of the text; with
// errors, the policy holds what could be read.
func Parse(text string) (*Policy, []*syntax.Error) {
	p := newParser()
	p.text(text)
	p.unknown()
	p.cycles()
	return p.policy, p.sorted()
}

// ParseLoose is Parse for a formatter: names that nothing defines are no error.
func ParseLoose(text string) (*Policy, []*syntax.Error) {
	p := newParser()
	p.text(text)
	p.cycles()
	return p.policy, p.sorted()
}

// parser reads one text. Names are declared as soon as they are read, so that a
// definition with an error in it is reported once and not again at each use.
type parser struct {
	policy   *Policy
	errs     []*syntax.Error
	declared map[string]int // kind and name → line
	uses     []use
	layer    *Layer
	anyLayer bool // a layer line was seen, right or wrong
}

type use struct {
	kind string
	Ref
}

func newParser() *parser {
	return &parser{
		policy: &Policy{
			Groups:   map[string]*Group{},
			Services: map[string]*Service{},
			Areas:    map[string]*Area{},
		},
		declared: map[string]int{},
	}
}

func (p *parser) text(text string) {
	if len(text) > MaxText {
		p.errs = append(p.errs, syntax.Errorf(syntax.Pos{Line: 1, Col: 1},
			"found a text of %d octets, expected at most %d", len(text), MaxText))
		return
	}
	for _, l := range syntax.Lines(text) {
		item := Item{First: l.First, Last: l.Last, Comment: l.Comment}
		if len(l.Tokens) > 0 || l.Err != nil {
			c := syntax.NewCursor(l)
			s, err := p.statement(c)
			p.errs = append(p.errs, c.Noted()...)
			if err != nil {
				p.errs = append(p.errs, err)
			} else {
				item.Statement = s
			}
		}
		p.policy.Items = append(p.policy.Items, item)
	}
}

func (p *parser) sorted() []*syntax.Error {
	slices.SortStableFunc(p.errs, func(a, b *syntax.Error) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Col - b.Col
	})
	return p.errs
}

func (p *parser) statement(c *syntax.Cursor) (Statement, *syntax.Error) {
	t := c.Next()
	head := Head{Line: t.Line}
	switch {
	case t.Is("service"):
		return p.service(c, head)
	case t.Is("group"):
		return p.group(c, head)
	case t.Is("area"):
		return p.area(c, head)
	case t.Is("layer"):
		return p.layerLine(c, head)
	case t.Is("assert"):
		return p.assert(c, head)
	case t.Is("off"):
		w := c.Next()
		if w.Is("permit") || w.Is("reject") || w.Is("apart") {
			return p.rule(c, head, w, true)
		}
		return nil, c.Unexpected(w, "permit, reject or apart after off")
	case t.Is("permit"), t.Is("reject"), t.Is("apart"):
		return p.rule(c, head, t, false)
	}
	return nil, c.Unexpected(t, "a statement: service, group, area, layer, permit, reject, apart, off or assert")
}

// declare notes that a name is defined, and reports whether it was new.
func (p *parser) declare(c *syntax.Cursor, kind string, t syntax.Token) bool {
	key := kind + " " + t.Text
	if line, twice := p.declared[key]; twice {
		c.Note(syntax.Errorf(t.Pos, "found a second %s %s, expected another name: it is defined on line %d", kind,
			syntax.Name(t.Text), line))
		return false
	}
	p.declared[key] = t.Line
	return true
}

func (p *parser) refer(kind string, t syntax.Token) Ref {
	r := Ref{t.Text, t.Pos}
	p.uses = append(p.uses, use{kind, r})
	return r
}

// definition reads NAME = and declares the name.
func (p *parser) definition(c *syntax.Cursor, kind, what string) (syntax.Token, bool, *syntax.Error) {
	name, err := c.Name("the name of " + what)
	if err != nil {
		return name, false, err
	}
	fresh := p.declare(c, kind, name)
	return name, fresh, c.Expect("=")
}

// note reads the optional note at the end of a statement.
func note(c *syntax.Cursor, head *Head, expected string) *syntax.Error {
	if t := c.Peek(); t.Kind == syntax.Quoted {
		head.Note = c.Next().Text
		return c.Finish("the end of the statement after its note")
	}
	return c.Finish(expected + "a note in quotes or the end of the statement")
}

func (p *parser) service(c *syntax.Cursor, head Head) (Statement, *syntax.Error) {
	s := &Service{Head: head}
	name, fresh, err := p.definition(c, "service", "a service")
	if err != nil {
		return nil, err
	}
	s.Name = name.Text
	if s.Specs, err = p.specs(c); err != nil {
		return nil, err
	}
	if fresh {
		p.policy.Services[s.Name] = s
	}
	return s, note(c, &s.Head, ", and another service, ")
}

func (p *parser) group(c *syntax.Cursor, head Head) (Statement, *syntax.Error) {
	g := &Group{Head: head}
	name, fresh, err := p.definition(c, "group", "a group")
	if err != nil {
		return nil, err
	}
	g.Name = name.Text
	if g.Expr, err = expr.Parse(c); err != nil {
		return nil, err
	}
	g.Expr.Walk(func(e *expr.Expr) {
		if e.Op == expr.MemberOf {
			p.uses = append(p.uses, use{"group", Ref{e.Group, e.Pos}})
		}
	})
	if c.Take("include") {
		if g.Include, err = ids(c); err != nil {
			return nil, err
		}
	}
	if c.Take("exclude") {
		if g.Exclude, err = ids(c); err != nil {
			return nil, err
		}
	}
	expected := ""
	switch {
	case g.Include == nil && g.Exclude == nil:
		expected = "and, or, include, exclude, "
	case g.Exclude == nil:
		expected = "exclude, "
	case c.Peek().Is("include"):
		expected = "include before exclude, "
	}
	if err = note(c, &g.Head, expected); err != nil {
		return nil, err
	}
	if fresh {
		p.policy.Groups[g.Name] = g
	}
	return g, nil
}

// ids reads workload ids separated by commas, as after include.
func ids(c *syntax.Cursor) ([]string, *syntax.Error) {
	var out []string
	for {
		t, err := c.Name("the id of a workload")
		if err != nil {
			return nil, err
		}
		out = append(out, t.Text)
		if !c.Take(",") {
			return out, nil
		}
	}
}

func (p *parser) area(c *syntax.Cursor, head Head) (Statement, *syntax.Error) {
	a := &Area{Head: head}
	name, fresh, err := p.definition(c, "area", "an area")
	if err != nil {
		return nil, err
	}
	a.Name = name.Text
	g, err := c.Name("the name of a group")
	if err != nil {
		return nil, err
	}
	a.Group = p.refer("group", g)
	expected := "owner, "
	if c.Take("owner") {
		o, err := c.Name("the name of the owner")
		if err != nil {
			return nil, err
		}
		a.Owner, expected = o.Text, ""
	}
	if fresh {
		p.policy.Areas[a.Name] = a
	}
	return a, note(c, &a.Head, expected)
}

func (p *parser) layerLine(c *syntax.Cursor, head Head) (Statement, *syntax.Error) {
	p.anyLayer = true
	l := &Layer{Head: head}
	name, err := c.Name("the name of a layer")
	if err != nil {
		return nil, err
	}
	p.declare(c, "layer", name)
	l.Name = name.Text
	p.layer = l
	p.policy.Layers = append(p.policy.Layers, l)
	return l, note(c, &l.Head, "")
}

func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }
