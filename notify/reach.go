package notify

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"
)

// Reach restricts to which addresses messages may go. Those of this machine, of its links
// alone, and of many at once are refused: whoever may say where messages go would
// otherwise reach, through this server, what listens for its machine only.
type Reach struct {
	Allow []netip.Prefix // all the same
}

// translated holds addresses of IPv4 as a translator writes them (RFC 6052).
var translated = netip.MustParsePrefix("64:ff9b::/96")

// Refuse returns why nothing may go to an address; nil: it may.
func (r Reach) Refuse(addr netip.Addr) error {
	a := addr.Unmap().WithZone("")
	if translated.Contains(a) {
		b := a.As16()
		a = netip.AddrFrom4([4]byte(b[12:]))
	}
	if slices.ContainsFunc(r.Allow, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return nil
	}
	what := ""
	switch {
	case a.IsLoopback(), a.IsUnspecified(), ofThisMachine(a):
		what = "an address of this machine"
	case a.IsLinkLocalUnicast():
		what = "a link-local address"
	case a.IsMulticast(), a == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		what = "a multicast or broadcast address"
	default:
		return nil
	}
	return fmt.Errorf("%s is %s; to send messages there, start the server with --allow-receiver %s", addr, what, a)
}

func ofThisMachine(a netip.Addr) bool {
	all, _ := net.InterfaceAddrs() // without it, loopback is known all the same
	return slices.ContainsFunc(all, func(x net.Addr) bool {
		p, err := netip.ParsePrefix(x.String())
		return err == nil && p.Addr().Unmap() == a
	})
}

// dialer asks for the address that is dialled, whatever name led to it.
func (r Reach) dialer() *net.Dialer {
	return &net.Dialer{Timeout: dialPatience, ControlContext: func(_ context.Context, _, address string,
		_ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return r.Refuse(at.Addr())
	}}
}

const dialPatience = 5 * time.Second
