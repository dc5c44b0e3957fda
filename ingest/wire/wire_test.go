package wire_test

import (
	"encoding/binary"
	"encoding/hex"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

const now = flow.Micros(1_795_000_000e6)

// octets reads hexadecimal digits and blanks.
func octets(t testing.TB, s string) []byte {
	b, err := hex.DecodeString(strings.Join(strings.Fields(s), ""))
	require.NoError(t, err)
	return b
}

// message puts a header of IPFIX before sets.
func message(sequence, domain uint32, sets ...[]byte) []byte {
	b := []byte{0, 10, 0, 0}
	b = binary.BigEndian.AppendUint32(b, uint32(now/1e6))
	b = binary.BigEndian.AppendUint32(b, sequence)
	b = binary.BigEndian.AppendUint32(b, domain)
	for _, s := range sets {
		b = append(b, s...)
	}
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	return b
}

// set puts the header of a set before its content.
func set(t testing.TB, id uint16, content string) []byte {
	body := octets(t, content)
	b := binary.BigEndian.AppendUint16(nil, id)
	return append(binary.BigEndian.AppendUint16(b, uint16(4+len(body))), body...)
}

// read returns what a decoder makes of packets.
func read(d *wire.Decoder, packets ...[]byte) (all []flow.Observation, faults []*wire.Fault) {
	for _, p := range packets {
		if f := d.Decode(p, now, func(o *flow.Observation) {
			one := *o
			one.Numbered = false // all are
			all = append(all, one)
		}); f != nil {
			faults = append(faults, f)
		}
	}
	return all, faults
}

// What an exporter writes is what a decoder reads.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var want []flow.Observation
		v6 := rapid.Bool().Draw(t, "v6")
		for range rapid.IntRange(1, wire.RecordsPerMessage).Draw(t, "records") {
			a, b := netip.AddrFrom4([4]byte{10, 1, byte(rapid.IntRange(0, 255).Draw(t, "a")), 2}),
				netip.MustParseAddr("10.2.3.4")
			if v6 {
				a, b = netip.MustParseAddr("fd00::7"),
					netip.AddrFrom16([16]byte{0xfd, 15: byte(rapid.IntRange(0, 255).Draw(t, "b"))})
			}
			o := flow.Observation{Src: a, Dst: b, SrcPort: 40000, DstPort: rapid.Uint16().Draw(t, "port"),
				Proto:    rapid.SampledFrom([]uint8{service.TCP, service.UDP, service.ICMP}).Draw(t, "protocol"),
				Outcome:  flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome")),
				Observer: int32(rapid.IntRange(0, 1).Draw(t, "way")),
				Start:    now - 5000*flow.Micros(rapid.IntRange(0, 9000).Draw(t, "before")), End: now,
				Packets: rapid.Int64Range(1, 1<<50).Draw(t, "packets"),
				Bytes:   rapid.Int64Range(1, 1<<50).Draw(t, "bytes")}
			if o.Proto == service.TCP {
				o.Flags, o.HasFlags = flow.SYN|flow.ACK, true
			}
			if o.Proto == service.ICMP {
				o.SrcPort = 0
			}
			want = append(want, o)
		}
		e := wire.Exporter{Domain: 7}
		d := wire.NewDecoder()
		got, faults := read(d, e.Templates(now), e.Message(now, want), e.Message(now, want))
		require.Empty(t, faults)
		require.Equal(t, append(want, want...), got)
		require.Len(t, d.Streams(), 1)
		s := d.Streams()[0]
		require.EqualValues(t, []any{wire.IPFIX, uint32(7), int64(3), int64(2 * len(want)), int64(0)},
			[]any{s.Protocol, s.Domain, s.Messages, s.Records, s.Missed})
		require.Equal(t, []uint16{256, 257}, s.Templates)
	})
}

// Enterprise elements and those of variable length are passed over by their
// length, wherever they stand.
func TestForeignElementsArePassedOver(t *testing.T) {
	template := set(t, 2,
		`0100 0008  0008 0004  8123 ffff 00007a69  000c 0004  0060 ffff  0007 0002  8005 0004 0000abcd  000b 0002  0004 0001`)
	data := set(t, 256, `0a000001 03 616263 0a000002 ff 0004 71717171 c350 deadbeef 01bb 06
	                     0a000003 00        0a000004 00              c351 00000000 0050 06`)
	got, faults := read(wire.NewDecoder(), message(0, 1, template, data))
	require.Empty(t, faults)
	require.Len(t, got, 2)
	require.Equal(t, "10.0.0.1 10.0.0.2", got[0].Src.String()+" "+got[0].Dst.String())
	require.Equal(t, []uint16{50000, 443, 50001, 80}, []uint16{got[0].SrcPort, got[0].DstPort, got[1].SrcPort,
		got[1].DstPort})
	require.Equal(t, now, got[1].Start, "a record without times is of now")
}

func TestMeaningOfElements(t *testing.T) {
	ends := "0008 0004 000c 0004 0004 0001 "
	for name, c := range map[string]struct {
		template, data string
		check          func(*testing.T, []flow.Observation)
	}{
		"a firewall denies":         {"0004 " + ends + "00e9 0001", "0a000001 0a000002 06 03", outcome(flow.Dropped)},
		"a firewall's flow is made": {"0004 " + ends + "00e9 0001", "0a000001 0a000002 06 01", outcome(flow.Carried)},
		"forwarded":                 {"0004 " + ends + "0059 0001", "0a000001 0a000002 06 40", outcome(flow.Carried)},
		"dropped, in four octets": {"0004 " + ends + "0059 0004", "0a000001 0a000002 06 00000082",
			outcome(flow.Dropped)},
		"consumed":     {"0004 " + ends + "0059 0001", "0a000001 0a000002 06 c0", outcome(flow.Carried)},
		"nothing said": {"0004 " + ends + "0059 0001", "0a000001 0a000002 06 00", outcome(flow.Unknown)},
		"only dropped packets": {"0004 " + ends + "0085 0004", "0a000001 0a000002 06 00000005",
			func(t *testing.T, all []flow.Observation) {
				require.EqualValues(t, 5, all[0].Packets)
				outcome(flow.Dropped)(t, all)
			}},
		"a type and a code of ICMP": {"0005 " + ends + "00b0 0001 00b1 0001", "0a000001 0a000002 01 03 01",
			func(t *testing.T, all []flow.Observation) {
				require.EqualValues(t, 3<<8|1, all[0].DstPort)
				require.False(t, all[0].NoType)
			}},
		"no type": {"0003 " + ends, "0a000001 0a000002 01", func(t *testing.T,
			all []flow.Observation) {
			require.True(t, all[0].NoType)
		}},
		"seconds, and a duration": {"0005 " + ends + "0096 0004 00a1 0004", "0a000001 0a000002 06 6afd4a80 00000bb8",
			func(t *testing.T, all []flow.Observation) {
				require.EqualValues(t, 0x6afd4a80*1_000_000, all[0].Start)
				require.EqualValues(t, 3_000_000, all[0].End-all[0].Start)
			}},
		"a binary fraction": {"0004 " + ends + "009a 0008", "0a000001 0a000002 06 eea7f100 80000000",
			func(t *testing.T, all []flow.Observation) {
				require.EqualValues(t, (0xeea7f100-2_208_988_800)*1_000_000+500_000, all[0].Start)
			}},
		"microseconds before": {"0005 " + ends + "009e 0004 009f 0004", "0a000001 0a000002 06 000f4240 00000000",
			func(t *testing.T, all []flow.Observation) {
				require.Equal(t, now-1e6, all[0].Start)
				require.Equal(t, now, all[0].End)
			}},
		"amounts since the beginning": {"0005 " + ends + "0056 0008 0055 0008",
			"0a000001 0a000002 06 0000000000000009 0000000000000400", func(t *testing.T, all []flow.Observation) {
				require.True(t, all[0].Total)
				require.EqualValues(t, 9, all[0].Packets)
			}},
		"both ways, by RFC 5103": {"0008 " + ends +
			"0001 0004 0002 0004 8001 0004 00007279 8002 0004 00007279 8006 0001 00007279",
			"0a000001 0a000002 06 00000064 00000002 000000c8 00000003 12",
			func(t *testing.T, all []flow.Observation) {
				require.Len(t, all, 2)
				require.Equal(t, []any{all[1].Dst, all[1].Src, int64(3), int64(200), uint8(0x12),
					flow.OpenedByDestination}, []any{all[0].Src, all[0].Dst, all[1].Packets, all[1].Bytes, all[1].Flags,
					all[1].Opener})
			}},
		"initiator and responder": {"0005 " + ends + "00e7 0004 00e8 0004", "0a000001 0a000002 06 00000064 000000c8",
			func(t *testing.T, all []flow.Observation) {
				require.EqualValues(t, 100, all[0].Bytes)
				require.EqualValues(t, 200, all[1].Bytes)
			}},
		"whose opener is the second": {"0004 " + ends + "00ef 0001", "0a000001 0a000002 06 02",
			func(t *testing.T, all []flow.Observation) { require.Equal(t, flow.OpenedByDestination, all[0].Opener) }},
		"a sampling interval": {"0005 " + ends + "0022 0004 0002 0004",
			"0a000001 0a000002 06 00000064 00000003", func(t *testing.T,
				all []flow.Observation) {
				require.EqualValues(t, 300, all[0].Packets)
			}},
		"mapped addresses": {"0003 001b 0010 001c 0010 0004 0001",
			"00000000000000000000ffff0a000001 00000000000000000000ffff0a000002 06",
			func(t *testing.T, all []flow.Observation) { require.True(t, all[0].Src.Is4()) }},
	} {
		t.Run(name, func(t *testing.T) {
			got, faults := read(wire.NewDecoder(), message(0, 1, set(t, 2, "0100 "+c.template), set(t, 256, c.data)))
			require.Empty(t, faults)
			require.NotEmpty(t, got)
			c.check(t, got)
		})
	}
}

func outcome(want flow.Outcome) func(*testing.T, []flow.Observation) {
	return func(t *testing.T, all []flow.Observation) { require.Equal(t, want, all[0].Outcome) }
}

const plain = "0003 0008 0004 000c 0004 0004 0001"

// A template holds for its observation domain, until it is withdrawn.
func TestTemplatesBelongToDomainsAndAreWithdrawn(t *testing.T) {
	data := set(t, 256, "0a000001 0a000002 06")
	d := wire.NewDecoder()
	got, faults := read(d, message(0, 1, set(t, 2, "0100 "+plain)), message(0, 1, data), message(0, 2, data))
	require.Empty(t, faults, "a set before its template is no fault: it may come")
	require.Len(t, got, 1)
	require.EqualValues(t, 1, d.Streams()[1].Untemplated)
	got, _ = read(d, message(1, 1, set(t, 2, "0100 0000")), message(1, 1, data))
	require.Empty(t, got)
	got, _ = read(d, message(1, 1, set(t, 2, "0100 "+plain), data), message(2, 1, set(t, 2, "0002 0000")),
		message(2, 1, data))
	require.Len(t, got, 1, "all are withdrawn")
	// One of options is shorter than its template.
	options := set(t, 3, "0101 0002 0001 0090 0004 0022 0004 0000")
	got, faults = read(d, message(2, 3, options, set(t, 2, "0100 0004 0008 0004 000c 0004 0004 0001 0002 0004"),
		set(t, 257, "00000001 0000000a"), set(t, 256, "0a000001 0a000002 06 00000003")),
		message(4, 3, set(t, 3, "0101 0000")), message(4, 3, set(t, 257, "00000001 00000064")))
	require.Empty(t, faults)
	require.EqualValues(t, 30, got[0].Packets, "the options said: one of ten")
	s := d.Streams()[2]
	require.EqualValues(t, []any{int64(10), int64(1), int64(1)}, []any{s.Sampling, s.Options, s.Untemplated})
}

func TestNetFlow5And9(t *testing.T) {
	v5 := octets(t, `0005 0001 00002710 6afd4a80 00000000 00000032 00 01 4002
		0a000001 0a000002 00000000 0001 0002 00000003 000000c8 00001388 00001770 c350 01bb 00 12 06 00 0000 0000 18 18 0000`)
	d := wire.NewDecoder()
	got, faults := read(d, v5)
	require.Empty(t, faults)
	boot := flow.Micros(0x6afd4a80)*1e6 - 10e6
	require.Equal(t, []flow.Observation{{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"),
		SrcPort: 50000, DstPort: 443, Proto: 6, Flags: 0x12, HasFlags: true, Start: boot + 5e6, End: boot + 6e6,
		Blur:    2000,
		Packets: 6, Bytes: 400}}, got, "one of two was sampled")
	require.Equal(t, "NetFlow v5", d.Streams()[0].Protocol.String())

	v7 := octets(t, `0007 0001 00002710 6afd4a80 00000000 00000032 00000000
		0a000001 0a000002 00000000 0001 0002 00000003 000000c8 00001388 00001770 c350 01bb 00 12 06 00 0000 0000 18 18 0000 0a000009`)
	d = wire.NewDecoder()
	got, faults = read(d, v7)
	require.Empty(t, faults)
	require.Equal(t, []flow.Observation{{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"),
		SrcPort: 50000, DstPort: 443, Proto: 6, Flags: 0x12, HasFlags: true, Start: boot + 5e6, End: boot + 6e6,
		Blur:    2000,
		Packets: 3, Bytes: 200}}, got)
	require.Equal(t, "NetFlow v7", d.Streams()[0].Protocol.String())
	_, faults = read(d, v7[:70])
	require.Equal(t, wire.TooShort, faults[0].Why)

	v9 := octets(t, `0009 0002 00002710 6afd4a80 00000007 00000003
		0000 001c 0104 0005 0008 0004 000c 0004 0004 0001 0016 0004 0015 0004
		0104 0018 0a000001 0a000002 11 00001388 00001770 000000`)
	d = wire.NewDecoder()
	got, faults = read(d, v9)
	require.Empty(t, faults)
	require.Len(t, got, 1)
	require.Equal(t, []flow.Micros{boot + 5e6, boot + 6e6}, []flow.Micros{got[0].Start, got[0].End})
	// Its header counts records with some exporters, and packets in sequence.
	binary.BigEndian.PutUint32(v9[12:], 10)
	read(d, v9)
	require.EqualValues(t, 2, d.Streams()[0].Missed)
}

// header makes a packet's octets.
func header(t testing.TB, l ...gopacket.SerializableLayer) []byte {
	b := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true}, l...))
	return b.Bytes()
}

func TestSFlow(t *testing.T) {
	eth := &layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6), EthernetType: layers.EthernetTypeIPv4}
	ip := &layers.IPv4{Version: 4, Protocol: layers.IPProtocolTCP, SrcIP: []byte{10, 0, 0, 1},
		DstIP: []byte{10, 0, 0, 2}, TTL: 9}
	frame := header(t, eth, ip, &layers.TCP{SrcPort: 50000, DstPort: 443, SYN: true},
		gopacket.Payload(make([]byte, 10)))
	for len(frame)%4 != 0 {
		frame = append(frame, 0)
	}
	word := func(ns ...uint32) (b []byte) {
		for _, n := range ns {
			b = binary.BigEndian.AppendUint32(b, n)
		}
		return b
	}
	record := append(word(1, uint32(16+len(frame)), 1, 1500, 4, uint32(len(frame))), frame...)
	sample := append(word(1, 7, 400, 400_000, 0, 1, 1<<30, 1), record...)
	packet := append(word(5, 1, 0x0a0000fe, 3, 11, 99, 1, 1, uint32(len(sample))), sample...)
	d := wire.NewDecoder()
	got, faults := read(d, packet)
	require.Empty(t, faults)
	require.Equal(t, []flow.Observation{{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"),
		SrcPort: 50000, DstPort: 443, Proto: 6, Flags: flow.SYN, HasFlags: true, Packet: true, NoType: true,
		Outcome: flow.Dropped, Start: now, End: now, Packets: 400, Bytes: 400 * 50}}, got)
	require.EqualValues(t, []any{uint32(3), int64(400)}, []any{d.Streams()[0].Domain, d.Streams()[0].Sampling})
}

// Times since an exporter's start are in the order in which they were, whichever messages
// they come in: the clock of a header is cut to the second, or read a little later than
// its time since the start. An exporter that starts anew has another start.
func TestStartsOfDifferentMessagesCanBeCompared(t *testing.T) {
	const sec = 0x6afd4a80
	v9 := func(clock, uptime, first uint32) []byte {
		b := octets(t, `0009 0002 00000000 00000000 00000007 00000003
			0000 001c 0104 0005 0008 0004 000c 0004 0004 0001 0016 0004 0015 0004
			0104 0018 0a000001 0a000002 11 00000000 00000000 000000`)
		binary.BigEndian.PutUint32(b[4:], uptime)
		binary.BigEndian.PutUint32(b[8:], clock)
		for _, at := range []int{61, 65} {
			binary.BigEndian.PutUint32(b[at:], first)
		}
		return b
	}
	v5 := func(nanos, uptime, first uint32) []byte {
		b := octets(t, `0005 0001 00000000 6afd4a80 00000000 00000032 00 01 0000
			0a000001 0a000002 00000000 0001 0002 00000003 000000c8 00000000 00000000 c350 01bb 00 12 06 00 0000 0000 18 18 0000`)
		binary.BigEndian.PutUint32(b[4:], uptime)
		binary.BigEndian.PutUint32(b[12:], nanos)
		for _, at := range []int{48, 52} {
			binary.BigEndian.PutUint32(b[at:], first)
		}
		return b
	}
	start := func(d *wire.Decoder, packet []byte) flow.Micros {
		got, faults := read(d, packet)
		require.Empty(t, faults)
		require.Len(t, got, 1)
		return got[0].Start
	}
	d := wire.NewDecoder()
	// The answer, 3 ms after the question, is told of in an earlier message.
	answer := start(d, v9(sec, 10_000, 5003))
	question := start(d, v9(sec, 10_950, 5000)) // the same second, 950 ms later
	require.Equal(t, flow.Micros(3000), answer-question)
	again := start(d, v9(sec+40_000, 2000, 1000))
	require.Greater(t, again, answer+30_000e6, "it has started anew")

	d = wire.NewDecoder()
	answer = start(d, v5(2_600_000, 10_000, 5001))
	question = start(d, v5(1_300_000, 10_000, 5000))
	require.Equal(t, flow.Micros(1000), answer-question)
}

// A packet that the network delivers twice is read once; one that only looks like another
// is another.
func TestPacketsThatComeTwice(t *testing.T) {
	d := wire.NewDecoder()
	e := wire.Exporter{Domain: 9}
	one := flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"), SrcPort: 50000,
		DstPort: 443, Proto: service.TCP,
		Start: now - 1e6, End: now - 1e6, Packets: 1, Bytes: 40}
	packets := [][]byte{e.Templates(now)}
	for range 10 { // one packet each, all alike, in messages of their own
		packets = append(packets, e.Message(now, []flow.Observation{one}))
	}
	seen := 0
	read := func(packet []byte) {
		if fault := d.Decode(packet, now, func(*flow.Observation) { seen++ }); fault != nil {
			t.Fatal(fault)
		}
	}
	for _, p := range packets {
		read(p)
		read(p)
	}
	require.Equal(t, 10, seen)
	s := d.Streams()[0]
	require.EqualValues(t, []int64{10, 10, 0, 0}, []int64{s.Records, s.Repeated, s.Missed, s.Late})
	for i := range 1000 { // it is forgotten after a while: what is remembered is bounded
		read(e.Message(now+flow.Micros(i)*1e6, []flow.Observation{one}))
	}
	require.Equal(t, 1010, seen)
}

// What was sent days ago keeps its times; what a clock says that is off by less, or by
// years, is moved.
func TestWhatIsReplayedKeepsItsTimes(t *testing.T) {
	const hour = flow.Micros(3600e6)
	for behind, moved := range map[flow.Micros]bool{0: false, hour: true, 14 * hour: true, -3 * hour: true,
		25 * hour: false, 20 * 24 * hour: false, 24 * 365 * 30 * hour: true} {
		d := wire.NewDecoder()
		d.Shift = true
		e := wire.Exporter{Domain: 9}
		sent := now - behind
		o := flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"),
			SrcPort: 50000, DstPort: 443, Proto: service.TCP,
			Start: sent - 9e6, End: sent - 4e6, Packets: 1, Bytes: 40}
		var got []flow.Observation
		for _, p := range [][]byte{e.Templates(sent), e.Message(sent, []flow.Observation{o})} {
			if fault := d.Decode(p, now, func(o *flow.Observation) { got = append(got, *o) }); fault != nil {
				t.Fatal(fault)
			}
		}
		want := o.Start
		if moved {
			want = now - 9e6
		}
		require.Equal(t, want, got[0].Start, "behind by %d h", behind/hour)
	}
}

// Two exporters in one name are told by their numbers, that alternate; packets that overtake
// each other, get lost or come from one that began anew are not two.
func TestTwoExportersInOne(t *testing.T) {
	one := flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"), SrcPort: 50000,
		DstPort: 443, Proto: service.TCP,
		Start: now - 1e6, End: now - 1e6, Packets: 1, Bytes: 40}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		d := wire.NewDecoder()
		all := []*wire.Exporter{{Domain: 9}}
		two := seed%2 == 0
		if two {
			all = append(all, &wire.Exporter{Domain: 9})
			for range 3 + r.IntN(900) { // it runs for longer
				all[1].Message(now, []flow.Observation{one})
			}
		}
		var packets [][]byte
		for range 600 {
			k := r.IntN(len(all))
			seen := one
			seen.Bytes += int64(k)
			packets = append(packets, all[k].Message(now, []flow.Observation{seen}))
			switch n := len(packets); r.IntN(40) {
			case 0: // it gets lost
				packets = packets[:n-1]
			case 1: // it overtakes the one before
				if n > 1 {
					packets[n-1], packets[n-2] = packets[n-2], packets[n-1]
				}
			case 2:
				if !two && r.IntN(9) == 0 { // it begins anew
					all[0] = &wire.Exporter{Domain: 9}
				}
			}
		}
		read(d, all[0].Templates(now))
		read(d, packets...)
		require.Equal(t, two, d.Streams()[0].Mixed(), "seed %d", seed)
	}
}
