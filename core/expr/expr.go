// Package expr is the expression language of groups: it parses, prints, evaluates and
// explains expressions about an endpoint.
//
// # Grammar
//
//	expr = and { "or" and }
//	and  = not { "and" not }
//	not  = [ "not" ] prim
//	prim = "(" expr ")" | "any" | "outside" | "has" KEY | "lacks" KEY
//	     | "address" "in" CIDR { "," CIDR } | "member" "of" NAME | KEY test
//	test = "is" VALUE | "is" "not" VALUE
//	     | "in" "(" VALUE { "," VALUE } ")" | "not" "in" "(" VALUE { "," VALUE } ")"
//	     | "starts" VALUE | "ends" VALUE | "contains" VALUE | "matches" VALUE
//
// A KEY is one of [Fields], or the key of a tag; tag:name is the tag of that name. not binds
// tighter than and, and tighter than or. [ParseText] reads a text that is one expression;
// [Parse] reads one from a cursor, which notes the errors after which it can go on.
//
// # Values
//
// Eval returns Yes, No or Undecided (Kleene's three-valued logic):
//
//   - A test of a field or tag that the workload does not have is Undecided, also with not.
//     An empty value is none. So is every test of an endpoint outside.
//   - has and lacks are Yes or No of a workload; any and outside always are.
//   - address in goes by the endpoint's own address.
//   - is, in, starts, ends and contains ignore the case of ASCII letters, and of nothing
//     else. matches is an RE2 expression, which finds its text anywhere and minds the case.
//
// For example, of a workload with the tags app=booking and no env:
//
//	app is booking                    Yes
//	env is live                       Undecided
//	not env is live                   Undecided
//	app is booking or env is live     Yes
//	app is fares and env is live      No
//
// An Expr is not changed once it is parsed, and may be shared between goroutines. String prints
// the one canonical form: parsed again, it is the same.
//
// The package must not know of policies or flows. Start reading at Expr.
package expr

import (
	"cmp"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/syntax"
)

// Truth is the answer of an expression about an endpoint.
type Truth int8

// The three answers. Undecided is the zero value: what is not known.
const (
	Undecided Truth = iota
	No
	Yes
)

func (t Truth) String() string { return [...]string{"undecided", "no", "yes"}[t] }

// Not swaps yes and no and leaves undecided.
func (t Truth) Not() Truth { return [...]Truth{Undecided, Yes, No}[t] }

func truth(b bool) Truth {
	if b {
		return Yes
	}
	return No
}

// Op is the operation of an Expr.
type Op uint8

// The operations. And and Or have two or more Kids, none of the same Op; Not
// has one. The tests from Is on read Key and Values.
const (
	Any Op = iota
	outside
	And
	or
	not
	AddressIn
	MemberOf
	Has
	Lacks
	Is
	IsNot
	In
	NotIn
	Starts
	Ends
	Contains
	Matches
)

// Expr is a parsed expression. It is not changed after parsing.
type Expr struct {
	Op       Op
	Kids     []*Expr
	Key      Key
	Values   []string
	Prefixes []netip.Prefix  // of AddressIn
	Group    string          // of MemberOf
	Pos      syntax.Pos      // of the group's name after "member of", else of the first word
	folded   []string        // Values with ASCII letters in lower case
	values   map[string]bool // folded, where they are many
	merged   []*Expr         // of And and Or: Kids with many tests on one key made one; nil: there are none
	blocks   []block         // Prefixes as rising spans of addresses, where they are many
	pattern  *regexp.Regexp  // of Matches; nil: it cannot be used, and the answer is undecided
}

// Key is a field of a workload or the key of a tag.
type Key struct {
	Field bool
	Name  string
}

// Fields are the workload's own.
var Fields = []string{"id", "name", "os", "kind"}

// KeyOf reads the text of a KEY: a field, a tag key, or tag: and a tag key.
func KeyOf(text string) Key {
	if k, ok := strings.CutPrefix(text, "tag:"); ok {
		return Key{Name: k}
	}
	return Key{Field: slices.Contains(Fields, text), Name: text}
}

// Text is the KEY without quotes, as KeyOf reads it.
func (k Key) Text() string {
	if !k.Field && (slices.Contains(Fields, k.Name) || strings.HasPrefix(k.Name, "tag:")) {
		return "tag:" + k.Name
	}
	return k.Name
}

func (k Key) String() string { return syntax.Name(k.Text()) }

// Of returns the value that a workload has for the key; an empty one counts as
// not having it.
func (k Key) Of(w *estate.Workload) (string, bool) {
	var v string
	if k.Field {
		switch k.Name {
		case "id":
			v = w.ID
		case "name":
			v = w.Name
		case "os":
			v = w.OS
		case "kind":
			v = w.Kind
		}
	} else {
		t, _ := w.Tag(k.Name)
		v = t.Value
	}
	return v, v != ""
}

// Subject is what an expression is asked about: an address and the workload
// that holds it, nil for outside. A workload that has no address at all may be
// asked about with the zero Addr: "address in" is then undecided.
type Subject struct {
	Addr     netip.Addr
	Workload *estate.Workload
}

// Members answers what a group says of the subject that is being evaluated.
type Members func(group string) Truth

// Eval returns the expression's answer.
func (e *Expr) Eval(s Subject, m Members) Truth {
	switch e.Op {
	case Any:
		return Yes
	case outside:
		return truth(s.Workload == nil)
	case And:
		out, kids := Yes, e.Kids
		if e.merged != nil {
			kids = e.merged
		}
		for _, k := range kids {
			switch k.Eval(s, m) {
			case No:
				return No
			case Undecided:
				out = Undecided
			}
		}
		return out
	case or:
		out, kids := No, e.Kids
		if e.merged != nil {
			kids = e.merged
		}
		for _, k := range kids {
			switch k.Eval(s, m) {
			case Yes:
				return Yes
			case Undecided:
				out = Undecided
			}
		}
		return out
	case not:
		return e.Kids[0].Eval(s, m).Not()
	case AddressIn:
		if !s.Addr.IsValid() {
			return Undecided
		}
		return truth(e.contains(s.Addr))
	case MemberOf:
		return m(e.Group)
	}
	if s.Workload == nil {
		return Undecided
	}
	v, has := e.Key.Of(s.Workload)
	switch {
	case e.Op == Has:
		return truth(has)
	case e.Op == Lacks:
		return truth(!has)
	case !has, e.Op == Matches && e.pattern == nil: // one that cannot be used says nothing
		return Undecided
	}
	return truth(e.Test(v))
}

// block is the addresses from one to another, both included.
type block struct{ from, to netip.Addr }

// manyPrefixes is from how many prefixes on an address is searched for among
// them, instead of asking each.
const manyPrefixes = 16

// spans returns prefixes as spans of addresses that do not touch, in their order.
func spans(prefixes []netip.Prefix) []block {
	all := make([]block, len(prefixes))
	for i, p := range prefixes {
		all[i] = block{p.Addr(), lastOf(p)}
	}
	slices.SortFunc(all, func(a, b block) int { return cmp.Or(a.from.Compare(b.from), b.to.Compare(a.to)) })
	out := all[:0]
	for _, b := range all {
		if n := len(out); n > 0 && b.to.Compare(out[n-1].to) <= 0 {
			continue // prefixes lie in each other, or apart
		}
		out = append(out, b)
	}
	return out
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

func (e *Expr) contains(addr netip.Addr) bool {
	if e.blocks == nil {
		return slices.ContainsFunc(e.Prefixes, func(p netip.Prefix) bool { return p.Contains(addr) })
	}
	i, found := slices.BinarySearchFunc(e.blocks, addr, func(b block, a netip.Addr) int { return b.from.Compare(a) })
	return found || i > 0 && addr.Compare(e.blocks[i-1].to) <= 0 && addr.BitLen() == e.blocks[i-1].to.BitLen()
}

// Test asks one of the tests on a key of a value that is not empty.
func (e *Expr) Test(value string) bool {
	if e.Op == Matches {
		return e.pattern != nil && e.pattern.MatchString(value)
	}
	v := Fold(value)
	switch e.Op {
	case Is, In:
		return e.has(v)
	case IsNot, NotIn:
		return !e.has(v)
	case Starts:
		return strings.HasPrefix(v, e.folded[0])
	case Ends:
		return strings.HasSuffix(v, e.folded[0])
	case Contains:
		return strings.Contains(v, e.folded[0])
	}
	panic("expr: Test of something that is no test")
}

// manyValues is from how many values on they are looked up instead of compared one by one.
const manyValues = 16

func (e *Expr) has(folded string) bool {
	if e.values != nil {
		return e.values[folded]
	}
	return slices.Contains(e.folded, folded)
}

func (e *Expr) lookUp() {
	if len(e.folded) < manyValues {
		return
	}
	e.values = make(map[string]bool, len(e.folded))
	for _, v := range e.folded {
		e.values[v] = true
	}
}

// merge makes one test of those parts of an "or" that ask whether a key has a value, and of
// those of an "and" that ask whether it has not: it is asked instead of them, and says the
// same, also where the key is missing.
func (e *Expr) merge() {
	one, list, into := Is, In, In
	if e.Op == And {
		one, list, into = IsNot, NotIn, NotIn
	}
	counts := map[Key]int{}
	for _, k := range e.Kids {
		if k.Op == one || k.Op == list {
			counts[k.Key] += len(k.folded)
		}
	}
	at := map[Key]*Expr{}
	for _, k := range e.Kids {
		if k.Op != one && k.Op != list || counts[k.Key] < manyValues {
			continue
		}
		if at[k.Key] == nil {
			at[k.Key] = &Expr{Op: into, Key: k.Key, Pos: k.Pos}
			e.merged = append(e.merged, at[k.Key])
		}
		at[k.Key].folded = append(at[k.Key].folded, k.folded...)
	}
	if len(at) == 0 {
		return
	}
	for _, k := range at {
		k.lookUp()
	}
	for _, k := range e.Kids {
		if k.Op != one && k.Op != list || at[k.Key] == nil {
			e.merged = append(e.merged, k)
		}
	}
}

// IsTest reports whether e tests the value of a key, Has and Lacks included.
func (e *Expr) IsTest() bool { return e.Op >= Has }

// Folded returns Values as they are compared: ASCII letters in lower case.
func (e *Expr) Folded() []string { return e.folded }

// Walk calls f for e and everything below it.
func (e *Expr) Walk(f func(*Expr)) {
	f(e)
	for _, k := range e.Kids {
		k.Walk(f)
	}
}

// Asked calls f for all that Eval asks at most: as Walk does, with many tests that are asked
// as one once.
func (e *Expr) Asked(f func(*Expr)) {
	f(e)
	kids := e.Kids
	if e.merged != nil {
		kids = e.merged
	}
	for _, k := range kids {
		k.Asked(f)
	}
}

// Fold lowers ASCII letters and leaves all else.
func Fold(s string) string {
	for i := 0; i < len(s); i++ {
		if s[i] >= 'A' && s[i] <= 'Z' {
			b := []byte(s)
			for ; i < len(b); i++ {
				if b[i] >= 'A' && b[i] <= 'Z' {
					b[i] |= 0x20
				}
			}
			return string(b)
		}
	}
	return s
}
