package policy

// Rules and assertions: sentences, lists, specifications and clauses.

import (
	"strconv"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

func (p *parser) rule(c *syntax.Cursor, head Head, verb syntax.Token, off bool) (Statement, *syntax.Error) {
	r := &Rule{Head: head, Off: off, Layer: p.layer}
	if !p.anyLayer {
		c.Note(syntax.Errorf(syntax.Pos{Line: verb.Line, Col: verb.Col},
			"found a rule before the first layer, expected a line such as: layer %s", Allowances))
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
