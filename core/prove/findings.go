package prove

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

// Kind names what was found.
type Kind string

// The findings about rules that are exact over all points: every endpoint that
// exists at the instant, outside included, and every service.
const (
	Shadowed    Kind = "shadowed"          // earlier rules decide all that it matches
	Redundant   Kind = "redundant"         // without it every point gets the same verdict
	Contradicts Kind = "contradicts"       // an earlier rule of its layer decides part of it the other way
	PartShadow  Kind = "partly shadowed"   // earlier rules of its layer decide part of it the same way
	MatchesNone Kind = "matches nothing"   // no two endpoints that exist are on its sides
	AreaMissed  Kind = "misses its area"   // it would match something, but never in its area
	Mergeable   Kind = "one rule would do" // with the rule before it
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

// SoonDays is how many days before its last day a rule expires soon.
const SoonDays = 30

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

func (f *finder) add(kind Kind, r *policy.Rule, mend *Fix, others []*policy.Rule, format string, args ...any) {
	f.out = append(f.out, Finding{Kind: kind, Line: r.Line, Words: fmt.Sprintf(format, args...), Others: others, Fix: mend})
}

func remove(r *policy.Rule) *Fix {
	return &Fix{Words: "Remove it", Edits: []policy.Edit{{Op: policy.Remove, Line: r.Line}}}
}

func turnOff(r *policy.Rule) *Fix {
	return &Fix{Words: "Turn it off", Edits: []policy.Edit{{Op: policy.Switch, Line: r.Line}}}
}

// above lets a rule decide before another one of its layer.
func above(r, other *policy.Rule) *Fix {
	return &Fix{fmt.Sprintf("Let it decide before line %d", other.Line), []policy.Edit{{Op: policy.Move, Line: r.Line, Before: other.Line}}, true}
}

// longer lets a rule last a while longer.
func longer(r *policy.Rule) *Fix {
	const days = 90
	later := *r
	day := time.Date(r.Until.Year, time.Month(r.Until.Month), r.Until.Day+days, 0, 0, 0, 0, time.UTC)
	later.Until = &policy.Date{Year: day.Year(), Month: int(day.Month()), Day: day.Day()}
	return &Fix{fmt.Sprintf("Let it last until %s", later.Until), []policy.Edit{{Op: policy.Change, Line: r.Line, Text: later.String()}}, true}
}

// mostByTags is of how many groups it is tried: each takes a walk over the estate.
const mostByTags = 200

// byTags says a group that pins names by the tags that its members share: those
// whose keys other groups read too, for they say what a workload is. nil if more
// would join than are in it.
func (f *finder) byTags(g *policy.Group) *Fix {
	if f.byTag++; f.byTag > mostByTags {
		return nil
	}
	members := map[int32]bool{}
	f.c.Estate.Held(f.c.AsOf, func(ep estate.Endpoint) {
		if f.c.Group(g.Name, f.c.At(ep.Addr, f.c.AsOf)) == expr.Yes {
			members[ep.Workload] = true
		}
	})
	var shared []estate.Tag
	first := true
	for i := range members {
		w := f.c.Estate.Workload(i)
		if first {
			shared, first = slices.Clone(w.Tags), false
			continue
		}
		shared = slices.DeleteFunc(shared, func(t estate.Tag) bool {
			have, _ := w.Tag(t.Key)
			return expr.Fold(have.Value) != expr.Fold(t.Value)
		})
	}
	others := func(tags []estate.Tag) (n int) {
		for i, w := range f.c.Estate.All() {
			if !members[i] && w.Retired.IsZero() && !slices.ContainsFunc(tags, func(t estate.Tag) bool {
				have, _ := w.Tag(t.Key)
				return expr.Fold(have.Value) != expr.Fold(t.Value)
			}) {
				n++
			}
		}
		return n
	}
	shared = slices.DeleteFunc(shared, func(t estate.Tag) bool { return !f.read()[t.Key] })
	if len(shared) == 0 || others(shared) > len(members) {
		return nil
	}
	slices.SortFunc(shared, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
	var tests []string
	for _, t := range shared {
		tests = append(tests, expr.Key{Name: t.Key}.String()+" is "+syntax.Name(t.Value))
	}
	text := strings.Join(tests, " and ")
	e, errs := expr.ParseText(text)
	if len(errs) > 0 {
		return nil // a value that no expression can name
	}
	said := *g
	said.Expr, said.Include = e, nil
	return &Fix{"Say it by tags: " + text, []policy.Edit{{Op: policy.Change, Line: g.Line, Text: said.String()}}, true}
}

func (f *finder) rule(i int32, r *policy.Rule) {
	if r.Off {
		return
	}
	if r.Until != nil {
		switch {
		case r.Until.Past(f.c.AsOf):
			f.add(Expired, r, remove(r), nil, "Its last day, %s, is over: it matches nothing any more.", r.Until)
			return
		case r.Until.Past(estate.Instant{Sec: f.c.AsOf.Sec + SoonDays*86400}):
			f.add(SoonExpired, r, longer(r), nil, "Its last day is %s; what it decides gets another verdict then.", r.Until)
		}
	}
	facts := &f.rules[i]
	others := f.covering(facts)
	switch {
	case !facts.matches && f.missesArea(i, r):
		f.add(AreaMissed, r, remove(r), nil, "It would match something, but nothing that touches its area %s.", r.Area.Name)
	case !facts.matches:
		f.add(MatchesNone, r, turnOff(r), nil, "No two endpoints that exist now are on its two sides and agree with its clauses.")
	case !facts.decides:
		f.add(Shadowed, r, remove(r), others, "Nothing reaches it: %s.", decidedBy(others, facts.more))
	case !facts.needed:
		f.add(Redundant, r, remove(r), nil, "Without it every point gets the same verdict from the rules behind it.")
	default:
		f.partial(r, others)
	}
	if r.Action == policy.Permit && facts.matches {
		f.wide(i, r)
	}
}

func (f *finder) covering(facts *ruleFacts) []*policy.Rule {
	var out []*policy.Rule
	for i := range facts.covered {
		out = append(out, f.c.Policy.Rules[i])
	}
	slices.SortFunc(out, func(a, b *policy.Rule) int { return a.Line - b.Line })
	return out
}

func decidedBy(rules []*policy.Rule, more bool) string {
	var lines []string
	for _, r := range rules[:min(12, len(rules))] {
		lines = append(lines, fmt.Sprint(r.Line))
	}
	if len(rules) == 1 {
		return "line " + lines[0] + " decides all that it matches"
	}
	if n := len(rules) - len(lines); more || n > 0 {
		return fmt.Sprintf("lines %s and at least %d more together decide all that it matches", strings.Join(lines, ", "), n)
	}
	return "lines " + strings.Join(lines, ", ") + " together decide all that it matches"
}

// partial reports earlier rules of the same layer that take a part. What
// earlier layers take is what layers are for.
func (f *finder) partial(r *policy.Rule, others []*policy.Rule) {
	var against, alike []*policy.Rule
	for _, o := range others {
		switch {
		case o.Layer != r.Layer:
		case decide.VerdictOf(o) != decide.VerdictOf(r):
			against = append(against, o)
		default:
			alike = append(alike, o)
		}
	}
	if len(against) > 0 {
		f.add(Contradicts, r, above(r, against[0]), against, "%s of this layer %s part of what it would %s.", first(against), verb(against[0]), r.Action)
	}
	if len(alike) > 0 {
		f.add(PartShadow, r, nil, alike, "%s of this layer decides part of it already, the same way.", first(alike))
	}
}

func first(rules []*policy.Rule) string {
	if len(rules) == 1 {
		return fmt.Sprintf("Line %d", rules[0].Line)
	}
	return fmt.Sprintf("Line %d and %d more", rules[0].Line, len(rules)-1)
}

// mostAreaPairs is up to how many pairs of classes are tried.
const mostAreaPairs = 10_000

// missesArea reports whether the rule would match some pair without its area.
func (f *finder) missesArea(i int32, r *policy.Rule) bool {
	if r.Area == nil {
		return false
	}
	bare := *r
	bare.Area = nil
	walk := decide.NewWalk(f.c.Estate, f.c.Policy, f.c.AsOf)
	points := f.c.Policy.Points(r.On).Real()
	if len(points) == 0 {
		return false
	}
	var left, right [][]decide.Placed
	for class, p := range f.people {
		if f.c.OnLeft(i, int32(class)) {
			left = append(left, p)
		}
		if f.c.OnRight(i, int32(class)) {
			right = append(right, p)
		}
	}
	tried := 0
	for _, a := range left {
		for _, b := range right {
			client, server, ok := decide.TwoApart(a, b)
			if !ok {
				continue
			}
			if walk.Matches(&bare, client.Endpoint, server.Endpoint, points[0].Lo) {
				return true
			}
			if tried++; tried == mostAreaPairs {
				return false
			}
		}
	}
	return false
}

// wide reports a rule that opens an administration or database service to
// outside or to more than a quarter of all machines.
func (f *finder) wide(i int32, r *policy.Rule) {
	points := f.c.Policy.Points(r.On)
	kind, what := Kind(""), ""
	switch {
	case len(points.Intersect(service.Administration)) > 0:
		kind, what = WideAdmin, "an administration service"
	case len(points.Intersect(service.Databases)) > 0:
		kind, what = WideStore, "a database service"
	default:
		return
	}
	n, total, outside := 0, 0, false
	for class := range f.people {
		total += f.held[class]
		if f.c.OnLeft(i, int32(class)) {
			n += f.held[class]
			outside = outside || f.outside[class]
		}
	}
	switch {
	case outside:
		f.add(kind, r, nil, nil, "It opens %s to addresses outside.", what)
	case n > 8 && n*4 > total:
		f.add(kind, r, nil, nil, "It opens %s to %d of the %d addresses that workloads hold.", what, n, total)
	}
}

// mergeable finds neighbours of one layer that differ in one list only.
func (f *finder) mergeable() {
	rules := f.c.Policy.Rules
	for i := 1; i < len(rules); i++ {
		a, b := rules[i-1], rules[i]
		if a.Layer != b.Layer || a.Off || b.Off || a.Action != b.Action || a.Action == policy.Apart || a.Clauses.String() != b.Clauses.String() {
			continue
		}
		if !f.rules[i-1].needed || !f.rules[i].needed {
			continue // one of them is to go anyhow
		}
		left, right, on := a.Left.String() == b.Left.String(), a.Right.String() == b.Right.String(), a.On.String() == b.On.String()
		merged := *a
		switch {
		case left && right && !on && !a.On.Any && !b.On.Any:
			merged.On.Specs = slices.Concat(a.On.Specs, b.On.Specs)
		case left && on && !right && !a.Right.Any && !b.Right.Any:
			merged.Right.Items = slices.Concat(a.Right.Items, b.Right.Items)
		case right && on && !left && !a.Left.Any && !b.Left.Any:
			merged.Left.Items = slices.Concat(a.Left.Items, b.Left.Items)
		default:
			continue
		}
		if merged.Note == "" {
			merged.Note = b.Note
		} else if b.Note != "" && b.Note != a.Note {
			merged.Note += "; " + b.Note
		}
		f.add(Mergeable, b, &Fix{Words: "Join the two", Edits: []policy.Edit{{Op: policy.Remove, Line: b.Line}, {Op: policy.Change, Line: a.Line, Text: merged.String()}}},
			[]*policy.Rule{a}, "It differs from line %d in one list only.", a.Line)
	}
}

func (f *finder) groups() {
	in, undecided := map[string]int{}, map[string]int{}
	ins, undecideds := f.c.GroupCounts(f.c.AsOf)
	for i, g := range f.c.Policy.GroupOrder {
		in[g.Name], undecided[g.Name] = ins[i], undecideds[i]
	}
	outside := map[string]bool{}
	for _, p := range f.c.Outside(f.c.AsOf) {
		f.c.EachGroup(p, func(g *policy.Group, t expr.Truth) {
			if t == expr.Yes {
				outside[g.Name] = true
			}
		})
	}
	used := used(f.c.Policy)
	for _, item := range f.c.Policy.Items {
		g, ok := item.Statement.(*policy.Group)
		if !ok {
			continue
		}
		find := func(kind Kind, mend *Fix, format string, args ...any) {
			f.out = append(f.out, Finding{Kind: kind, Line: g.Line, Group: g.Name, Words: fmt.Sprintf(format, args...), Fix: mend})
		}
		drop := &Fix{Words: "Remove it", Edits: []policy.Edit{{Op: policy.Remove, Line: g.Line}}}
		if used[g.Name] {
			drop = nil
		}
		if in[g.Name] == 0 && !outside[g.Name] {
			find(EmptyGroup, drop, "Nobody is in it.")
		} else if !used[g.Name] {
			find(UnusedGroup, drop, "No rule, area, assertion or other group names it.")
		}
		if n := undecided[g.Name]; n > 0 {
			what := "workloads"
			if n == 1 {
				what = "workload"
			}
			find(Undecided, nil, "Of %d %s it cannot tell: a tag is missing.", n, what)
		}
		if pinned(g) {
			find(PinsNames, f.byTags(g), "It lists names or ids: a new machine does not join on its own.")
		}
	}
}

// pinned reports whether a group lists workloads by name or id.
func pinned(g *policy.Group) bool {
	pins := len(g.Include) > 0
	g.Expr.Walk(func(e *expr.Expr) {
		if e.Key.Field && (e.Key.Name == "name" || e.Key.Name == "id") && (e.Op == expr.Is || e.Op == expr.In) {
			pins = true
		}
	})
	return pins
}

// used gives the groups that something names.
func used(p *policy.Policy) map[string]bool {
	out := map[string]bool{}
	for _, item := range p.Items {
		if item.Statement != nil {
			policy.EachNamed(item.Statement, func(group string) { out[group] = true })
		}
	}
	return out
}

// closing reports a policy that says nothing of the rest.
func (f *finder) closing() {
	if len(f.c.Policy.Layers) == 0 {
		return
	}
	last := f.c.Policy.Layers[len(f.c.Policy.Layers)-1]
	for _, r := range last.Rules {
		if !r.Off {
			return
		}
	}
	f.out = append(f.out, Finding{Kind: NoClosing, Line: last.Line,
		Words: fmt.Sprintf("The last layer, %s, has no rule: what nothing above matches stays uncovered.", syntax.Name(last.Name)),
		Fix:   &Fix{"Reject the rest in it", []policy.Edit{{Op: policy.Add, Layer: last.Name, Text: "reject any -> any on any"}}, true}})
}

func verb(r *policy.Rule) string {
	if r.Action == policy.Permit {
		return "permits"
	}
	return "rejects"
}
