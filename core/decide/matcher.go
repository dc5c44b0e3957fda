package decide

// Which classes a side and the clauses of a rule agree with.

import (
	"slices"

	"lucidorchard/core/service"
)

// matcher is a rule or an assertion with its names resolved.
type matcher struct {
	never        bool // off or expired
	left, right  side
	apart        []int32 // atoms of the groups kept apart, each once
	within, area int32   // atoms, or -1
	same, across []int   // value keys
	points       service.Set
}

// side is one list: any, or the atoms of its operands.
type side struct {
	any   bool
	atoms []int32
}

func (s side) holds(c *class) bool {
	return s.any || slices.ContainsFunc(s.atoms, c.atoms.has)
}

func (s side) equal(t side) bool { return s.any == t.any && slices.Equal(s.atoms, t.atoms) }

// equal reports whether two matchers match the same flows.
func (m *matcher) equal(n *matcher) bool {
	return m.never == n.never && m.left.equal(n.left) && m.right.equal(n.right) && slices.Equal(m.apart, n.apart) &&
		m.within == n.within && m.area == n.area && slices.Equal(m.same, n.same) &&
		slices.Equal(m.across, n.across) && slices.Equal(m.points, n.points)
}

// agrees reports whether the clauses, and for a separation the groups, hold for
// a pair of classes that the two sides of the rule hold.
func (m *matcher) agrees(a, b *class) bool {
	if m.within >= 0 && !(a.atoms.has(m.within) && b.atoms.has(m.within)) {
		return false
	}
	if m.area >= 0 && !a.atoms.has(m.area) && !b.atoms.has(m.area) {
		return false
	}
	for _, k := range m.same {
		if a.value(k) == 0 || a.value(k) != b.value(k) {
			return false
		}
	}
	for _, k := range m.across {
		if a.value(k) == 0 || b.value(k) == 0 || a.value(k) == b.value(k) {
			return false
		}
	}
	if m.apart == nil {
		return true
	}
	for _, g := range m.apart {
		if !a.atoms.has(g) {
			continue
		}
		for _, h := range m.apart {
			if g != h && b.atoms.has(h) {
				return true
			}
		}
	}
	return false
}
