package plan

import (
	"fmt"
	"hash/fnv"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// term is something that a policy names and that has members.
type term struct {
	kind termKind
	name string // of a group, a workload or a prefix; the value of a tag, folded
	key  expr.Key
	// What is left: of a set, within others (indexes, with blanks between).
	of     int
	within string
}

type termKind uint8

func (x term) String() string {
	switch x.kind {
	case isWorkload:
		return "workload " + x.name
	case isOutside:
		return "outside"
	case hasValue:
		return x.key.String() + " is " + x.name
	case hasKey:
		return "has " + x.key.String()
	}
	return x.name
}

// sets returns the sets that what is left is within.
func (x term) sets() (out []int) {
	for _, n := range strings.Fields(x.within) {
		i, _ := strconv.Atoi(n) // as left wrote it
		out = append(out, i)
	}
	return out
}

// words reports what a set has, in the words of the policy.
func (p *Planner) words(x term) string {
	if x.kind != isLeft {
		return x.String()
	}
	words := p.terms[x.of].String()
	for _, set := range x.sets() {
		words += ", " + p.terms[set].String()
	}
	return words
}

func termOf(o *policy.Operand) term {
	switch o.Kind {
	case policy.IsOutside:
		return term{kind: isOutside}
	case policy.InPrefix:
		return term{kind: inPrefix, name: o.Prefix.String()}
	case policy.IsWorkload:
		return term{kind: isWorkload, name: o.Name}
	}
	return term{kind: inGroup, name: o.Name}
}

// words says points; nothing for all of them.
func words(points service.Set) []string {
	out := []string{}
	if points.Equal(service.All) {
		return out
	}
	for _, r := range points {
		out = append(out, rangeWords(r)...)
	}
	return out
}

// rangeWords says a range, protocol by protocol.
func rangeWords(r service.Range) (out []string) {
	for proto := int(r.Lo.Proto()); proto <= int(r.Hi.Proto()); proto++ {
		whole := service.Whole(uint8(proto))
		part := service.Range{Lo: max(r.Lo, whole.Lo), Hi: min(r.Hi, whole.Hi)}
		if part.Lo <= part.Hi {
			out = append(out, part.String())
		}
	}
	return out
}

// set returns the index of the set of a term's members.
func (p *Planner) set(x term) int {
	if n, ok := p.known[x]; ok {
		return n
	}
	return p.setOf(x, slices.Collect(maps.Keys(p.met)))
}

// setOf is set, where only some classes can be members.
func (p *Planner) setOf(x term, some []int32) int {
	if n, ok := p.known[x]; ok {
		return n
	}
	var places, classes []int32
	for _, class := range some {
		if p.has(x, class) {
			places = append(places, p.byClass[class]...)
			classes = append(classes, class)
		}
	}
	slices.Sort(places)
	spans := make([]Span, len(places))
	for i, at := range places {
		spans[i] = Span{p.line[at].First, p.line[at].Last}
	}
	words := p.words(x)
	made := Set{Name: slug(x.kind, words), Words: words, Addresses: addressesOf(spans)}
	made.shared = sharedOf(made.Addresses)
	n := len(p.sets)
	p.known[x] = n
	p.sets = append(p.sets, made)
	p.terms = append(p.terms, x)
	p.members = append(p.members, classes)
	return n
}

// has reports whether the addresses of a class are members of a term. The rules of a
// policy tell apart what its terms tell apart, so that one address speaks for all.
func (p *Planner) has(x term, class int32) bool {
	return len(p.byClass[class]) > 0 && p.hasAt(x, &p.line[p.byClass[class][0]])
}

func (p *Planner) hasAt(x term, s *decide.Stretch) bool {
	switch x.kind {
	case isLeft:
		return p.hasAt(p.terms[x.of], s) && !slices.ContainsFunc(x.sets(),
			func(set int) bool { return !p.hasAt(p.terms[set], s) })
	case inGroup:
		return p.c.Group(x.name, p.c.At(s.First, p.c.AsOf)) == expr.Yes
	case inPrefix:
		return netip.MustParsePrefix(x.name).Contains(s.First)
	case isOutside:
		return s.Workload == estate.Outside
	}
	if s.Workload == estate.Outside {
		return false
	}
	w := p.c.Estate.Workload(s.Workload)
	if x.kind == isWorkload {
		return w.ID == x.name
	}
	v, has := x.key.Of(w)
	return has && (x.kind == hasKey || expr.Fold(v) == x.name)
}

// slug makes a name for the set of a term that every kernel takes. It is the same as long
// as the policy names the same.
func slug(kind termKind, words string) string {
	h := fnv.New64a()
	_, _ = fmt.Fprint(h, kind, " ", words)
	short := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '_'
	}, words)
	if len(short) > 16 {
		short = short[:16]
	}
	prefix := "p_"
	if kind == isLeft {
		prefix = LeftPrefix
	}
	return fmt.Sprintf("%s%s_%012x", prefix, strings.Trim(short, "_"), h.Sum64()&(1<<48-1))
}
