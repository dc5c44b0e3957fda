package evidence

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/whatif"
)

type way struct {
	rule          string
	line, release int
}

// ways finds who may reach it, by what is in force there; while nothing is, by the draft.
func (m *making) ways(now *situation) {
	releases := []int{0}
	if len(now.held) > 0 {
		releases = releases[:0]
		for r := range now.held {
			releases = append(releases, r)
		}
		slices.Sort(releases)
	}
	for _, release := range releases {
		if c, a := m.of(release); a != nil {
			m.waysUnder(c, a.index, release, now)
		}
	}
}

func (m *making) waysUnder(c *decide.Compiled, assert, release int, now *situation) {
	_, right, agrees, points := c.AssertClasses(assert)
	points = points.Real()
	people := c.Population(c.AsOf)
	rules := map[int32]map[*policy.Rule]bool{} // by class of clients
	found := map[*decide.Table][]*policy.Rule{}
	for cb := range people {
		if len(people[cb]) == 0 || !right(int32(cb)) {
			continue
		}
		for ca := range people {
			if len(people[ca]) == 0 || !agrees(int32(ca), int32(cb)) {
				continue
			}
			t := c.Table(int32(ca), int32(cb))
			permit, known := found[t]
			if !known {
				for _, piece := range c.Pieces(t, points) {
					if decide.VerdictOf(piece.Rule) == decide.Permit && !slices.Contains(permit, piece.Rule) {
						permit = append(permit, piece.Rule)
					}
				}
				found[t] = permit
			}
			if len(permit) == 0 {
				continue
			}
			if _, _, two := decide.TwoApart(people[ca], people[cb]); !two {
				continue
			}
			if rules[int32(ca)] == nil {
				rules[int32(ca)] = map[*policy.Rule]bool{}
			}
			for _, r := range permit {
				rules[int32(ca)][r] = true
			}
		}
	}
	note := func(class int32, name, id string) {
		for r := range rules[class] {
			w := way{r.Sentence(), r.Line, release}
			if now.ways[w] == nil {
				now.ways[w] = map[string]bool{}
			}
			now.ways[w][name] = true
			now.ids[name] = id
		}
	}
	c.Estate.Held(c.AsOf, func(e estate.Endpoint) {
		w := c.Estate.Workload(e.Workload)
		note(c.At(e.Addr, c.AsOf).Class, w.Label(), w.ID)
	})
	for _, p := range c.Outside(c.AsOf) {
		if len(rules[p.Class]) > 0 {
			note(p.Class, whatif.End{Placed: p, Prefix: c.Region(p.Addr)}.Name(c.Estate), "")
		}
	}
}

// differ notes what is another than in the stretch before.
func (m *making) differ(t time.Time, now *situation, first bool) {
	if first {
		m.out.MayFirst, m.out.MembersFirst = waysOf(now), sorted(now.members)
		return
	}
	was := byRule(&m.last)
	is := byRule(now)
	for rule := range is {
		if was[rule] == nil {
			was[rule] = map[string]bool{}
		}
	}
	for _, rule := range sortedKeys(was) {
		change := mayChange{At: t, Rule: rule, Added: lacking(is[rule], was[rule]),
			Removed: lacking(was[rule], is[rule])}
		if len(change.Added)+len(change.Removed) == 0 {
			continue
		}
		ids := map[string]bool{}
		for _, n := range slices.Concat(change.Added, change.Removed) {
			ids[cmp.Or(now.ids[n], m.last.ids[n])] = true
		}
		change.Cause = m.cause(t, ids)
		m.out.MayChanges = append(m.out.MayChanges, change)
	}
	for _, x := range []struct {
		a, b   map[string]string
		joined bool
	}{{now.members, m.last.members, true}, {m.last.members, now.members, false}} {
		for _, id := range sortedKeys(x.a) {
			if _, both := x.b[id]; !both {
				m.out.MemberChanges = append(m.out.MemberChanges, MemberChange{At: t, Name: x.a[id], Joined: x.joined,
					Cause: m.cause(t, map[string]bool{id: true})})
			}
		}
	}
}

// byRule returns the clients by the sentences of rules, whatever release they are of.
func byRule(s *situation) map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for w, clients := range s.ways {
		if out[w.rule] == nil {
			out[w.rule] = map[string]bool{}
		}
		for c := range clients {
			out[w.rule][c] = true
		}
	}
	return out
}

func waysOf(s *situation) []mayWay {
	out := []mayWay{}
	for w, clients := range s.ways {
		out = append(out, mayWay{w.release, w.line, w.rule, sortedKeys(clients)})
	}
	slices.SortFunc(out, func(a, b mayWay) int {
		return cmp.Or(a.Release-b.Release, a.Line-b.Line, strings.Compare(a.Rule, b.Rule))
	})
	return out
}

func lacking(a, b map[string]bool) []string {
	out := []string{}
	for _, x := range sortedKeys(a) {
		if !b[x] {
			out = append(out, x)
		}
	}
	return out
}
