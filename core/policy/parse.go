package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
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
		p.errs = append(p.errs, syntax.Errorf(syntax.Pos{Line: 1, Col: 1}, "found a text of %d octets, expected at most %d", len(text), MaxText))
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
		c.Note(syntax.Errorf(t.Pos, "found a second %s %s, expected another name: it is defined on line %d", kind, syntax.Name(t.Text), line))
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

func (p *parser) rule(c *syntax.Cursor, head Head, verb syntax.Token, off bool) (Statement, *syntax.Error) {
	r := &Rule{Head: head, Off: off, Layer: p.layer}
	if !p.anyLayer {
		c.Note(syntax.Errorf(syntax.Pos{Line: verb.Line, Col: verb.Col}, "found a rule before the first layer, expected a line such as: layer %s", Allowances))
	}
	var err *syntax.Error
	if verb.Text == "apart" {
		r.Action, r.On = Apart, Services{Any: true}
		for {
			g, err := c.Name("the name of a group")
			if err != nil {
				return nil, err
			}
			r.Groups = append(r.Groups, p.refer("group", g))
			if !c.Take(",") {
				break
			}
		}
		if len(r.Groups) < 2 {
			return nil, c.Unexpected(c.Peek(), ", and a second group to keep apart from the first")
		}
	} else {
		if verb.Text == "reject" {
			r.Action = Reject
		}
		if r.Left, r.Right, r.On, err = p.sentence(c); err != nil {
			return nil, err
		}
	}
	if err = p.clauses(c, &r.Clauses, true); err != nil {
		return nil, err
	}
	if err = note(c, &r.Head, clauseWords(true)); err != nil {
		return nil, err
	}
	p.policy.Rules = append(p.policy.Rules, r)
	if p.layer != nil {
		p.layer.Rules = append(p.layer.Rules, r)
	}
	return r, nil
}

func (p *parser) assert(c *syntax.Cursor, head Head) (Statement, *syntax.Error) {
	a := &Assert{Head: head}
	switch t := c.Next(); {
	case t.Is("never"):
		a.Kind = Never
	case t.Is("always"):
		a.Kind = Always
	case t.Is("only"):
		a.Kind = Only
	default:
		return nil, c.Unexpected(t, "never, always or only")
	}
	var err *syntax.Error
	if a.Left, a.Right, a.On, err = p.sentence(c); err != nil {
		return nil, err
	}
	if err = p.clauses(c, &a.Clauses, false); err != nil {
		return nil, err
	}
	if err = note(c, &a.Head, clauseWords(false)); err != nil {
		return nil, err
	}
	p.policy.Asserts = append(p.policy.Asserts, a)
	return a, nil
}

func clauseWords(rule bool) string {
	if rule {
		return "within, area, same, across, until, log, "
	}
	return "within, same, across, "
}

// sentence reads LIST -> LIST on SERVICES.
func (p *parser) sentence(c *syntax.Cursor) (left, right List, on Services, err *syntax.Error) {
	if left, err = p.list(c, "->"); err != nil {
		return
	}
	if right, err = p.list(c, "on"); err != nil {
		return
	}
	if c.Take("any") {
		on.Any = true
		return
	}
	on.Specs, err = p.specs(c)
	return
}

// list reads a LIST and the word that has to follow it.
func (p *parser) list(c *syntax.Cursor, then string) (List, *syntax.Error) {
	var l List
	if c.Take("any") {
		l.Any = true
		return l, c.Expect(then)
	}
	for {
		t := c.Peek()
		o := Operand{Pos: t.Pos}
		switch {
		case c.Take("outside"):
			o.Kind = IsOutside
		case c.Take("workload"):
			id, err := c.Name("the id of a workload")
			if err != nil {
				return l, err
			}
			o.Kind, o.Name = IsWorkload, id.Text
		case t.Kind == syntax.Word && !syntax.IsKeyword(t.Text):
			c.Next()
			prefix, ok, bad := expr.ReadPrefix(t.Text)
			if bad != nil {
				c.Note(syntax.Errorf(t.Pos, "%s", bad))
			}
			if ok {
				o.Kind, o.Prefix = InPrefix, prefix
			} else {
				o.Name = p.refer("group", t).Name
			}
		case t.Kind == syntax.Quoted:
			g, err := c.Name("the name of a group")
			if err != nil {
				return l, err
			}
			o.Name = p.refer("group", g).Name
		default:
			what := "a group, outside, an address, a CIDR or workload ID"
			if len(l.Items) == 0 {
				what = "any, " + what
			}
			return l, c.Unexpected(t, what)
		}
		l.Items = append(l.Items, o)
		if c.Take(",") {
			continue
		}
		if !c.Take(then) {
			return l, c.Unexpected(c.Peek(), ", or "+then)
		}
		return l, nil
	}
}

func (p *parser) specs(c *syntax.Cursor) ([]Spec, *syntax.Error) {
	var out []Spec
	for {
		t := c.Peek()
		s := Spec{Pos: t.Pos}
		const what = "a service, or a protocol with a port such as tcp/443"
		if t.Kind == syntax.Quoted {
			if t.Text == "" {
				return nil, syntax.Errorf(t.Pos, `found "", expected the name of a service that is not empty`)
			}
			s.Service = p.refer("service", c.Next()).Name
		} else if t.Kind == syntax.Word {
			r, ok, bad := service.ParseSpec(t.Text)
			switch {
			case ok:
				if bad != nil {
					c.Note(syntax.Errorf(t.Pos, "%s", bad))
				}
				s.Range = r
				c.Next()
			case syntax.IsKeyword(t.Text):
				return nil, c.Unexpected(t, what)
			default:
				s.Service = p.refer("service", c.Next()).Name
			}
		} else {
			return nil, c.Unexpected(t, what)
		}
		out = append(out, s)
		if !c.Take(",") {
			return out, nil
		}
	}
}

func (p *parser) clauses(c *syntax.Cursor, to *Clauses, rule bool) *syntax.Error {
	seen := map[string]bool{}
	for {
		t := c.Peek()
		if t.Kind != syntax.Word {
			return nil
		}
		switch t.Text {
		case "within", "same", "across":
		case "area", "until", "log":
			if !rule {
				return nil
			}
		default:
			return nil
		}
		c.Next()
		if seen[t.Text] {
			c.Note(syntax.Errorf(t.Pos, "found a second %s, expected each clause at most once", t.Text))
		}
		seen[t.Text] = true
		if err := p.clause(c, t.Text, to); err != nil {
			return err
		}
	}
}

func (p *parser) clause(c *syntax.Cursor, word string, to *Clauses) *syntax.Error {
	switch word {
	case "within", "area":
		kind, what := "group", "the name of a group"
		if word == "area" {
			kind, what = "area", "the name of an area"
		}
		t, err := c.Name(what)
		if err != nil {
			return err
		}
		r := p.refer(kind, t)
		if word == "area" {
			to.Area = &r
		} else {
			to.Within = &r
		}
	case "same", "across":
		var keys []expr.Key
		for {
			k, err := expr.ParseKey(c)
			if err != nil {
				return err
			}
			keys = append(keys, k)
			if !c.Take(",") {
				break
			}
		}
		if word == "same" {
			to.Same = keys
		} else {
			to.Across = keys
		}
	case "until":
		t := c.Peek()
		d, ok := parseDate(t.Text)
		if t.Kind != syntax.Word || !ok {
			return c.Unexpected(t, "a day that exists, as YYYY-MM-DD")
		}
		c.Next()
		to.Until = &d
	case "log":
		to.Log = true
	}
	return nil
}

func parseDate(s string) (Date, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return Date{}, false
	}
	var n [3]int
	for i, part := range strings.Split(s, "-") {
		v, err := strconv.ParseUint(part, 10, 16)
		if err != nil || i > 2 {
			return Date{}, false
		}
		n[i] = int(v)
	}
	return Date{n[0], n[1], n[2]}, estate.ValidDate(n[0], n[1], n[2])
}

func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// unknown reports the names that are used and not defined.
func (p *parser) unknown() {
	for _, u := range p.uses {
		if _, ok := p.declared[u.kind+" "+u.Name]; !ok {
			article := "a "
			if u.kind == "area" {
				article = "an "
			}
			hint := ""
			if near := p.nearest(u.kind, u.Name); near != "" {
				hint = "; the nearest name is " + syntax.Name(near)
			}
			p.errs = append(p.errs, syntax.Errorf(u.Pos, "found the unknown %s %s, expected %s%s that a line of this policy defines%s", u.kind, syntax.Name(u.Name), article, u.kind, hint))
		}
	}
}

// nearest gives the declared name that begins or folds alike, if there is one.
func (p *parser) nearest(kind, name string) string {
	best := ""
	for key := range p.declared {
		have, ok := strings.CutPrefix(key, kind+" ")
		if !ok {
			continue
		}
		alike := strings.EqualFold(have, name) || estate.OneSlip(have, name)
		if alike && (best == "" || have < best) {
			best = have
		}
	}
	return best
}

// cycles reports groups that ask themselves and services that name themselves,
// and puts the groups in an order in which they can be evaluated.
func (p *parser) cycles() {
	groups := walker[*Group]{kind: "groups", next: func(g *Group) []edge[*Group] {
		var out []edge[*Group]
		g.Expr.Walk(func(e *expr.Expr) {
			if to := p.policy.Groups[e.Group]; e.Op == expr.MemberOf && to != nil {
				out = append(out, edge[*Group]{to, e.Pos})
			}
		})
		return out
	}, name: func(g *Group) string { return g.Name }, state: map[*Group]int{}}
	services := walker[*Service]{kind: "services", next: func(s *Service) []edge[*Service] {
		var out []edge[*Service]
		for _, spec := range s.Specs {
			if to := p.policy.Services[spec.Service]; spec.Service != "" && to != nil {
				out = append(out, edge[*Service]{to, spec.Pos})
			}
		}
		return out
	}, name: func(s *Service) string { return s.Name }, state: map[*Service]int{}}
	for _, item := range p.policy.Items {
		switch s := item.Statement.(type) {
		case *Group:
			if p.policy.Groups[s.Name] == s {
				groups.visit(s)
			}
		case *Service:
			if p.policy.Services[s.Name] == s {
				services.visit(s)
			}
		}
	}
	p.policy.GroupOrder = groups.done
	p.errs = append(append(p.errs, groups.errs...), services.errs...)
}

// walker visits definitions depth first, each after those it names.
type walker[T comparable] struct {
	kind  string
	next  func(T) []edge[T]
	name  func(T) string
	state map[T]int // 0 new, 1 on the path, 2 done
	path  []T
	done  []T
	errs  []*syntax.Error
}

type edge[T any] struct {
	to  T
	pos syntax.Pos
}

func (w *walker[T]) visit(n T) {
	if w.state[n] != 0 {
		return
	}
	w.state[n] = 1
	w.path = append(w.path, n)
	for _, e := range w.next(n) {
		if w.state[e.to] != 1 {
			w.visit(e.to)
		} else {
			var names []string
			for _, on := range w.path[slices.Index(w.path, e.to):] {
				names = append(names, syntax.Name(w.name(on)))
			}
			names = append(names, names[0])
			w.errs = append(w.errs, syntax.Errorf(e.pos, "found a cycle of %s: %s; expected %s that do not lead back to themselves", w.kind, strings.Join(names, " → "), w.kind))
		}
	}
	w.path = w.path[:len(w.path)-1]
	w.state[n] = 2
	w.done = append(w.done, n)
}
