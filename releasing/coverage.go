package releasing

import (
	"context"

	"lucidorchard/core/decide"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// Coverage is how many workloads are guarded, and which rules of the newest release
// points can apply.
type Coverage struct {
	Both   int
	Server int
	Client int
	None   int
	Exempt int
	// Lines of rules.
	OnServer []int
	OnClient []int
	Nowhere  []int
}

type coverage struct {
	m              *model.Model
	server, client map[int32]bool
}

func newCoverage(m *model.Model) *coverage {
	return &coverage{m, map[int32]bool{}, map[int32]bool{}}
}

func (c *coverage) add(which []int32, p Point) {
	for _, w := range which {
		c.server[w] = c.server[w] || p.Side != "client"
		c.client[w] = c.client[w] || p.Side != "server"
	}
}

// side names how a workload is guarded.
func (c *coverage) side(i int32, exempt map[string]bool) string {
	switch s, l := c.server[i], c.client[i]; {
	case exempt[c.m.Estate.Workload(i).ID]:
		return "exempt"
	case s && l:
		return "both"
	case s:
		return "server"
	case l:
		return "client"
	}
	return "none"
}

// rules notes where points apply the rules of a release.
func (c *coverage) rules(compiled *decide.Compiled, out *Coverage) {
	server, client := map[int32]bool{}, map[int32]bool{}
	classes := func(of map[int32]bool) map[int32]bool {
		found := map[int32]bool{}
		for w, in := range of {
			if !in {
				continue
			}
			for _, l := range compiled.Estate.Workload(w).Leases {
				if l.Covers(compiled.AsOf) {
					found[compiled.At(l.Addr, compiled.AsOf).Class] = true
				}
			}
		}
		return found
	}
	for class := range classes(c.server) {
		compiled.RulesAt(class, true, func(r int32) { server[r] = true })
	}
	for class := range classes(c.client) {
		compiled.RulesAt(class, false, func(r int32) { client[r] = true })
	}
	for i, r := range compiled.Policy.Rules {
		switch s, l := server[int32(i)], client[int32(i)]; {
		case s && !l:
			out.OnServer = append(out.OnServer, r.Line)
		case l && !s:
			out.OnClient = append(out.OnClient, r.Line)
		case !s:
			out.Nowhere = append(out.Nowhere, r.Line)
		}
	}
}

func (c *coverage) sum(exempt map[string]bool) Coverage {
	out := Coverage{OnServer: []int{}, OnClient: []int{}, Nowhere: []int{}}
	for i, w := range c.m.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		switch c.side(i, exempt) {
		case "exempt":
			out.Exempt++
		case "both":
			out.Both++
		case "server":
			out.Server++
		case "client":
			out.Client++
		default:
			out.None++
		}
	}
	return out
}

// LeftAndRejected counts the conversations that a view's policy leaves uncovered, and
// those that run today and that it rejects.
func LeftAndRejected(v *reach.View) (uncovered, rejected int) {
	for i := range v.Len() {
		switch c := v.At(i); {
		case c.Verdict == decide.Uncovered:
			uncovered++
		case c.WouldLeak():
			rejected++
		}
	}
	return uncovered, rejected
}

// Sides returns how each workload is guarded, by its index: both, server, client, none or
// exempt.
func (a *Service) Sides(ctx context.Context, m *model.Model) (func(workload int32) string, error) {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return nil, err
	}
	state := rolloutState(m)
	cover := newCoverage(m)
	for _, p := range points {
		g, err := board{a}.guardsOf(state, p.Runs().Newest(), p.Guards, rolloutPoints(points))
		if err == nil { // one that cannot be read guards nobody: it says so itself
			cover.add(g.In, p)
		}
	}
	return func(w int32) string { return cover.side(w, state.Exempt) }, nil
}
