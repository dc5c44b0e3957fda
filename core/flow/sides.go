package flow

import (
	"hash/maphash"
	"math"
	"math/bits"
	"net/netip"

	"lucidorchard/core/service"
)

// Reason is what decided which end is the server.
type Reason uint8

// The reasons, from the firmest to the weakest.
const (
	Stated     Reason = iota // the file said which end is the client
	ByHand                   // a person said that the port is a service there
	ByExporter               // the exporter said who opened it
	ByType                   // ICMP: the type of the message
	BySYN                    // who sent SYN without ACK, or answered it
	byFanIn                  // many others use the same port of the same address
	ByFirst                  // who was heard first
	ByPort                   // a port that is registered for a service, or is in nobody's range for clients
	ByGuess                  // nothing tells
)

func (r Reason) String() string {
	return [...]string{"the file says so", "set by hand", "the exporter says who opened it",
		"the type of the message", "TCP SYN", "many others use this port there", "heard first", "the port's number",
		"a guess"}[r]
}

// Sure is the confidence, in percent, from which a direction is taken as known.
const Sure = 90

// Sides decides which end of a session is the server. It learns the fan-in of
// ports: how many sessions have used a port of an address. Its memory is fixed.
// It is not safe for concurrent use.
type Sides struct {
	// Serves reports what people have said of a port of an address: that it is a
	// service there. Nil: nothing was said.
	Serves func(addr netip.Addr, proto uint8, port uint16, at Micros) bool

	seed   maphash.Seed
	used   []uint16 // a count-min sketch of two rows
	ports  [3][1 << 16]uint32
	filled int
}

const sketchRow = 1 << 21 // counters of a row; a power of two

// NewSides makes one that has learnt nothing.
func NewSides() *Sides {
	return &Sides{seed: maphash.MakeSeed(), used: make([]uint16, 2*sketchRow)}
}

type portKey struct {
	addr  [16]byte
	port  uint16
	proto uint8
}

func (s *Sides) slots(k portKey) (a, b int) {
	h := maphash.Comparable(s.seed, k)
	return int(h & (sketchRow - 1)), sketchRow + int(h>>32&(sketchRow-1))
}

func portTable(proto uint8) int {
	switch proto {
	case service.TCP:
		return 0
	case service.UDP:
		return 1
	}
	return 2
}

// learn counts a session at one of its ends.
func (s *Sides) learn(k portKey) {
	if s.filled++; s.filled > sketchRow/2 {
		s.fade()
	}
	a, b := s.slots(k)
	least := min(s.used[a], s.used[b])
	if next := least + 1; next > least { // does not go over
		s.used[a], s.used[b] = max(s.used[a], next), max(s.used[b], next)
	}
	p := &s.ports[portTable(k.proto)][k.port]
	if *p < math.MaxUint32 {
		*p++
	}
}

// fade halves what was learnt, so that it does not fill up and old times count
// less.
func (s *Sides) fade() {
	s.filled = 0
	for i := range s.used {
		s.used[i] /= 2
	}
	for t := range s.ports {
		for i := range s.ports[t] {
			s.ports[t][i] /= 2
		}
	}
}

func (s *Sides) fanIn(k portKey) uint16 {
	a, b := s.slots(k)
	return min(s.used[a], s.used[b])
}

// sided is what is known of a session when its sides are decided; a is the end
// that comes first in its key.
type sided struct {
	a, b       portKey
	hint       int    // points for a as the client, from flags and exporters
	because    Reason // of the hint
	aFirst     Micros // when each end was heard first; 0 is never
	bFirst     Micros
	sameClock  bool
	blur       Micros // a difference of those times up to this says nothing
	sawOpening bool   // TCP: a SYN was seen, so that the first times are those of the opening
}

// decide returns whether a is the client, the confidence in percent, and what
// weighed most. The weights are powers of two: what makes it twice as likely.
func (s *Sides) decide(d sided) (aIsClient bool, confidence uint8, why Reason) {
	var total float64
	var weighed [ByGuess + 1]float64
	weigh := func(r Reason, points float64) {
		total += points
		weighed[r] += points
	}
	weigh(d.because, float64(d.hint))
	if !service.IsICMP(d.a.proto) { // one that pings many is no server
		weigh(byFanIn, max(-7, min(7, 1.6*(log2(s.fanIn(d.b))-log2(s.fanIn(d.a))))))
	}
	if d.aFirst != 0 && d.bFirst != 0 && max(d.aFirst-d.bFirst, d.bFirst-d.aFirst) > d.blur && d.sameClock {
		points := 2.5
		if d.sawOpening {
			points = 6
		}
		if d.bFirst < d.aFirst {
			points = -points
		}
		weigh(ByFirst, points)
	}
	weigh(ByPort, s.portPoints(d.b)-s.portPoints(d.a))
	var most float64
	why = ByGuess
	for r := ByExporter; r <= ByPort; r++ {
		if w := weighed[r]; (w > 0) == (total > 0) && math.Abs(w) > most {
			most, why = math.Abs(w), r
		}
	}
	if total == 0 { // who was heard, or was heard first
		total = 0.1
		if d.aFirst == 0 || d.bFirst != 0 && d.bFirst < d.aFirst {
			total = -0.1
		}
	}
	return total > 0, uint8(min(99, 100/(1+math.Exp2(-math.Abs(total))))), why
}

func log2(n uint16) float64 { return math.Log2(1 + float64(n)) }

// portPoints reports how much a port looks like one of a server.
func (s *Sides) portPoints(k portKey) float64 {
	if !service.HasPorts(k.proto) {
		return 0
	}
	var points float64
	switch {
	case k.port == 0:
	case ServiceName(service.PointOf(k.proto, uint32(k.port))) != "":
		points = 4
	case k.port < 1024:
		points = 3
	case k.port < 32768: // below the ranges that systems take clients' ports from
		points = 1.5
	}
	// A port that many addresses use is one that somebody chose.
	return points + min(3, float64(bits.Len32(s.ports[portTable(k.proto)][k.port]))/4)
}
