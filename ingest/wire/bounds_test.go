package wire_test

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

func TestSequenceGapsAreCounted(t *testing.T) {
	d := wire.NewDecoder()
	data := set(t, 256, "0a000001 0a000002 06 0a000001 0a000002 06")
	read(d, message(100, 1, set(t, 2, "0100 "+plain), data), message(102, 1, data), message(109, 1, data))
	s := d.Streams()[0]
	require.EqualValues(t, 5, s.Missed)
	read(d, message(106, 1, data)) // overtaken
	require.EqualValues(t, []any{int64(3), int64(1)}, []any{s.Missed, s.Late})
	read(d, message(111, 1, data))
	require.EqualValues(t, 3, s.Missed)
	read(d, message(0, 1, data), message(2, 1, data))
	require.EqualValues(t, []any{int64(3), int64(1), int64(1)}, []any{s.Missed, s.Late, s.Restarts},
		"two that follow each other were not overtaken: it began anew")

	other := wire.NewDecoder()
	other.Begin = func(wire.Protocol, uint32) (uint32, bool) { return 100, true }
	read(other, message(160, 1, set(t, 2, "0100 "+plain), data))
	require.EqualValues(t, 60, other.Streams()[0].Missed, "what was missed while nobody listened")
}

// A clock that is off moves the times, not the records into another year.
func TestClocksThatAreOff(t *testing.T) {
	e := wire.Exporter{}
	d := wire.NewDecoder()
	d.Shift = true
	off := now - 400*24*3600e6
	o := flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"), Proto: 6,
		Start: off - 5e6, End: off - 1e6, Packets: 1}
	wild := o
	wild.Start, wild.End = 1e6, now+9e12
	got, _ := read(d, e.Templates(off), e.Message(off, []flow.Observation{o, wild}))
	require.Equal(t, []flow.Micros{now - 5e6, now - 1e6}, []flow.Micros{got[0].Start, got[0].End})
	require.Equal(t, []flow.Micros{now - 24*3600e6, now}, []flow.Micros{got[1].Start, got[1].End})
	require.EqualValues(t, now-off, d.Streams()[0].Behind)
}

// Every fault has its reason, and leaves what was read before.
func TestFaults(t *testing.T) {
	zero := set(t, 2, "0100 0002 0008 0000 000c 0000")
	for name, c := range map[string]struct {
		packet []byte
		why    wire.Why
	}{
		"nothing":                   {nil, wire.TooShort},
		"a version that is not":     {octets(t, "00080000 00000000"), wire.BadVersion},
		"sFlow 4":                   {octets(t, "00000004 00000001 0a000001"), wire.BadVersion},
		"half a header":             {message(0, 1)[:9], wire.TooShort},
		"more said than there":      {append(octets(t, "000a 0100"), message(0, 1)[4:]...), wire.TooShort},
		"a set past the end":        {message(0, 1, octets(t, "0100 00ff 00")), wire.BadSet},
		"a set shorter than itself": {message(0, 1, octets(t, "0100 0003")), wire.BadSet},
		"fields without length":     {message(0, 1, zero), wire.BadTemplate},
		"a number kept for sets":    {message(0, 1, set(t, 2, "0005 "+plain)), wire.BadTemplate},
		"fields that are not there": {message(0, 1, set(t, 2, "0100 ffff 0008 0004")), wire.BadTemplate},
		"a set of no kind":          {message(0, 1, set(t, 77, "00000000")), wire.BadContent},
		"v5 without its records":    {append(octets(t, "0005 001e"), make([]byte, 20)...), wire.TooShort},
		"samples that are not there": {append(octets(t,
			"00000005 00000001 0a000001 00000000 00000000 00000000 ffffffff"), 0, 0), wire.TooShort},
	} {
		t.Run(name, func(t *testing.T) {
			d := wire.NewDecoder()
			got, faults := read(d, c.packet)
			require.Empty(t, got)
			require.Len(t, faults, 1)
			require.Equal(t, c.why, faults[0].Why, faults[0].Error())
			n := d.Unread[c.why]
			for _, s := range d.Streams() {
				n += s.Bad[c.why]
			}
			require.EqualValues(t, 1, n, "it is counted")
		})
	}
}

// An exporter that makes up templates and domains fills nothing up.
func TestKeptIsBounded(t *testing.T) {
	d := wire.NewDecoder()
	for i := range 3000 {
		b := set(t, 2, "0100 "+plain)
		binary.BigEndian.PutUint16(b[4:], uint16(256+i))
		d.Decode(message(0, uint32(i%400), b), now, func(*flow.Observation) {})
	}
	n := 0
	for _, s := range d.Streams() {
		n += len(s.Templates)
	}
	require.LessOrEqual(t, n, 1000)
	require.LessOrEqual(t, len(d.Streams()), 256)
	require.Positive(t, d.Unread[wire.TooMany])
}

// FuzzDecode looks for packets that crash the decoder, make it give more
// records than octets came, or times that go backwards.
func FuzzDecode(f *testing.F) {
	e := wire.Exporter{Domain: 1}
	o := flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"), Proto: 6,
		SrcPort: 1, DstPort: 2, Start: now, End: now, Packets: 1}
	f.Add(e.Templates(now), e.Message(now, []flow.Observation{o}))
	f.Add(message(0, 1, set(f, 3, "0101 0002 0001 0090 0004 0022 0004 0000")),
		message(0, 1, set(f, 257, "00000001 0000000a")))
	f.Add(octets(f, "0009 0002 00002710 6afd4a80 00000007 00000003 0000 001c 0104 0005 0008 0004 000c 0004 0004 "+
		"0001 0016 0004 0015 0004"), octets(f, "0005 0001 00002710 6afd4a80 00000000 00000032 00 01 4002"))
	f.Add(octets(f, "00000005 00000001 0a000001 00000003 0000000b 00000063 00000001 00000001 00000040"), []byte{})
	f.Fuzz(func(t *testing.T, first, then []byte) {
		d := wire.NewDecoder()
		d.Shift = true
		n := 0
		for _, p := range [][]byte{first, then, then} {
			d.Decode(p, now, func(o *flow.Observation) {
				n++
				if !o.Src.IsValid() || !o.Dst.IsValid() || o.End < o.Start || o.Packets < 0 || o.Bytes < 0 ||
					o.Start < now-25*3600e6 || o.End > now {
					t.Fatalf("%+v", *o)
				}
			})
		}
		if n > 2*(len(first)+2*len(then)) {
			t.Fatalf("%d records of %d octets", n, len(first)+2*len(then))
		}
	})
}

// BenchmarkDecode measures what one core reads of IPFIX, and joins.
func BenchmarkDecode(b *testing.B) {
	e := wire.Exporter{Domain: 1}
	var packets [][]byte
	const connections = 50_000
	for i := 0; i < connections; i += wire.RecordsPerMessage / 2 {
		var all []flow.Observation
		for k := range wire.RecordsPerMessage / 2 {
			n := i + k
			o := flow.Observation{Src: netip.AddrFrom4([4]byte{10, 1, byte(n >> 8), byte(n)}),
				Dst: netip.AddrFrom4([4]byte{10, 2, 0, byte(n % 50)}), SrcPort: uint16(32768 + n%28000), DstPort: 443,
				Proto: 6, Flags: 27, HasFlags: true, Start: now, End: now + 5000, Packets: 9, Bytes: 900}
			back := o
			back.Src, back.Dst, back.SrcPort, back.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
			all = append(all, o, back)
		}
		packets = append(packets, e.Message(now, all))
	}
	b.Run("read and join on two cores", func(b *testing.B) {
		records := 0
		for range b.N {
			chunks := make(chan []flow.Observation, 64)
			go func() {
				defer close(chunks)
				d := wire.NewDecoder()
				d.Decode((&wire.Exporter{Domain: 1}).Templates(now), now, nil)
				var all []flow.Observation
				for _, p := range packets {
					d.Decode(p, now, func(o *flow.Observation) { all = append(all, *o) })
					if len(all) >= 512 {
						chunks <- all
						all = make([]flow.Observation, 0, 600)
					}
				}
				chunks <- all
			}()
			j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
			for all := range chunks {
				for i := range all {
					j.Add(&all[i], now)
				}
				records += len(all)
			}
			j.Close(now, func(*flow.Joined) {})
		}
		b.ReportMetric(float64(records)/b.Elapsed().Seconds(), "records/s")
	})
	for _, joined := range []bool{false, true} {
		b.Run(map[bool]string{false: "read", true: "read and join"}[joined], func(b *testing.B) {
			b.ReportAllocs()
			records := 0
			for range b.N {
				d := wire.NewDecoder()
				d.Decode((&wire.Exporter{Domain: 1}).Templates(now), now, nil)
				j := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
				at := now
				for _, p := range packets {
					d.Decode(p, at, func(o *flow.Observation) {
						records++
						if joined {
							j.Add(o, at)
						}
					})
				}
				j.Close(at, func(*flow.Joined) {})
			}
			b.ReportMetric(float64(records)/b.Elapsed().Seconds(), "records/s")
		})
	}
}
