package prove

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Kind names what was found.
type Kind string

// The findings about rules that are exact over all points: every endpoint that
// exists at the instant, outside included, and every service.
const (
	Shadowed    Kind = "shadowed"        // earlier rules decide all that it matches
	Redundant   Kind = "redundant"       // without it every point gets the same verdict
	Contradicts Kind = "contradicts"     // an earlier rule of its layer decides part of it the other way
	PartShadow  Kind = "partly shadowed" // earlier rules of its layer decide part of it the same way
	MatchesNone Kind = "matches nothing" // no two endpoints that exist are on its sides
	AreaMissed  Kind = "misses its area" // it would match something, but never in its area
	Mergeable   Kind = "mergeable"       // with the rule before it
)

// Findings that follow from the text and the memberships.
const (
	Expired     Kind = "expired"
	SoonExpired Kind = "expires soon"
	WideAdmin   Kind = "opens administration widely"
	WideStore   Kind = "opens a database widely"
	NoClosing   Kind = "no closing rule"
	EmptyGroup  Kind = "empty"
	PinsNames   Kind = "pins names"
	Undecided   Kind = "undecided members"
	UnusedGroup Kind = "unused"
)

// Finding is something that a reader of the policy should know.
type Finding struct {
	Kind   Kind
	Line   int            // of the statement it is about; 0 is the whole policy
	Group  string         // where it is about a group
	Words  string         // the reason
	Others []*policy.Rule // the other rules concerned
	Fix    *Fix           // nil where only a person can tell
}

// Fix is edits that settle a finding, in words; made one after the other on
// the text in canonical layout.
type Fix struct {
	Words   string
	Edits   []policy.Edit
	Changes bool // it decides something differently; the others keep every verdict
}

// soonDays is how many days before its last day a rule expires soon.
const soonDays = 30

// Findings looks at a whole policy. The findings are in the order of the text.
func Findings(c *decide.Compiled) []Finding {
	f := &finder{c: c, people: c.Population(c.AsOf), rules: make([]ruleFacts, len(c.Policy.Rules))}
	f.held, f.outside = make([]int, len(f.people)), make([]bool, len(f.people))
	c.Estate.Held(c.AsOf, func(ep estate.Endpoint) { f.held[c.At(ep.Addr, c.AsOf).Class]++ })
	for _, p := range c.Outside(c.AsOf) {
		f.outside[p.Class] = true
	}
	f.read = sync.OnceValue(func() map[string]bool {
		read := map[string]bool{}
		for _, g := range c.Policy.GroupOrder {
			g.Expr.Walk(func(e *expr.Expr) { read[e.Key.Name] = read[e.Key.Name] || e.IsTest() && !e.Key.Field })
		}
		return read
	})
	f.points()
	for i, r := range c.Policy.Rules {
		f.rule(int32(i), r)
	}
	f.mergeable()
	f.groups()
	f.closing()
	slices.SortStableFunc(f.out, func(a, b Finding) int { return a.Line - b.Line })
	return f.out
}

type finder struct {
	c      *decide.Compiled
	people [][]decide.Placed
	rules  []ruleFacts
	out    []Finding

	read    func() map[string]bool // tag keys that groups read
	byTag   int                    // groups that were said by tags
	held    []int                  // addresses that workloads hold, by class
	outside []bool                 // whether the class has addresses outside
}

// ruleFacts is what all points together say of one rule.
type ruleFacts struct {
	matches bool           // some point
	decides bool           // some point
	needed  bool           // some point would get another verdict without it
	covered map[int32]bool // earlier rules that decide points that it matches
	more    bool           // there are more of them
}

// points walks over every different list of rules that match somewhere. Of each
// it costs about the services of its rules, cut into cells, whatever the number of
// rules before and behind.
func (f *finder) points() {
	rules := f.c.Policy.Rules
	sets := make([]service.Set, len(rules))
	for i := range rules {
		sets[i] = f.c.RulePoints(int32(i))
	}
	cut := newCells(sets)
	of := make([][]run, len(rules))
	for i, s := range sets {
		of[i] = cut.of(s)
	}
	// Of the list that is looked at: the rule, by its place in it, that decides each
	// cell, and the verdict of the next one that would.
	type cell struct {
		list  int32 // that the rest is of
		owner int32
		next  int8 // verdict + 1; 0: none, the cell would be uncovered
	}
	table := make([]cell, len(cut.from))
	list := int32(0)
	var own []int32 // how many cells each rule of the list decides
	f.c.EachMatching(f.people, func(m decide.Matching, _, _ decide.Placed) {
		list++
		own = append(own[:0], make([]int32, len(m))...)
		for k, r := range m {
			facts := &f.rules[r]
			facts.matches = facts.matches || len(of[r]) > 0
			last := int32(-1)
			for _, u := range of[r] {
				for i := u.from; i < u.to; i++ {
					switch c := &table[i]; {
					case c.list != list:
						*c = cell{list, int32(k), 0}
						own[k]++
					case c.owner != last:
						last = c.owner
						facts.cover(m[last])
					}
				}
			}
		}
		for k := len(m) - 1; k >= 0; k-- {
			facts := &f.rules[m[k]]
			verdict := int8(decide.VerdictOf(rules[m[k]])) + 1
			decides := own[k] > 0
			facts.decides = facts.decides || decides
			ask := decides && !facts.needed
			for _, u := range of[m[k]] {
				for i := u.from; i < u.to; i++ {
					c := &table[i]
					if ask && c.owner == int32(k) && c.next != verdict {
						facts.needed, ask = true, false
					}
					c.next = verdict
				}
			}
		}
	})
}

// mostCovering is up to how many earlier rules are told of one.
const mostCovering = 500

func (f *ruleFacts) cover(rule int32) {
	if f.covered == nil {
		f.covered = map[int32]bool{}
	}
	if f.covered[rule] {
		return
	}
	if len(f.covered) >= mostCovering {
		f.more = true
		return
	}
	f.covered[rule] = true
}

func (f *finder) add(kind Kind, r *policy.Rule, fix *Fix, others []*policy.Rule, format string, args ...any) {
	f.out = append(f.out, Finding{Kind: kind, Line: r.Line, Words: fmt.Sprintf(format, args...), Others: others,
		Fix: fix})
}

func remove(r *policy.Rule) *Fix {
	return &Fix{Words: "Remove it", Edits: []policy.Edit{{Op: policy.Remove, Line: r.Line}}}
}

func turnOff(r *policy.Rule) *Fix {
	return &Fix{Words: "Turn it off", Edits: []policy.Edit{{Op: policy.Switch, Line: r.Line}}}
}

// above lets a rule decide before another one of its layer.
func above(r, other *policy.Rule) *Fix {
	return &Fix{fmt.Sprintf("Move it before line %d", other.Line),
		[]policy.Edit{{Op: policy.Move, Line: r.Line, Before: other.Line}}, true}
}

// longer lets a rule last a while longer.
func longer(r *policy.Rule) *Fix {
	const days = 90
	later := *r
	day := time.Date(r.Until.Year, time.Month(r.Until.Month), r.Until.Day+days, 0, 0, 0, 0, time.UTC)
	later.Until = &policy.Date{Year: day.Year(), Month: int(day.Month()), Day: day.Day()}
	return &Fix{fmt.Sprintf("Extend it until %s", later.Until),
		[]policy.Edit{{Op: policy.Change, Line: r.Line, Text: later.String()}}, true}
}

func verb(r *policy.Rule) string {
	if r.Action == policy.Permit {
		return "permits"
	}
	return "rejects"
}
