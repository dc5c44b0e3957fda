package plan

import (
	"fmt"
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// Guards is the workloads of which an expression says yes, at one of the addresses
// that they hold; those of which it cannot tell are not guarded.
type Guards struct {
	In, Undecided []int32 // rising
}

// Guarded asks expressions of every workload that holds an address at the instant of a
// compilation. They may name groups of its policy. Those that ask for values of a tag are
// only asked of the workloads that have one of them, or lack the tag.
func Guarded(c *decide.Compiled, all []*expr.Expr) []Guards {
	var endpoints []decide.Placed
	c.Estate.Held(c.AsOf, func(ep estate.Endpoint) { endpoints = append(endpoints, c.At(ep.Addr, c.AsOf)) })
	ask := asking{c, endpoints, map[expr.Key]map[string][]int32{}}
	out := make([]Guards, len(all))
	var others []int
	for i, e := range all {
		if some, ok := ask.candidates(e); ok {
			out[i] = ask.of(e, some)
		} else {
			others = append(others, i)
		}
	}
	if len(others) > 0 {
		rest := make([]*expr.Expr, len(others))
		for k, i := range others {
			rest[k] = all[i]
		}
		for k, g := range guardedByAll(c, rest) {
			out[others[k]] = g
		}
	}
	return out
}

// GuardedBy asks the texts of expressions as Guarded does. One that cannot be read, or that
// names a group that the policy does not have, guards nobody.
func GuardedBy(c *decide.Compiled, texts []string) []Guards {
	out := make([]Guards, len(texts))
	var all []*expr.Expr
	var of []int
	for i, text := range texts {
		if e, errs := expr.ParseText(text); len(errs) == 0 && UnknownGroup(c, e) == "" {
			all, of = append(all, e), append(of, i)
		}
	}
	for k, g := range Guarded(c, all) {
		out[of[k]] = g
	}
	return out
}

// UnknownGroup returns a group that an expression names and that the policy does not have;
// blank: there is none.
func UnknownGroup(c *decide.Compiled, e *expr.Expr) (name string) {
	e.Walk(func(x *expr.Expr) {
		if x.Op == expr.MemberOf && c.Policy.Groups[x.Group] == nil {
			name = x.Group
		}
	})
	return name
}

// asking finds whom expressions have to be asked of.
type asking struct {
	c         *decide.Compiled
	endpoints []decide.Placed
	index     map[expr.Key]map[string][]int32 // key → folded value, blank for none → endpoints
}

// candidates returns the endpoints of which an expression may say anything but no, where it
// asks for values of a key.
func (a *asking) candidates(e *expr.Expr) (out []int32, ok bool) {
	kids := []*expr.Expr{e}
	if e.Op == expr.And {
		kids = e.Kids
	}
	for _, k := range kids {
		if k.Op != expr.Is && k.Op != expr.In {
			continue
		}
		values := a.valuesOf(k.Key)
		some := slices.Clone(values[""])
		known := map[string]bool{}
		for _, v := range k.Values {
			if v = expr.Fold(v); !known[v] {
				known[v] = true
				some = append(some, values[v]...)
			}
		}
		if !ok || len(some) < len(out) {
			out, ok = some, true
		}
	}
	return out, ok
}

func (a *asking) valuesOf(k expr.Key) map[string][]int32 {
	if have := a.index[k]; have != nil {
		return have
	}
	found := map[string][]int32{}
	for i := range a.endpoints {
		v, _ := k.Of(a.c.Estate.Workload(a.endpoints[i].Workload))
		v = expr.Fold(v)
		found[v] = append(found[v], int32(i))
	}
	a.index[k] = found
	return found
}

// of asks an expression of some endpoints.
func (a *asking) of(e *expr.Expr, some []int32) (out Guards) {
	for _, i := range some {
		p := a.endpoints[i]
		switch e.Eval(decide.Subject(a.c.Estate, p.Endpoint), func(g string) expr.Truth { return a.c.Group(g, p) }) {
		case expr.Yes:
			out.In = append(out.In, p.Workload)
		case expr.Undecided:
			out.Undecided = append(out.Undecided, p.Workload)
		}
	}
	out.settle()
	return out
}

// Ask asks an expression anew of one workload, whose addresses are what they were, and
// gives what it guards then. g stays as it is.
func (g Guards) Ask(c *decide.Compiled, e *expr.Expr, workload int32) Guards {
	in, undecided := false, false
	if w := c.Estate.Workload(workload); w != nil {
		for _, l := range w.Leases {
			if p := c.At(l.Addr, c.AsOf); l.Covers(c.AsOf) && p.Workload == workload {
				t := e.Eval(decide.Subject(c.Estate, p.Endpoint), func(g string) expr.Truth { return c.Group(g, p) })
				in, undecided = in || t == expr.Yes, undecided || t == expr.Undecided
			}
		}
	}
	return Guards{having(g.In, workload, in), having(g.Undecided, workload, undecided && !in)}
}

// having returns a list in its order with an item, or without it.
func having(list []int32, x int32, in bool) []int32 {
	at, has := slices.BinarySearch(list, x)
	switch {
	case has == in:
		return list
	case in:
		return slices.Insert(slices.Clone(list), at, x)
	}
	return slices.Delete(slices.Clone(list), at, at+1)
}

// settle puts both in order; whoever is guarded at one address is not undecided.
func (g *Guards) settle() {
	slices.Sort(g.In)
	g.In = slices.Compact(g.In)
	slices.Sort(g.Undecided)
	g.Undecided = slices.DeleteFunc(slices.Compact(g.Undecided), func(w int32) bool {
		_, in := slices.BinarySearch(g.In, w)
		return in
	})
}

// guardedByAll asks expressions of all workloads, as one.
func guardedByAll(c *decide.Compiled, all []*expr.Expr) []Guards {
	p := *c.Policy
	p.Rules, p.Asserts = nil, nil
	p.GroupOrder = slices.Clone(p.GroupOrder)
	p.Groups = map[string]*policy.Group{}
	for _, g := range p.GroupOrder {
		p.Groups[g.Name] = g
	}
	first := len(p.GroupOrder)
	for i, e := range all {
		g := &policy.Group{Name: fmt.Sprintf("\x00guards %d", i), Expr: e}
		p.GroupOrder = append(p.GroupOrder, g)
		p.Groups[g.Name] = g
	}
	asked := decide.Compile(c.Estate, &p, c.AsOf)
	// Endpoints of one signature get the same answers.
	bySignature := map[int32][]int32{}
	truths := map[int32][]expr.Truth{}
	c.Estate.Held(c.AsOf, func(ep estate.Endpoint) {
		at := asked.At(ep.Addr, c.AsOf)
		s := at.Signature()
		if truths[s] == nil {
			truths[s] = asked.Truths(at)[first:]
		}
		bySignature[s] = append(bySignature[s], ep.Workload)
	})
	out := make([]Guards, len(all))
	for s, workloads := range bySignature {
		for i, t := range truths[s] {
			switch t {
			case expr.Yes:
				out[i].In = append(out[i].In, workloads...)
			case expr.Undecided:
				out[i].Undecided = append(out[i].Undecided, workloads...)
			}
		}
	}
	for i := range out {
		out[i].settle()
	}
	return out
}

// Members returns the addresses that are in a group at the instant of a compilation, as
// prefixes in their order; those of which it cannot be told are not among them.
func Members(c *decide.Compiled, group string) (out []netip.Prefix) {
	var spans []Span
	for _, s := range c.Stretches(c.AsOf) {
		if c.Group(group, c.At(s.First, c.AsOf)) == expr.Yes {
			spans = append(spans, Span{s.First, s.Last})
		}
	}
	for _, s := range addressesOf(spans) {
		out = slices.AppendSeq(out, s.Prefixes)
	}
	return out
}
