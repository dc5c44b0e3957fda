package point

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/service"
)

// Memory is a stand-in's kernel: it remembers what it was told, and decides by it
// what it is asked. It is safe for use by several goroutines.
type Memory struct {
	mu       sync.Mutex
	loaded   plan.Loaded
	enforced *plan.Decider
	observed *plan.Decider
	lost     map[string]bool // rules that somebody deleted by hand
	lines    map[Line]int64  // of the enforced plan
	trial    map[Line]int64  // of the one on trial
}

// Load remembers plans.
func (m *Memory) Load(l plan.Loaded, _ bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.loaded, m.lost, m.lines, m.trial = l, map[string]bool{}, map[Line]int64{}, map[Line]int64{}
	m.decide()
	return nil
}

// Move remembers what has moved.
func (m *Memory) Move(_, to plan.Loaded) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.loaded = to
	m.decide()
	return nil
}

// decide prepares for questions, without the rules that were lost.
func (m *Memory) decide() {
	m.enforced, m.observed = m.decider(m.loaded.Enforced, ""), m.decider(m.loaded.Observed, trialMark)
}

const trialMark = "trial "

func (m *Memory) decider(p *plan.Plan, mark string) *plan.Decider {
	if p == nil {
		return nil
	}
	if len(m.lost) == 0 {
		return p.Decider()
	}
	left := *p
	left.Classes = slices.Clone(p.Classes)
	for i := range left.Classes {
		c := &left.Classes[i]
		keep := func(chain string, rules []plan.Rule) []plan.Rule {
			return slices.DeleteFunc(slices.Clone(rules),
				func(r plan.Rule) bool { return m.lost[ruleName(mark+chain, r)] })
		}
		c.Server, c.Client = keep("s_"+c.Name, c.Server), keep("d_"+c.Name, c.Client)
	}
	return left.Decider()
}

func ruleName(chain string, r plan.Rule) string {
	return fmt.Sprintf("rule line %d %s in %s %s", r.Line, r.Verdict, chain, r.Words)
}

// rules returns the rules that are loaded, by name.
func (m *Memory) rules() map[string]string {
	out := map[string]string{}
	for mark, p := range map[string]*plan.Plan{"": m.loaded.Enforced, trialMark: m.loaded.Observed} {
		if p == nil {
			continue
		}
		for _, c := range p.Classes {
			for chain, rules := range map[string][]plan.Rule{"s_" + c.Name: c.Server, "d_" + c.Name: c.Client} {
				for _, r := range rules {
					if name := ruleName(mark+chain, r); !m.lost[name] {
						out[name] = fmt.Sprintf("line %d %s", r.Line, r.Verdict)
					}
				}
			}
		}
	}
	return out
}

// Read returns what is remembered.
func (m *Memory) Read() (Held, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := newHeld()
	out.Rules = m.rules()
	if !m.loaded.Nothing() {
		out.Sets, out.Ways = nft.Contents(m.loaded)
	}
	out.Lines, out.Trial = linesOf(m.lines), linesOf(m.trial)
	return out, nil
}

// Enforces reports whether what is rejected is dropped.
func (m *Memory) Enforces() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.loaded.Enforced != nil
}

// End has nothing to end.
func (m *Memory) End(*plan.Decider) (int, error) { return 0, nil }

// Watch has nothing to report.
func (m *Memory) Watch(ctx context.Context, _ func(), _ func(sight)) error {
	<-ctx.Done()
	return nil
}

// Meets decides a conversation by the plans that are loaded, and counts it. reports is
// whether a point would report it; drops, whether it goes no further.
func (m *Memory) Meets(client, server netip.Addr, pt service.Point) (reports, drops bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now().Unix()
	for _, x := range []struct {
		by     *plan.Decider
		counts map[Line]int64
	}{{m.enforced, m.lines}, {m.observed, m.trial}} {
		if x.by == nil {
			continue
		}
		f := x.by.Decide(client, server, pt, now)
		if !f.Concerned {
			continue
		}
		x.counts[Line{Line: f.Line, Verdict: f.Verdict.String()}]++
		reports = reports || f.Verdict != decide.Permit
		drops = drops || f.Verdict == decide.Reject && x.by == m.enforced
	}
	return reports, drops
}

// Lose forgets one rule, as if somebody had deleted it by hand, and says which; blank:
// there is none.
func (m *Memory) Lose() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	names := slices.Sorted(maps.Keys(m.rules()))
	i := slices.IndexFunc(names, func(n string) bool { return strings.Contains(n, " reject ") })
	if i < 0 && len(names) > 0 {
		i = 0
	}
	if i < 0 {
		return ""
	}
	m.lost[names[i]] = true
	m.decide() // what runs is decided without it from now on
	return names[i]
}
