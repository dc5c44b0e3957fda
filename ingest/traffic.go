package ingest

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// TrafficFormat is what a file of traffic is written in.
type TrafficFormat string

// The formats.
const (
	TrafficCSV     TrafficFormat = "CSV"
	TrafficLines   TrafficFormat = "JSON Lines"
	TrafficIPFIX   TrafficFormat = "IPFIX file"     // RFC 5655
	TrafficCapture TrafficFormat = "packet capture" // pcap and pcapng
)

// FormatOf tells a format by a file's first octets.
func FormatOf(head []byte) TrafficFormat {
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
	}
	return TrafficCSV
}

// TrafficOptions say how a file is to be read.
type TrafficOptions struct {
	Mapping Mapping // of a CSV
	// Directions: each row is one direction of a connection, as an exporter sees
	// it; the two are joined and the server is found. Otherwise a row is a
	// conversation from client to server. IPFIX and captures are always joined.
	Directions bool
	Name       string                              // of the file, for records that name no observer
	Progress   func(share float64, rows int) error // an error stops it
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
	Warnings []string

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
}

// ReadTraffic reads a file of any of the formats. An error means that it cannot
// be used.
func ReadTraffic(in io.Reader, size int64, o TrafficOptions) (*TrafficFile, error) {
	counted := &countingReader{r: in}
	b := bufio.NewReaderSize(counted, 1<<18)
	head, _ := b.Peek(64)
	t := &TrafficFile{Format: FormatOf(head), Errors: []RowError{}, Warnings: []string{}, send: o.Emit}
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
	switch t.Format {
	case TrafficCSV:
		err = t.rows(b, o, tell)
	case TrafficLines:
		err = t.lines(b, o, tell)
	case TrafficIPFIX:
		err = t.messages(b, o, tell)
	case TrafficCapture:
		err = t.packets(b, o, tell)
	}
	if err == nil {
		err = t.failed
	}
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

// GuessFlows maps headings of a file of flows by what they are usually called.
func GuessFlows(headings []string) Mapping {
	m, _ := guess(headings, flowColumns, usualFlows, "")
	return m
}

// FlowColumns are what a heading of a file of flows can be read as.
func FlowColumns() []string { return append([]string(nil), flowColumns...) }

var usualFlows = map[string][]string{
	"start":       {"start", "start time", "starttime", "first", "first seen", "flow start", "begin", "time", "timestamp", "date", "ts"},
	"end":         {"end", "end time", "endtime", "last", "last seen", "flow end"},
	"src":         {"src", "source", "src ip", "srcip", "source ip", "source address", "src addr", "srcaddr", "src address", "client", "client ip", "from"},
	"dst":         {"dst", "destination", "dst ip", "dstip", "destination ip", "destination address", "dst addr", "dstaddr", "dst address", "server", "server ip", "to", "dest", "dest ip"},
	"proto":       {"proto", "protocol", "ip protocol", "transport"},
	"dport":       {"dport", "dst port", "dstport", "destination port", "dest port", "server port", "port", "service port"},
	"sport":       {"sport", "src port", "srcport", "source port", "client port"},
	"bytes":       {"bytes", "octets", "total bytes", "byte count", "size"},
	"packets":     {"packets", "pkts", "packet count"},
	"connections": {"connections", "flows", "count", "sessions", "hits"},
	"outcome":     {"outcome", "action", "result", "disposition", "verdict", "status"},
	"observer":    {"observer", "exporter", "sensor", "device", "reporter", "firewall"},
}

// plainCell makes a cell of a foreign file one of ours: other times, other words
// for what was carried or dropped.
func plainCell(column, cell string) string {
	cell = strings.TrimSpace(cell)
	switch column {
	case "start", "end":
		return plainTime(cell)
	case "outcome":
		switch strings.ToLower(cell) {
		case "accept", "accepted", "allow", "allowed", "pass", "passed", "forward", "forwarded", "permit", "permitted", "ok", "success", "established", "closed":
			return "carried"
		case "deny", "denied", "drop", "block", "blocked", "reject", "rejected", "discard", "discarded":
			return "dropped"
		case "carried", "dropped":
			return strings.ToLower(cell)
		case "unknown", "-":
			return ""
		}
	case "bytes", "packets", "connections", "sport", "dport":
		if cell == "-" {
			return ""
		}
	}
	return cell
}

// plainTime reads times without a zone as UTC, and numbers as seconds,
// milliseconds or microseconds since 1970, by their size.
func plainTime(cell string) string {
	for _, layout := range []string{"2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999Z07:00", "2006/01/02 15:04:05.999999999"} {
		if at, err := time.Parse(layout, cell); err == nil {
			return at.UTC().Format(time.RFC3339Nano)
		}
	}
	if n, err := strconv.ParseFloat(cell, 64); err == nil && n > 1e8 && n < 1e17 {
		for n >= 1e11 {
			n /= 1000
		}
		return time.UnixMicro(int64(n * 1e6)).UTC().Format(time.RFC3339Nano)
	}
	return cell
}

// rows reads a CSV.
func (t *TrafficFile) rows(in io.Reader, o TrafficOptions, tell func() error) error {
	f, err := mappedFlows(in, o.Mapping)
	if err != nil {
		return err
	}
	t.Warnings = append(t.Warnings, f.Warnings...)
	take := t.taking(o)
	defer take.close()
	for {
		r, err := f.Next()
		if err == io.EOF {
			return nil
		}
		t.Rows = f.Row()
		var bad *RowError
		switch {
		case errors.As(err, &bad):
			t.bad(*bad)
			continue
		case err != nil:
			return err
		}
		if column, reason := unlikely(&r); reason != "" {
			t.bad(RowError{f.line, column, reason})
			continue
		}
		take.record(r)
		if err := tell(); err != nil {
			return err
		}
	}
}

// Years of which traffic is taken: another one is the mistake of a clock, or of
// how a time is written.
const (
	firstYear = 1990
	lastYear  = 2099
)

var earliest, latest = estate.InstantOf(time.Date(firstYear, 1, 1, 0, 0, 0, 0, time.UTC)), estate.InstantOf(time.Date(lastYear+1, 1, 1, 0, 0, 0, 0, time.UTC))

// unlikely gives the column and the reason why a record is not to be stored as it
// is; blank if it is.
func unlikely(r *flow.Record) (column, reason string) {
	for i, t := range [2]estate.Instant{r.Start, r.End} {
		if t.Before(earliest) || !t.Before(latest) {
			return [2]string{"start", "end"}[i], fmt.Sprintf("found %s, expected a time from %d to %d: is it written in another way, or was the clock wrong?", t, firstYear, lastYear)
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
		Src: r.Client, Dst: r.Server, SrcPort: r.SourcePort, DstPort: uint16(r.Point.Port()), Proto: r.Point.Proto(), NoType: r.Point.Port() == service.UnknownType,
		Outcome: r.Outcome, Observer: 2 * n, Start: flow.MicrosOfInstant(r.Start), End: max(flow.MicrosOfInstant(r.Start), flow.MicrosOfInstant(r.End)), Packets: max(1, r.Packets), Bytes: r.Bytes,
	}
	k.joining.add(&o)
}

func (k *taking) close() {
	if k.joining != nil {
		k.joining.close()
	}
}

// FlowJSON is a conversation, or one direction of it, as a line of JSON: the
// columns of the CSV.
type FlowJSON struct {
	Start       string      `json:"start"`
	End         string      `json:"end"`
	Src         string      `json:"src"`
	Dst         string      `json:"dst"`
	Proto       any         `json:"proto"`
	Dport       json.Number `json:"dport"`
	Sport       json.Number `json:"sport"`
	Bytes       json.Number `json:"bytes"`
	Packets     json.Number `json:"packets"`
	Connections json.Number `json:"connections"`
	Outcome     string      `json:"outcome"`
	Observer    string      `json:"observer"`
}

func (j *FlowJSON) cells() []string {
	proto := ""
	switch x := j.Proto.(type) {
	case string:
		proto = x
	case float64:
		proto = strconv.FormatFloat(x, 'f', -1, 64)
	}
	return []string{j.Start, j.Src, j.Dst, proto, j.Dport.String(), j.End, j.Sport.String(), j.Bytes.String(), j.Packets.String(), j.Connections.String(), j.Outcome, j.Observer}
}

const longestLine = 1 << 20

// lines reads JSON Lines.
func (t *TrafficFile) lines(in io.Reader, o TrafficOptions, tell func() error) error {
	take := t.taking(o)
	defer take.close()
	f := &Flows{}
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 1<<16), longestLine)
	line := 0
	for scan.Scan() {
		line++
		text := bytes.TrimSpace(bytes.TrimPrefix(scan.Bytes(), []byte("\ufeff")))
		if len(text) == 0 {
			continue
		}
		t.Rows++
		var j FlowJSON
		if err := json.Unmarshal(text, &j); err != nil {
			t.bad(RowError{Line: line, Reason: "found no JSON object with the members of a flow: " + err.Error()})
			continue
		}
		var r flow.Record
		var reason string
		for i, cell := range j.cells() {
			if reason = f.cell(&r, i, cell); reason != "" {
				t.bad(RowError{line, flowColumns[i], reason})
				break
			}
		}
		if reason == "" {
			var column string
			if column, reason = unlikely(&r); reason != "" {
				t.bad(RowError{line, column, reason})
			} else {
				take.record(r)
			}
		}
		if err := tell(); err != nil {
			return err
		}
	}
	if err := scan.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d is longer than %d octets", line+1, longestLine)
	} else if err != nil {
		return err
	}
	return nil
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
			t.bad(RowError{Line: n, Column: "message", Reason: fmt.Sprintf("found version %d and length %d, expected an IPFIX message (RFC 7011); what follows cannot be found", binary.BigEndian.Uint16(head), size)})
			break
		}
		message = append(message[:0], head...)
		message = message[:size]
		if _, err := io.ReadFull(in, message[4:]); err != nil {
			t.bad(RowError{Line: n, Column: "message", Reason: "the file ends in the middle of a message"})
			break
		}
		at := flow.Micros(binary.BigEndian.Uint32(message[4:])) * 1e6
		if fault := d.Decode(message, at, func(o *flow.Observation) { t.Rows++; join.add(o) }); fault != nil {
			t.bad(RowError{Line: n, Column: "message", Reason: fault.Error()})
		}
		if err := tell(); err != nil {
			return err
		}
	}
	for _, s := range d.Streams() {
		if s.Untemplated > 0 {
			t.Warnings = append(t.Warnings, fmt.Sprintf("%d sets of observation domain %d come before their template and were not read", s.Untemplated, s.Domain))
		}
		if s.NoFlow > 0 {
			t.Warnings = append(t.Warnings, fmt.Sprintf("%d records of observation domain %d have no addresses", s.NoFlow, s.Domain))
		}
	}
	return nil
}

// packets reads a capture, by the headers of its packets.
func (t *TrafficFile) packets(in io.Reader, o TrafficOptions, tell func() error) error {
	source, err := openCapture(in)
	if err != nil {
		return fmt.Errorf("the packet capture cannot be read: %w", err)
	}
	join := t.joining(func(int32) string { return o.Name })
	defer join.close()
	h := wire.NewHeaders()
	var obs flow.Observation
	without := 0
	for {
		data, info, err := source.ReadPacketData()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.bad(RowError{Line: t.Rows + 1, Column: "packet", Reason: "the file ends or breaks here: " + err.Error()})
			break
		}
		t.Rows++
		if h.Read(&obs, wire.FirstLayer(source.LinkType(), data), data, info.Length) {
			obs.Start = flow.MicrosOf(info.Timestamp)
			obs.End = obs.Start
			join.add(&obs)
		} else {
			without++
		}
		if err := tell(); err != nil {
			return err
		}
	}
	if without > 0 {
		t.Warnings = append(t.Warnings, fmt.Sprintf("%d packets have no IP addresses that can be read and were passed over", without))
	}
	return nil
}

func openCapture(in io.Reader) (captureReader, error) {
	b := bufio.NewReader(in)
	if head, _ := b.Peek(4); len(head) == 4 && binary.BigEndian.Uint32(head) == 0x0a0d0d0a {
		return pcapgo.NewNgReader(b, pcapgo.DefaultNgReaderOptions)
	}
	return pcapgo.NewReader(b)
}

type captureReader interface {
	gopacket.PacketDataSource
	LinkType() layers.LinkType
}
