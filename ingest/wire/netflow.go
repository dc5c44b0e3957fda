package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"net/netip"

	"github.com/netsampler/goflow2/v2/decoders/netflow"
	"github.com/netsampler/goflow2/v2/decoders/netflowlegacy"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// netFlow5 reads a packet of NetFlow v5: a header of 24 octets and records of 48.
func (m *message) netFlow5(b []byte) error {
	n := int(binary.BigEndian.Uint16(b[2:]))
	if have := (len(b) - 24) / 48; n > have {
		return &Fault{TooShort, fmt.Errorf("%d records are announced, %d are there", n, have)}
	}
	var p netflowlegacy.PacketNetFlowV5
	if err := netflowlegacy.DecodeMessageVersion(bytes.NewBuffer(b[:24+48*n]), &p); err != nil {
		return &Fault{BadContent, err}
	}
	m.sequence(p.FlowSequence, uint32(p.Count), true)
	exported := flow.Micros(int64(p.UnixSecs)*1e6 + int64(p.UnixNSecs)/1000)
	m.clock(exported)
	boot := exported - flow.Micros(p.SysUptime)*1000
	rate := int64(p.SamplingInterval & 0x3fff)
	if rate > 0 {
		m.Sampling = rate
	}
	rate = max(1, rate)
	for i := range p.Records {
		r := &p.Records[i]
		m.Records++
		o := &m.obs
		*o = flow.Observation{
			Src: v4(uint32(r.SrcAddr)), Dst: v4(uint32(r.DstAddr)), SrcPort: r.SrcPort, DstPort: r.DstPort,
			Proto: r.Proto,
			Flags: r.TCPFlags, HasFlags: r.Proto == service.TCP && r.TCPFlags != 0,
			Start: uptime(boot, p.SysUptime, r.First), End: uptime(boot, p.SysUptime, r.Last),
			Packets: int64(r.DPkts) * rate, Bytes: int64(r.DOctets) * rate,
		}
		m.send(o)
	}
	return nil
}

func v4(n uint32) netip.Addr {
	return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
}

// uptime converts milliseconds since the exporter started, which go round after
// 49.7 days: a time that is after the packet's own was before the last round.
func uptime(boot flow.Micros, now, t uint32) flow.Micros {
	at := boot + flow.Micros(t)*1000
	if t > now && t-now > 1<<31 {
		at -= flow.Micros(1<<32) * 1000
	}
	return at
}

func (m *message) netFlow9(b []byte) error {
	if err := m.templates.survey(9, m.Domain, b[20:]); err != nil {
		return &Fault{BadSet, err}
	}
	var p netflow.NFv9Packet
	// goflow2 counts the header's sets; some exporters write the records there: so
	// let it read until the end.
	binary.BigEndian.PutUint16(b[2:], math.MaxUint16)
	err := netflow.DecodeMessageVersion(bytes.NewBuffer(b), m.countUntemplated(), &p, nil)
	m.sequence(p.SequenceNumber, 1, true)
	exported := flow.Micros(int64(p.UnixSeconds) * 1e6)
	m.clock(exported)
	boot := exported - flow.Micros(p.SystemUptime)*1000
	m.sets(p.FlowSets, func(t uint32) flow.Micros { return uptime(boot, p.SystemUptime, t) })
	return m.fault(err)
}

func (m *message) ipfix(b []byte) error {
	if n := int(binary.BigEndian.Uint16(b[2:])); n < 16 || n > len(b) {
		return &Fault{TooShort, fmt.Errorf("the message says it has %d octets, %d are there", n, len(b))}
	} else {
		b = b[:n]
	}
	if err := m.templates.survey(10, m.Domain, b[16:]); err != nil {
		return &Fault{BadSet, err}
	}
	var p netflow.IPFIXPacket
	var err error
	untemplated := m.Untemplated
	if len(b) > 16 {
		err = netflow.DecodeMessageVersion(bytes.NewBuffer(b), m.countUntemplated(), nil, &p)
	} else {
		p.SequenceNumber, p.ExportTime = binary.BigEndian.Uint32(b[8:]), binary.BigEndian.Uint32(b[4:])
	}
	before := m.Records + m.Options
	m.clock(flow.Micros(int64(p.ExportTime) * 1e6))
	m.sets(p.FlowSets, nil)
	m.sequence(p.SequenceNumber, uint32(m.Records+m.Options-before), err == nil && untemplated == m.Untemplated)
	return m.fault(err)
}

// countUntemplated gives the templates, so that those that are not there are
// counted.
func (m *message) countUntemplated() netflow.NetFlowTemplateSystem {
	return &countingTemplates{&m.templates, m.Stream}
}

type countingTemplates struct {
	*templates
	stream *Stream
}

func (c *countingTemplates) GetTemplate(version uint16, domain uint32, id uint16) (any, error) {
	t, err := c.templates.GetTemplate(version, domain, id)
	if err != nil {
		c.stream.Untemplated++
	}
	return t, err
}

func (m *message) fault(err error) error {
	if err == nil || errors.Is(err, errTemplate) {
		return nil // counted; the template will come
	}
	var f *netflow.FlowError
	if errors.As(err, &f) && (f.TemplateId < 4) {
		return &Fault{BadTemplate, f.Err}
	}
	return &Fault{BadContent, err}
}

func (m *message) sets(sets []any, uptime func(uint32) flow.Micros) {
	for _, set := range sets {
		switch x := set.(type) {
		case netflow.DataFlowSet:
			for i := range x.Records {
				m.Records++
				m.record(x.Records[i].Values, uptime)
			}
		case netflow.OptionsDataFlowSet:
			for i := range x.Records {
				m.Options++
				m.option(x.Records[i])
			}
		}
	}
}

// option takes what an exporter says of its sampling (RFC 5477, §8.2; RFC 3954).
func (m *message) option(r netflow.OptionsDataRecord) {
	var sampler uint64
	var rate, interval, space, size, population int64
	for _, fs := range [][]netflow.DataField{r.ScopesValues, r.OptionsValues} {
		for _, f := range fs {
			v, _ := f.Value.([]byte)
			if f.PenProvided || len(v) > 8 {
				continue
			}
			n := int64(number(v) & math.MaxInt64)
			switch f.Type {
			case netflow.IPFIX_FIELD_samplerId, netflow.IPFIX_FIELD_selectorId:
				sampler = number(v)
			case netflow.IPFIX_FIELD_samplingInterval, netflow.IPFIX_FIELD_samplerRandomInterval:
				rate = n
			case netflow.IPFIX_FIELD_samplingPacketInterval:
				interval = n
			case netflow.IPFIX_FIELD_samplingPacketSpace:
				space = n
			case netflow.IPFIX_FIELD_samplingSize:
				size = n
			case netflow.IPFIX_FIELD_samplingPopulation:
				population = n
			}
		}
	}
	if rate == 0 && interval > 0 { // so many of so many are taken
		rate = (interval + space + interval/2) / interval
	}
	if rate == 0 && size > 0 {
		rate = (population + size/2) / size
	}
	if rate <= 0 || rate > math.MaxInt32 {
		return
	}
	if _, known := m.rates[sampler]; known || len(m.rates) < 64 {
		m.rates[sampler] = rate
	}
	m.Sampling = rate
}

// number reads an unsigned integer that may have fewer octets than its type
// (RFC 7011, §6.2).
func number(b []byte) uint64 {
	var n uint64
	for _, x := range b {
		n = n<<8 | uint64(x)
	}
	return n
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

// reverse is the enterprise number under which the elements of the way back
// stand (RFC 5103, §6.1).
const reverse = 29305

// record makes a data record into one observation, or into two where it has the
// way back.
func (m *message) record(fields []netflow.DataField, uptime func(uint32) flow.Micros) {
	o, back := &m.obs, &m.back
	*o, *back = flow.Observation{NoType: true}, flow.Observation{}
	var rate int64
	var total [2][2]int64 // [there, back][packets, bytes] since the beginning
	var dropped [2]int64  // packets, bytes
	var duration, delta [2]flow.Micros
	var both bool
	for i := range fields {
		f := &fields[i]
		v, _ := f.Value.([]byte)
		if len(v) == 0 {
			continue
		}
		if f.PenProvided && f.Pen != reverse {
			continue
		}
		var n uint64
		if len(v) <= 8 {
			n = number(v)
		}
		amount := int64(min(n, math.MaxInt64>>8))
		t, way := o, 0
		if f.PenProvided {
			t, way, both = back, 1, true
		}
		switch f.Type {
		case netflow.IPFIX_FIELD_sourceIPv4Address, netflow.IPFIX_FIELD_sourceIPv6Address:
			if a, ok := netip.AddrFromSlice(v); ok && (!o.Src.IsValid() || !a.IsUnspecified()) {
				o.Src = a
			}
		case netflow.IPFIX_FIELD_destinationIPv4Address, netflow.IPFIX_FIELD_destinationIPv6Address:
			if a, ok := netip.AddrFromSlice(v); ok && (!o.Dst.IsValid() || !a.IsUnspecified()) {
				o.Dst = a
			}
		case netflow.IPFIX_FIELD_protocolIdentifier:
			o.Proto = uint8(n)
		case netflow.IPFIX_FIELD_sourceTransportPort, netflow.IPFIX_FIELD_udpSourcePort,
			netflow.IPFIX_FIELD_tcpSourcePort:
			o.SrcPort = uint16(n)
		case netflow.IPFIX_FIELD_destinationTransportPort, netflow.IPFIX_FIELD_udpDestinationPort,
			netflow.IPFIX_FIELD_tcpDestinationPort:
			if o.DstPort == 0 {
				o.DstPort = uint16(n)
			}
			o.NoType = false
		case netflow.IPFIX_FIELD_icmpTypeCodeIPv4, netflow.IPFIX_FIELD_icmpTypeCodeIPv6:
			if n != 0 || o.DstPort == 0 {
				o.DstPort = uint16(n)
			}
			o.NoType = false
		case netflow.IPFIX_FIELD_icmpTypeIPv4, netflow.IPFIX_FIELD_icmpTypeIPv6:
			o.DstPort, o.NoType = o.DstPort&0xff|uint16(n)<<8, false
		case netflow.IPFIX_FIELD_icmpCodeIPv4, netflow.IPFIX_FIELD_icmpCodeIPv6:
			o.DstPort = o.DstPort&0xff00 | uint16(n)&0xff
		case netflow.IPFIX_FIELD_tcpControlBits:
			t.Flags, t.HasFlags = uint8(n), true
		case netflow.IPFIX_FIELD_octetDeltaCount, netflow.IPFIX_FIELD_initiatorOctets:
			t.Bytes = amount
		case netflow.IPFIX_FIELD_packetDeltaCount, netflow.IPFIX_FIELD_initiatorPackets:
			t.Packets = amount
		case netflow.IPFIX_FIELD_responderOctets:
			back.Bytes, both = amount, true
		case netflow.IPFIX_FIELD_responderPackets:
			back.Packets, both = amount, true
		case netflow.IPFIX_FIELD_packetTotalCount:
			total[way][0] = amount
		case netflow.IPFIX_FIELD_octetTotalCount:
			total[way][1] = amount
		case netflow.IPFIX_FIELD_droppedPacketDeltaCount:
			dropped[0] = amount
		case netflow.IPFIX_FIELD_droppedOctetDeltaCount:
			dropped[1] = amount
		case netflow.IPFIX_FIELD_flowStartSysUpTime:
			if uptime != nil {
				t.Start = uptime(uint32(n))
			}
		case netflow.IPFIX_FIELD_flowEndSysUpTime:
			if uptime != nil {
				t.End = uptime(uint32(n))
			}
		case netflow.IPFIX_FIELD_flowStartSeconds, netflow.IPFIX_FIELD_observationTimeSeconds:
			t.Start = flow.Micros(min(n, math.MaxUint32)) * 1e6
		case netflow.IPFIX_FIELD_flowEndSeconds:
			t.End = flow.Micros(min(n, math.MaxUint32)) * 1e6
		case netflow.IPFIX_FIELD_flowStartMilliseconds, netflow.IPFIX_FIELD_observationTimeMilliseconds:
			t.Start = flow.Micros(min(n, 1<<43)) * 1000
		case netflow.IPFIX_FIELD_flowEndMilliseconds:
			t.End = flow.Micros(min(n, 1<<43)) * 1000
		case netflow.IPFIX_FIELD_flowStartMicroseconds, netflow.IPFIX_FIELD_flowStartNanoseconds,
			netflow.IPFIX_FIELD_observationTimeMicroseconds, netflow.IPFIX_FIELD_observationTimeNanoseconds:
			t.Start = ntp(v)
		case netflow.IPFIX_FIELD_flowEndMicroseconds, netflow.IPFIX_FIELD_flowEndNanoseconds:
			t.End = ntp(v)
		case netflow.IPFIX_FIELD_flowStartDeltaMicroseconds:
			delta[0] = flow.Micros(min(n, math.MaxUint32))
		case netflow.IPFIX_FIELD_flowEndDeltaMicroseconds:
			delta[1] = flow.Micros(min(n, math.MaxUint32))
		case netflow.IPFIX_FIELD_flowDurationMilliseconds:
			duration[way] = flow.Micros(min(n, math.MaxUint32)) * 1000
		case netflow.IPFIX_FIELD_flowDurationMicroseconds:
			duration[way] = flow.Micros(min(n, math.MaxUint32))
		case netflow.IPFIX_FIELD_flowDirection:
			o.Observer = int32(n & 1)
		case netflow.IPFIX_FIELD_forwardingStatus: // RFC 7270, §4.12: the two highest bits of the last octet
			switch v[len(v)-1] >> 6 {
			case 1, 3:
				o.Outcome = flow.Carried
			case 2:
				o.Outcome = flow.Dropped
			}
		case netflow.IPFIX_FIELD_firewallEvent:
			switch n {
			case 1, 2, 5: // created, deleted, updated
				o.Outcome = flow.Carried
			case 3:
				o.Outcome = flow.Dropped
			}
		case netflow.IPFIX_FIELD_biflowDirection: // RFC 5103, §6.3
			switch n {
			case 1:
				o.Opener = flow.OpenedBySource
			case 2:
				o.Opener = flow.OpenedByDestination
			}
		case netflow.IPFIX_FIELD_samplingInterval, netflow.IPFIX_FIELD_samplerRandomInterval:
			rate = amount
		case netflow.IPFIX_FIELD_samplerId, netflow.IPFIX_FIELD_selectorId:
			if r := m.rates[n]; r > 0 && rate == 0 {
				rate = r
			}
		}
	}
	if rate == 0 {
		rate = m.Stream.Sampling
	}
	rate = max(1, min(rate, math.MaxInt32))
	if delta != [2]flow.Micros{} {
		exported := m.now - m.Behind
		o.Start, o.End = exported-delta[0], exported-delta[1]
	}
	for way, t := range []*flow.Observation{o, back} {
		if t.End == 0 && t.Start != 0 {
			t.End = t.Start + duration[way]
		}
		if t.Packets == 0 && t.Bytes == 0 && total[way] != [2]int64{} {
			t.Packets, t.Bytes, t.Total = total[way][0], total[way][1], true
		}
		t.HasFlags = t.HasFlags && o.Proto == service.TCP && t.Flags != 0
	}
	if o.Packets == 0 && dropped[0] > 0 {
		o.Packets, o.Bytes, o.Outcome = dropped[0], dropped[1], flow.Dropped
	}
	if o.Packets == 0 && o.Bytes > 0 {
		o.Packets = 1 // the exporter does not count them
	}
	scale(o, rate)
	if both && back.Packets+back.Bytes > 0 {
		both := *back
		*back = *o
		back.Src, back.Dst, back.SrcPort, back.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
		back.Packets, back.Bytes, back.Flags, back.HasFlags, back.Total = max(1, both.Packets), both.Bytes,
			both.Flags, both.HasFlags, both.Total
		if both.Start != 0 {
			back.Start, back.End = both.Start, max(both.Start, both.End)
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
		scale(back, rate)
		m.send(o)
		m.send(back)
		return
	}
	m.send(o)
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

// answer gives the type and code with which a message is answered.
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
