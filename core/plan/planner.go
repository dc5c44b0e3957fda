package plan

import (
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Planner makes the plans of many points for one policy and estate. What several
// points need is found once. It is not safe for use by several goroutines.
//
// Addresses of peers stand in sets, one for each thing that the policy names: a group, a
// prefix, a workload, the outside, a value of a tag. Rules combine them. Where a rule asks
// for the same value of a tag, or to be within a group, a set can have what is left of what
// it names: for the first combination of clauses in which the policy names it, as the
// values of a tag share its members among them. So a plan has at most twice as many
// elements as what its rules name has members, whatever the rules, and few where few are
// left.
type Planner struct {
	c        *decide.Compiled
	line     []decide.Stretch
	byClass  map[int32][]int32 // class → places in line
	byHolder map[int32][]int32 // workload → places in line
	sets     []Set
	terms    []term            // by set: what it is of
	members  [][]int32         // by set: classes that are members
	known    map[term]int      // → index of sets
	rules    map[sideOf][]Rule // of a guarded class
	holds    [2][][]int32      // by rule: classes that its left, and its right, side has
	met      map[int32]bool    // classes that are in holds
	shapes   map[term]string   // the clauses with which what is left of a term has sets
}

const (
	inGroup termKind = iota
	inPrefix
	isWorkload
	isOutside
	hasValue // of a key
	hasKey
	isLeft
)

// LeftPrefix begins the names of sets of what clauses leave of something.
const LeftPrefix = "q_"

type sideOf struct {
	class  int32
	server bool
}

// NewPlanner prepares for plans as of the instant of a compilation.
func NewPlanner(c *decide.Compiled) *Planner {
	p := &Planner{c: c, line: c.Stretches(c.AsOf), byClass: map[int32][]int32{}, byHolder: map[int32][]int32{},
		known: map[term]int{}, rules: map[sideOf][]Rule{}, shapes: map[term]string{}, met: map[int32]bool{}}
	for _, r := range c.Policy.Rules {
		if shape := shapeOf(r); shape != "" {
			for _, item := range slices.Concat(r.Left.Items, r.Right.Items) {
				if x := termOf(&item); p.shapes[x] == "" {
					p.shapes[x] = shape
				}
			}
		}
	}
	for k := range p.holds {
		p.holds[k] = make([][]int32, len(c.Policy.Rules))
	}
	for i, s := range p.line {
		p.meet(s.Class)
		p.byClass[s.Class] = append(p.byClass[s.Class], int32(i))
		if s.Workload != estate.Outside {
			p.byHolder[s.Workload] = append(p.byHolder[s.Workload], int32(i))
		}
	}
	return p
}

// meet notes which rules have a class on which side.
func (p *Planner) meet(class int32) {
	if p.met[class] {
		return
	}
	p.met[class] = true
	for k := range p.holds {
		p.c.RulesAt(class, k == 1, func(rule int32) { p.holds[k][rule] = append(p.holds[k][rule], class) })
	}
}

// Plan makes the plan of a point that guards some workloads: their indexes. Those
// that hold no address have no part in it.
func (p *Planner) Plan(guards []int32, kind Kind, side Side) *Plan {
	out := &Plan{Kind: kind, Side: side, Sets: []Set{}, Classes: []Class{}}
	own := map[int]int{}           // set of the planner → of the plan
	byRules := map[[2]string]int{} // by what tells the server's and the client's apart
	order := slices.Clone(guards)
	slices.Sort(order)
	for _, w := range slices.Compact(order) {
		for _, at := range p.byHolder[w] {
			s := p.line[at]
			var server, client []Rule
			if side != Client {
				server = p.rulesOf(sideOf{s.Class, true})
			}
			if side != Server {
				client = p.rulesOf(sideOf{s.Class, false})
			}
			key := [2]string{fingerprint(server), fingerprint(client)}
			n, ok := byRules[key]
			if !ok {
				n = len(out.Classes)
				byRules[key] = n
				h := fnv.New64a()
				_, _ = fmt.Fprintf(h, "%d %d ", len(server), len(client))
				_, _ = h.Write([]byte(p.namedFingerprint(server) + p.namedFingerprint(client)))
				out.Classes = append(out.Classes, Class{Name: fmt.Sprintf("c%016x", h.Sum64()),
					Server: p.ownRules(server, own, out), Client: p.ownRules(client, own, out)})
			}
			c := &out.Classes[n]
			c.Addresses = append(c.Addresses, s.First)
			if id := p.c.Estate.Workload(w).ID; !slices.Contains(c.Workloads, id) {
				c.Workloads = append(c.Workloads, id)
			}
		}
	}
	for i := range out.Classes {
		slices.SortFunc(out.Classes[i].Addresses, netip.Addr.Compare)
		slices.Sort(out.Classes[i].Workloads)
	}
	return out
}

// ownRules returns rules with the sets of a plan, which gains those that it lacks.
func (p *Planner) ownRules(rules []Rule, own map[int]int, out *Plan) []Rule {
	mine := slices.Clone(rules)
	if mine == nil {
		mine = []Rule{}
	}
	for i := range mine {
		for _, list := range []*[]int{&mine[i].Peers, &mine[i].Within, &mine[i].Except} {
			*list = slices.Clone(*list)
			for k, set := range *list {
				n, ok := own[set]
				if !ok {
					n = len(out.Sets)
					own[set] = n
					out.Sets = append(out.Sets, p.sets[set])
				}
				(*list)[k] = n
			}
		}
	}
	return mine
}

// fingerprint tells lists of rules apart.
func fingerprint(rules []Rule) string {
	b := make([]byte, 0, 8*len(rules))
	for i := range rules {
		b = binary.AppendVarint(b, int64(rules[i].Line))
		for _, list := range [][]int{rules[i].Peers, rules[i].Within, rules[i].Except} {
			b = binary.AppendUvarint(b, uint64(len(list)))
			for _, set := range list {
				b = binary.AppendUvarint(b, uint64(set))
			}
		}
	}
	return string(b)
}

// namedFingerprint is one that is the same for another planner.
func (p *Planner) namedFingerprint(rules []Rule) string {
	var b []byte
	for i := range rules {
		b = rules[i].append(append(b, rules[i].Words...), p.sets)
	}
	return string(b)
}

// rulesOf finds the rules for a guarded class on one side, in order, up to the one
// behind which nothing is left to decide.
func (p *Planner) rulesOf(of sideOf) []Rule {
	if have, ok := p.rules[of]; ok {
		return have
	}
	var out []Rule
	rest := service.All
	p.c.RulesAt(of.class, of.server, func(i int32) {
		points := p.c.RulePoints(i)
		if len(rest) == 0 || len(points.Intersect(rest)) == 0 {
			return
		}
		r := p.c.Policy.Rules[i]
		x := Rule{Line: r.Line, Verdict: Reject, Points: points, On: words(points), Words: r.Sentence(), Log: r.Log}
		if r.Action == policy.Permit {
			x.Verdict = Permit
		}
		if r.Until != nil {
			x.Until = r.Until.End().Sec
		}
		if !p.peers(&x, i, of) {
			return // it is for nobody, seen from this class
		}
		out = append(out, x)
		if x.Anybody() && x.Until == 0 { // else one day, or for others, the rules behind it decide
			rest = rest.Minus(points)
		}
	})
	p.rules[of] = out
	return out
}

// peers notes whom a rule is for, seen from a guarded class that one of its sides holds.
// It reports false if the clauses leave nobody. That a set has no members now is no
// reason to leave the rule out: one day it may, without a release.
func (p *Planner) peers(x *Rule, rule int32, of sideOf) bool {
	r := p.c.Policy.Rules[rule]
	if r.Action == policy.Apart {
		x.Peers = p.apartFrom(r.Groups, of.class)
		if len(x.Peers) == 0 {
			return false
		}
	} else {
		far, some := r.Right, p.holds[1][rule]
		if of.server {
			far, some = r.Left, p.holds[0][rule]
		}
		if !far.Any {
			for _, item := range far.Items {
				x.Peers = append(x.Peers, p.setOf(termOf(&item), some))
			}
			x.Peers = p.inOrder(x.Peers)
		}
	}
	if r.Within != nil {
		if p.says(of.class, r.Within.Name) != expr.Yes {
			return false // it is for those within alone
		}
		x.Within = append(x.Within, p.set(term{kind: inGroup, name: r.Within.Name}))
	}
	if r.Area != nil {
		if group := p.c.Policy.Areas[r.Area.Name].Group.Name; p.says(of.class, group) != expr.Yes {
			x.Within = append(x.Within, p.set(term{kind: inGroup, name: group}))
		}
	}
	w := p.someOf(of.class)
	for _, k := range r.Same {
		v, has := k.Of(w)
		if !has {
			return false
		}
		x.Within = append(x.Within, p.set(term{kind: hasValue, name: expr.Fold(v), key: k}))
	}
	for _, k := range r.Across {
		v, has := k.Of(w)
		if !has {
			return false
		}
		x.Within = append(x.Within, p.set(term{kind: hasKey, key: k}))
		x.Except = append(x.Except, p.set(term{kind: hasValue, name: expr.Fold(v), key: k}))
	}
	p.left(x, r)
	return true
}

// shapeOf names the clauses of a rule that leave something of what it names, and of which
// the values share the members; blank: it has none, or others as well.
func shapeOf(r *policy.Rule) string {
	if r.Action == policy.Apart || len(r.Across) > 0 || len(r.Same) == 0 && r.Within == nil && r.Area == nil {
		return ""
	}
	shape := fmt.Sprint(r.Same)
	if r.Within != nil {
		shape += " within " + r.Within.Name
	}
	if r.Area != nil {
		shape += " area " + r.Area.Name
	}
	return shape
}

// left puts sets of what is left into the place of what a rule names and its clauses.
func (p *Planner) left(x *Rule, r *policy.Rule) {
	shape := shapeOf(r)
	if shape == "" || len(x.Peers) == 0 || len(x.Within) == 0 ||
		slices.ContainsFunc(x.Peers, func(set int) bool { return p.shapes[p.terms[set]] != shape }) {
		return
	}
	within := strings.Trim(fmt.Sprint(x.Within), "[]")
	for i, set := range x.Peers {
		x.Peers[i] = p.setOf(term{kind: isLeft, of: set, within: within}, p.members[set])
	}
	x.Within, x.Peers = nil, p.inOrder(x.Peers)
}

// inOrder returns sets by their names, each once: an order that does not depend on which
// set was made first.
func (p *Planner) inOrder(sets []int) []int {
	slices.SortFunc(sets, func(a, b int) int { return strings.Compare(p.sets[a].Name, p.sets[b].Name) })
	return slices.Compact(sets)
}

// apartFrom returns the sets of the groups of a separation from which a class is kept
// apart: those that it is not in, or if it is in several of them, all; none: it is in no
// group of the separation.
func (p *Planner) apartFrom(groups []policy.Ref, class int32) (out []int) {
	in := map[string]bool{}
	for _, g := range groups {
		if p.says(class, g.Name) == expr.Yes {
			in[g.Name] = true
		}
	}
	if len(in) == 0 {
		return nil
	}
	for _, g := range groups {
		if !in[g.Name] || len(in) > 1 {
			out = append(out, p.set(term{kind: inGroup, name: g.Name}))
		}
	}
	return p.inOrder(out)
}

// says returns what a group says of a guarded class.
func (p *Planner) says(class int32, group string) expr.Truth {
	s := p.line[p.byClass[class][0]]
	return p.c.Group(group, p.c.At(s.First, p.c.AsOf))
}

// someOf returns a workload of a class; guarded classes have one.
func (p *Planner) someOf(class int32) *estate.Workload {
	for _, at := range p.byClass[class] {
		if w := p.line[at].Workload; w != estate.Outside {
			return p.c.Estate.Workload(w)
		}
	}
	return &estate.Workload{}
}
