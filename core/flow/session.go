package flow

// A session: what several observers saw between two endpoints, and its key.

import (
	"bytes"
	"math/bits"
	"net/netip"

	"lucidorchard/core/service"
)

type sessionKey struct {
	a, b   [16]byte
	pa, pb uint16
	proto  uint8
}

// session is one connection, by its two ends; it holds no pointers.
type session struct {
	sessionKey
	generation  uint32
	live        bool
	pending     bool
	opened      bool // its connection was counted
	aIsClient   bool
	carried     bool
	dropped     bool
	finished    bool
	sawSYN      bool
	saturated   bool // more than two observers
	soon        bool // it is among those that are sent off soon
	confidence  uint8
	reason      Reason
	because     Reason
	hint        int8
	way         [2]direction // from a to b, from b to a
	sent        [2]amount
	from, until Micros // of what is not sent off yet
	last        Micros
	blur        Micros // of the least exact times
	heard       Micros // when it was, by the arrival
}

type amount struct{ packets, bytes int64 }

type direction struct {
	flags    uint8
	hasFlags bool
	first    Micros
	seen     [2]sight
}

// sight is what one observer saw of one direction.
type sight struct {
	observer int32  // plus 1; 0 is none
	recent   uint64 // likeness of the last observation
	total    amount
}

// likeness mixes what makes two observations of a direction alike: their times and amounts.
func likeness(o *Observation) (h uint64) {
	const golden = 0x9e3779b97f4a7c15 // a multiplier of all bits: 2^64 over the golden ratio
	for _, x := range [...]int64{int64(o.Start), int64(o.End), o.Packets, o.Bytes} {
		h = bits.RotateLeft64((h^uint64(x))*golden, 31)
	}
	return h
}

// pageSessions is how many sessions there are in a page: they are never moved, as that
// would take twice their room for a while.
const pageSessions = 1 << 13

// at returns a session by its number.
func (j *Joiner) at(id int32) *session { return &j.pages[id/pageSessions][id%pageSessions] }

// room returns the number of a session that was never used.
func (j *Joiner) room() int32 {
	if int(j.used) == len(j.pages)*pageSessions {
		j.pages = append(j.pages, make([]session, pageSessions))
	}
	j.used++
	return j.used - 1
}

type extra struct {
	way int
	sight
}

// queue is sessions in the order of time.
type queue struct {
	items []queued
	head  int
}

type queued struct {
	at         Micros
	session    int32
	generation uint32
}

// push appends; over most entries, those that nothing waits for are taken out
// first.
func (j *Joiner) push(q *queue, x queued) {
	if len(q.items)-q.head > 2*j.Most {
		kept := q.items[:0]
		for _, y := range q.items[q.head:] {
			if s := j.at(y.session); s.live && s.generation == y.generation {
				kept = append(kept, y)
			}
		}
		q.items, q.head = kept, 0
	}
	if q.head > 4096 && q.head > len(q.items)/2 {
		q.items = append(q.items[:0], q.items[q.head:]...)
		q.head = 0
	}
	q.items = append(q.items, x)
}

func (q *queue) peek() (queued, bool) {
	if q.head == len(q.items) {
		return queued{}, false
	}
	return q.items[q.head], true
}

// icmpRequest returns the request that a message of ICMP (RFC 792, 950) or ICMPv6
// (RFC 4443) answers or makes, and whether its sender asks or answers.
func icmpRequest(proto uint8, typeCode uint16) (request uint16, asks, answers bool) {
	t := typeCode >> 8
	if proto == service.ICMP {
		switch t {
		case 8, 13, 15, 17:
			return typeCode, true, false
		case 0:
			return 8 << 8, false, true
		case 14, 16, 18:
			return (t - 1) << 8, false, true
		}
		return typeCode, true, false
	}
	switch t {
	case 128:
		return typeCode, true, false
	case 129:
		return 128 << 8, false, true
	case 133, 135, 139: // asks for a router, a neighbour, node information
		return typeCode, true, false
	case 134, 136, 140:
		return (t - 1) << 8, false, true
	}
	return typeCode, true, false
}

// keyOf returns the key of an observation's session, whether its source is the
// key's first end, and the points for the source as the client with the reason.
func keyOf(o *Observation) (k sessionKey, sourceFirst bool, hint int, because Reason) {
	k.proto = o.Proto
	ps, pd := o.SrcPort, o.DstPort
	switch {
	case service.IsICMP(o.Proto):
		request, asks, answers := icmpRequest(o.Proto, o.DstPort)
		because = ByType
		switch {
		case o.NoType:
			ps, pd = noType, noType
			because = ByGuess
		default:
			ps, pd = request, request
			if asks {
				hint = 9
			}
			if answers {
				hint = -9
			}
		}
	case !service.HasPorts(o.Proto):
		ps, pd = 0, 0
	case o.Proto == service.TCP && o.HasFlags:
		because = BySYN
		switch {
		case o.Flags&SYN != 0 && o.Flags&ACK == 0:
			hint = 14
		case o.Flags&(FIN|SYN|RST|PSH|ACK) == SYN|ACK && (o.Packet || o.Packets == 1):
			hint = -14
		case o.Flags&RST != 0 && o.Flags&SYN == 0 && o.Packets == 1:
			hint = -2 // the one who refuses, more often than the one who gives up
		}
	}
	switch o.Opener {
	case OpenedBySource:
		hint, because = 16, ByExporter
	case OpenedByDestination:
		hint, because = -16, ByExporter
	}
	src, dst := o.Src.As16(), o.Dst.As16()
	c := bytes.Compare(src[:], dst[:])
	if sourceFirst = c < 0 || c == 0 && ps <= pd; sourceFirst {
		k.a, k.b, k.pa, k.pb = src, dst, ps, pd
	} else {
		k.a, k.b, k.pa, k.pb = dst, src, pd, ps
	}
	return k, sourceFirst, hint, because
}

// noType stands in the key for the unknown type of a message.
const noType = 1<<16 - 1

func (s *session) open() Open {
	o := Open{netip.AddrFrom16(s.a).Unmap(), netip.AddrFrom16(s.b).Unmap(), s.pa, s.pb, s.proto}
	if !s.aIsClient {
		o.Client, o.Server, o.ClientPort, o.ServerPort = o.Server, o.Client, o.ServerPort, o.ClientPort
	}
	return o
}
