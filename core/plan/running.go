package plan

import (
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/service"
)

// Loaded is the plans that a point has loaded together. The enforced plan decides; the
// observed one is on trial and only counts. Either may be nil.
type Loaded struct{ Enforced, Observed *Plan }

// Nothing reports whether neither plan is loaded.
func (l Loaded) Nothing() bool { return l.Enforced == nil && l.Observed == nil }

// Deciding returns the enforced plan, or without one the observed plan; nil: neither.
func (l Loaded) Deciding() *Plan {
	if l.Enforced != nil {
		return l.Enforced
	}
	return l.Observed
}

// Ephemeral is the lowest port that clients are taken to choose at random.
const Ephemeral = 32768

// Running is a conversation that a kernel tracks, as its packets pass the point: after
// translation of the server's address, before translation of the client's.
type Running struct {
	Client, Server netip.AddrPort // as tracked; see Proven. For ICMP, Server's port is type × 256 + code
	Proto          uint8
	Proven         bool // the kernel saw the packet that opened it, so Client is the client
}

// Ends reports whether a plan ends a running conversation at a second (Unix).
//
// A conversation whose opening the kernel saw ends exactly if its first packet would be
// rejected now. Of one that was picked up in its middle, the tracked direction is where
// the first packet since then went. It ends only if the tracked direction is rejected
// and the other one does not excuse it: a rule permits the other direction, or, for TCP,
// no rule decides it and the ports say that the tracked client is the server.
func (d *Decider) Ends(r Running, at int64) bool {
	f := d.Decide(r.Client.Addr(), r.Server.Addr(), service.PointOf(r.Proto, uint32(r.Server.Port())), at)
	if !f.Concerned || f.Verdict != decide.Reject {
		return false
	}
	if r.Proven || service.IsICMP(r.Proto) {
		return true
	}
	back := d.Decide(r.Server.Addr(), r.Client.Addr(), service.PointOf(r.Proto, uint32(r.Client.Port())), at)
	switch {
	case back.Verdict == decide.Permit:
		return false
	case back.Verdict == decide.Uncovered && r.Proto == service.TCP:
		return r.Client.Port() >= Ephemeral || r.Server.Port() < Ephemeral
	}
	return true
}
