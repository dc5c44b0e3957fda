// Package wire reads what exporters send: IPFIX (RFC 7011), NetFlow v5 and v9,
// and sFlow v5, into observations. The octets are taken apart by goflow2's
// decoders; what they mean, and what may be kept of whom, is settled here.
//
// It must not know of sockets, clocks or databases: the collector and the
// import of files both use it. Start reading at Decoder.
package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"

	"github.com/netsampler/goflow2/v2/decoders/netflow"

	"lucidorchard/core/flow"
)

// Protocol is what a packet is written in.
type Protocol uint8

// The protocols. The zero value is none.
const (
	none Protocol = iota
	NetFlow5
	NetFlow9
	IPFIX
	SFlow5
	NetFlow7
)

func (p Protocol) String() string {
	return [...]string{"unknown", "NetFlow v5", "NetFlow v9", "IPFIX", "sFlow v5", "NetFlow v7"}[p]
}

// Stream is what one exporter sends in one protocol from one observation domain
// (the source id of NetFlow v9, the engine of v5, the sub-agent of sFlow).
type Stream struct {
	Protocol Protocol
	Domain   uint32
	Number   int32 // of this stream among those of the decoder, from 0

	Messages    int64
	Records     int64 // data records that were read
	Options     int64 // records that speak of the exporter
	NoFlow      int64 // records without addresses or protocol
	Untemplated int64 // sets that came before their template
	Missed      int64 // by the sequence numbers, in units of Unit
	Restarts    int64
	Late        int64         // packets that came after later ones
	Repeated    int64         // records of packets that came once more
	Sampling    int64         // one of so many, as last told; 0 is not told
	Behind      flow.Micros   // arrival less the exporter's clock, of the last packet
	Templates   []uint16      // numbers of those that are known
	Bad         map[Why]int64 // packets that could not be read to their end, by the reason

	boot       flow.Micros // when the exporter started, by its headers
	init       flow.Micros // the same, as an option of IPFIX says it; 0: none does
	guess      flow.Micros // the same, as it is estimated where nothing says it
	icmp       habit
	remembered Habit       // from before the program ended
	moved      flow.Micros // by how much that changed last
	movedAt    int64       // in which message
	expected   uint32
	expecting  bool
	rates      map[uint64]int64 // by sampler
	overtaken  bool             // the last packet came late
	after      uint32           // what would follow it
	found      int64            // what it took off Missed
	lanes      [4]uint32        // what would follow the last packets that did not follow the one before
	lane       int              // where the next goes
	before     uint32           // what would follow the last packet
	jumps      float64          // share of the last packets that go on from an earlier one instead
	copies     [mostCopies]sent // of the last packets
	copied     int              // how many there were
}

// mostCopies is among how many of the last packets of a stream one is looked for that
// comes once more.
const mostCopies = 256

// sent is a packet that was read, by the hash of all that is in it: its number and its time
// as well, so that no two are alike.
type sent struct {
	hash    uint64
	records int64
}

// again reports whether a packet was read before: a network may deliver it twice.
func (s *Stream) again(hash uint64) bool {
	for i := range min(s.copied, mostCopies) {
		if s.copies[i].hash == hash {
			s.Repeated += s.copies[i].records
			return true
		}
	}
	return false
}

func (s *Stream) remember(hash uint64, records int64) {
	s.copies[s.copied%mostCopies] = sent{hash, records}
	s.copied++
}

var hashed = maphash.MakeSeed()

// Unit returns what the sequence numbers of a protocol count.
func (p Protocol) Unit() string {
	if p == NetFlow5 || p == NetFlow7 || p == IPFIX {
		return "records"
	}
	return "packets"
}

// Why is a kind of fault.
type Why string

// The kinds.
const (
	TooShort    Why = "cut short"
	BadVersion  Why = "unknown version"
	BadTemplate Why = "a template that cannot be used"
	BadSet      Why = "sets that do not fit the message"
	BadContent  Why = "content that cannot be read"
	TooMany     Why = "more observation domains than are kept"
)

// Fault is why a packet could not be read to its end.
type Fault struct {
	Why Why
	Err error
}

func (f *Fault) Error() string {
	if f.Err == nil {
		return string(f.Why)
	}
	return string(f.Why) + ": " + f.Err.Error()
}

func (f *Fault) Unwrap() error { return f.Err }

// Decoder reads the packets of one exporter, in the order in which they come.
// What it keeps is bounded. It is not safe for concurrent use.
type Decoder struct {
	// Number assigns to a stream the number that its observations carry; nil numbers
	// them from 0. An observation's observer is twice the number, plus 1 if it was
	// seen on the way out.
	Number func(Protocol, uint32) int32
	// Begin returns the sequence number that a new stream should begin with, if one
	// is known from before the program ended, so that what was missed meanwhile is
	// counted. Nil: none is.
	Begin func(Protocol, uint32) (expected uint32, known bool)
	// Habit returns where a new stream writes the types of ICMP messages, if it has shown that
	// before the program ended. Nil: nothing is known.
	Habit func(Protocol, uint32) Habit
	// ICMP returns what people have said of where the exporter writes types; nil: nothing.
	ICMP func() Habit
	// Shift moves the times of an exporter whose clock is off by more than half a
	// minute by as much: for packets that come as they are sent, not for files.
	Shift bool
	// Arrived, if set, returns when the packet that is read arrived, given the time in its
	// header: where this machine's clock was set wrong, the exporter may show that.
	Arrived func(exported flow.Micros) flow.Micros

	templates templates
	streams   map[streamKey]*Stream
	// Unread counts packets that belong to no stream, by the reason.
	Unread map[Why]int64

	obs, back flow.Observation
	reading   reading
	scratch   []byte
	headers   *Headers
}

type streamKey struct {
	protocol Protocol
	domain   uint32
}

// NewDecoder makes one that knows no templates.
func NewDecoder() *Decoder {
	return &Decoder{templates: templates{map[templateKey]any{}}, streams: map[streamKey]*Stream{},
		Unread: map[Why]int64{}}
}

// Streams returns what was read, in the order of numbers.
func (d *Decoder) Streams() []*Stream {
	out := slices.Collect(maps.Values(d.streams))
	for _, s := range out {
		s.Templates = s.Templates[:0]
		version := map[Protocol]uint16{NetFlow9: 9, IPFIX: 10}[s.Protocol]
		for k := range d.templates.kept {
			if k.version == version && k.domain == s.Domain {
				s.Templates = append(s.Templates, k.id)
			}
		}
		slices.Sort(s.Templates)
	}
	slices.SortFunc(out, func(a, b *Stream) int { return int(a.Number - b.Number) })
	return out
}

// Decode reads a packet that came at now. What it could read is given to emit,
// which may keep nothing of it; a fault is counted and returned.
func (d *Decoder) Decode(packet []byte, now flow.Micros, emit func(*flow.Observation)) (fault *Fault) {
	var s *Stream
	defer func() {
		if r := recover(); r != nil { // a decoder that gives up must not take the collector with it
			fault = &Fault{BadContent, fmt.Errorf("%v", r)}
		}
		if fault == nil {
			return
		}
		if s == nil {
			d.Unread[fault.Why]++
			return
		}
		s.Bad[fault.Why]++
	}()
	protocol, domain, fault := header(packet)
	if fault != nil {
		return fault
	}
	if s = d.stream(protocol, domain); s == nil {
		return &Fault{TooMany, nil}
	}
	hash := maphash.Bytes(hashed, packet)
	if s.again(hash) {
		return nil
	}
	s.Messages++
	before := s.Records
	defer func() { s.remember(hash, s.Records-before) }()
	// The decoders' records point into the packet, which may be written over.
	d.scratch = append(d.scratch[:0], packet...)
	m := message{Decoder: d, Stream: s, now: now, emit: emit}
	err := m.decode(protocol)
	if err == nil {
		return nil
	}
	if !errors.As(err, &fault) {
		fault = &Fault{BadContent, err}
	}
	return fault
}

// header reads which protocol a packet is of, and the observation domain or agent that it
// names.
func header(packet []byte) (protocol Protocol, domain uint32, fault *Fault) {
	if len(packet) < 4 {
		return none, 0, &Fault{TooShort, fmt.Errorf("%d octets", len(packet))}
	}
	need := 0
	switch version := binary.BigEndian.Uint16(packet); version {
	case 5:
		protocol, need = NetFlow5, 24
	case 7:
		protocol, need = NetFlow7, 24
	case 9:
		protocol, need = NetFlow9, 20
	case 10:
		protocol, need = IPFIX, 16
	case 0:
		protocol, need = SFlow5, 28
		if v := binary.BigEndian.Uint32(packet); v != 5 {
			return none, 0, &Fault{BadVersion, fmt.Errorf("found sFlow version %d, expected 5", v)}
		}
	default:
		return none, 0, &Fault{BadVersion, fmt.Errorf("found version %d, expected 5, 7, 9 or 10, or sFlow 5", version)}
	}
	if len(packet) < need {
		return none, 0, &Fault{TooShort, fmt.Errorf("%d octets, expected a header of %d", len(packet), need)}
	}
	switch protocol {
	case NetFlow5:
		domain = uint32(binary.BigEndian.Uint16(packet[20:]))
	case NetFlow9:
		domain = binary.BigEndian.Uint32(packet[16:])
	case IPFIX:
		domain = binary.BigEndian.Uint32(packet[12:])
	case SFlow5:
		at := 12
		if binary.BigEndian.Uint32(packet[4:]) == 2 {
			at = 24
		}
		domain = binary.BigEndian.Uint32(packet[at:])
	}
	return protocol, domain, nil
}

func (m *message) decode(protocol Protocol) error {
	switch protocol {
	case NetFlow5:
		return m.netFlow5(m.scratch)
	case NetFlow7:
		return m.netFlow7(m.scratch)
	case NetFlow9:
		return m.netFlow9(m.scratch)
	case IPFIX:
		return m.ipfix(m.scratch)
	case SFlow5:
		return m.sFlow(m.scratch)
	}
	return nil
}

func (d *Decoder) stream(p Protocol, domain uint32) *Stream {
	k := streamKey{p, domain}
	s := d.streams[k]
	if s == nil && len(d.streams) < mostDomains {
		s = &Stream{Protocol: p, Domain: domain, Number: int32(len(d.streams)), Bad: map[Why]int64{},
			rates: map[uint64]int64{}}
		if d.Number != nil {
			s.Number = d.Number(p, domain)
		}
		if d.Begin != nil {
			s.expected, s.expecting = d.Begin(p, domain)
		}
		if d.Habit != nil {
			s.remembered = d.Habit(p, domain)
		}
		d.streams[k] = s
	}
	return s
}

// Expected returns the sequence number that comes next, if one is known.
func (s *Stream) Expected() (uint32, bool) { return s.expected, s.expecting }

// lateBy is by how much a sequence number may go back for a packet that was
// overtaken; more is an exporter that began anew.
const lateBy = 20_000

// Mixed reports whether two exporters send in the name of one: their numbers alternate, so
// that what was missed cannot be told.
func (s *Stream) Mixed() bool { return s.jumps > mixed }

const (
	// mixed is the share of packets from which on two exporters are more likely than packets
	// that overtake each other.
	mixed = 0.15
	// weighed is how much one packet counts in that share: it takes a hundred or so.
	weighed = 1.0 / 128
)

// alternates notes whether a packet goes on from the one before, or from an earlier one.
func (s *Stream) alternates(n, units uint32) {
	jump := 0.0
	if s.Messages > 1 && n != s.before {
		at := slices.Index(s.lanes[:], n)
		if at >= 0 {
			jump = 1
		}
		s.lanes[s.lane%len(s.lanes)] = s.before
		s.lane++
	}
	s.jumps += (jump - s.jumps) * weighed
	s.before = n + units
}

// sequence compares a sequence number with the expected one. units is what the
// packet adds; without known is whether that could be counted.
func (s *Stream) sequence(n, units uint32, known bool) {
	s.alternates(n, units)
	if s.expecting {
		switch ahead := int32(n - s.expected); {
		case ahead > 0:
			s.Missed += int64(ahead)
		case ahead < 0 && ahead > -lateBy && s.Messages > 1:
			if s.overtaken && n == s.after { // two in a row that go on from each other: it began anew
				s.Late--
				s.Missed += s.found
				s.Restarts++
				break
			}
			s.Late++
			s.found = min(s.Missed, int64(units))
			s.Missed -= s.found
			s.overtaken, s.after = true, n+units
			return
		case ahead < 0:
			s.Restarts++
		}
	}
	s.expected, s.expecting, s.overtaken = n+units, known, false
}

// message is what is known while one packet is read.
type message struct {
	*Decoder
	*Stream
	now   flow.Micros
	shift flow.Micros // what times are moved by
	blur  flow.Micros // by how much times since the start may be off against each other
	emit  func(*flow.Observation)
}

// clock notes the exporter's time.
func (m *message) clock(exported flow.Micros) {
	if m.Arrived != nil {
		m.now = m.Arrived(exported)
	}
	m.Behind = m.now - exported
	if m.Shift && !Agree(m.now, exported) && !m.replayed() {
		m.shift = m.Behind
	}
}

// Agree reports whether two clocks show the same time, up to half a minute.
func Agree(a, b flow.Micros) bool { return a-b <= 30e6 && b-a <= 30e6 }

// replayed reports whether what comes was sent days ago, more likely than by a clock that
// is off by as much: one that is wrong by its time zone is less than a day off, one that
// was never set is years off.
func (m *message) replayed() bool { return m.Behind > 20*3600e6 && m.Behind < longAgo }

// longAgo is how old what is replayed may be.
const longAgo = flow.Micros(40 * 24 * 3600e6)

// oldest is how long before its arrival a record may begin, if it came as it was
// sent: time-outs are minutes, seldom hours.
const oldest = flow.Micros(24 * 3600e6)

// send passes an observation on, with its times and amounts settled.
func (m *message) send(o *flow.Observation) {
	if !o.Src.IsValid() || !o.Dst.IsValid() {
		m.NoFlow++
		return
	}
	if o.End == 0 {
		o.End = o.Start
	}
	if o.Start == 0 {
		o.Start = o.End
	}
	if o.Start == 0 {
		o.Start, o.End = m.now-m.shift, m.now-m.shift
	}
	o.Start += m.shift
	o.End += m.shift
	if m.Shift { // what the clock says of itself must not put records into other years
		back := oldest
		if m.replayed() {
			back = longAgo
		}
		o.Start = max(m.now-back, min(o.Start, m.now))
		o.End = min(o.End, m.now)
	}
	o.End = max(o.End, o.Start)
	o.Src, o.Dst = o.Src.Unmap(), o.Dst.Unmap()
	o.Observer |= 2 * m.Stream.Number
	o.Packets, o.Bytes = max(0, o.Packets), max(0, o.Bytes)
	o.Numbered = true
	m.emit(o)
}

var errTemplate = netflow.ErrorTemplateNotFound
