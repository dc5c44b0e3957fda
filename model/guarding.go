package model

import (
	"maps"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/store"
)

// guarding is which point guarded what, and what it held when. It is not changed.
type guarding struct {
	*store.Guarding
	policies map[int]*policy.Policy // of releases
}

func guardingOf(g *store.Guarding) *guarding {
	out := &guarding{g, map[int]*policy.Policy{}}
	for _, r := range g.Releases {
		out.policies[r.No], _ = policy.Parse(r.Text)
	}
	return out
}

// Exempt gives the ids of the workloads that no point guards at a time.
func (m *Model) Exempt(at time.Time) map[string]bool {
	if m.guarding == nil {
		return nil
	}
	var out map[string]bool
	for _, e := range m.guarding.Exemptions {
		if e.Ends.After(at) {
			if out == nil {
				out = map[string]bool{}
			}
			out[e.Workload] = true
		}
	}
	return out
}

// deriveJudge sets what says which conversations are leaks and chokes; nil before anything was
// released: then the draft does. It is that of the model before, where nothing has changed of what
// it goes by.
func (m *Model) deriveJudge(before *Model) {
	exempt := m.Exempt(m.Made)
	if before != nil && before.judge != nil && before.Compiled == m.Compiled && before.guarding == m.guarding &&
		maps.Equal(before.exempt, exempt) {
		m.judge, m.exempt = before.judge, before.exempt
		return
	}
	compiled, guarding := m.Compiled, m.guarding
	m.exempt = exempt
	m.judge = sync.OnceValue(func() *reach.Judge { return judgeOf(compiled, guarding, exempt) })
}

func judgeOf(compiled *decide.Compiled, guarding *guarding, exempt map[string]bool) *reach.Judge {
	if guarding == nil || len(guarding.Releases) == 0 {
		return nil
	}
	periods := map[string][]reach.Period{}
	for _, p := range guarding.Periods {
		periods[p.Point] = append(periods[p.Point], reach.Period{From: flow.MicrosOf(p.At), Release: p.Release,
			Enforce: p.Mode == "enforce"})
	}
	var guards []string
	var of []store.Guard
	for _, g := range guarding.Points {
		if len(periods[g.Name]) > 0 {
			guards, of = append(guards, g.Guards), append(of, g)
		}
	}
	j := &reach.Judge{}
	for i, g := range plan.GuardedBy(compiled, guards) {
		g.In = slices.DeleteFunc(g.In, func(w int32) bool { return exempt[compiled.Estate.Workload(w).ID] })
		j.Holders = append(j.Holders, reach.Holder{Name: of[i].Name, Guards: g.In, Server: of[i].Side != "client", Client: of[i].Side != "server",
			Periods: periods[of[i].Name]})
	}
	var mu sync.Mutex
	under := map[int]*decide.Compiled{} // by release
	j.Of = func(w *reach.Window, release int) *reach.View {
		p := guarding.policies[release]
		if p == nil {
			return nil
		}
		mu.Lock()
		if under[release] == nil {
			under[release] = compiled.WithPolicy(p, compiled.AsOf).After
		}
		c := under[release]
		mu.Unlock()
		return w.Under(c)
	}
	return j
}

// SaysTheSame reports whether the draft is what a release, of a revision, says.
func (m *Model) SaysTheSame(release, revision int) bool {
	if m.guarding != nil {
		for _, r := range m.guarding.Releases {
			if r.No == release {
				return r.Text == m.Head.Text
			}
		}
	}
	return revision == m.Head.No
}

// Released gives the newest release that says the same as the draft; 0: none does.
func (m *Model) Released() int {
	if m.guarding == nil || len(m.Errors) > 0 {
		return 0
	}
	for i := len(m.guarding.Releases) - 1; i >= 0; i-- {
		if m.guarding.Releases[i].Text == m.Head.Text {
			return m.guarding.Releases[i].No
		}
	}
	return 0
}
