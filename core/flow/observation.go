package flow

import (
	"net/netip"
	"time"

	"lucidorchard/core/estate"
)

// Micros is a point in time: microseconds since 1970-01-01T00:00:00Z.
type Micros int64

// MicrosOf converts a time.
func MicrosOf(t time.Time) Micros { return Micros(t.UnixMicro()) }

// Instant converts to an instant.
func (m Micros) Instant() estate.Instant {
	sec := int64(m) / 1e6
	if int64(m)%1e6 < 0 {
		sec--
	}
	return estate.Instant{Sec: sec, Nsec: int32(int64(m)-sec*1e6) * 1000}
}

// MicrosOfInstant converts an instant; what is finer than a microsecond is cut
// off.
func MicrosOfInstant(t estate.Instant) Micros { return Micros(t.Sec*1e6 + int64(t.Nsec)/1000) }

// TCP control bits (RFC 9293, §3.1).
const (
	FIN = 1 << iota
	SYN
	RST
	PSH
	ACK
)

// Opener is the end that opened the observed connection, if the exporter knows.
type Opener uint8

// The openers. OpenerUnknown is the zero value.
const (
	OpenerUnknown Opener = iota
	OpenedBySource
	OpenedByDestination
)

// Observation is what an exporter saw of one direction in one interval: a flow
// record of RFC 7011, or one sampled packet.
type Observation struct {
	Src, Dst         netip.Addr // IPv4 addresses are never mapped ones
	SrcPort, DstPort uint16     // DstPort of ICMP is type × 256 + code
	Proto            uint8
	Flags            uint8 // TCP control bits of all packets together
	HasFlags         bool
	NoType           bool // of ICMP: the exporter did not say which type
	Packet           bool // this is one packet, not an interval
	Numbered         bool // what it came in is numbered, and was not read before: another that is like it is another
	Total            bool // the amounts are since the beginning of the session, not of this interval
	Opener           Opener
	Outcome          Outcome
	// Observer numbers who saw it: an exporter's observation domain and whether on
	// the way in (even) or out (odd). Two that differ only in the lowest bit have
	// one clock. One connection is counted by the observer that saw most of it.
	Observer       int32
	Start, End     Micros
	Blur           Micros // by how much its times may be off against others of the same clock
	Packets, Bytes int64  // scaled up, where they were sampled
}
