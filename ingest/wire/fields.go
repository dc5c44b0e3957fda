package wire

// What each field of a data record is (RFC 7012 and the registry of IPFIX
// elements), and what a record of them comes to.

import (
	"encoding/binary"
	"math"
	"net/netip"

	"github.com/netsampler/goflow2/v2/decoders/netflow"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// reading is a data record of which the fields are read one after the other.
type reading struct {
	there, back *flow.Observation // the record's own way, and the way back
	both        bool              // it has fields of the way back
	typed       bool              // it has a field for the type of an ICMP message
	typeCode    uint16            // which says so
	ports       bool              // it has ports
	rate        int64             // of sampling, as the record says; 0: it does not
	counts      [2]amounts        // of the two ways, since the beginning
	dropped     amounts
	before      [2]flow.Micros // start and end, before the export
	duration    [2]flow.Micros // of the two ways

	sinceBoot [2][2]uint32 // start and end of the two ways, in ms since the exporter started
	booted    [2][2]bool   // which of them there are
	boot      flow.Micros  // when it started, as the record says; 0: it does not

	rates map[uint64]int64 // of the samplers that the exporter has told of
}

// uptimes converts times since the exporter started, in milliseconds. boot is when that
// was, if the record says so, else 0.
type uptimes func(sinceBoot uint32, boot flow.Micros) flow.Micros

type amounts struct{ packets, bytes int64 }

// value is a field's content.
type value struct {
	raw []byte // not empty
	n   uint64 // as an unsigned integer; 0 if it is longer than one
	way int    // 0: the record's own; 1: the way back (RFC 5103)
}

// amount is a count, of which several can be added.
func (v value) amount() int64 { return int64(min(v.n, math.MaxInt64>>8)) }

func (v value) seconds() flow.Micros { return flow.Micros(min(v.n, math.MaxUint32)) * 1e6 }

func (v value) millis() flow.Micros { return flow.Micros(min(v.n, 1<<43)) * 1000 }

// micros is a span of up to 2^32 microseconds.
func (v value) micros() flow.Micros { return flow.Micros(min(v.n, math.MaxUint32)) }

// of returns the observation of a field's way.
func (r *reading) of(v value) *flow.Observation {
	if v.way == 1 {
		return r.back
	}
	return r.there
}

// ntp reads a time of dateTimeMicroseconds or dateTimeNanoseconds (RFC 7011,
// §6.1.9): seconds since 1900 and a binary fraction.
func ntp(b []byte) flow.Micros {
	if len(b) != 8 {
		return 0
	}
	sec, frac := int64(binary.BigEndian.Uint32(b))-2_208_988_800, uint64(binary.BigEndian.Uint32(b[4:]))
	return flow.Micros(sec*1e6 + int64(frac*1e6>>32))
}

// field takes a field into a reading.
type field func(*reading, value)

// fields are the elements that are read, by their number; of others nothing is
// taken. Where an element has several names for one thing, they share a line.
var fields = [...]field{
	netflow.IPFIX_FIELD_sourceIPv4Address:      source,
	netflow.IPFIX_FIELD_sourceIPv6Address:      source,
	netflow.IPFIX_FIELD_destinationIPv4Address: destination,
	netflow.IPFIX_FIELD_destinationIPv6Address: destination,
	netflow.IPFIX_FIELD_protocolIdentifier:     func(r *reading, v value) { r.there.Proto = uint8(v.n) },

	netflow.IPFIX_FIELD_sourceTransportPort:      sourcePort,
	netflow.IPFIX_FIELD_udpSourcePort:            sourcePort,
	netflow.IPFIX_FIELD_tcpSourcePort:            sourcePort,
	netflow.IPFIX_FIELD_destinationTransportPort: destinationPort,
	netflow.IPFIX_FIELD_udpDestinationPort:       destinationPort,
	netflow.IPFIX_FIELD_tcpDestinationPort:       destinationPort,
	netflow.IPFIX_FIELD_icmpTypeCodeIPv4:         typeCode,
	netflow.IPFIX_FIELD_icmpTypeCodeIPv6:         typeCode,
	netflow.IPFIX_FIELD_icmpTypeIPv4:             icmpType,
	netflow.IPFIX_FIELD_icmpTypeIPv6:             icmpType,
	netflow.IPFIX_FIELD_icmpCodeIPv4:             icmpCode,
	netflow.IPFIX_FIELD_icmpCodeIPv6:             icmpCode,
	netflow.IPFIX_FIELD_tcpControlBits: func(r *reading, v value) {
		r.of(v).Flags, r.of(v).HasFlags = uint8(v.n), true
	},

	netflow.IPFIX_FIELD_octetDeltaCount:  octets,
	netflow.IPFIX_FIELD_initiatorOctets:  octets,
	netflow.IPFIX_FIELD_packetDeltaCount: packets,
	netflow.IPFIX_FIELD_initiatorPackets: packets,
	netflow.IPFIX_FIELD_responderOctets:  func(r *reading, v value) { r.back.Bytes, r.both = v.amount(), true },
	netflow.IPFIX_FIELD_responderPackets: func(r *reading, v value) { r.back.Packets, r.both = v.amount(), true },
	netflow.IPFIX_FIELD_packetTotalCount: func(r *reading, v value) { r.counts[v.way].packets = v.amount() },
	netflow.IPFIX_FIELD_octetTotalCount:  func(r *reading, v value) { r.counts[v.way].bytes = v.amount() },

	netflow.IPFIX_FIELD_droppedPacketDeltaCount: func(r *reading, v value) { r.dropped.packets = v.amount() },
	netflow.IPFIX_FIELD_droppedOctetDeltaCount:  func(r *reading, v value) { r.dropped.bytes = v.amount() },

	netflow.IPFIX_FIELD_flowStartSysUpTime: func(r *reading, v value) {
		r.sinceBoot[v.way][0], r.booted[v.way][0] = uint32(v.n), true
	},
	netflow.IPFIX_FIELD_flowEndSysUpTime: func(r *reading, v value) {
		r.sinceBoot[v.way][1], r.booted[v.way][1] = uint32(v.n), true
	},
	netflow.IPFIX_FIELD_systemInitTimeMilliseconds:  func(r *reading, v value) { r.boot = v.millis() },
	netflow.IPFIX_FIELD_flowStartSeconds:            startSeconds,
	netflow.IPFIX_FIELD_observationTimeSeconds:      startSeconds,
	netflow.IPFIX_FIELD_flowEndSeconds:              func(r *reading, v value) { r.of(v).End = v.seconds() },
	netflow.IPFIX_FIELD_flowStartMilliseconds:       startMillis,
	netflow.IPFIX_FIELD_observationTimeMilliseconds: startMillis,
	netflow.IPFIX_FIELD_flowEndMilliseconds:         func(r *reading, v value) { r.of(v).End = v.millis() },
	netflow.IPFIX_FIELD_flowStartMicroseconds:       startNTP,
	netflow.IPFIX_FIELD_flowStartNanoseconds:        startNTP,
	netflow.IPFIX_FIELD_observationTimeMicroseconds: startNTP,
	netflow.IPFIX_FIELD_observationTimeNanoseconds:  startNTP,
	netflow.IPFIX_FIELD_flowEndMicroseconds:         endNTP,
	netflow.IPFIX_FIELD_flowEndNanoseconds:          endNTP,
	netflow.IPFIX_FIELD_flowStartDeltaMicroseconds:  func(r *reading, v value) { r.before[0] = v.micros() },
	netflow.IPFIX_FIELD_flowEndDeltaMicroseconds:    func(r *reading, v value) { r.before[1] = v.micros() },
	netflow.IPFIX_FIELD_flowDurationMilliseconds: func(r *reading, v value) {
		r.duration[v.way] = v.micros() * 1000
	},
	netflow.IPFIX_FIELD_flowDurationMicroseconds: func(r *reading, v value) { r.duration[v.way] = v.micros() },

	netflow.IPFIX_FIELD_flowDirection:    func(r *reading, v value) { r.there.Observer = int32(v.n & 1) },
	netflow.IPFIX_FIELD_forwardingStatus: forwarding,
	netflow.IPFIX_FIELD_firewallEvent:    firewall,
	netflow.IPFIX_FIELD_biflowDirection:  opener,

	netflow.IPFIX_FIELD_samplingInterval:      func(r *reading, v value) { r.rate = v.amount() },
	netflow.IPFIX_FIELD_samplerRandomInterval: func(r *reading, v value) { r.rate = v.amount() },
	netflow.IPFIX_FIELD_samplerId:             sampler,
	netflow.IPFIX_FIELD_selectorId:            sampler,
}

// An address that is not specified does not replace one that is: some exporters
// send those of both families.
func source(r *reading, v value) {
	if a, ok := netip.AddrFromSlice(v.raw); ok && (!r.there.Src.IsValid() || !a.IsUnspecified()) {
		r.there.Src = a
	}
}

func destination(r *reading, v value) {
	if a, ok := netip.AddrFromSlice(v.raw); ok && (!r.there.Dst.IsValid() || !a.IsUnspecified()) {
		r.there.Dst = a
	}
}

func sourcePort(r *reading, v value) { r.there.SrcPort = uint16(v.n) }

func destinationPort(r *reading, v value) {
	if r.there.DstPort == 0 {
		r.there.DstPort = uint16(v.n)
	}
	r.ports = true
}

func typeCode(r *reading, v value) {
	if v.n != 0 || !r.typed {
		r.typeCode = uint16(v.n)
	}
	r.typed = true
}

func icmpType(r *reading, v value) { r.typeCode, r.typed = r.typeCode&0xff|uint16(v.n)<<8, true }

func icmpCode(r *reading, v value) { r.typeCode = r.typeCode&0xff00 | uint16(v.n)&0xff }

func octets(r *reading, v value) { r.of(v).Bytes = v.amount() }

func packets(r *reading, v value) { r.of(v).Packets = v.amount() }

func startSeconds(r *reading, v value) { r.of(v).Start = v.seconds() }

func startMillis(r *reading, v value) { r.of(v).Start = v.millis() }

func startNTP(r *reading, v value) { r.of(v).Start = ntp(v.raw) }

func endNTP(r *reading, v value) { r.of(v).End = ntp(v.raw) }

// forwarding reads the two highest bits of the last octet (RFC 7270, §4.12).
func forwarding(r *reading, v value) {
	switch v.raw[len(v.raw)-1] >> 6 {
	case 1, 3:
		r.there.Outcome = flow.Carried
	case 2:
		r.there.Outcome = flow.Dropped
	}
}

func firewall(r *reading, v value) {
	switch v.n {
	case 1, 2, 5: // created, deleted, updated
		r.there.Outcome = flow.Carried
	case 3:
		r.there.Outcome = flow.Dropped
	}
}

// opener reads who began (RFC 5103, §6.3).
func opener(r *reading, v value) {
	switch v.n {
	case 1:
		r.there.Opener = flow.OpenedBySource
	case 2:
		r.there.Opener = flow.OpenedByDestination
	}
}

func sampler(r *reading, v value) {
	if rate := r.rates[v.n]; rate > 0 && r.rate == 0 {
		r.rate = rate
	}
}

// read takes the fields of a data record.
func (r *reading) read(all []netflow.DataField) {
	for i := range all {
		f := &all[i]
		raw, _ := f.Value.([]byte)
		if len(raw) == 0 || f.PenProvided && f.Pen != reverse || int(f.Type) >= len(fields) {
			continue
		}
		v := value{raw: raw}
		if len(raw) <= 8 {
			v.n = number(raw)
		}
		if f.PenProvided {
			v.way, r.both = 1, true
		}
		if take := fields[f.Type]; take != nil {
			take(r, v)
		}
	}
}

// record makes a data record into one observation, or into two where it has the
// way back.
func (m *message) record(all []netflow.DataField, uptime uptimes) {
	o, back := &m.obs, &m.back
	*o, *back = flow.Observation{}, flow.Observation{}
	r := &m.reading
	*r = reading{there: o, back: back, rates: m.rates}
	r.read(all)
	for way, t := range [2]*flow.Observation{o, back} {
		// The end first: the exporter's start may have to be found from it.
		if r.booted[way][1] && t.End == 0 {
			t.End = uptime(r.sinceBoot[way][1], r.boot)
		}
		if r.booted[way][0] && t.Start == 0 {
			t.Start = uptime(r.sinceBoot[way][0], r.boot)
		}
	}
	if service.IsICMP(o.Proto) {
		m.messageType(r)
	}
	if r.rate == 0 {
		r.rate = m.Stream.Sampling
	}
	r.rate = max(1, min(r.rate, math.MaxInt32))
	if r.before != [2]flow.Micros{} {
		exported := m.now - m.Behind
		o.Start, o.End = exported-r.before[0], exported-r.before[1]
	}
	r.complete()
	if r.both && back.Packets+back.Bytes > 0 {
		r.turn()
		m.send(o)
		m.send(back)
		return
	}
	m.send(o)
}

// messageType settles the type of an ICMP message. A field for it that says 0 is not believed
// where there are ports that say more.
func (m *message) messageType(r *reading) {
	o := r.there
	switch said := r.typed && (r.typeCode != 0 || o.SrcPort|o.DstPort == 0); {
	case said && (o.Proto == service.ICMP || r.typeCode>>8 != 0): // 0 is no type of ICMPv6
		o.SrcPort, o.DstPort = 0, r.typeCode
	case !said && r.ports:
		m.Stream.icmp.learn(o.Proto, o.SrcPort, o.DstPort)
		m.typed(o)
	default:
		o.SrcPort, o.DstPort, o.NoType = 0, 0, true
	}
}

// complete computes what several fields mean together.
func (r *reading) complete() {
	o := r.there
	for way, t := range [2]*flow.Observation{o, r.back} {
		if t.End == 0 && t.Start != 0 {
			t.End = t.Start + r.duration[way]
		}
		if t.Packets == 0 && t.Bytes == 0 && r.counts[way] != (amounts{}) {
			t.Packets, t.Bytes, t.Total = r.counts[way].packets, r.counts[way].bytes, true
		}
		t.HasFlags = t.HasFlags && o.Proto == service.TCP && t.Flags != 0
	}
	if o.Packets == 0 && r.dropped.packets > 0 {
		o.Packets, o.Bytes, o.Outcome = r.dropped.packets, r.dropped.bytes, flow.Dropped
	}
	if o.Packets == 0 && o.Bytes > 0 {
		o.Packets = 1 // the exporter does not count them
	}
	scale(o, r.rate)
}

// turn makes the way back an observation of its own.
func (r *reading) turn() {
	o, back := r.there, r.back
	counted := *back
	*back = *o
	back.Src, back.Dst, back.SrcPort, back.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
	back.Packets, back.Bytes, back.Total = max(1, counted.Packets), counted.Bytes, counted.Total
	back.Flags, back.HasFlags = counted.Flags, counted.HasFlags
	if counted.Start != 0 {
		back.Start, back.End = counted.Start, max(counted.Start, counted.End)
	}
	if service.IsICMP(o.Proto) && !o.NoType {
		back.DstPort = answer(o.Proto, o.DstPort)
	}
	switch o.Opener {
	case flow.OpenerUnknown: // who stands first in such a record opened it
		o.Opener, back.Opener = flow.OpenedBySource, flow.OpenedByDestination
	case flow.OpenedBySource:
		back.Opener = flow.OpenedByDestination
	case flow.OpenedByDestination:
		back.Opener = flow.OpenedBySource
	}
	scale(back, r.rate)
}

func scale(o *flow.Observation, rate int64) {
	if rate > 1 {
		o.Packets, o.Bytes = times(o.Packets, rate), times(o.Bytes, rate)
	}
}

// times multiplies without going over.
func times(n, by int64) int64 {
	if n > math.MaxInt64/2/by {
		return math.MaxInt64 / 2
	}
	return n * by
}

// answer returns the type and code with which a message is answered.
func answer(proto uint8, typeCode uint16) uint16 {
	switch t := typeCode >> 8; {
	case proto == service.ICMP && t == 8:
		return 0
	case proto == service.ICMP && (t == 13 || t == 15 || t == 17), proto == service.ICMP6 &&
		(t == 128 || t == 133 || t == 135 || t == 139):
		return (t + 1) << 8
	}
	return typeCode
}
