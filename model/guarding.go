package model

import (
	"fmt"
	"hash"
	"hash/fnv"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
)

// guarding is which point guarded what, and what it held when. It is not changed.
type guarding struct {
	*Guarding
	policies map[int]*policy.Policy  // of releases
	loaded   func() map[int64]string // by day: see Model.Loaded
}

func guardingOf(g *Guarding) *guarding {
	out := &guarding{g, map[int]*policy.Policy{}, sync.OnceValue(func() map[int64]string {
		return loadedByDay(g.Periods, time.Now())
	})}
	for _, r := range g.Releases {
		out.policies[r.No], _ = policy.Parse(r.Text)
	}
	return out
}

// Exempt returns the ids of the workloads that no point guards at a time.
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
	m.lastTurn = m.guarding.lastTurn()
	if before != nil && before.judge != nil && before.Compiled == m.Compiled && before.guarding == m.guarding &&
		maps.Equal(before.exempt, exempt) {
		m.judge, m.exempt, m.turned = before.judge, before.exempt, before.turned
		return
	}
	compiled, guarding := m.Compiled, m.guarding
	m.exempt = exempt
	judge := sync.OnceValue(func() *reach.Judge { return judgeOf(compiled, guarding, exempt) })
	m.judge, m.turned = judge, sync.OnceValue(func() turned { return turnedOf(judge()) })
}

// turned is when the points that guard a workload may have begun to judge otherwise.
type turned map[int32][]*reach.Holder // by workload

func turnedOf(j *reach.Judge) turned {
	out := turned{}
	if j == nil {
		return out
	}
	for i := range j.Holders {
		h := &j.Holders[i]
		for _, w := range h.Guards {
			out[w] = append(out[w], h)
		}
	}
	return out
}

// lastTurn returns when a point last began to hold or do something else, and that had settled.
func (g *guarding) lastTurn() (last flow.Micros) {
	if g == nil {
		return 0
	}
	for i := range g.Periods {
		last = max(last, flow.MicrosOf(g.Periods[i].At)+reach.Settling)
	}
	return last
}

// Loaded returns a fingerprint of what the points had loaded on a day, in UTC, as far as they
// have reported by now: a point may report it late. It is blank if none had loaded anything.
func (m *Model) Loaded(day time.Time) string {
	if m.guarding == nil {
		return ""
	}
	return m.guarding.loaded()[dayOf(day)]
}

func dayOf(t time.Time) int64 { return t.Unix() / 86400 }

// loadedByDay returns the fingerprint of each day up to tomorrow: of the periods within it,
// and of the last one before it.
func loadedByDay(periods []Held, now time.Time) map[int64]string {
	sums := map[int64]hash.Hash64{}
	for i, p := range periods {
		last := dayOf(now) + 1
		if i+1 < len(periods) && periods[i+1].Point == p.Point {
			last = min(last, dayOf(periods[i+1].At.Add(settled)))
		}
		for d := dayOf(p.At); d <= last; d++ {
			if sums[d] == nil {
				sums[d] = fnv.New64a()
			}
			_, _ = fmt.Fprintln(sums[d], p.Point, p.At.UnixMicro(), p.Release, p.Mode)
		}
	}
	out := map[int64]string{}
	for d, sum := range sums {
		out[d] = strconv.FormatUint(sum.Sum64(), 16)
	}
	return out
}

// settled is for how long after a change the period before it still judges some connections.
const settled = time.Duration(reach.Settling) * time.Microsecond

// Turned returns when it last changed, at or before a time, whose an address is or by what its
// traffic is judged; false: never. What is counted together of an hour is cut there.
func (m *Model) Turned(addr netip.Addr, t estate.Instant) (last estate.Instant, ok bool) {
	last, ok = m.Estate.ChangedHands(addr, t)
	if m.lastTurn < flow.MicrosOfInstant(flow.HourOf(t).Start()) { // as nearly always: nobody has to be asked
		return last, ok
	}
	for _, h := range m.turned()[m.Estate.At(addr, t).Workload] {
		if at, turned := h.Turned(flow.MicrosOfInstant(t)); turned && (!ok || last.Before(at.Instant())) {
			last, ok = at.Instant(), true
		}
	}
	return last, ok
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
	var of []Guard
	for _, g := range guarding.Points {
		if len(periods[g.Name]) > 0 {
			guards, of = append(guards, g.Guards), append(of, g)
		}
	}
	j := &reach.Judge{}
	for i, g := range plan.GuardedBy(compiled, guards) {
		g.In = slices.DeleteFunc(g.In, func(w int32) bool { return exempt[compiled.Estate.Workload(w).ID] })
		j.Holders = append(j.Holders, reach.Holder{Name: of[i].Name, Guards: g.In, Server: of[i].Side != "client",
			Client:  of[i].Side != "server",
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

// Released returns the newest release that says the same as the draft; 0: none does.
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
