// Package policy is the policy text: its model, a parser, the one canonical layout, and
// edits as values.
//
// # Grammar
//
// A statement is one line; a line that ends in a backslash goes on in the next. # begins a
// comment.
//
//	service NAME = SPEC { "," SPEC } [NOTE]
//	group   NAME = EXPR [ include ID { "," ID } ] [ exclude ID { "," ID } ] [NOTE]
//	area    NAME = GROUP [ owner NAME ] [NOTE]
//	layer   NAME [NOTE]
//	[off] (permit | reject) LIST -> LIST on SERVICES { clause } [NOTE]
//	[off] apart GROUP, GROUP { "," GROUP } { clause } [NOTE]
//	assert (never | always | only) LIST -> LIST on SERVICES { within GROUP | same KEYS | across KEYS } [NOTE]
//
//	LIST     = any | ITEM { "," ITEM }      ITEM = GROUP | outside | CIDR | address | workload ID
//	SERVICES = any | SPEC { "," SPEC }
//	clause   = within GROUP | area AREA | same KEYS | across KEYS | until YYYY-MM-DD | log
//
// EXPR is the language of package expr. Names may be used before the line that defines them.
//
// # Constraints
//
//   - A name is defined once for its kind. A rule stands in a layer. Groups do not form a cycle.
//   - Each clause stands once. A CIDR has no host bits.
//   - The first rule that matches gives the verdict, in the order of the lines; nothing is
//     implied after the last. That is the business of package decide.
//
// # Input and output
//
// [Parse] takes a text and returns a Policy and the errors, at most [MaxErrors], each with its
// line, its column, what was found and what was expected. With errors, the Policy has what could
// be read. Format returns the canonical layout: formatted again, it stays the same, and parsed, it
// is the same policy. [ApplyAll] applies edits to a text and returns a text; either all of them are
// applied or none.
//
//	p, errs := policy.Parse("group live = env is live\nlayer closing\nreject any -> live on any\n")
//	text := p.Format()
//
// A Policy is not to be changed once it is in use by others; it may be shared between goroutines.
//
// The package must not know of workloads or flows. Start reading at Policy.
package policy

import (
	"net/netip"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

// Policy is a parsed policy text. It is not changed after parsing.
type Policy struct {
	Items    []Item // all of the text in order
	Groups   map[string]*Group
	Services map[string]*Service
	Areas    map[string]*Area
	Layers   []*Layer
	Rules    []*Rule   // in deciding order
	Asserts  []*Assert // in the order of the text

	// GroupOrder has every group after the groups it asks with "member of".
	GroupOrder []*Group
}

// Item is a statement, a comment, both on one line, or a blank line.
type Item struct {
	First, Last int       // physical lines, from 1
	Statement   Statement // nil for a comment or a blank line alone
	Comment     string    // with its #
}

// Statement is one of *Service, *Group, *Area, *Layer, *Rule and *Assert.
type Statement interface {
	// String prints the statement in its canonical form, without comment.
	String() string
	// At is the line on which the statement begins.
	At() int
}

// Head is what every statement has.
type Head struct {
	Line int
	Note string
}

// At is the line on which the statement begins.
func (h Head) At() int { return h.Line }

// Ref is a name used somewhere.
type Ref struct {
	Name string
	Pos  syntax.Pos
}

// Service is a named set of protocols and ports.
type Service struct {
	Head
	Name  string
	Specs []Spec
}

// Spec is a range of points, or the name of a service.
type Spec struct {
	Service string // empty if Range counts
	Range   service.Range
	Pos     syntax.Pos
}

// Group selects endpoints: Exclude beats Include beats Expr.
type Group struct {
	Head
	Name             string
	Expr             *expr.Expr
	Include, Exclude []string // workload ids
}

// Area is a part of the estate that one team owns.
type Area struct {
	Head
	Name  string
	Group Ref
	Owner string
}

// Layer is an ordered part of the policy.
type Layer struct {
	Head
	Name  string
	Rules []*Rule
}

// Action is what a rule does with the flows that it matches.
type Action uint8

// The actions. Apart is a separation: a reject between every two groups.
const (
	Permit Action = iota
	Reject
	Apart
)

func (a Action) String() string { return [...]string{"permit", "reject", "apart"}[a] }

// Rule is a rule or a separation.
type Rule struct {
	Head
	Off         bool
	Action      Action
	Left, Right List     // client and server, of Permit and Reject
	Groups      []Ref    // of Apart
	On          Services // of Permit and Reject; Apart is on any
	Clauses
	Layer *Layer
}

// Clauses limit what a rule or an assertion speaks of.
type Clauses struct {
	Within *Ref
	Area   *Ref
	Same   []expr.Key
	Across []expr.Key
	Until  *Date
	Log    bool
}

// Date is a day, in UTC.
type Date struct{ Year, Month, Day int }

// End is the instant at which the next day begins.
func (d Date) End() estate.Instant {
	return estate.InstantOf(time.Date(d.Year, time.Month(d.Month), d.Day+1, 0, 0, 0, 0, time.UTC))
}

// Past reports whether the day has ended at the instant.
func (d Date) Past(asOf estate.Instant) bool { return !asOf.Before(d.End()) }

// List is one side of a rule.
type List struct {
	Any   bool
	Items []Operand
}

// OperandKind is what an Operand names.
type OperandKind uint8

// The kinds of operand.
const (
	InGroup OperandKind = iota
	IsOutside
	InPrefix
	IsWorkload
)

// Operand is one item of a list.
type Operand struct {
	Kind   OperandKind
	Name   string // of a group, or the id of a workload
	Prefix netip.Prefix
	Pos    syntax.Pos
}

// Services is what a rule is on.
type Services struct {
	Any   bool
	Specs []Spec
}

// AssertKind is never, always or only.
type AssertKind uint8

func (k AssertKind) String() string { return [...]string{"never", "always", "only"}[k] }

// The kinds of assertion.
const (
	Never AssertKind = iota
	Always
	Only
)

// Assert is a statement that must hold for all traffic.
type Assert struct {
	Head
	Kind        AssertKind
	Left, Right List
	On          Services
	Clauses     // Within, Same and Across only
}

// Points returns the set of points of what a rule or an assertion is on, the
// services it names resolved.
func (p *Policy) Points(on Services) service.Set {
	if on.Any {
		return service.All
	}
	var rs []service.Range
	seen := map[string]bool{}
	var add func([]Spec)
	add = func(specs []Spec) {
		for _, s := range specs {
			if s.Service == "" {
				rs = append(rs, s.Range)
			} else if def := p.Services[s.Service]; def != nil && !seen[s.Service] {
				seen[s.Service] = true
				add(def.Specs)
			}
		}
	}
	add(on.Specs)
	return service.NewSet(rs...)
}

// Closing is the name of the layer that says what happens to the rest.
const Closing = "closing"

// Allowances is the name of the layer that holds what applications need.
const Allowances = "allowances"

// InClosing reports whether the rule stands in a layer named closing.
func (r *Rule) InClosing() bool { return r.Layer != nil && r.Layer.Name == Closing }
