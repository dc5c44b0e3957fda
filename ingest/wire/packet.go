package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"

	"github.com/gopacket/gopacket/layers"
	"github.com/netsampler/goflow2/v2/decoders/sflow"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

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
			link, known := map[uint32]layers.LinkType{1: layers.LinkTypeEthernet, 11: layers.LinkTypeRaw,
				12: layers.LinkTypeRaw}[x.Protocol]
			ok = known && m.headers.Read(o, link, x.HeaderData, int(min(x.FrameLength, 1<<16)))
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
