package prove

// Findings about rules.

import (
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

func (f *finder) rule(i int32, r *policy.Rule) {
	if r.Off {
		return
	}
	if r.Until != nil {
		switch {
		case r.Until.Past(f.c.AsOf):
			f.add(Expired, r, remove(r), nil, "Its last day, %s, is over: it no longer matches anything.", r.Until)
			return
		case r.Until.Past(estate.Instant{Sec: f.c.AsOf.Sec + soonDays*86400}):
			f.add(SoonExpired, r, longer(r), nil, "Its last day is %s; its traffic gets another verdict then.",
				r.Until)
		}
	}
	facts := &f.rules[i]
	others := f.covering(facts)
	switch {
	case !facts.matches && f.missesArea(i, r):
		f.add(AreaMissed, r, remove(r), nil, "It would match something, but nothing that touches its area %s.",
			r.Area.Name)
	case !facts.matches:
		f.add(MatchesNone, r, turnOff(r), nil,
			"No two current endpoints match its sides and clauses.")
	case !facts.decides:
		f.add(Shadowed, r, remove(r), others, "Nothing reaches it: %s.", decidedBy(others, facts.more))
	case !facts.needed:
		f.add(Redundant, r, remove(r), nil, "Without it, the rules after it give every point the same verdict.")
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
		return fmt.Sprintf("lines %s and at least %d more together decide all that it matches",
			strings.Join(lines, ", "), n)
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
		f.add(Contradicts, r, above(r, against[0]), against, "%s of this layer %s part of what it would %s.",
			first(against), verb(against[0]), r.Action)
	}
	if len(alike) > 0 {
		f.add(PartShadow, r, nil, alike, "%s of this layer already decides part of it the same way.", first(alike))
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
		if a.Layer != b.Layer || a.Off || b.Off || a.Action != b.Action || a.Action == policy.Apart ||
			a.Clauses.String() != b.Clauses.String() {
			continue
		}
		if !f.rules[i-1].needed || !f.rules[i].needed {
			continue // one of them is to go anyhow
		}
		left, right, on := a.Left.String() == b.Left.String(), a.Right.String() == b.Right.String(),
			a.On.String() == b.On.String()
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
		f.add(Mergeable, b, &Fix{Words: "Join the two", Edits: []policy.Edit{{Op: policy.Remove, Line: b.Line},
			{Op: policy.Change, Line: a.Line, Text: merged.String()}}},
			[]*policy.Rule{a}, "It differs from line %d in one list only.", a.Line)
	}
}
