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
	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/service"
)

// Memory is a stand-in's kernel: it remembers what it was told, and decides by it
// what it is asked.
type Memory struct {
	mu      sync.Mutex
	plan    *plan.Plan
	decider *plan.Decider
	observe bool
	lost    map[string]bool // rules that somebody deleted by hand
	lines   map[Line]int64
}

// Hold remembers a plan.
func (m *Memory) Hold(p *plan.Plan, observe bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.plan, m.observe, m.lost, m.lines, m.decider = p, observe, map[string]bool{}, map[Line]int64{}, nil
	if p != nil {
		m.decider = p.Decider()
	}
	return nil
}

// Move remembers what has moved.
func (m *Memory) Move(_, to *plan.Plan) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.plan = to
	m.decide()
	return nil
}

// decide prepares for questions, without the rules that were lost.
func (m *Memory) decide() {
	left := *m.plan
	left.Classes = slices.Clone(m.plan.Classes)
	for i := range left.Classes {
		c := &left.Classes[i]
		keep := func(chain string, rules []plan.Rule) []plan.Rule {
			return slices.DeleteFunc(slices.Clone(rules), func(r plan.Rule) bool { return m.lost[m.ruleName(chain, r)] })
		}
		c.Server, c.Client = keep("s_"+c.Name, c.Server), keep("d_"+c.Name, c.Client)
	}
	m.decider = left.Decider()
}

func (m *Memory) ruleName(chain string, r plan.Rule) string {
	return fmt.Sprintf("rule line %d %s in %s %s", r.Line, r.Verdict, chain, r.Words)
}

// rules gives what is held of the rules, by name.
func (m *Memory) rules() map[string]string {
	out := map[string]string{}
	if m.plan == nil {
		return out
	}
	for _, c := range m.plan.Classes {
		for chain, rules := range map[string][]plan.Rule{"s_" + c.Name: c.Server, "d_" + c.Name: c.Client} {
			for _, r := range rules {
				if name := m.ruleName(chain, r); !m.lost[name] {
					out[name] = fmt.Sprintf("line %d %s", r.Line, r.Verdict)
				}
			}
		}
	}
	return out
}

// Read gives what is remembered.
func (m *Memory) Read() (Held, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := newHeld()
	out.Rules = m.rules()
	if m.plan != nil {
		out.Sets, out.Ways = nft.Contents(m.plan)
	}
	for l, n := range m.lines {
		l.Packets = n
		out.Lines = append(out.Lines, l)
	}
	return out, nil
}

// Enforces reports whether what is rejected is dropped.
func (m *Memory) Enforces() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.plan != nil && !m.observe
}

// End has nothing to end.
func (m *Memory) End(*plan.Decider) (int, error) { return 0, nil }

// Watch has nothing to tell.
func (m *Memory) Watch(ctx context.Context, _ func(), _ func(flow.Observation)) error {
	<-ctx.Done()
	return nil
}

// Meets decides a conversation as the plan that is held does, and counts it. reports
// is whether a point would report it; drops, whether it goes no further.
func (m *Memory) Meets(client, server netip.Addr, pt service.Point) (reports, drops bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.decider == nil {
		return false, false
	}
	f := m.decider.Decide(client, server, pt, time.Now().Unix())
	if !f.Concerned {
		return false, false
	}
	m.lines[Line{Line: f.Line, Verdict: f.Verdict.String()}]++
	return f.Verdict != decide.Permit, f.Verdict == decide.Reject && !m.observe
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
	m.decide()
	return names[i]
}
