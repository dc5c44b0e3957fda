package expr

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	re2 "regexp/syntax"
	"strings"

	"lucidorchard/core/syntax"
)

// Bounds, so that no text can exhaust the stack or the memory.
const (
	maxDepth   = 1000   // of parentheses
	maxPattern = 2000   // octets of an RE2 expression
	maxProgram = 20_000 // instructions that one is compiled to
)

// Parse reads an expression and leaves the cursor behind it. Errors after
// which the expression can still be read are noted in the cursor.
func Parse(c *syntax.Cursor) (*Expr, *syntax.Error) {
	return parseOr(c, 0)
}

// ParseText reads a text that is one expression and nothing else.
func ParseText(text string) (*Expr, []*syntax.Error) {
	lines := syntax.Lines(text)
	var all syntax.Line
	for i, l := range lines {
		if i == 0 {
			all = l
			continue
		}
		all.Tokens = append(all.Tokens, l.Tokens...)
		if all.Err == nil {
			all.Err = l.Err
		}
	}
	if len(all.Tokens) == 0 && all.Err == nil {
		return nil, []*syntax.Error{syntax.Errorf(syntax.Pos{Line: 1, Col: 1},
			"found nothing, expected an expression such as: app is booking")}
	}
	c := syntax.NewCursor(all)
	e, err := Parse(c)
	if err == nil {
		err = c.Finish("and, or, or the end")
	}
	errs := c.Noted()
	if err != nil {
		errs = append(errs, err)
	}
	if len(errs) > 0 {
		return nil, errs
	}
	return e, nil
}

func parseOr(c *syntax.Cursor, depth int) (*Expr, *syntax.Error) {
	return chain(c, depth, or, "or", parseAnd)
}

func parseAnd(c *syntax.Cursor, depth int) (*Expr, *syntax.Error) {
	return chain(c, depth, And, "and", parseNot)
}

// chain reads one or more operands joined by a word. Operands that are
// themselves such a chain, in parentheses, are taken up into it: the grouping
// changes nothing in Kleene's logic, and one form is left to print.
func chain(c *syntax.Cursor, depth int, op Op, word string, operand func(*syntax.Cursor, int) (*Expr,
	*syntax.Error)) (*Expr, *syntax.Error) {
	first, err := operand(c, depth)
	if err != nil || !c.Peek().Is(word) {
		return first, err
	}
	out := &Expr{Op: op, Pos: first.Pos}
	add := func(e *Expr) {
		if e.Op == op {
			out.Kids = append(out.Kids, e.Kids...)
		} else {
			out.Kids = append(out.Kids, e)
		}
	}
	add(first)
	for c.Take(word) {
		e, err := operand(c, depth)
		if err != nil {
			return nil, err
		}
		add(e)
	}
	out.merge()
	return out, nil
}

func parseNot(c *syntax.Cursor, depth int) (*Expr, *syntax.Error) {
	at := c.Peek().Pos
	if !c.Take("not") {
		return parsePrim(c, depth)
	}
	if t := c.Peek(); t.Is("not") {
		return nil, syntax.Errorf(t.Pos,
			"found a second not, expected what the first one negates; for a double negation write: not (not …)")
	}
	e, err := parsePrim(c, depth)
	if err != nil {
		return nil, err
	}
	return &Expr{Op: not, Kids: []*Expr{e}, Pos: at}, nil
}

func parsePrim(c *syntax.Cursor, depth int) (*Expr, *syntax.Error) {
	t := c.Peek()
	e := &Expr{Pos: t.Pos}
	switch {
	case c.Take("("):
		if depth == maxDepth {
			return nil, syntax.Errorf(t.Pos, "found parentheses more than %d deep, expected fewer", maxDepth)
		}
		e, err := parseOr(c, depth+1)
		if err != nil {
			return nil, err
		}
		if !c.Take(")") {
			return nil, c.Unexpected(c.Peek(), "and, or, or ) to close the ( of column "+fmt.Sprint(t.Col))
		}
		return e, nil
	case c.Take("any"):
		e.Op = Any
		return e, nil
	case c.Take("outside"):
		e.Op = outside
		return e, nil
	case c.Take("has"), c.Take("lacks"):
		e.Op = Has
		if t.Text == "lacks" {
			e.Op = Lacks
		}
		var err *syntax.Error
		e.Key, err = ParseKey(c)
		return e, err
	case c.Take("address"):
		e.Op = AddressIn
		if err := c.Expect("in"); err != nil {
			return nil, err
		}
		for {
			p, err := parsePrefix(c)
			if err != nil {
				return nil, err
			}
			e.Prefixes = append(e.Prefixes, p)
			if !c.Take(",") {
				if len(e.Prefixes) >= manyPrefixes {
					e.blocks = spans(e.Prefixes)
				}
				return e, nil
			}
		}
	case c.Take("member"):
		e.Op = MemberOf
		if err := c.Expect("of"); err != nil {
			return nil, err
		}
		name, err := c.Name("the name of a group")
		e.Group, e.Pos = name.Text, name.Pos
		return e, err
	case t.Kind == syntax.Quoted, t.Kind == syntax.Word && !syntax.IsKeyword(t.Text):
		var err *syntax.Error
		if e.Key, err = ParseKey(c); err != nil {
			return nil, err
		}
		return e, parseTest(c, e)
	}
	err := c.Unexpected(t, "an expression: a key with a test, any, outside, has, lacks, address in, member of, not "+
		"or (")
	if t.Kind == syntax.Word && syntax.IsKeyword(t.Text) {
		err.Message += "; to use the word as a key, write it in quotes"
	}
	return nil, err
}

func parseTest(c *syntax.Cursor, e *Expr) *syntax.Error {
	t := c.Next()
	list := false
	switch {
	case t.Is("is"):
		e.Op = Is
		if c.Take("not") {
			e.Op = IsNot
		}
	case t.Is("in"):
		e.Op, list = In, true
	case t.Is("not"):
		if err := c.Expect("in"); err != nil {
			return err
		}
		e.Op, list = NotIn, true
	case t.Is("starts"):
		e.Op = Starts
	case t.Is("ends"):
		e.Op = Ends
	case t.Is("contains"):
		e.Op = Contains
	case t.Is("matches"):
		e.Op = Matches
	default:
		return c.Unexpected(t, "a test after the key "+e.Key.String()+": is, is not, in, not in, starts, ends, "+
			"contains or matches")
	}
	if list {
		if err := c.Expect("("); err != nil {
			return err
		}
	}
	for {
		v, err := c.Value()
		if err != nil {
			return err
		}
		e.Values = append(e.Values, v.Text)
		e.folded = append(e.folded, Fold(v.Text))
		if e.Op == Matches {
			p, bad := compilePattern(v.Text)
			if bad != nil {
				c.Note(syntax.Errorf(v.Pos, "found %s, expected an RE2 expression: %s", brief(v.Text), bad))
			}
			e.pattern = p
		}
		if !list {
			return nil
		}
		if c.Take(")") {
			e.lookUp()
			return nil
		}
		if !c.Take(",") {
			return c.Unexpected(c.Peek(), ", or )")
		}
	}
}

// compilePattern compiles an RE2 expression without its captures, which nothing
// asks for. It returns nil and the reason for one that cannot be used.
func compilePattern(text string) (*regexp.Regexp, error) {
	if len(text) > maxPattern {
		return nil, fmt.Errorf("it is %d octets long, at most %d are taken", len(text), maxPattern)
	}
	tree, err := re2.Parse(text, re2.Perl)
	if err != nil {
		if u := errors.Unwrap(err); u != nil {
			err = u
		}
		return nil, errors.New(strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	for tree.Op == re2.OpCapture {
		tree = tree.Sub[0]
	}
	dropCaptures(tree)
	program, err := re2.Compile(tree.Simplify())
	if err != nil {
		return nil, err
	}
	if n := len(program.Inst); n > maxProgram {
		return nil, fmt.Errorf("it takes %d steps, at most %d are taken; write it with fewer repetitions", n,
			maxProgram)
	}
	return regexp.Compile(tree.String())
}

func dropCaptures(tree *re2.Regexp) {
	for i, sub := range tree.Sub {
		for sub.Op == re2.OpCapture {
			sub = sub.Sub[0]
		}
		tree.Sub[i] = sub
		dropCaptures(sub)
	}
}

// brief is a text in quotes, cut if it is long.
func brief(text string) string {
	if len(text) > 200 {
		return syntax.Quote(strings.ToValidUTF8(text[:200], "")) + " and so on"
	}
	return syntax.Quote(text)
}

// ParseKey reads a KEY: a word, a quoted word, or tag: with a quoted word.
func ParseKey(c *syntax.Cursor) (Key, *syntax.Error) {
	t, err := c.Name("a key")
	if err != nil {
		return Key{}, err
	}
	if q := c.Peek(); t.Kind == syntax.Word && t.Text == "tag:" && q.Kind == syntax.Quoted && q.Glued {
		c.Next()
		t.Text += q.Text
	}
	if t.Text == "tag:" {
		return Key{}, syntax.Errorf(t.Pos,
			"found no key after tag:, expected one such as tag:env or tag:\"cost centre\"")
	}
	return KeyOf(t.Text), nil
}

func parsePrefix(c *syntax.Cursor) (netip.Prefix, *syntax.Error) {
	t := c.Peek()
	if t.Kind != syntax.Word || syntax.IsKeyword(t.Text) {
		return netip.Prefix{}, c.Unexpected(t, "an address or a CIDR")
	}
	p, ok, err := ReadPrefix(t.Text)
	if !ok {
		return p, c.Unexpected(t, "an address or a CIDR such as 10.40.0.0/16")
	}
	c.Next()
	if err != nil {
		c.Note(syntax.Errorf(t.Pos, "%s", err))
	}
	return p, nil
}

// ReadPrefix reads an address or a CIDR; ok says that the word reads as one.
// err reports that it has host bits set; p is then the network that was probably
// meant. IPv4-mapped IPv6 is read as IPv4.
func ReadPrefix(word string) (p netip.Prefix, ok bool, err error) {
	if a, bad := netip.ParseAddr(word); bad == nil && a.Zone() == "" {
		a = a.Unmap()
		return netip.PrefixFrom(a, a.BitLen()), true, nil
	}
	given, bad := netip.ParsePrefix(word)
	if bad != nil {
		return p, false, nil
	}
	if a := given.Addr(); a.Is4In6() && given.Bits() >= 96 {
		given = netip.PrefixFrom(a.Unmap(), given.Bits()-96)
	}
	if p = given.Masked(); p != given {
		err = fmt.Errorf("found %s, whose host bits are set, expected the network address: %s", word, p)
	}
	return p, true, err
}
