package flow

// Sessions that are still open when the process stops, kept for the next one.

import (
	"bytes"
	"net/netip"

	"lucidorchard/core/service"
)

// Open is a session that was sent off and goes on: whoever starts anew after it
// must not count its connection again.
type Open struct {
	Client, Server         netip.Addr
	ClientPort, ServerPort uint16 // of ICMP: type × 256 + code, twice
	Proto                  uint8
}

// Opened returns the sessions that were sent off for the first time since it was
// last asked, and that are likely to go on: those of TCP that did not end, and
// others of many packets.
func (j *Joiner) Opened() []Open {
	out := j.opened
	j.opened = nil
	return out
}

// Alive returns all that Opened gave and that are still remembered.
func (j *Joiner) Alive() []Open {
	var out []Open
	for _, id := range j.index {
		if s := j.at(id); s.opened && s.goesOn() {
			out = append(out, s.open())
		}
	}
	return out
}

// Resume remembers sessions whose connection was counted before.
func (j *Joiner) Resume(all []Open, now Micros) {
	for _, o := range all {
		k, clientFirst := sessionKey{a: o.Client.As16(), b: o.Server.As16(), pa: o.ClientPort, pb: o.ServerPort,
			proto: o.Proto}, true
		if c := bytes.Compare(k.a[:], k.b[:]); c > 0 || c == 0 && k.pa > k.pb {
			k.a, k.b, k.pa, k.pb, clientFirst = k.b, k.a, k.pb, k.pa, false
		}
		if _, known := j.index[k]; known {
			continue
		}
		s := j.at(j.open(k, now))
		s.opened, s.aIsClient, s.confidence, s.reason, s.last = true, clientFirst, 99, ByFirst, now
	}
}

func (s *session) goesOn() bool {
	return !s.finished && (s.proto == service.TCP || s.sent[0].packets+s.sent[1].packets > 10)
}
