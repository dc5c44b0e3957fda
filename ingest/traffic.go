package ingest

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// TrafficFormat is what a file of traffic is written in.
type TrafficFormat string

// The formats.
const (
	TrafficCSV     TrafficFormat = "CSV"
	TrafficLines   TrafficFormat = "JSON Lines"
	TrafficJSON    TrafficFormat = "JSON"
	TrafficIPFIX   TrafficFormat = "IPFIX file"     // RFC 5655
	TrafficCapture TrafficFormat = "packet capture" // pcap and pcapng
	TrafficForeign TrafficFormat = "file of nfcapd" // which only its own programs read
)

// FormatOf tells a format by a file's first octets.
func FormatOf(head []byte) TrafficFormat {
	if unreadable(head) != "" {
		return TrafficForeign
	}
	if len(head) >= 4 {
		switch binary.BigEndian.Uint32(head) {
		case 0xa1b2c3d4, 0xd4c3b2a1, 0xa1b23c4d, 0x4d3cb2a1, 0x0a0d0d0a:
			return TrafficCapture
		}
		if head[0] == 0 && head[1] == 10 {
			return TrafficIPFIX
		}
	}
	if text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n"); len(text) > 0 && text[0] == '{' {
		return TrafficLines
	} else if isJSON(text) {
		return TrafficJSON
	}
	return TrafficCSV
}

// TrafficOptions say how a file is to be read.
type TrafficOptions struct {
	Form Form // of a table
	// Directions: each row is one direction of a connection, as an exporter sees
	// it; the two are joined and the server is found. Otherwise a row is a
	// conversation from client to server. IPFIX and captures are always joined.
	Directions bool
	// Carriers: of a packet of a capture that carries another one (GRE, VXLAN and so on),
	// what carries it counts as well as what it carries.
	Carriers bool
	Name     string                              // of the file, for records that name no observer
	Progress func(share float64, rows int) error // an error stops it
	// Accept names the kinds of questions that somebody has said yes to.
	Accept []string
	Now    time.Time // that times are far from; zero: the machine's
	// Emit is given each record, so that none is held; an error stops the reading.
	// nil: they are gathered in Records.
	Emit func(*flow.Joined) error
}

// TrafficFile is what a file says.
type TrafficFile struct {
	Format   TrafficFormat
	Records  []flow.Joined
	Rows     int // rows, records or packets
	Bad      int
	Errors   []RowError // the first of them; a line is the number of a row, message or packet
	Kinds    []BadKind  // what is wrong, those of most rows first
	Warnings []string
	// Questions are about rows that are left out until somebody says yes; Held is
	// how many are left out for them.
	Questions []Question
	Held      int
	Carried   bool // packets of a capture carry others

	kinds           badKinds
	soonest, latest estate.Instant
	tomorrow        estate.Instant // a day ahead of now

	send   func(*flow.Joined) error // nil: into Records
	failed error                    // of send
}

// emit hands a record on.
func (t *TrafficFile) emit(x *flow.Joined) {
	if t.send == nil {
		t.Records = append(t.Records, *x)
	} else if t.failed == nil {
		t.failed = t.send(x)
	}
}

const shownBad = 200

func (t *TrafficFile) bad(e RowError) {
	if t.Bad++; len(t.Errors) < shownBad {
		t.Errors = append(t.Errors, e)
	}
	t.kinds.add(e)
}

// ReadTraffic reads a file of any of the formats. An error means that it cannot
// be used.
func ReadTraffic(in io.Reader, size int64, o TrafficOptions) (*TrafficFile, error) {
	counted := &countingReader{r: in}
	b := bufio.NewReaderSize(counted, 1<<18)
	head, _ := b.Peek(64)
	t := &TrafficFile{Format: FormatOf(head), Errors: []RowError{}, Warnings: []string{}, Questions: []Question{},
		send: o.Emit}
	if o.Now.IsZero() {
		o.Now = time.Now()
	}
	if words := unreadable(head); words != "" {
		return t, errors.New(words)
	}
	t.soonest, t.latest = near(o.Now)
	t.tomorrow = estate.InstantOf(o.Now.AddDate(0, 0, 1))
	if o.Progress == nil {
		o.Progress = func(float64, int) error { return nil }
	}
	tell := func() error {
		if t.failed != nil {
			return t.failed
		}
		if t.Rows%20_000 != 0 {
			return nil
		}
		return o.Progress(float64(counted.n)/float64(max(1, size)), t.Rows)
	}
	var err error
	switch {
	case t.Format == TrafficCSV, t.Format == TrafficJSON || o.Form.Pointer != "":
		err = t.rows(b, o, tell)
	case t.Format == TrafficLines:
		err = t.lines(b, o, tell)
	case t.Format == TrafficIPFIX:
		err = t.messages(b, o, tell)
	case t.Format == TrafficCapture:
		err = t.packets(b, o, tell)
	}
	if err == nil {
		err = t.failed
	}
	t.Kinds = t.kinds.list()
	return t, err
}

type countingReader struct {
	r io.Reader
	n int64
}

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// joining puts observations of a file together: its clock is theirs.
type joining struct {
	j     *flow.Joiner
	clock flow.Micros
	file  *TrafficFile
	name  func(int32) string
}

func (t *TrafficFile) joining(name func(int32) string) *joining {
	return &joining{j: flow.NewJoiner(flow.JoinOptions{Hold: 60e6}, flow.NewSides()), file: t, name: name}
}

func (j *joining) emit(x *flow.Joined) {
	x.Observer = Observers(x, j.name)
	j.file.emit(x)
}

// observe takes what was observed, unless its time cannot be: then it is counted as unusable, and
// false returned.
func (j *joining) observe(o *flow.Observation) bool {
	for _, t := range [2]flow.Micros{o.Start, o.End} {
		if at := t.Instant(); at.Before(earliest) || !at.Before(latest) || j.file.tomorrow.Before(at) {
			j.file.bad(RowError{Line: j.file.Rows, Column: "time", Reason: fmt.Sprintf("found %s, expected a time from "+
				"%d on that is not more than a day ahead: was the clock wrong, or does the file have no times?", at,
				firstYear)})
			return false
		}
	}
	j.add(o)
	return true
}

func (j *joining) add(o *flow.Observation) {
	j.clock = max(j.clock, o.End)
	j.j.Add(o, j.clock)
	j.j.Flush(j.clock, j.emit)
}

func (j *joining) close() { j.j.Close(j.clock, j.emit) }

// Observers names those who saw a record.
func Observers(x *flow.Joined, name func(int32) string) string {
	if x.Observers[0] < 0 {
		return ""
	}
	first := name(x.Observers[0])
	if x.Observers[1] < 0 {
		return first
	}
	second := name(x.Observers[1])
	if second == first {
		return first
	}
	if x.MoreSaw > 0 {
		return fmt.Sprintf("%s, %s and %d more", first, second, x.MoreSaw)
	}
	return first + ", " + second
}

// Years of which traffic is taken: another one is the mistake of a clock, or of
// how a time is written.
const (
	firstYear = 1990
	lastYear  = 2099
)

var earliest, latest = estate.InstantOf(time.Date(firstYear, 1, 1, 0, 0, 0, 0, time.UTC)),
	estate.InstantOf(time.Date(lastYear+1, 1, 1, 0, 0, 0, 0, time.UTC))

// unlikely returns the column and the reason why a record is not to be stored as it
// is; blank if it is.
func unlikely(r *flow.Record) (column, reason string) {
	for i, t := range [2]estate.Instant{r.Start, r.End} {
		if t.Before(earliest) || !t.Before(latest) {
			return [2]string{"start", "end"}[i],
				fmt.Sprintf("found %s, expected a time from %d to %d: is it written in another way, or was the "+
					"clock wrong?", t, firstYear, lastYear)
		}
	}
	return "observer", unstorable(r.Observer)
}

// taking turns rows into records: as they stand, or joined.
type taking struct {
	file      *TrafficFile
	joining   *joining
	observers []string
	number    map[string]int32
}

func (t *TrafficFile) taking(o TrafficOptions) *taking {
	k := &taking{file: t, number: map[string]int32{}}
	if o.Directions {
		k.joining = t.joining(func(n int32) string { return k.observers[n>>1] })
	}
	return k
}

func (k *taking) record(r flow.Record) {
	if k.joining == nil {
		k.file.emit(&flow.Joined{Record: r, Confidence: 100, Reason: flow.Stated, Observers: [2]int32{-1, -1}})
		return
	}
	n, ok := k.number[r.Observer]
	if !ok {
		n = int32(len(k.observers))
		k.number[r.Observer] = n
		k.observers = append(k.observers, r.Observer)
	}
	o := flow.Observation{
		Src: r.Client, Dst: r.Server, SrcPort: r.SourcePort, DstPort: uint16(r.Point.Port()), Proto: r.Point.Proto(),
		NoType:  r.Point.Port() == service.UnknownType,
		Outcome: r.Outcome, Observer: 2 * n, Start: flow.MicrosOfInstant(r.Start),
		End: max(flow.MicrosOfInstant(r.Start), flow.MicrosOfInstant(r.End)), Packets: max(1, r.Packets),
		Bytes: r.Bytes,
	}
	k.joining.add(&o)
}

func (k *taking) close() {
	if k.joining != nil {
		k.joining.close()
	}
}

// messages reads an IPFIX file: messages one after the other (RFC 5655).
func (t *TrafficFile) messages(in io.Reader, o TrafficOptions, tell func() error) error {
	d := wire.NewDecoder()
	join := t.joining(func(int32) string { return o.Name })
	defer join.close()
	head := make([]byte, 4)
	message := make([]byte, 0, 1<<16)
	for n := 1; ; n++ {
		if _, err := io.ReadFull(in, head); err == io.EOF {
			break
		} else if err != nil {
			t.bad(RowError{Line: n, Column: "message", Reason: "the file ends in the middle of a message"})
			break
		}
		size := int(binary.BigEndian.Uint16(head[2:]))
		if binary.BigEndian.Uint16(head) != 10 || size < 16 {
			t.bad(RowError{Line: n, Column: "message",
				Reason: fmt.Sprintf("found version %d and length %d, expected an IPFIX message (RFC 7011); what "+
					"follows cannot be found", binary.BigEndian.Uint16(head), size)})
			break
		}
		message = append(message[:0], head...)
		message = message[:size]
		if _, err := io.ReadFull(in, message[4:]); err != nil {
			t.bad(RowError{Line: n, Column: "message", Reason: "the file ends in the middle of a message"})
			break
		}
		at := flow.Micros(binary.BigEndian.Uint32(message[4:])) * 1e6
		if fault := d.Decode(message, at, func(o *flow.Observation) { t.Rows++; join.observe(o) }); fault != nil {
			t.bad(RowError{Line: n, Column: "message", Reason: fault.Error()})
		}
		if err := tell(); err != nil {
			return err
		}
	}
	for _, s := range d.Streams() {
		if s.Untemplated > 0 {
			t.Warnings = append(t.Warnings,
				fmt.Sprintf("%d sets of observation domain %d come before their template and were not read",
					s.Untemplated, s.Domain))
		}
		if s.NoFlow > 0 {
			t.Warnings = append(t.Warnings, fmt.Sprintf("%d records of observation domain %d have no addresses",
				s.NoFlow, s.Domain))
		}
	}
	return nil
}

// packets reads a capture, by the headers of its packets. One that was seen on several of
// its interfaces is counted once; of one that carries another, the innermost counts, or
// each.
func (t *TrafficFile) packets(in io.Reader, o TrafficOptions, tell func() error) error {
	source, err := openCapture(in)
	if err != nil {
		return fmt.Errorf("the packet capture cannot be read: %w", err)
	}
	join := t.joining(func(n int32) string { return captureName(o.Name, source, int(n>>1)) })
	defer join.close()
	h := wire.NewHeaders()
	without, unknown, carried := 0, map[layers.LinkType]int{}, map[string]int{}
	var all []flow.Observation
	for {
		data, info, err := source.ReadPacketData()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.bad(RowError{Line: t.Rows + 1, Column: "packet", Reason: "the file ends or breaks here: " +
				err.Error()})
			break
		}
		t.Rows++
		link := linkOf(source, &info)
		all = all[:0]
		portless := h.Lost + h.Waiting()
		h.Each(link, data, info.Length, func(x *flow.Observation, in string) {
			if in != "" {
				carried[in]++
				if !o.Carriers {
					all = all[:0]
				}
			}
			all = append(all, *x)
		})
		for i := range all {
			all[i].Start = flow.MicrosOf(info.Timestamp)
			all[i].End, all[i].Observer = all[i].Start, int32(2*info.InterfaceIndex)
			if !join.observe(&all[i]) {
				break // the others have the same time
			}
		}
		switch {
		case len(all) > 0 || h.Lost+h.Waiting() > portless:
		case !wire.Reads(link):
			unknown[link]++
		default:
			without++
		}
		if err := tell(); err != nil {
			return err
		}
	}
	warn := func(n int, format string, args ...any) {
		if n > 0 {
			t.Warnings = append(t.Warnings, fmt.Sprintf(format, args...))
		}
	}
	warn(without, "%s no IP addresses that can be read and passed over",
		plural.Of(without, "packet has", "packets have"))
	for _, link := range slices.Sorted(maps.Keys(unknown)) {
		warn(1, "%s of link type %d (%s), which is not read, and passed over",
			plural.Of(unknown[link], "packet is", "packets are"), int(link), link)
	}
	lost := h.Lost + h.Waiting()
	warn(lost, "%s without ports passed over: the first of its packet is not in the file",
		plural.Of(lost, "fragment", "fragments"))
	for _, in := range slices.Sorted(maps.Keys(carried)) {
		what := "what they carry is read, and not what carries it"
		if o.Carriers {
			what = "what they carry is read, and what carries it as well"
		}
		warn(1, "%s another one in %s: %s", plural.Of(carried[in], "packet carries", "packets carry"), in, what)
	}
	t.Carried = len(carried) > 0
	return nil
}

// linkOf returns the link type of a packet: in one file there may be several.
func linkOf(source captureReader, info *gopacket.CaptureInfo) layers.LinkType {
	if len(info.AncillaryData) > 0 {
		if link, ok := info.AncillaryData[0].(layers.LinkType); ok {
			return link
		}
	}
	return source.LinkType()
}

// captureName names an interface of a capture.
func captureName(file string, source captureReader, n int) string {
	ng, ok := source.(*pcapgo.NgReader)
	if !ok || ng.NInterfaces() < 2 {
		return file
	}
	if i, err := ng.Interface(n); err == nil && i.Name != "" {
		return file + " " + i.Name
	}
	return fmt.Sprintf("%s interface %d", file, n)
}

func openCapture(in io.Reader) (captureReader, error) {
	b := bufio.NewReader(in)
	if head, _ := b.Peek(4); len(head) == 4 && binary.BigEndian.Uint32(head) == 0x0a0d0d0a {
		options := pcapgo.DefaultNgReaderOptions
		options.WantMixedLinkType = true
		return pcapgo.NewNgReader(b, options)
	}
	return pcapgo.NewReader(b)
}

type captureReader interface {
	gopacket.PacketDataSource
	LinkType() layers.LinkType
}
