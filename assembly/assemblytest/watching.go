package assemblytest

import (
	"net/netip"
	"testing"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Reaching is flows of an hour ago: who is let through, and who is not.
func Reaching(t *testing.T) []flow.Record {
	at := time.Now().UTC().Add(-time.Hour).Truncate(time.Hour)
	if at.Hour() == 23 { // so that all is of one day
		at = at.Add(-time.Hour)
	}
	var out []flow.Record
	row := func(minute int, client, server string, port uint32, n int64, outcome flow.Outcome) {
		start := estate.InstantOf(at.Add(time.Duration(minute) * time.Minute))
		out = append(out, flow.Record{Start: start, End: start, Client: netip.MustParseAddr(client),
			Server: netip.MustParseAddr(server),
			Point:  service.PointOf(service.TCP, port), Connections: n, Bytes: 100, Packets: 2, Outcome: outcome,
			Observer: "leaf"})
	}
	row(1, "10.0.0.1", "10.0.1.1", 443, 4, flow.Carried)
	row(2, "10.0.0.1", "10.0.1.1", 22, 2, flow.Carried)
	row(3, "10.0.0.2", "10.0.1.1", 22, 1, flow.Carried)
	row(4, "10.0.0.2", "10.0.1.1", 443, 3, flow.Dropped)
	row(5, "10.0.0.1", "10.0.1.2", 25, 5, flow.Dropped)
	for i := range uint32(12) {
		row(6, "10.9.9.9", "10.0.1.2", 3000+i, 1, flow.Dropped)
	}
	return out
}
