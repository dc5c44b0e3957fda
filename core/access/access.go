// Package access finds, for machines that a release guards, from where they are
// administered, and whether anybody could still get in under that release.
//
// What is known of a machine comes from three places, the first that says anything
// counts: an `always` assertion on a service of administration; administration traffic
// that was seen; else whether the release lets anybody at all administer it.
//
// It must not know of points, stores or screens. Start reading at Find.
package access

import (
	"fmt"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Source is how the administrators of a machine are known.
type Source string

// The sources, the strongest first.
const (
	Asserted Source = "assertion"
	Seen     Source = "seen"
	Anybody  Source = "anybody"
)

// Machine is a guarded workload with what is known of its administration.
type Machine struct {
	Workload int32
	Source   Source
	Open     bool   // somebody who administers it still gets in
	From     string // who does: an expression of the policy, or an address; blank: nobody is known
	Point    service.Point
	Line     int // of the rule that keeps them out, if Open is false; 0: none is known
}

// Way is administration traffic that was seen.
type Way struct {
	Client, Server decide.Placed
	Point          service.Point
}

// Find returns what is known of guarded workloads (indexes, any order) under a release
// compiled for the estate. A machine is open if at least one way by which it is
// administered is not rejected. Those without an address at the instant of the
// compilation are left out. It is linear in the ways, and in the pairs of classes of
// clients and guarded machines.
func Find(c *decide.Compiled, guarded []int32, seen []Way) []Machine {
	f := finder{c: c, people: c.Population(c.AsOf), classes: map[int32][]Machine{}}
	byServer := map[int32][]Way{}
	for _, w := range seen {
		if service.Administration.Contains(w.Point) {
			byServer[w.Server.Workload] = append(byServer[w.Server.Workload], w)
		}
	}
	var out []Machine
	order := slices.Clone(guarded)
	slices.Sort(order)
	for _, w := range slices.Compact(order) {
		if m, ok := f.machine(w, byServer[w]); ok {
			out = append(out, m)
		}
	}
	return out
}

// Shut returns the machines into which nobody gets.
func Shut(all []Machine) (out []Machine) {
	for _, m := range all {
		if !m.Open {
			out = append(out, m)
		}
	}
	return out
}

// Words reports what keeps people out of a machine, or lets them in.
func (m *Machine) Words() string {
	switch {
	case m.From == "" && m.Open:
		return "no administration was seen and no assertion names administrators; the release admits somebody"
	case m.From == "":
		return fmt.Sprintf("line %d blocks all management access to it", m.Line)
	case m.Open:
		return fmt.Sprintf("administered by %s on %s (%s)", m.From, m.Point, m.Source)
	}
	return fmt.Sprintf("line %d rejects %s on %s (%s)", m.Line, m.From, m.Point, m.Source)
}

type finder struct {
	c       *decide.Compiled
	people  [][]decide.Placed
	classes map[int32][]Machine // class → what assertions, or nothing but the policy, say of it: one, or none
}

func (f *finder) machine(w int32, ways []Way) (out Machine, ok bool) {
	found := false
	for _, l := range f.c.Estate.Workload(w).Leases {
		at := f.c.At(l.Addr, f.c.AsOf)
		if !l.Covers(f.c.AsOf) || at.Workload != w {
			continue
		}
		m := f.class(at.Class)
		if m.Source == Anybody && len(ways) > 0 {
			m = f.seen(ways)
		}
		if m.Workload = w; !found || m.Open { // one open address is enough
			out, found = m, true
		}
	}
	return out, found
}

// seen judges the ways by which a machine was administered.
func (f *finder) seen(ways []Way) (m Machine) {
	for _, w := range ways {
		r := f.c.Decide(w.Client, w.Server, w.Point)
		m = Machine{Source: Seen, From: w.Client.Addr.String(), Point: w.Point,
			Open: decide.VerdictOf(r) != decide.Reject}
		if m.Open {
			return m
		}
		m.Line = r.Line
	}
	return m
}

// class judges a class of guarded machines by assertions; else by whether anybody gets in.
func (f *finder) class(class int32) Machine {
	if have := f.classes[class]; have != nil {
		return have[0]
	}
	m, known := f.asserted(class)
	if !known {
		m = f.anybody(class)
	}
	f.classes[class] = []Machine{m}
	return m
}

// asserted judges by the first assertion that speaks of the class; all that it promises
// has to be open.
func (f *finder) asserted(class int32) (Machine, bool) {
	for i, x := range f.c.Policy.Asserts {
		left, right, agrees, points := f.c.AssertClasses(i)
		if points = points.Intersect(service.Administration); x.Kind != policy.Always || len(points) == 0 ||
			!right(class) {
			continue
		}
		m := Machine{Source: Asserted, Open: true, From: x.Left.String(), Point: points[0].Lo}
		promised := false
		for k := range f.people {
			if len(f.people[k]) == 0 || !left(int32(k)) || !agrees(int32(k), class) {
				continue
			}
			promised = true
			for _, piece := range f.c.Pieces(f.c.Table(int32(k), class), points) {
				if piece.Rule != nil && decide.VerdictOf(piece.Rule) == decide.Reject {
					m.Open, m.Line, m.Point, m.From = false, piece.Rule.Line, piece.Points[0].Lo,
						f.people[k][0].Addr.String()
					return m, true
				}
			}
		}
		if promised {
			return m, true
		}
	}
	return Machine{}, false
}

// anybody reports whether the policy lets anybody administer a class of machines.
func (f *finder) anybody(class int32) Machine {
	m := Machine{Source: Anybody}
	for k := range f.people {
		if len(f.people[k]) == 0 || int32(k) == class && len(f.people[k]) < 2 {
			continue
		}
		for _, piece := range f.c.Pieces(f.c.Table(int32(k), class), service.Administration) {
			if piece.Rule == nil || decide.VerdictOf(piece.Rule) != decide.Reject {
				m.Open = true
				return m
			}
			m.Line = piece.Rule.Line
		}
	}
	return m
}
