package traffic

import (
	"net/netip"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// Hooks are what a collector asks about the estate. All may be nil.
type Hooks struct {
	// Serves reports whether people have said that a port is a service at an address.
	Serves func(addr netip.Addr, proto uint8, port uint16, at flow.Micros) bool
	// Changes returns when an address last changed hands.
	Changes func(netip.Addr, estate.Instant) (estate.Instant, bool)
	// ICMP is what people have said of where exporters write the types of ICMP messages.
	ICMP map[netip.Addr]wire.Habit
}
