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
	boot := m.started(exported-flow.Micros(p.SysUptime)*1000, 2*cutUptime)
	rate := int64(p.SamplingInterval & 0x3fff)
	if rate > 0 {
		m.Sampling = rate
	}
	rate = max(1, rate)
	for i := range p.Records { // one may say how the others are read
		if r := &p.Records[i]; service.IsICMP(r.Proto) {
			m.Stream.icmp.learn(r.Proto, r.SrcPort, r.DstPort)
		}
	}
	for i := range p.Records {
		r := &p.Records[i]
		m.Records++
		o := &m.obs
		*o = flow.Observation{
			Src: v4(uint32(r.SrcAddr)), Dst: v4(uint32(r.DstAddr)), SrcPort: r.SrcPort, DstPort: r.DstPort,
			Proto: r.Proto,
			Flags: r.TCPFlags, HasFlags: r.Proto == service.TCP && r.TCPFlags != 0,
			Start: uptime(boot, p.SysUptime, r.First), End: uptime(boot, p.SysUptime, r.Last),
			Packets: int64(r.DPkts) * rate, Bytes: int64(r.DOctets) * rate, Blur: m.blur,
		}
		if service.IsICMP(o.Proto) {
			m.typed(o)
		}
		m.send(o)
	}
	return nil
}

// netFlow7 reads a packet of NetFlow v7, which switches send: as of v5, with a header that
// names neither an engine nor a sampling, and 4 octets more in each record: the router that
// is passed by.
func (m *message) netFlow7(b []byte) error {
	const long, short = 52, 48
	n := int(binary.BigEndian.Uint16(b[2:]))
	if have := (len(b) - 24) / long; n > have {
		return &Fault{TooShort, fmt.Errorf("%d records are announced, %d are there", n, have)}
	}
	as5 := append(make([]byte, 0, 24+short*n), b[:24]...)
	binary.BigEndian.PutUint16(as5, 5)
	clear(as5[20:24])
	for i := range n {
		as5 = append(as5, b[24+long*i:][:short]...)
	}
	return m.netFlow5(as5)
}

const (
	// cutUptime is by how much the time since the start of an exporter, which is cut to the
	// millisecond, and the clock of the same header may be read apart.
	cutUptime   = flow.Micros(2000)
	wholeSecond = flow.Micros(1e6)
)

// started returns when an exporter started: by what its headers say, each a little other, as
// their clock is cut to the second, or read a little later than their time since the start.
// As long as they differ by no more it is what it was: so times of different messages are
// in the order in which they were, and who was heard first is not who was told of in which
// message.
func (m *message) started(boot, cut flow.Micros) flow.Micros {
	s := m.Stream
	if apart := boot - s.boot; s.boot == 0 || max(apart, -apart) > cut {
		if s.boot != 0 {
			s.moved, s.movedAt = max(apart, -apart), s.Messages
		}
		s.boot = boot
	}
	// What is counted in milliseconds since the start is read off two clocks, each cut.
	if m.blur = cutUptime; s.moved > 0 && s.Messages-s.movedAt < unsettled {
		m.blur += s.moved
	}
	return s.boot
}

// unsettled is for how many messages the times of an exporter whose start has moved are
// held against those that it sent before.
const unsettled = 256

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
	boot := m.started(exported-flow.Micros(p.SystemUptime)*1000, wholeSecond+cutUptime)
	m.sets(p.FlowSets, func(t uint32, _ flow.Micros) flow.Micros {
		m.obs.Blur = m.blur
		return uptime(boot, p.SystemUptime, t)
	})
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
	exported := flow.Micros(int64(p.ExportTime) * 1e6)
	m.clock(exported)
	m.sets(p.FlowSets, func(t uint32, boot flow.Micros) flow.Micros {
		at := m.sinceBoot(t, boot, exported)
		m.obs.Blur = m.blur
		return at
	})
	m.sequence(p.SequenceNumber, uint32(m.Records+m.Options-before), err == nil && untemplated == m.Untemplated)
	return m.fault(err)
}

// countUntemplated returns the templates, so that those that are not there are
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

// sinceBoot converts a time of IPFIX that counts from the start of the exporter. That start
// is in the record or was in an option (systemInitTimeMilliseconds). Else it is estimated:
// what an exporter sends has just ended, so the start is no later than the export less the
// latest end that was ever sent.
func (m *message) sinceBoot(t uint32, boot, exported flow.Micros) flow.Micros {
	s := m.Stream
	if boot == 0 {
		boot = s.init
	}
	if boot != 0 {
		boot = m.started(boot, cutUptime)
	} else {
		latest := exported - flow.Micros(t)*1000
		if s.guess == 0 || latest < s.guess || latest-s.guess > restarted {
			s.guess = latest
		}
		boot = m.started(s.guess, wholeSecond)
	}
	const round = flow.Micros(1<<32) * 1000 // after which the count begins anew
	at := boot + flow.Micros(t)*1000
	if behind := exported - at; behind > round/2 {
		at += (behind + round/2) / round * round
	}
	return at
}

// restarted is from how long before its export on a record is rather of an exporter that
// has started anew than so old.
const restarted = flow.Micros(2 * 3600e6)

func (m *message) sets(sets []any, uptime uptimes) {
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
			case netflow.IPFIX_FIELD_systemInitTimeMilliseconds:
				m.Stream.init = value{n: number(v)}.millis()
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

// reverse is the enterprise number under which the elements of the way back
// stand (RFC 5103, §6.1).
const reverse = 29305
