package plan

import (
	"fmt"
	"net/netip"
	"slices"
)

// Moves is what differs between two plans whose rules are the same: addresses that
// come and go.
type Moves struct {
	Sets    []SetMoves   `json:"sets,omitempty"`
	Classes []ClassMoves `json:"classes,omitempty"`
}

// SetMoves is the spans that a set gains and loses, each as a whole.
type SetMoves struct {
	Name    string    `json:"name"`
	Added   Addresses `json:"added,omitempty"`
	Removed Addresses `json:"removed,omitempty"`
}

// ClassMoves is the guarded addresses that a class gains and loses.
type ClassMoves struct {
	Name    string       `json:"name"`
	Added   []netip.Addr `json:"added,omitempty"`
	Removed []netip.Addr `json:"removed,omitempty"`
}

// Nothing reports whether nothing moves.
func (m *Moves) Nothing() bool { return len(m.Sets)+len(m.Classes) == 0 }

// Difference returns what moves from p to next; ok is false if their rules differ.
func (p *Plan) Difference(next *Plan) (m Moves, ok bool) {
	if p.RulesHash() != next.RulesHash() {
		return m, false
	}
	was := p.byName()
	for i := range next.Sets {
		s := &next.Sets[i]
		old := was[s.Name]
		if old == nil {
			return m, false
		}
		if added, removed := s.Since(old); len(added)+len(removed) > 0 {
			m.Sets = append(m.Sets, SetMoves{s.Name, added, removed})
		}
	}
	classes := map[string]*Class{}
	for i := range p.Classes {
		classes[p.Classes[i].Name] = &p.Classes[i]
	}
	for i := range next.Classes {
		c := &next.Classes[i]
		added, removed := apart(classes[c.Name].Addresses, c.Addresses, netip.Addr.Compare)
		if len(added)+len(removed) > 0 {
			m.Classes = append(m.Classes, ClassMoves{c.Name, added, removed})
		}
	}
	return m, true
}

// byName returns the sets of a plan by their names.
func (p *Plan) byName() map[string]*Set {
	out := make(map[string]*Set, len(p.Sets))
	for i := range p.Sets {
		out[p.Sets[i].Name] = &p.Sets[i]
	}
	return out
}

// Short returns p without what whoever holds another plan knows already: the addresses of sets that
// it has, too. Where these moved in between, that is beside it.
func (p *Plan) Short(held *Plan) (*Plan, Moves) {
	out, m := &Plan{Kind: p.Kind, Side: p.Side, Sets: slices.Clone(p.Sets), Classes: p.Classes}, Moves{}
	was := held.byName()
	for i := range p.Sets {
		s := &p.Sets[i]
		old := was[s.Name]
		if old == nil {
			continue
		}
		out.Sets[i] = Set{Name: s.Name, Words: s.Words, Kept: true}
		if added, removed := s.Since(old); len(added)+len(removed) > 0 {
			m.Sets = append(m.Sets, SetMoves{s.Name, added, removed})
		}
	}
	return out, m
}

// Filled returns a short plan with the sets of the plan that is held; an error if it is not short for
// that one.
func (p *Plan) Filled(held *Plan) (*Plan, error) {
	out := &Plan{Kind: p.Kind, Side: p.Side, Sets: slices.Clone(p.Sets), Classes: p.Classes}
	was := held.byName()
	for i := range out.Sets {
		s := &out.Sets[i]
		if !s.Kept {
			continue
		}
		old := was[s.Name]
		if old == nil {
			return nil, fmt.Errorf("the plan that is held has no set %s", s.Name)
		}
		s.Addresses, s.shared, s.Kept = old.Addresses, old.shared, false
	}
	return out, nil
}

// Since returns the spans that came to a set, and went, since it was another one.
func (s *Set) Since(before *Set) (added, removed Addresses) {
	x, y := s.share(), before.share()
	if x == y {
		return nil, nil
	}
	if x.before == y.number {
		return x.added, x.removed
	}
	return apart(before.Addresses, s.Addresses, compareSpans)
}

// apart returns what is only in b, and only in a, of two lists in their order.
func apart[T any](a, b []T, compare func(x, y T) int) (added, removed []T) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(a) == 0:
			return append(added, b...), removed
		case len(b) == 0:
			return added, append(removed, a...)
		}
		switch c := compare(a[0], b[0]); {
		case c < 0:
			removed, a = append(removed, a[0]), a[1:]
		case c > 0:
			added, b = append(added, b[0]), b[1:]
		default:
			a, b = a[1:], b[1:]
		}
	}
	return added, removed
}

// Moved returns the plan after moves; an error if they are not of this plan.
func (p *Plan) Moved(m Moves) (*Plan, error) {
	out := &Plan{Kind: p.Kind, Side: p.Side, Sets: slices.Clone(p.Sets), Classes: slices.Clone(p.Classes)}
	for _, move := range m.Sets {
		i := slices.IndexFunc(out.Sets, func(s Set) bool { return s.Name == move.Name })
		if i < 0 {
			return nil, fmt.Errorf("the plan has no set %s", move.Name)
		}
		s := &out.Sets[i]
		s.Addresses = Addresses(without(s.Addresses, move.Removed))
		s.Addresses = append(s.Addresses, move.Added...)
		slices.SortFunc(s.Addresses, func(a, b Span) int { return a.First.Compare(b.First) })
		was := s.share()
		s.shared = sharedOf(s.Addresses)
		s.shared.before, s.shared.added, s.shared.removed = was.number, move.Added, move.Removed
	}
	for _, move := range m.Classes {
		i := slices.IndexFunc(out.Classes, func(c Class) bool { return c.Name == move.Name })
		if i < 0 {
			return nil, fmt.Errorf("the plan has no class %s", move.Name)
		}
		c := &out.Classes[i]
		c.Addresses = append(without(c.Addresses, move.Removed), move.Added...)
		slices.SortFunc(c.Addresses, netip.Addr.Compare)
	}
	return out, nil
}

// without returns a list less some of its items.
func without[T comparable](list, less []T) []T {
	gone := make(map[T]bool, len(less))
	for _, x := range less {
		gone[x] = true
	}
	out := make([]T, 0, len(list))
	for _, x := range list {
		if !gone[x] {
			out = append(out, x)
		}
	}
	return out
}
