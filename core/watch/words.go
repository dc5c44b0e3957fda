package watch

import (
	"fmt"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
)

// Piece is a part of a sentence.
type Piece struct {
	Text   string `json:"text"`
	Strong bool   `json:"strong,omitempty" doc:"It names who, or what"`
}

// Plain returns a sentence without its marks.
func Plain(pieces []Piece) string {
	out := ""
	for _, p := range pieces {
		out += p.Text
	}
	return out
}

// Title returns in a sentence what a matter is.
func (m *Matter) Title() []Piece {
	who, what := Piece{m.Who.Text, true}, Piece{m.What.Text, true}
	if m.Who.Kind == "many" {
		who = Piece{plural.Of(m.Clients, "caller", "callers"), true}
	}
	if m.What.Kind == "many" {
		what = Piece{plural.Of(m.Servers, "server", "servers"), true}
	}
	on := ""
	switch {
	case m.Services == 1:
		on = " on " + serviceWords(m.Service)
	case m.Services > 1:
		on = fmt.Sprintf(" on %d services", m.Services)
	}
	switch m.Kind {
	case Leak:
		return []Piece{who, {" reached ", false}, what, {on, false}}
	case Choke:
		return []Piece{who, {" could not reach ", false}, what, {on, false}}
	case Held:
		return []Piece{who, {" tried ", false}, what, {on, false}}
	case traffic:
		verb := " reached "
		if m.dropped() {
			verb = " tried "
		}
		return []Piece{who, {verb, false}, what, {on, false}}
	}
	return []Piece{{"A new caller: ", false}, who, {" → ", false}, what, {on, false}}
}

// dropped reports whether the newest of it did not get through.
func (m *Matter) dropped() bool { return m.Ruling.Turned || m.Ruling.Fate == reach.Choke }

// Why says by what it is the matter.
func (m *Matter) Why() string {
	by := "no rule permits it"
	r := m.Ruling.Rule
	switch {
	case m.Flood && m.Kind == Choke:
		by = "rules permit it"
	case m.Flood:
		by = "rules reject it or leave it uncovered"
	case r != nil && r.Action == policy.Apart:
		by = fmt.Sprintf("line %d keeps them apart", r.Line)
	case r != nil && decide.VerdictOf(r) == decide.Permit:
		by = fmt.Sprintf("line %d permits it", r.Line)
	case r != nil:
		by = fmt.Sprintf("line %d rejects it", r.Line)
	}
	if m.Ruling.Release != 0 {
		by += fmt.Sprintf(" in release %d", m.Ruling.Release)
	} else {
		by += " in the draft"
	}
	at := ""
	if m.Ruling.Holder != nil {
		at = m.Ruling.Holder.Name
	}
	scan := ""
	switch {
	case m.Scan:
		scan = "; looks like a scan"
	case m.Flood:
		scan = "; so many at once probably share one cause"
	}
	switch m.Kind {
	case Leak:
		by += scan
		if at == "" {
			return "leak: " + by + ", yet it was carried"
		}
		return "leak: " + by + ", yet it passed " + at
	case Choke:
		if at == "" {
			return "choke: " + by + scan + ", yet it was dropped"
		}
		return "choke: " + by + scan + ", which " + at + " ran, yet it was dropped"
	case Held:
		if m.Scan {
			return "blocked: looks like a scan"
		}
		if m.Flood {
			return "blocked: " + by + scan
		}
		if r != nil && decide.VerdictOf(r) == decide.Permit { // no policy dropped it
			return "dropped: " + by + ", which no point there ran then"
		}
		return "blocked: " + by
	}
	carried := ", carried"
	if m.dropped() {
		carried = ", dropped"
	}
	if r == nil {
		return "uncovered" + carried
	}
	return by + carried
}

func serviceWords(p service.Point) string {
	if name := flow.ServiceName(p); name != "" {
		return name
	}
	return p.String()
}
