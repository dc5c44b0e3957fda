package nft

import (
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strings"

	"lucidorchard/core/plan"
)

// A chain that is looked at from its head costs each packet as many questions as it
// has rules. Where it is long, neighbouring rules are a parcel with a chain of its own,
// which is entered only by the peers that one of them is for; parcels of many rules
// have parcels again. A packet so meets a few dozen questions in thousands of rules,
// and the order of the rules stays. Parcels have sets of their own; how many is bounded by
// the rules alone, as addresses come and go in them without new rules.
const (
	fewRules = 8 // are no parcels
	fanOut   = 5 // parcels that a long run of rules is cut into
	// mostCopies is into how many sets of parcels the addresses of a set go at most; copiesLeft,
	// where a plan also has sets of what clauses leave: four times the members in all.
	mostCopies, copiesLeft = 3, 1
)

const parcelPrefix = "u_"

// parcel is a rule, or a run of rules that are for peers of sets.
type parcel struct {
	rules []plan.Rule
	inner []parcel // of a run, in order
}

// parcels cuts the rules of a plan.
type parcels struct {
	p      *plan.Plan
	most   int                     // copies of a set
	copies []int                   // by set: into how many sets of parcels it goes
	made   map[string]*parcel      // by name
	of     map[*plan.Rule][]parcel // by the first of some rules
}

// parcelsOf cuts all rules of a plan: the classes in the order of their names, so that what
// is cut depends on the rules alone.
func parcelsOf(p *plan.Plan) *parcels {
	x := &parcels{p: p, most: mostCopies, copies: make([]int, len(p.Sets)), made: map[string]*parcel{},
		of: map[*plan.Rule][]parcel{}}
	if slices.ContainsFunc(p.Sets, func(s plan.Set) bool { return strings.HasPrefix(s.Name, plan.LeftPrefix) }) {
		x.most = copiesLeft
	}
	order := make([]*plan.Class, len(p.Classes))
	for i := range p.Classes {
		order[i] = &p.Classes[i]
	}
	slices.SortFunc(order, func(a, b *plan.Class) int { return strings.Compare(a.Name, b.Name) })
	for _, c := range order {
		for _, rules := range [][]plan.Rule{c.Server, c.Client} {
			if len(rules) > 0 {
				x.of[&rules[0]] = x.cut(rules)
			}
		}
	}
	return x
}

// rules returns what the rules of a class were cut into.
func (x *parcels) rules(rules []plan.Rule) []parcel {
	if len(rules) == 0 {
		return nil
	}
	return x.of[&rules[0]]
}

// cut cuts rules into what a packet is asked about one after the other.
func (x *parcels) cut(rules []plan.Rule) (out []parcel) {
	one := func(rules []plan.Rule) {
		for i := range rules {
			out = append(out, parcel{rules: rules[i : i+1]})
		}
	}
	if len(rules) <= fewRules {
		one(rules)
		return out
	}
	anywhere := func(r plan.Rule) bool { return len(r.Covers()) == 0 }
	for len(rules) > 0 {
		n := slices.IndexFunc(rules, anywhere)
		if n == 0 {
			one(rules[:1])
			rules = rules[1:]
			continue
		}
		if n < 0 {
			n = len(rules)
		}
		run := rules[:n]
		rules = rules[n:]
		if n <= fewRules {
			one(run)
			continue
		}
		for part := range slices.Chunk(run, max(fewRules, (n+fanOut-1)/fanOut)) {
			made := parcel{rules: part}
			if len(part) <= fewRules/4 || !x.make(&made) { // what is left over at the end, or too often copied
				one(part)
				continue
			}
			made.inner = x.cut(part)
			out = append(out, made)
		}
	}
	return out
}

// make notes that a parcel has a set, and reports whether it may.
func (x *parcels) make(p *parcel) bool {
	name := p.name(x.p)
	if x.made[name] != nil {
		return true
	}
	sets := p.sets()
	for _, set := range sets {
		if x.copies[set] >= x.most {
			return false
		}
	}
	for _, set := range sets {
		x.copies[set]++
	}
	x.made[name] = p
	return true
}

// name is the same for runs that are for the same sets.
func (x *parcel) name(p *plan.Plan) string {
	h := fnv.New64a()
	for i := range x.rules {
		for _, set := range x.rules[i].Covers() {
			_, _ = fmt.Fprint(h, p.Sets[set].Name, " ")
		}
		_, _ = fmt.Fprintln(h)
	}
	return fmt.Sprintf("%s%016x", parcelPrefix, h.Sum64())
}

// sets returns the sets outside of which the rules of a run have no peers, each once.
func (x *parcel) sets() (out []int) {
	for i := range x.rules {
		for _, set := range x.rules[i].Covers() {
			if !slices.Contains(out, set) {
				out = append(out, set)
			}
		}
	}
	return out
}

// peers returns the set of all that the rules of a run are for.
func (x *parcel) peers(p *plan.Plan) *plan.Set {
	words := fmt.Sprintf("peers of lines %d to %d", x.rules[0].Line, x.rules[len(x.rules)-1].Line)
	return &plan.Set{Name: x.name(p), Words: words, Addresses: plan.Union(x.addresses(p)...)}
}

func (x *parcel) addresses(p *plan.Plan) (out []plan.Addresses) {
	for _, set := range x.sets() {
		out = append(out, p.Sets[set].Addresses)
	}
	return out
}

// setsOf returns the sets that a kernel holds for a plan: those of its rules, and those
// of parcels.
func setsOf(p *plan.Plan) (out []*plan.Set) {
	for i := range p.Sets {
		out = append(out, &p.Sets[i])
	}
	all := parcelsOf(p).made
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name].peers(p))
	}
	return out
}

// Moves returns the addresses that come to the sets of a kernel and go from them, by the
// names of the sets, from loaded plans to others with the same rules. Sets that do not
// change are not looked at.
func Moves(from, to plan.Loaded) (come, gone map[string]plan.Addresses) {
	come, gone = map[string]plan.Addresses{}, map[string]plan.Addresses{}
	before := map[string]*plan.Plan{}
	for _, x := range loadedOf(from) {
		before[x.prefix] = x.plan
	}
	for _, x := range loadedOf(to) {
		if was := before[x.prefix]; was != nil && was != x.plan {
			moves(was, x.plan, x.prefix, come, gone)
		}
	}
	return come, gone
}

func moves(from, to *plan.Plan, prefix string, come, gone map[string]plan.Addresses) {
	was := map[string]*plan.Set{}
	for i := range from.Sets {
		was[from.Sets[i].Name] = &from.Sets[i]
	}
	note := func(name string, added, removed plan.Addresses) {
		for _, f := range families {
			if more, less := added.Family(f.six), removed.Family(f.six); guarded(to, f.six) && len(more)+len(less) > 0 {
				name := prefix + setName(&plan.Set{Name: name}, f.six)
				come[name], gone[name] = more, less
			}
		}
	}
	moved := map[string][]plan.Span{}
	for i := range to.Sets {
		s := &to.Sets[i]
		if old := was[s.Name]; old != nil {
			added, removed := s.Since(old)
			moved[s.Name] = slices.Concat(added, removed)
			note(s.Name, added, removed)
		}
	}
	before := parcelsOf(from).made
	for name, x := range parcelsOf(to).made {
		var where []plan.Span
		for _, set := range x.sets() {
			where = append(where, moved[to.Sets[set].Name]...)
		}
		if old := before[name]; old != nil && len(where) > 0 {
			added, removed := plan.UnionSince(old.addresses(from), x.addresses(to), where)
			note(name, added, removed)
		}
	}
}

// Words returns what each set contains in words, by its name in the kernel.
func Words(l plan.Loaded) map[string]string {
	out := map[string]string{}
	for _, x := range loadedOf(l) {
		for _, s := range setsOf(x.plan) {
			for _, f := range families {
				out[x.prefix+setName(s, f.six)] = s.Words
			}
		}
	}
	return out
}

// chainOf names the chain of a parcel of another chain.
func (x *parcel) chainOf(p *plan.Plan, chain string) string {
	return chain[:2] + strings.TrimPrefix(x.name(p), parcelPrefix) + "_" + fmt.Sprint(x.rules[0].Line) + chain[1:]
}

// inner writes the chains of parcels, inner ones first.
func (r *renderer) inner(chain string, list []parcel, c *plan.Class, peer string) {
	for i := range list {
		x := &list[i]
		if x.inner == nil {
			continue
		}
		r.inner(chain, x.inner, c, peer)
		r.say(1, "chain %s%s {", r.prefix, x.chainOf(r.p, chain))
		for _, in := range x.inner {
			r.lead(chain, in, c, peer)
		}
		r.say(1, "}")
	}
}

// lead writes a rule, or the way into a parcel.
func (r *renderer) lead(chain string, x parcel, c *plan.Class, peer string) {
	if x.inner == nil {
		r.rule(&x.rules[0], c, peer)
		return
	}
	for _, f := range families {
		if c.Has(f.six) {
			r.say(2, "%s %s @%s%s jump %s%s", f.name, peer, r.prefix, setName(&plan.Set{Name: x.name(r.p)}, f.six),
				r.prefix,
				x.chainOf(r.p, chain))
		}
	}
}
