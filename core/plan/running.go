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
// rejected now. One that was picked up in its middle may have been opened by either end:
//
//	one direction  other direction  ends
//	permitted      any              no: it may be the one that is permitted
//	rejected       rejected         yes
//	rejected       no rule          if the rejected direction leads to the port of a server,
//	                                or the ports do not tell and it is the tracked one
//	no rule        no rule          no
func (d *Decider) Ends(r Running, at int64) bool {
	to := d.Decide(r.Client.Addr(), r.Server.Addr(), service.PointOf(r.Proto, uint32(r.Server.Port())), at)
	if r.Proven || service.IsICMP(r.Proto) {
		return to.Verdict == decide.Reject
	}
	back := d.Decide(r.Server.Addr(), r.Client.Addr(), service.PointOf(r.Proto, uint32(r.Client.Port())), at)
	switch {
	case to.Verdict == decide.Permit || back.Verdict == decide.Permit:
		return false
	case to.Verdict == back.Verdict:
		return to.Verdict == decide.Reject
	case r.Server.Port() < Ephemeral && r.Client.Port() >= Ephemeral:
		return to.Verdict == decide.Reject
	case r.Client.Port() < Ephemeral && r.Server.Port() >= Ephemeral:
		return back.Verdict == decide.Reject
	}
	return to.Verdict == decide.Reject
}
