package wire

import (
	"slices"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Habit is where an exporter writes the type of an ICMP message for which its records have
// no field of their own: NetFlow v5 has none, and no standard says where it goes.
type Habit string

// The habits. The zero value is that nothing is known yet.
const (
	Unlearnt      Habit = ""
	InDestination Habit = "destination" // type × 256 + code, as the destination port
	InSource      Habit = "source"      // the type as the source port, the code as the destination port
	Nowhere       Habit = "nowhere"     // both ports are 0, whatever the type
)

// Habits are all that can be said of an exporter.
var Habits = []Habit{InDestination, InSource, Nowhere}

// habit is what a stream has shown of where it writes types.
type habit struct {
	destination, source, zero,
	other int64 // records that only fit one of them, and those without either port, and the rest
}

const (
	// zeroes is after how many messages without a type it is taken that none has one.
	zeroes = 200
	// firmly is how many times more must fit one habit than the other.
	firmly = 4
)

// learnt returns the habit, as far as it has shown itself.
func (h *habit) learnt() Habit {
	switch {
	case h.destination > firmly*h.source:
		return InDestination
	case h.source > firmly*h.destination:
		return InSource
	case h.zero >= zeroes && h.source+h.destination == 0:
		return Nowhere
	}
	return Unlearnt
}

// learn looks at the ports of a record.
func (h *habit) learn(proto uint8, from, to uint16) {
	switch {
	case from == 0 && to == 0:
		h.zero++
	case from == 0 && to >= 256 && known(proto, to>>8):
		h.destination++
	case from > 0 && from < 256 && to < 256 && known(proto, from):
		h.source++
	default:
		h.other++
	}
}

// typesOf4 are the types that IANA has assigned to ICMP and that are in use.
var typesOf4 = []uint16{0, 3, 4, 5, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 30, 40, 42, 43}

func known(proto uint8, typ uint16) bool {
	if proto == service.ICMP {
		return slices.Contains(typesOf4, typ)
	}
	return typ >= 1 && typ <= 4 || typ >= 128 && typ <= 161
}

// typed settles the type of a message of which the record has but ports: it is read as the
// exporter is known to write; else the message has no type.
func (m *message) typed(o *flow.Observation) {
	from, to := o.SrcPort, o.DstPort
	is := m.Stream.ICMP()
	if m.Decoder.ICMP != nil {
		if said := m.Decoder.ICMP(); said != Unlearnt {
			is = said
		}
	}
	o.NoType, o.SrcPort = true, 0
	switch {
	case is == InDestination && from == 0 && (to == 0 || to >= 256) && known(o.Proto, to>>8):
		o.NoType, o.DstPort = false, to
	case is == InSource && from < 256 && to < 256 && known(o.Proto, from):
		o.NoType, o.DstPort = false, from<<8|to
	}
	if o.NoType {
		o.DstPort = 0
	}
}

// SawICMP reports whether it sent messages for whose type its records have no field.
func (s *Stream) SawICMP() bool { return s.icmp != habit{} }

// ICMP returns where the exporter writes types, as it has shown.
func (s *Stream) ICMP() Habit {
	if h := s.icmp.learnt(); h != Unlearnt {
		return h
	}
	return s.remembered
}
