package plan

import (
	"fmt"
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
// compilation. They may name groups of its policy. Many are asked as one.
func Guarded(c *decide.Compiled, all []*expr.Expr) []Guards {
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
		slices.Sort(out[i].In)
		out[i].In = slices.Compact(out[i].In)
		slices.Sort(out[i].Undecided)
		out[i].Undecided = slices.DeleteFunc(slices.Compact(out[i].Undecided), func(w int32) bool {
			_, in := slices.BinarySearch(out[i].In, w)
			return in
		})
	}
	return out
}
