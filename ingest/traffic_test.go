package ingest_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest"
	"lucidorchard/ingest/wire"
)

func traffic(t *testing.T, file []byte, o ingest.TrafficOptions) *ingest.TrafficFile {
	f, err := ingest.ReadTraffic(bytes.NewReader(file), int64(len(file)), o)
	require.NoError(t, err)
	return f
}

// said returns the conversations of a file, in short.
func said(f *ingest.TrafficFile) (out []string) {
	for _, r := range f.Records {
		out = append(out, fmt.Sprintf("%s → %s %s ×%d %s", r.Client, r.Server, r.Point, r.Connections, r.Outcome))
	}
	return out
}

func TestForeignHeadingsOfFlows(t *testing.T) {
	file := []byte(strings.Join([]string{
		"Start Time,Source IP,Dst IP,Protocol,Dst Port,Src Port,Bytes,Action,Colour",
		"2026-11-20 14:02:00,10.0.0.1,10.0.0.2,TCP,443,50000,1200,allow,red",
		"1795010520000,10.0.0.1,10.0.0.2,udp,53,50001,-,DENY,blue",
		"yesterday,10.0.0.1,10.0.0.2,tcp,443,50000,1,allow,red",
		"2026-11-20T14:02:00Z,10.0.0.1,10.0.0.2,tcp,443,50002,1,perhaps,red",
	}, "\n"))
	look, err := ingest.LookAt(file, true, ingest.Form{}, 1)
	require.NoError(t, err)
	headings := look.Headings
	m := ingest.GuessFlows(headings)
	require.Equal(t, ingest.Mapping{"Start Time": "start", "Source IP": "src", "Dst IP": "dst", "Protocol": "proto",
		"Dst Port": "dport", "Src Port": "sport", "Bytes": "bytes", "Action": "outcome", "Colour": ""}, m)
	require.NoError(t, ingest.Usable(headings, m))
	require.Error(t, ingest.Usable(headings, ingest.Mapping{"Start Time": "start"}))
	f := traffic(t, file, ingest.TrafficOptions{Form: ingest.Form{Columns: m}})
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried", "10.0.0.1 → 10.0.0.2 udp/53 ×1 dropped"},
		said(f))
	require.Equal(t, "2026-11-18T14:02:00Z", f.Records[1].Start.String())
	require.Equal(t, []any{4, 2, 4, "start", 5, "outcome"}, []any{f.Rows, f.Bad, f.Errors[0].Line, f.Errors[0].Column,
		f.Errors[1].Line, f.Errors[1].Column})
}

// Columns that belong together are read together: a day and a time, the amounts of two directions.
func TestColumnsThatBelongTogether(t *testing.T) {
	read := func(rows ...string) (*ingest.TrafficFile, ingest.Mapping) {
		file := []byte(strings.Join(rows, "\n") + "\n")
		look, err := ingest.LookAt(file, true, ingest.Form{}, 1)
		require.NoError(t, err)
		m := ingest.GuessFlows(look.Headings)
		return traffic(t, file, ingest.TrafficOptions{Form: ingest.Form{Columns: m}}), m
	}
	f, m := read("date,time,src,dst,proto,dport,bytes_in,bytes_out,pkts_in,pkts_out,end",
		"2026-11-20,10:00:30,10.0.0.1,10.0.0.2,tcp,443,1000,234,9,7,10:01",
		"20.11.2026,23:59:50,10.0.0.1,10.0.0.2,tcp,443,\"1,000\",,9,7,00:00:10",
		"2026-11-20 00:00:00,9:05 PM,10.0.0.1,10.0.0.2,tcp,443,1,1,1,1,",
		"2026-11-20,10:00,10.0.0.1,10.0.0.2,tcp,443,1,many,1,1,",
		"2026-11-20,10:00,10.0.0.1,10.0.0.2,tcp,443,1,1,1,1,2026-11-19T10:00:00Z")
	require.Equal(t, ingest.Mapping{"date": "date", "time": "start", "src": "src", "dst": "dst", "proto": "proto",
		"dport": "dport", "bytes_in": "reply bytes", "bytes_out": "bytes", "pkts_in": "reply packets",
		"pkts_out": "packets", "end": "end"}, m)
	var got []string
	for _, r := range f.Records {
		got = append(got, fmt.Sprint(r.Start, " ", r.End, " ", r.Bytes, " ", r.Packets))
	}
	require.Equal(t, []string{"2026-11-20T10:00:30Z 2026-11-20T10:01:00Z 1234 16",
		"2026-11-20T23:59:50Z 2026-11-21T00:00:10Z 1000 16", "2026-11-20T21:05:00Z 2026-11-20T21:05:00Z 2 2",
		"2026-11-20T10:00:00Z 2026-11-19T10:00:00Z 2 2"}, got, "an end with a day of its own stays as it is")
	require.Equal(t, []any{1, "bytes"}, []any{f.Bad, f.Errors[0].Column})

	// What belongs to nothing else stays as it was.
	for headings, want := range map[string]string{
		"date,src,dst,proto,dport":                              "start",
		"time,src,dst,proto,dport":                              "start",
		"start,date,time,src,dst,proto,dport":                   "",
		"start time,src,dst,proto,dport,bytes,in bytes":         "",
		"start time,src,dst,proto,dport,total bytes,bytes sent": "",
	} {
		m := ingest.GuessFlows(strings.Split(headings, ","))
		if want != "" {
			require.Equal(t, want, m[strings.Split(headings, ",")[0]], headings)
		}
		for _, to := range m {
			require.NotContains(t, []string{"date", "reply bytes"}, to, headings)
		}
	}
}

// Rows that are one direction each are joined, and stand from client to server.
func TestDirectionsAreJoined(t *testing.T) {
	rows := `start,src,dst,proto,dport,sport,packets,bytes,observer
2026-11-20T14:02:00.5Z,10.0.0.2,10.0.0.1,tcp,50000,8443,4,4000,a
2026-11-20T14:02:00Z,10.0.0.1,10.0.0.2,tcp,8443,50000,5,500,a
2026-11-20T14:02:00Z,10.0.0.1,10.0.0.2,tcp,8443,50000,5,500,b
`
	for name, file := range map[string]string{"CSV": rows,
		"JSON Lines": `{"start":"2026-11-20T14:02:00.5Z","src":"10.0.0.2","dst":"10.0.0.1","proto":"tcp","dport":50000,"sport":8443,"packets":4,"bytes":4000,"observer":"a"}
{"start":"2026-11-20T14:02:00Z","src":"10.0.0.1","dst":"10.0.0.2","proto":6,"dport":8443,"sport":50000,"packets":5,"bytes":500,"observer":"a"}

{"start":"2026-11-20T14:02:00Z","src":"10.0.0.1","dst":"10.0.0.2","proto":6,"dport":8443,"sport":50000,"packets":5,"bytes":500,"observer":"b"}
`} {
		f := traffic(t, []byte(file), ingest.TrafficOptions{Directions: true})
		require.Equal(t, name, string(f.Format))
		require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/8443 ×1 carried"}, said(f))
		require.EqualValues(t, []any{int64(9), int64(4500), int64(4000), "a, b"},
			[]any{f.Records[0].Packets, f.Records[0].Bytes, f.Records[0].ReplyBytes, f.Records[0].Observer})
		require.Len(t, traffic(t, []byte(file), ingest.TrafficOptions{}).Records, 3,
			"as they stand, without being asked to")
	}
}

func TestLinesThatCannotBeRead(t *testing.T) {
	f := traffic(t, []byte(
		"{\"start\":\"2026-11-20T14:02:00Z\",\"src\":\"10.0.0.1\",\"dst\":\"10.0.0.2\",\"proto\":\"tcp\",\"dport\":443}\n{not json}\n{\"start\":\"2026-11-20T14:02:00Z\",\"src\":\"nobody\",\"dst\":\"10.0.0.2\",\"proto\":\"tcp\"}\n"), ingest.TrafficOptions{})
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 "}, said(f))
	require.Equal(t, []any{2, 2, 3, "src"}, []any{f.Bad, f.Errors[0].Line, f.Errors[1].Line, f.Errors[1].Column})
}

func TestAnIPFIXFile(t *testing.T) {
	now := flow.MicrosOf(time.Date(2026, 11, 20, 14, 2, 0, 0, time.UTC))
	there := flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"),
		SrcPort: 50000, DstPort: 443, Proto: service.TCP, Flags: flow.SYN | flow.ACK, HasFlags: true,
		Start: now - 5e6, End: now, Packets: 5, Bytes: 500}
	back := there
	back.Src, back.Dst, back.SrcPort, back.DstPort = there.Dst, there.Src, there.DstPort, there.SrcPort
	e := wire.Exporter{Domain: 3}
	file := append(e.Templates(now), e.Message(now, []flow.Observation{there, back})...)
	f := traffic(t, file, ingest.TrafficOptions{Name: "probe.ipfix"})
	require.Equal(t, "IPFIX file", string(f.Format))
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried"}, said(f))
	require.Equal(t, "probe.ipfix", f.Records[0].Observer)
	cut := traffic(t, file[:len(file)-7], ingest.TrafficOptions{})
	require.Equal(t, 1, cut.Bad)
	require.Contains(t, cut.Errors[0].Reason, "in the middle of a message")
}

// capture writes packets of a connection, of a ping and of nothing of interest.
func capture(t *testing.T, write func(gopacket.CaptureInfo, []byte)) {
	at := time.Date(2026, 11, 20, 14, 2, 0, 0, time.UTC)
	a, b := []byte{10, 0, 0, 1}, []byte{10, 0, 0, 2}
	put := func(src, dst []byte, l gopacket.SerializableLayer, proto layers.IPProtocol) {
		buffer := gopacket.NewSerializeBuffer()
		eth := &layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6),
			EthernetType: layers.EthernetTypeIPv4}
		require.NoError(t, gopacket.SerializeLayers(buffer, gopacket.SerializeOptions{FixLengths: true}, eth,
			&layers.IPv4{Version: 4, TTL: 9, Protocol: proto, SrcIP: src, DstIP: dst}, l,
			gopacket.Payload("0123456789")))
		at = at.Add(time.Millisecond)
		write(gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(buffer.Bytes()), Length: len(buffer.Bytes())},
			buffer.Bytes())
	}
	put(a, b, &layers.TCP{SrcPort: 443, DstPort: 50000, SYN: true}, layers.IPProtocolTCP)
	put(b, a, &layers.TCP{SrcPort: 50000, DstPort: 443, SYN: true, ACK: true}, layers.IPProtocolTCP)
	put(a, b, &layers.TCP{SrcPort: 443, DstPort: 50000, ACK: true}, layers.IPProtocolTCP)
	put(a, b, &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(8, 0)}, layers.IPProtocolICMPv4)
	put(b, a, &layers.ICMPv4{}, layers.IPProtocolICMPv4)
	write(gopacket.CaptureInfo{Timestamp: at, CaptureLength: 20, Length: 20}, make([]byte, 20))
}

func TestPacketCaptures(t *testing.T) {
	var old, next bytes.Buffer
	w := pcapgo.NewWriter(&old)
	require.NoError(t, w.WriteFileHeader(65535, layers.LinkTypeEthernet))
	capture(t, func(ci gopacket.CaptureInfo, data []byte) { require.NoError(t, w.WritePacket(ci, data)) })
	ng, err := pcapgo.NewNgWriter(&next, layers.LinkTypeEthernet)
	require.NoError(t, err)
	capture(t, func(ci gopacket.CaptureInfo, data []byte) { require.NoError(t, ng.WritePacket(ci, data)) })
	require.NoError(t, ng.Flush())
	for _, file := range [][]byte{old.Bytes(), next.Bytes()} {
		f := traffic(t, file, ingest.TrafficOptions{Name: "quay.pcap"})
		require.Equal(t, "packet capture", string(f.Format))
		require.ElementsMatch(t, []string{"10.0.0.1 → 10.0.0.2 tcp/50000 ×1 carried",
			"10.0.0.1 → 10.0.0.2 icmp/8.0 ×1 carried"}, said(f), "the SYN says who opened it, whatever the ports")
		require.Equal(t, 6, f.Rows)
		require.Len(t, f.Warnings, 1)
	}
	_, err = ingest.ReadTraffic(bytes.NewReader(old.Bytes()[:10]), 10, ingest.TrafficOptions{})
	require.Error(t, err)
}

func TestFormatsAreTold(t *testing.T) {
	for text, want := range map[string]ingest.TrafficFormat{"start,src": ingest.TrafficCSV,
		" \n{\"a\":1}": ingest.TrafficLines, "\x00\x0a\x00\x20": ingest.TrafficIPFIX,
		"\xd4\xc3\xb2\xa1": ingest.TrafficCapture, "\x0a\x0d\x0d\x0a": ingest.TrafficCapture, "": ingest.TrafficCSV} {
		require.Equal(t, want, ingest.FormatOf([]byte(text)), "%q", text)
	}
}

// FuzzTraffic looks for files that crash the readers or give records without
// ends.
func FuzzTraffic(f *testing.F) {
	f.Add([]byte("start,src,dst,proto,dport\n2026-11-20T14:02:00Z,10.0.0.1,10.0.0.2,tcp,443\n"), true)
	f.Add([]byte(`{"start":"2026-11-20T14:02:00Z","src":"10.0.0.1","dst":"::1","proto":"icmp6","dport":1}`), true)
	f.Add([]byte("\xd4\xc3\xb2\xa1\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\xff\xff\x00\x00\x01\x00\x00\x00"),
		false)
	e := wire.Exporter{}
	f.Add(e.Templates(1_795_000_000e6), false)
	f.Fuzz(func(t *testing.T, file []byte, directions bool) {
		got, err := ingest.ReadTraffic(bytes.NewReader(file), int64(len(file)),
			ingest.TrafficOptions{Directions: directions})
		if err != nil {
			return
		}
		for _, r := range got.Records {
			if !r.Client.IsValid() || !r.Server.IsValid() {
				t.Fatalf("%+v", r)
			}
		}
	})
}
