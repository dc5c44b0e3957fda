package plan

import (
	"slices"
	"sort"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
)

// Changed is what an update changed in a planner.
type Changed struct {
	Sets    map[string]bool // names of sets that gained or lost addresses
	Holders []int32         // workloads that may belong to another class of a plan now
}

// mostMoved is up to how many addresses a planner follows; for more, a new one is as
// cheap.
const mostMoved = 64

// Follow brings the planner to the compilation after an update, if only that changed
// which rules and groups some addresses are of: not the policy, nor who holds them. It
// reports false, and is of no use any more, if a new planner is due.
func (p *Planner) Follow(u *decide.Update) (changed Changed, ok bool) {
	if u.Before != p.c || u.After.Policy != p.c.Policy || u.After.AsOf != p.c.AsOf {
		return changed, false
	}
	at := p.c.AsOf
	var moves []decide.Moved
	for _, m := range u.Moved {
		if at.Before(m.From) || !at.Before(m.Until) {
			continue // then, not now
		}
		if m.Outside || m.Before.Workload != m.After.Workload || m.Before.Workload == estate.Outside ||
			len(moves) == mostMoved {
			return changed, false
		}
		moves = append(moves, m)
	}
	p.c = u.After
	spans := make([]map[Span]int, len(p.sets))
	for _, m := range moves {
		was, is, addr := m.Before.Class, m.After.Class, m.Where.Addr()
		if was == is {
			continue
		}
		place := sort.Search(len(p.line), func(i int) bool { return !p.line[i].Last.Less(addr) })
		p.line[place].Class = is
		p.byClass[was] = without(p.byClass[was], []int32{int32(place)})
		at, _ := slices.BinarySearch(p.byClass[is], int32(place))
		p.byClass[is] = slices.Insert(slices.Clone(p.byClass[is]), at, int32(place))
		p.joins(is)
		changed.Holders = append(changed.Holders, m.After.Workload)
		for i := range p.sets {
			if in := p.hasAt(p.terms[i], &p.line[place]); in != p.sets[i].Addresses.Contains(addr) {
				if spans[i] == nil {
					spans[i] = map[Span]int{}
				}
				p.sets[i].Addresses = p.sets[i].Addresses.moved(addr, in, spans[i])
			}
		}
	}
	changed.Sets = map[string]bool{}
	for i, moved := range spans {
		if moved != nil && p.sets[i].moves(moved) {
			changed.Sets[p.sets[i].Name] = true
		}
	}
	return changed, true
}

// joins notes a class that had no address before.
func (p *Planner) joins(class int32) {
	if p.met[class] {
		return
	}
	p.meet(class)
	for i := range p.terms {
		if p.has(p.terms[i], class) {
			p.members[i] = append(p.members[i], class)
		}
	}
}

// moves notes which spans came and went; false: in the end none did.
func (s *Set) moves(spans map[Span]int) bool {
	was := s.shared
	next := sharedOf(s.Addresses)
	next.before, next.sum = was.number, was.digest()
	next.counted.Do(func() {})
	for span, n := range spans {
		switch {
		case n > 0:
			next.sum.add(span, 1)
			next.added = append(next.added, span)
		case n < 0:
			next.sum.add(span, minusOne)
			next.removed = append(next.removed, span)
		}
	}
	if len(next.added)+len(next.removed) == 0 {
		return false
	}
	for _, list := range []Addresses{next.added, next.removed} {
		slices.SortFunc(list, func(a, b Span) int { return a.First.Compare(b.First) })
	}
	s.shared = next
	return true
}
