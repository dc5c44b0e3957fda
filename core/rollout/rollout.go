// Package rollout is the states and transitions of a roll-out: release × wave × point.
// It is pure; it knows no clock, network or store.
//
// A point runs at most two releases: it enforces E and observes O. E decides about
// packets; O is on trial and only counts. Commands of a person lead on as follows (N is
// the release of the command; a blank cell changes nothing):
//
//	command      point runs        leads to     note
//	observe N    E = N                          it enforces N already
//	observe N    otherwise         E, O=N       E goes on deciding
//	enforce N    E = N
//	enforce N    O = N             E=N
//	enforce N    otherwise         an error     a release is observed before it is enforced
//	roll back N  E > N             E=N          in one step; nothing is carried in between
//	roll back N  E ≤ N, O > N      E            the trial ends; a point that enforces nothing observes N
//	roll back N  otherwise
//	off          any               nothing      the only command that opens a point
//
// Events never change what is to be run. They change what a point has loaded:
//
//	event                              leads to
//	the point takes an order           what the order says
//	the kernel refuses it              what was loaded before
//	no contact after a change of rules what was loaded before
//	trial not confirmed                what was loaded before
//	restart without a server           what was proved last (see Point)
//	an order of the past               what was loaded before; it waits for a person (see Mark)
//
// Start reading at Runs.After, Mark and Point.
package rollout

import (
	"fmt"
	"slices"
)

// Runs is the releases that a point runs, or is to run; 0 is none.
type Runs struct{ Enforces, Observes int }

// The modes in which a release runs.
const (
	Off     = "off"
	Observe = "observe"
	Enforce = "enforce"
)

// Deciding returns the release by which a point's packets are judged, and how: the one
// that it enforces, or if there is none the one that it observes.
func (r Runs) Deciding() (release int, mode string) {
	switch {
	case r.Enforces != 0:
		return r.Enforces, Enforce
	case r.Observes != 0:
		return r.Observes, Observe
	}
	return 0, Off
}

// Mode returns how a release runs: enforce, observe or off.
func (r Runs) Mode(release int) string {
	switch {
	case release != 0 && r.Enforces == release:
		return Enforce
	case release != 0 && r.Observes == release:
		return Observe
	}
	return Off
}

// Newest returns the higher of the two releases; 0: it runs none.
func (r Runs) Newest() int { return max(r.Enforces, r.Observes) }

// String says it for people: "release 6 enforced, release 7 observed".
func (r Runs) String() string {
	switch {
	case r.Enforces != 0 && r.Observes != 0:
		return fmt.Sprintf("release %d enforced, release %d observed", r.Enforces, r.Observes)
	case r.Enforces != 0:
		return fmt.Sprintf("release %d enforced", r.Enforces)
	case r.Observes != 0:
		return fmt.Sprintf("release %d observed", r.Observes)
	}
	return "no release"
}

// Verb is what a command does.
type Verb string

// The commands about a release at points.
const (
	ToObserve  Verb = "observe"
	ToEnforce  Verb = "enforce"
	ToRollBack Verb = "roll back"
	ToOff      Verb = "off"
)

// Command is one order of a person.
type Command struct {
	Do      Verb
	Release int // 0 for ToOff
}

// NotObserved is the error of enforcing a release that the point does not observe.
type NotObserved struct{ Release int }

func (e *NotObserved) Error() string {
	return fmt.Sprintf("release %d has not been observed", e.Release)
}

// After returns what a point that runs r is to run after a command. The only error is a
// *NotObserved.
func (r Runs) After(c Command) (Runs, error) {
	n := c.Release
	switch c.Do {
	case ToOff:
		return Runs{}, nil
	case ToObserve:
		if r.Enforces != n {
			r.Observes = n
		}
	case ToEnforce:
		switch n {
		case r.Enforces:
		case r.Observes:
			return Runs{Enforces: n}, nil
		default:
			return r, &NotObserved{n}
		}
	case ToRollBack:
		switch {
		case r.Enforces > n:
			return Runs{Enforces: n}, nil
		case r.Observes > n && r.Enforces == 0:
			return Runs{Observes: n}, nil
		case r.Observes > n:
			return Runs{Enforces: r.Enforces}, nil
		}
	}
	return r, nil
}

// Mark names an order: the epoch of the database that gave it, and its number there,
// which rises with every order and release. The zero Mark is no order.
type Mark struct {
	Epoch string `json:"epoch" maxLength:"80"`
	Order int64  `json:"order" minimum:"0"`
}

// Lineage is the epochs of a database, the present one last, each with the last order
// that it has of it. A database that was restored from a back-up begins a new epoch: of
// the one before it has fewer orders than its points may have taken.
type Lineage []Mark

// Includes reports whether the database has an order. The zero Mark is in every lineage.
func (l Lineage) Includes(m Mark) bool {
	return m == Mark{} || slices.ContainsFunc(l, func(x Mark) bool { return x.Epoch == m.Epoch && x.Order >= m.Order })
}

// Now returns the latest order.
func (l Lineage) Now() Mark {
	if len(l) == 0 {
		return Mark{}
	}
	return l[len(l)-1]
}

// Follows reports whether a point whose latest order is m may take one from a database:
// if that has m, so that its order is the later one; or if a person decided that points
// which stand at m follow it.
func (m Mark) Follows(l Lineage, yields Mark) bool { return l.Includes(m) || m == yields }

// Point is what a point has loaded, and what it returns to. The agent in package point
// goes through these states; this is what they mean, without a kernel.
type Point struct {
	Loaded Runs
	Former *Runs // what it returns to if what is loaded is not proved; nil: it is proved
	Disk   Runs  // what it loads when it restarts
	At     Mark  // the latest order that it took
	Trial  bool  // what is loaded also needs a person's confirmation
}

// Take is an order: what to run, on trial or not. It reports false if the order is of
// the past and changes nothing.
func (p *Point) Take(to Runs, trial bool, l Lineage, yields Mark) bool {
	if !p.At.Follows(l, yields) {
		return false
	}
	p.At = l.Now()
	if to == p.Loaded && (p.Former == nil || p.Trial == trial) {
		return true
	}
	if to != p.Loaded && p.Former == nil {
		was := p.Loaded
		p.Former = &was
	}
	p.Loaded, p.Trial = to, trial
	return true
}

// Settle closes the way to the former state once the server was reached, unless a
// confirmation is still due.
func (p *Point) Settle(reached bool) {
	if p.Former == nil || p.Trial || !reached {
		return
	}
	p.Former, p.Disk = nil, p.Loaded
}

// Return goes back to the former state, if there is one: the server is out of reach, or
// nobody confirmed.
func (p *Point) Return() {
	if p.Former == nil {
		return
	}
	p.Loaded, p.Former, p.Trial = *p.Former, nil, false
	p.Disk = p.Loaded
}

// Restart loads what is on the disk.
func (p *Point) Restart() { p.Loaded, p.Former, p.Trial = p.Disk, nil, false }
