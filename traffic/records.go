// Package traffic is what was seen on the network as it is kept: conversations, single
// records, exporters and collectors, and for how long.
//
// It must not know HTTP or SQL.
package traffic

import (
	"net/netip"

	"lucidorchard/core/estate"
)

// Rebuilt is what Rebuild did to one hour.
type Rebuilt struct {
	Turned  int  // records whose client and server changed places
	Partial bool // not all records behind the conversations are kept: nothing was changed
}

// Cut is a change of hands at which stored conversations are cut.
type Cut struct {
	Addr netip.Addr
	At   estate.Instant
}
