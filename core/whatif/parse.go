// Package whatif answers questions about traffic that nobody need have seen:
// what would happen to it, for every member of a group at once, and why.
//
// It must not know of flows that were seen. Start reading at Read and Answer.
package whatif

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

// Question is a line "client -> server service", with the verdict that is
// expected if it ends in "= permit", "= reject" or "= uncovered".
type Question struct {
	Line           int    // from 1
	Text           string // in one layout
	Client, Server Side
	On             policy.Services
	Points         service.Set
	Want           *decide.Verdict
}

// Side is one end of a question.
type Side struct {
	Text string // in one layout
	// Ends are the endpoints that exist and that it means; Undecided those of
	// which a group or an expression cannot tell, because a tag is missing.
	Ends, Undecided []End

	items []item
	// What is worked out of Ends, once for all questions whose sides have the same.
	sorted func() classes
	within func() map[[2]int32]int
}

// have sets the ends of a side.
func (s *Side) have(ends []End) {
	s.Ends = ends
	s.sorted = sync.OnceValue(func() classes { return byClass(ends) })
	s.within = sync.OnceValue(func() map[[2]int32]int { return together(ends, ends) })
}

// item is one of those that a side names.
type item struct {
	text            string
	ends, undecided []End
	holds           func(decide.Placed) bool
}

// Holds reports whether a side means an endpoint, now or at another time.
func (s *Side) Holds(p decide.Placed) bool {
	return slices.ContainsFunc(s.items, func(i item) bool { return i.holds(p) })
}

// End is an endpoint, or what of the outside lies in a prefix and is alike to the
// policy: then Prefix is valid and the address is one of many.
type End struct {
	decide.Placed
	Prefix netip.Prefix
}

// Read reads questions, one a line; # starts a comment. A line that cannot be
// read is reported, and the others are read.
func (c *Census) Read(text string) ([]Question, []*syntax.Error) {
	var out []Question
	var errs []*syntax.Error
	r := &reader{c, map[string]item{}, map[string]*Side{}}
	for _, line := range syntax.Lines(strings.TrimPrefix(text, "\ufeff")) {
		if len(line.Tokens) == 0 && line.Err == nil {
			continue
		}
		q, err := r.question(line)
		if line.Err != nil {
			err = line.Err
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out = append(out, *q)
	}
	return out, errs
}

// reader reads questions. Those that name the same share its ends: two thousand that ask
// for any would else have all ends two thousand times.
type reader struct {
	*Census
	known map[string]item  // by text
	sides map[string]*Side // of one item, by its text
}

// alone returns the side that an item is by itself: the same for all that name it.
func (c *reader) alone(i item) *Side {
	s := c.sides[i.text]
	if s == nil {
		s = &Side{Text: i.text, Undecided: i.undecided, items: []item{i}}
		s.have(i.ends)
		c.sides[i.text] = s
	}
	return s
}

// once returns an item that was read before, or reads it.
func (c *reader) once(text string, read func() item) item {
	i, ok := c.known[text]
	if !ok {
		i = read()
		c.known[text] = i
	}
	return i
}

func (c *reader) question(line syntax.Line) (*Question, *syntax.Error) {
	cur := syntax.NewCursor(line)
	q := &Question{Line: line.First}
	var err *syntax.Error
	if q.Client, err = c.side(cur, "a client"); err != nil {
		return nil, err
	}
	if err = cur.Expect("->"); err != nil {
		return nil, err
	}
	if q.Server, err = c.side(cur, "a server"); err != nil {
		return nil, err
	}
	if err = c.services(cur, q); err != nil {
		return nil, err
	}
	if cur.Take("=") {
		t := cur.Next()
		for _, v := range []decide.Verdict{decide.Permit, decide.Reject, decide.Uncovered} {
			if t.Is(v.String()) {
				q.Want = &v
			}
		}
		if q.Want == nil {
			return nil, cur.Unexpected(t, "permit, reject or uncovered")
		}
	}
	if err = cur.Finish("= with the expected verdict, or the end of the line"); err != nil {
		return nil, err
	}
	q.Text = q.String()
	return q, nil
}

// String writes a question in the one layout that they are kept in.
func (q *Question) String() string {
	s := fmt.Sprintf("%s -> %s %s", q.Client.Text, q.Server.Text, q.On)
	if q.Want != nil {
		s += " = " + q.Want.String()
	}
	return s
}

// services reads what a question is on: any, or specs and names of services.
func (c *Census) services(cur *syntax.Cursor, q *Question) *syntax.Error {
	cur.Take("on") // as in a rule, for those who copy one
	const expected = "a service, such as tcp/443, one that the policy names, or any"
	if cur.Take("any") {
		q.On.Any, q.Points = true, service.All.Real()
		return nil
	}
	for {
		t := cur.Next()
		if t.Kind != syntax.Word && t.Kind != syntax.Quoted {
			return cur.Unexpected(t, expected)
		}
		r, ok, bad := service.ParseSpec(t.Text)
		switch {
		case c.compiled.Policy.Services[t.Text] != nil:
			q.On.Specs = append(q.On.Specs, policy.Spec{Service: t.Text})
		case bad != nil:
			return syntax.Errorf(t.Pos, "%s", bad.Error())
		case !ok || t.Kind == syntax.Quoted:
			return cur.Unexpected(t, expected)
		default:
			q.On.Specs = append(q.On.Specs, policy.Spec{Range: r})
		}
		if !cur.Take(",") {
			break
		}
	}
	q.Points = c.compiled.Policy.Points(q.On).Real()
	if len(q.Points) == 0 {
		q.Points = c.compiled.Policy.Points(q.On) // an icmp message of unknown type
	}
	return nil
}

// side reads one or more of: a group, a workload by id or name, an address, a
// CIDR, outside, any, an expression in parentheses.
func (c *reader) side(cur *syntax.Cursor, what string) (Side, *syntax.Error) {
	var s Side
	for {
		i, err := c.item(cur, what)
		if err != nil {
			return s, err
		}
		s.items = append(s.items, i)
		if !cur.Take(",") {
			break
		}
	}
	if len(s.items) == 1 {
		return *c.alone(s.items[0]), nil
	}
	seen := map[End]bool{}
	once := func(from []End) (out []End) {
		for _, e := range from {
			if !seen[e] {
				seen[e] = true
				out = append(out, e)
			}
		}
		return out
	}
	var texts []string
	var ends []End
	for _, i := range s.items {
		texts = append(texts, i.text)
		ends = append(ends, once(i.ends)...)
	}
	s.have(ends)
	for _, i := range s.items {
		s.Undecided = append(s.Undecided, once(i.undecided)...)
	}
	s.Text = strings.Join(texts, ", ")
	return s, nil
}

func (c *reader) item(cur *syntax.Cursor, what string) (item, *syntax.Error) {
	if cur.Peek().Is("(") {
		return c.expression(cur)
	}
	t := cur.Next()
	expected := what + ": a group, a workload by its id or name, an address, a CIDR, outside, any, or an " +
		"expression in parentheses"
	if t.Kind == syntax.Word && t.Is("workload") {
		if t = cur.Next(); t.Kind != syntax.Word && t.Kind != syntax.Quoted {
			return item{}, cur.Unexpected(t, "the id of a workload")
		}
		i, ok := c.compiled.Estate.ByID(t.Text)
		if !ok {
			return item{}, syntax.Errorf(t.Pos, "there is no workload with the id %s", t.Text)
		}
		return c.workload("workload "+syntax.Name(t.Text), i, t)
	}
	switch {
	case t.Is("any"):
		return c.once("any", func() item {
			return item{"any", slices.Concat(c.held, c.outside), nil, func(decide.Placed) bool { return true }}
		}), nil
	case t.Is("outside"):
		return item{"outside", c.outside, nil, func(p decide.Placed) bool { return p.Workload == estate.Outside }},
			nil
	case t.Kind != syntax.Word && t.Kind != syntax.Quoted || t.Kind == syntax.Word && syntax.IsKeyword(t.Text):
		return item{}, cur.Unexpected(t, expected)
	case t.Kind == syntax.Word:
		p, ok, err := expr.ReadPrefix(t.Text)
		if err != nil && ok {
			return item{}, syntax.Errorf(t.Pos, "%s", err.Error())
		}
		if ok {
			return c.once("in "+p.String(), func() item { return c.prefix(p) }), nil
		}
	}
	if c.compiled.Policy.Groups[t.Text] != nil {
		return c.once("group "+t.Text, func() item { return c.group(t.Text) }), nil
	}
	if i, ok := c.compiled.Estate.ByID(t.Text); ok {
		return c.workload(syntax.Name(t.Text), i, t)
	}
	switch named := c.named()[t.Text]; {
	case len(named) == 1:
		return c.workload(syntax.Name(t.Text), named[0], t)
	case len(named) > 1:
		return item{}, syntax.Errorf(t.Pos, "%d workloads are called %s: name one by its id, such as workload %s",
			len(named), t.Text, syntax.Name(c.compiled.Estate.Workload(named[0]).ID))
	}
	return item{}, syntax.Errorf(t.Pos, "there is no group and no workload %s, and it is no address", t.Text)
}

// expression reads "(" expr ")": a group that has no name.
func (c *reader) expression(cur *syntax.Cursor) (item, *syntax.Error) {
	cur.Take("(")
	e, err := expr.Parse(cur)
	if err == nil {
		err = cur.Expect(")")
	}
	if err != nil {
		return item{}, err
	}
	unknown := ""
	e.Walk(func(x *expr.Expr) {
		if x.Op == expr.MemberOf && c.compiled.Policy.Groups[x.Group] == nil {
			unknown = x.Group
		}
	})
	if unknown != "" {
		return item{}, syntax.Errorf(cur.Peek().Pos, "there is no group %s", unknown)
	}
	parts := 0
	e.Asked(func(*expr.Expr) { parts++ })
	if all := parts * (len(c.held) + len(c.outside)); all > mostAsked {
		return item{}, syntax.Errorf(e.Pos,
			"the expression has %d parts, to evaluate for %d endpoints: %d million evaluations, the limit is %d "+
				"million",
			parts, len(c.held)+len(c.outside), all/1_000_000, mostAsked/1_000_000)
	}
	return c.once("("+e.String()+")", func() item { return c.agreeing(e) }), nil
}

// mostAsked is how many parts of an expression, for all endpoints together, are asked: for
// some seconds.
const mostAsked = 150_000_000

// agreeing returns the ends that an expression says yes of, and those of which it cannot tell.
func (c *Census) agreeing(e *expr.Expr) item {
	truth := func(p decide.Placed) expr.Truth {
		return e.Eval(decide.Subject(c.compiled.Estate, p.Endpoint),
			func(name string) expr.Truth { return c.compiled.Group(name, p) })
	}
	out := item{text: "(" + e.String() + ")", holds: func(p decide.Placed) bool { return truth(p) == expr.Yes }}
	for _, x := range c.held {
		switch truth(x.Placed) {
		case expr.Yes:
			out.ends = append(out.ends, x)
		case expr.Undecided:
			out.undecided = append(out.undecided, x)
		}
	}
	for _, x := range c.outside {
		if truth(x.Placed) == expr.Yes {
			out.ends = append(out.ends, x)
		}
	}
	return out
}

func (c *Census) workload(text string, i int32, t syntax.Token) (item, *syntax.Error) {
	out := item{text: text, ends: c.byWorkload()[i], holds: func(p decide.Placed) bool { return p.Workload == i }}
	if len(out.ends) == 0 {
		return out, syntax.Errorf(t.Pos, "%s has no address now, so its traffic is unknown", t.Text)
	}
	return out, nil
}

// group returns what is in a group, and what may be.
func (c *Census) group(name string) item {
	out := item{text: policy.Operand{Name: name}.String(),
		holds: func(p decide.Placed) bool { return c.compiled.Group(name, p) == expr.Yes }}
	index := slices.IndexFunc(c.compiled.Policy.GroupOrder, func(g *policy.Group) bool { return g.Name == name })
	for _, b := range c.buckets {
		switch c.compiled.Truths(b.ends[0].Placed)[index] {
		case expr.Yes:
			out.ends = append(out.ends, b.ends...)
		case expr.Undecided:
			for _, e := range b.ends {
				if e.Workload != estate.Outside { // of the outside no tag is missing
					out.undecided = append(out.undecided, e)
				}
			}
		}
	}
	return out
}

// prefix returns the held addresses in a prefix, and the parts of the outside in
// it that the policy can tell apart.
func (c *Census) prefix(p netip.Prefix) item {
	out := item{text: expr.PrefixText(p), holds: func(x decide.Placed) bool { return p.Contains(x.Addr) }}
	from, _ := slices.BinarySearchFunc(c.held, p.Addr(), func(e End, a netip.Addr) int { return e.Addr.Compare(a) })
	for _, e := range c.held[from:] {
		if !p.Contains(e.Addr) {
			break
		}
		out.ends = append(out.ends, e)
	}
	if p.IsSingleIP() && len(out.ends) > 0 {
		return out
	}
	for _, e := range c.outside {
		if p.Bits() <= e.Prefix.Bits() && p.Contains(e.Prefix.Addr()) && p.Contains(e.Addr) {
			out.ends = append(out.ends, e)
		}
	}
	if free, ok := c.restOf(p); ok {
		out.ends = append(out.ends, End{c.compiled.At(free, c.compiled.AsOf), p})
	}
	return out
}

// restOf returns the first address of a prefix that nobody holds, and that is in no
// prefix of the policy that lies in this one.
func (c *Census) restOf(p netip.Prefix) (netip.Addr, bool) {
	for a := p.Addr(); a.IsValid() && p.Contains(a); a = a.Next() {
		if r := c.compiled.Region(a); r == p {
			break // one of the policy's own: it was found above
		} else if r.Bits() > p.Bits() {
			a = lastOf(r)
		} else if c.compiled.Estate.Holder(a, c.compiled.AsOf) == nil {
			return a, true
		}
	}
	return netip.Addr{}, false
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// Rename returns a question, as it is kept, with a group under another name, and
// whether it names it. What is said of the group stays what it was.
func Rename(question, from, to string) (string, bool) {
	lines := syntax.Lines(question)
	if len(lines) != 1 || lines[0].Err != nil {
		return question, false
	}
	named, deep := false, 0
	out, at := "", 0
	tokens := lines[0].Tokens
	chars := []rune(question)
	for i, t := range tokens {
		if t.Is("(") {
			deep++
		} else if t.Is(")") {
			deep--
		}
		if t.Kind != syntax.Word && t.Kind != syntax.Quoted || t.Text != from {
			continue
		}
		before := func(word string) bool { return i > 0 && tokens[i-1].Is(word) }
		if deep > 0 && !before("of") || before("workload") { // a value or a workload of that name
			continue
		}
		named = true
		written := t.Text
		if t.Kind == syntax.Quoted {
			written = syntax.Quote(t.Text)
		}
		out += string(chars[at:t.Col-1]) + syntax.Name(to)
		at = t.Col - 1 + len([]rune(written))
	}
	return out + string(chars[at:]), named
}
