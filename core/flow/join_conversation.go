package flow

// How a session becomes a conversation: its counts, its observers, its outcome
// and which end is the client.

import (
	"net/netip"

	"lucidorchard/core/service"
)

// sendOffNow sends a session off at the next Flush whatever it waits for.
func (j *Joiner) sendOffNow(id int32) {
	if j.at(id).pending {
		j.sendOff(id, func(x *Joined) { j.early = append(j.early, *x) })
	}
}

// counted returns what one direction amounts to: an observer that saw all of it
// counts, not the sum of all that saw it.
func (j *Joiner) counted(id int32, way int) (out amount) {
	s := j.at(id)
	most := func(x *sight) {
		if x.total.packets > out.packets || x.total.packets == out.packets && x.total.bytes > out.bytes {
			out = x.total
		}
	}
	for i := range s.way[way].seen {
		most(&s.way[way].seen[i])
	}
	if s.saturated {
		for i := range j.more[id] {
			if j.more[id][i].way == way {
				most(&j.more[id][i].sight)
			}
		}
	}
	return out
}

func (j *Joiner) sendOff(id int32, emit func(*Joined)) {
	s := j.at(id)
	s.pending, s.soon = false, false
	j.pending--
	total := [2]amount{j.counted(id, 0), j.counted(id, 1)}
	var news [2]amount
	for w := range news {
		news[w] = amount{max(0, total[w].packets-s.sent[w].packets), max(0, total[w].bytes-s.sent[w].bytes)}
		s.sent[w] = amount{max(total[w].packets, s.sent[w].packets), max(total[w].bytes, s.sent[w].bytes)}
	}
	if s.opened && news == ([2]amount{}) {
		return // another exporter's copy
	}
	if !s.opened {
		s.aIsClient, s.confidence, s.reason = j.side(s)
	}
	client, server := 0, 1
	if !s.aIsClient {
		client, server = 1, 0
	}
	addr := [2]netip.Addr{netip.AddrFrom16(s.a).Unmap(), netip.AddrFrom16(s.b).Unmap()}
	port := [2]uint16{s.pa, s.pb}
	out := &j.scratch
	*out = Joined{
		Record: Record{
			Start: s.from.Instant(), End: s.until.Instant(), Client: addr[client], Server: addr[server],
			Bytes: Sum(news[0].bytes, news[1].bytes), Packets: Sum(news[0].packets, news[1].packets),
			Outcome: s.outcome(server),
		},
		ReplyBytes: news[server].bytes, ReplyPackets: news[server].packets,
		Flags: s.way[client].flags, ReplyFlags: s.way[server].flags, HasFlags: s.way[0].hasFlags || s.way[1].hasFlags,
		Confidence: s.confidence, Reason: s.reason, Observers: [2]int32{-1, -1},
	}
	out.Point = service.PointOf(s.proto, uint32(port[server]))
	switch {
	case service.IsICMP(s.proto) && s.because == ByGuess && s.pa == noType:
		out.Point = service.PointOf(s.proto, service.UnknownType)
	case service.HasPorts(s.proto) && !service.IsICMP(s.proto):
		out.SourcePort = port[client]
	}
	if !s.opened {
		out.Connections, s.opened = 1, true
		if s.goesOn() {
			j.opened = append(j.opened, s.open())
		}
	}
	j.observers(id, out)
	emit(out)
}

func (j *Joiner) observers(id int32, out *Joined) {
	note := func(x *sight) {
		o := x.observer - 1
		switch {
		case o < 0 || o == out.Observers[0] || o == out.Observers[1]:
		case out.Observers[0] < 0:
			out.Observers[0] = o
		case out.Observers[1] < 0:
			out.Observers[1] = o
		default:
			out.MoreSaw++
		}
	}
	s := j.at(id)
	for w := range s.way {
		for i := range s.way[w].seen {
			note(&s.way[w].seen[i])
		}
	}
	for i := range j.more[id] {
		note(&j.more[id][i].sight)
	}
}

// outcome reports what became of a session: an answer proves that the network
// carried it, whatever some exporter dropped of it.
func (s *session) outcome(server int) Outcome {
	reply := s.way[server]
	answered := s.sent[server].packets > 0 && (!reply.hasFlags || reply.flags&^(RST|ACK) != 0 || reply.flags&RST == 0)
	switch {
	case s.dropped && !answered:
		return Dropped
	case s.carried || answered && s.sent[1-server].packets > 0:
		return Carried
	}
	return Unknown
}

// side decides which end is the client.
func (j *Joiner) side(s *session) (aIsClient bool, confidence uint8, why Reason) {
	a, b := portKey{s.a, s.pa, s.proto}, portKey{s.b, s.pb, s.proto}
	if serves := j.Sides.Serves; serves != nil && service.HasPorts(s.proto) {
		sa := serves(netip.AddrFrom16(s.a).Unmap(), s.proto, s.pa, s.from)
		sb := serves(netip.AddrFrom16(s.b).Unmap(), s.proto, s.pb, s.from)
		if sa != sb {
			return sb, 100, ByHand
		}
	}
	return j.Sides.decide(sided{
		a: a, b: b, hint: int(s.hint), because: s.because, aFirst: s.way[0].first, bFirst: s.way[1].first,
		sameClock: (s.way[0].seen[0].observer-1)>>1 == (s.way[1].seen[0].observer-1)>>1, sawOpening: s.sawSYN,
		blur: s.blur,
	})
}
