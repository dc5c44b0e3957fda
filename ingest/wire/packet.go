package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/netsampler/goflow2/v2/decoders/sflow"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Headers reads the headers of packets. It is not safe for concurrent use.
type Headers struct {
	parsers map[gopacket.LayerType]*gopacket.DecodingLayerParser
	found   []gopacket.LayerType
	ip4     layers.IPv4
	ip6     layers.IPv6
	tcp     layers.TCP
	udp     layers.UDP
	sctp    layers.SCTP
	icmp4   layers.ICMPv4
	icmp6   layers.ICMPv6
}

// NewHeaders makes one.
func NewHeaders() *Headers {
	h := &Headers{parsers: map[gopacket.LayerType]*gopacket.DecodingLayerParser{}}
	for _, first := range []gopacket.LayerType{layers.LayerTypeEthernet, layers.LayerTypeIPv4, layers.LayerTypeIPv6,
		layers.LayerTypeLoopback, layers.LayerTypeLinuxSLL} {
		p := gopacket.NewDecodingLayerParser(first, &layers.Ethernet{}, &layers.Dot1Q{}, &layers.Loopback{},
			&layers.LinuxSLL{}, &layers.IPv6ExtensionSkipper{},
			&h.ip4, &h.ip6, &h.tcp, &h.udp, &h.sctp, &h.icmp4, &h.icmp6)
		p.IgnoreUnsupported = true
		h.parsers[first] = p
	}
	return h
}

// FirstLayer gives what the packets of a capture begin with, by its link type;
// raw ones by their version.
func FirstLayer(link layers.LinkType, data []byte) gopacket.LayerType {
	switch link {
	case layers.LinkTypeEthernet:
		return layers.LayerTypeEthernet
	case layers.LinkTypeNull, layers.LinkTypeLoop:
		return layers.LayerTypeLoopback
	case layers.LinkTypeLinuxSLL:
		return layers.LayerTypeLinuxSLL
	// raw IP has other numbers in old files
	case layers.LinkTypeRaw, layers.LinkTypeIPv4, layers.LinkTypeIPv6, 12, 14:
		if len(data) > 0 && data[0]>>4 == 6 {
			return layers.LayerTypeIPv6
		}
		return layers.LayerTypeIPv4
	}
	return gopacket.LayerTypeZero
}

// Read makes an observation of one packet whose headers begin with a layer of
// the given type; octets is its length on the wire. It reports whether there
// are addresses in it. A header that is cut short gives what was read before.
func (h *Headers) Read(o *flow.Observation, first gopacket.LayerType, header []byte, octets int) bool {
	p := h.parsers[first]
	if p == nil {
		return false
	}
	*o = flow.Observation{Packet: true, Packets: 1, Bytes: int64(octets), NoType: true}
	_ = p.DecodeLayers(header, &h.found) // what was found before the fault counts
	for _, t := range h.found {
		switch t {
		case layers.LayerTypeIPv4:
			o.Src, _ = netip.AddrFromSlice(h.ip4.SrcIP.To4())
			o.Dst, _ = netip.AddrFromSlice(h.ip4.DstIP.To4())
			o.Proto = uint8(h.ip4.Protocol)
			o.Bytes = max(int64(h.ip4.Length), 20)
		case layers.LayerTypeIPv6:
			o.Src, _ = netip.AddrFromSlice(h.ip6.SrcIP)
			o.Dst, _ = netip.AddrFromSlice(h.ip6.DstIP)
			o.Proto = uint8(h.ip6.NextHeader)
			o.Bytes = 40 + int64(h.ip6.Length)
		case layers.LayerTypeTCP:
			o.Proto, o.SrcPort, o.DstPort, o.HasFlags = service.TCP, uint16(h.tcp.SrcPort), uint16(h.tcp.DstPort),
				true
			for _, f := range []struct {
				on  bool
				bit uint8
			}{{h.tcp.FIN, flow.FIN}, {h.tcp.SYN, flow.SYN}, {h.tcp.RST, flow.RST}, {h.tcp.PSH, flow.PSH},
				{h.tcp.ACK, flow.ACK}} {
				if f.on {
					o.Flags |= f.bit
				}
			}
		case layers.LayerTypeUDP:
			o.Proto, o.SrcPort, o.DstPort = service.UDP, uint16(h.udp.SrcPort), uint16(h.udp.DstPort)
		case layers.LayerTypeSCTP:
			o.Proto, o.SrcPort, o.DstPort = service.SCTP, uint16(h.sctp.SrcPort), uint16(h.sctp.DstPort)
		case layers.LayerTypeICMPv4:
			o.Proto, o.DstPort, o.NoType = service.ICMP, uint16(h.icmp4.TypeCode), false
		case layers.LayerTypeICMPv6:
			o.Proto, o.DstPort, o.NoType = service.ICMP6, uint16(h.icmp6.TypeCode), false
		}
	}
	return o.Src.IsValid() && o.Dst.IsValid()
}

// sFlow reads a datagram of sFlow v5: samples of packets, each for as many as
// the sampling rate says. Counters are passed over.
func (m *message) sFlow(b []byte) error {
	at := 12
	if binary.BigEndian.Uint32(b[4:]) == 2 {
		at = 24
	}
	if len(b) < at+16 {
		return &Fault{TooShort, fmt.Errorf("%d octets, expected a header of %d", len(b), at+16)}
	}
	// A count that cannot be true makes no room for itself.
	if n := binary.BigEndian.Uint32(b[at+12:]); int(n) > (len(b)-at-16)/8 {
		return &Fault{TooShort, fmt.Errorf("%d samples are announced in %d octets", n, len(b))}
	}
	var p sflow.Packet
	err := sflow.DecodeMessageVersion(bytes.NewBuffer(b), &p)
	m.sequence(p.SequenceNumber, 1, true)
	m.Behind = 0 // the datagram has no clock
	for _, s := range p.Samples {
		switch x := s.(type) {
		case sflow.FlowSample:
			m.samples(x.Records, x.SamplingRate, flow.Unknown, x.Output)
		case sflow.ExpandedFlowSample:
			output := x.OutputIfValue | x.OutputIfFormat<<30
			m.samples(x.Records, x.SamplingRate, flow.Unknown, output)
		case sflow.DropSample:
			m.samples(x.Records, 1, flow.Dropped, 0)
		}
	}
	if err != nil {
		if errors.Is(err, bytes.ErrTooLarge) {
			return &Fault{TooShort, err}
		}
		return &Fault{BadContent, err}
	}
	return nil
}

// samples takes the records of one sample: the header of a packet, or its
// addresses. An output whose two highest bits are 01 was discarded.
func (m *message) samples(records []sflow.FlowRecord, rate uint32, outcome flow.Outcome, output uint32) {
	if output>>30 == 1 {
		outcome = flow.Dropped
	}
	if rate > 1 {
		m.Sampling = int64(rate)
	}
	if m.headers == nil {
		m.headers = NewHeaders()
	}
	for _, r := range records {
		o := &m.obs
		ok := false
		switch x := r.Data.(type) {
		case sflow.SampledHeader:
			m.Records++
			first := map[uint32]gopacket.LayerType{1: layers.LayerTypeEthernet, 11: layers.LayerTypeIPv4,
				12: layers.LayerTypeIPv6}[x.Protocol]
			ok = m.headers.Read(o, first, x.HeaderData, int(min(x.FrameLength, 1<<16)))
		case sflow.SampledIPv4:
			m.Records++
			ok = m.sampledIP(o, x.SampledIPBase)
		case sflow.SampledIPv6:
			m.Records++
			ok = m.sampledIP(o, x.SampledIPBase)
		default:
			continue
		}
		if !ok {
			m.NoFlow++
			continue
		}
		o.Start, o.End, o.Outcome = m.now, m.now, outcome
		scale(o, int64(max(1, rate)))
		m.send(o)
		return // further records speak of the same packet
	}
}

func (m *message) sampledIP(o *flow.Observation, x sflow.SampledIPBase) bool {
	*o = flow.Observation{Packet: true, Packets: 1, Bytes: int64(min(x.Length, 1<<16)), Proto: uint8(x.Protocol),
		SrcPort: uint16(x.SrcPort), DstPort: uint16(x.DstPort), Flags: uint8(x.TcpFlags)}
	o.HasFlags = o.Proto == service.TCP
	o.Src, _ = netip.AddrFromSlice(x.SrcIP)
	o.Dst, _ = netip.AddrFromSlice(x.DstIP)
	return o.Src.IsValid() && o.Dst.IsValid()
}
