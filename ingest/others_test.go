package ingest_test

import (
	"bytes"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/ingest"
)

// readAsGuessed reads a file as people do who change nothing of what is guessed.
func readAsGuessed(t *testing.T, text string) (*ingest.TrafficFile, *ingest.Look) {
	t.Helper()
	look, err := ingest.LookAt([]byte(text), true, ingest.Form{}, 3)
	require.NoError(t, err)
	look.Form.Columns = ingest.GuessFlows(look.Headings)
	look.GuessDays()
	return traffic(t, []byte(text), ingest.TrafficOptions{Form: look.Form,
		Now: time.Date(2026, 11, 21, 0, 0, 0, 0, time.UTC)}), look
}

// Files of other programs are read as they are: what their columns are is guessed.
func TestFilesOfOtherPrograms(t *testing.T) {
	for _, x := range []struct {
		name, text string
		want       []string
		bad        int
	}{
		{"a table of a flow dump", "ts,te,td,sa,da,sp,dp,pr,flg,fwd,stos,ipkt,ibyt,opkt,obyt,in,out\n" +
			"2026-11-20 10:00:00,2026-11-20 10:00:05,5.000,10.0.0.1,10.0.0.2,50000,443,TCP,...AP.SF,0,0,10,1200,0,0,1,2\n" +
			"2026-11-20 10:01:00,2026-11-20 10:01:05,5.000,10.0.0.2,10.0.0.1,40000,53,UDP,........,0,0,1,80,0,0,1,2\n",
			[]string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 ", "10.0.0.2 → 10.0.0.1 udp/53 ×1 "}, 0},
		{"the same as JSON",
			`[ { "type" : "FLOW", "sampled" : 0, "first" : "2026-11-20T10:00:00.000", "last" : "2026-11-20T10:00:05.000", "proto" : 6, "src4_addr" : "10.0.0.1",
  "dst4_addr" : "10.0.0.2", "src_port" : 50000, "dst_port" : 443, "tcp_flags" : "...AP.SF", "in_packets" : 10, "in_bytes" : 1200 } ]`,
			[]string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 "}, 0},
		{"a log with blanks between its fields",
			"version account-id interface-id srcaddr dstaddr srcport dstport protocol packets bytes start end action log-status\n" +
				"2 1234 eni-1 10.0.0.1 10.0.0.2 50000 443 6 10 1200 1795168800 1795168805 ACCEPT OK\n" +
				"2 1234 eni-1 10.0.0.2 10.0.0.1 40000 22 6 1 60 1795168800 1795168805 REJECT OK\n" +
				"2 1234 eni-1 - - - - - - - 1795168800 1795168805 - NODATA\n",
			[]string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried", "10.0.0.2 → 10.0.0.1 tcp/22 ×1 dropped"}, 1},
		{"a log of connections, its header in comments",
			"#separator \\x09\n#set_separator\t,\n#unset_field\t-\n#path\tconn\n" +
				"#fields\tts\tuid\tid.orig_h\tid.orig_p\tid.resp_h\tid.resp_p\tproto\tservice\tduration\torig_bytes\tresp_bytes\n#types\ttime\tstring\taddr\tport\taddr\tport\tenum\tstring\tinterval\tcount\tcount\n" +
				"1795168800.123456\tC1\t10.0.0.1\t50000\t10.0.0.2\t443\ttcp\tssl\t5.0\t100\t200\n1795168801.5\tC2\t10.0.0.2\t40000\tfd00::1\t53\tudp\tdns\t-\t-\t-\nnonsense\n#close\t2026\n",
			[]string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 ", "10.0.0.2 → fd00::1 udp/53 ×1 "}, 1},
		{"names of information elements",
			"flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,destinationTransportPort,protocolIdentifier,octetDeltaCount,packetDeltaCount\n" +
				"1795168800000,1795168805000,10.0.0.1,10.0.0.2,50000,443,6,1200,10\n",
			[]string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 "}, 0},
		{"JSON Lines with keys of their own",
			`{"srcaddr":"10.0.0.1","dstaddr":"10.0.0.2","srcport":50000,"dstport":443,"protocol":6,"start":1795168800,"end":1795168805,"action":"ACCEPT"}` + "\n" +
				`{"srcaddr":"10.0.0.2","dstaddr":"10.0.0.1","srcport":1,"dstport":22,"protocol":6,"start":1795168800,"end":1795168805,"action":"REJECT"}` + "\n",
			[]string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried", "10.0.0.2 → 10.0.0.1 tcp/22 ×1 dropped"}, 0},
	} {
		f, _ := readAsGuessed(t, x.text)
		require.Equal(t, x.want, said(f), "%s: %v", x.name, f.Errors)
		require.Equal(t, x.bad, f.Bad, "%s: %v", x.name, f.Errors)
	}
	f, look := readAsGuessed(t,
		"#separator \\x09\n#fields\tts\tid.orig_h\tid.resp_h\tid.resp_p\tproto\n1795168800\tx\t10.0.0.2\t1\ttcp\n")
	require.Equal(t, 3, f.Errors[0].Line, "comments are lines as well")
	require.Equal(t, "ts", look.Headings[0])
	// Sentences are no table with blanks between its cells.
	_, look = readAsGuessed(t,
		"start,src,dst,proto,dport,note\n2026-11-20 10:00:00,10.0.0.1,10.0.0.2,tcp,443,this was seen in the morning\n")
	require.Equal(t, ",", look.Form.Delimiter)
}

// frames are those of a connection with options in its headers.
func frames(t *testing.T) [][]byte {
	at := func(from, to string, tcp *layers.TCP) []byte {
		b := gopacket.NewSerializeBuffer()
		tcp.Options = []layers.TCPOption{{OptionType: 8, OptionLength: 10, OptionData: make([]byte, 8)},
			{OptionType: 3, OptionLength: 3, OptionData: []byte{7}}}
		require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true},
			&layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6),
				EthernetType: layers.EthernetTypeIPv4}, &layers.IPv4{Version: 4, TTL: 9, Protocol: layers.IPProtocolTCP,
				SrcIP: net.ParseIP(from), DstIP: net.ParseIP(to)}, tcp,
			gopacket.Payload("and so on")))
		return append([]byte(nil), b.Bytes()...)
	}
	return [][]byte{at("10.0.0.1", "10.0.0.2", &layers.TCP{SrcPort: 50000, DstPort: 443, SYN: true}),
		at("10.0.0.2", "10.0.0.1", &layers.TCP{SrcPort: 443, DstPort: 50000, SYN: true, ACK: true}),
		at("10.0.0.1", "10.0.0.2", &layers.TCP{SrcPort: 50000, DstPort: 443, FIN: true, ACK: true})}
}

func at(i int) time.Time { return time.Date(2026, 11, 20, 10, 0, 0, i*1e6, time.UTC) }

// Packets that are cut off after 64 octets still say who opened the connection.
func TestCapturesThatAreCutShort(t *testing.T) {
	var file bytes.Buffer
	w := pcapgo.NewWriter(&file)
	require.NoError(t, w.WriteFileHeader(64, layers.LinkTypeEthernet))
	for i, data := range frames(t) {
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at(i), CaptureLength: 64, Length: len(data)},
			data[:64]))
	}
	f := traffic(t, file.Bytes(), ingest.TrafficOptions{})
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried"}, said(f))
	require.Empty(t, f.Warnings)
	require.EqualValues(t, 3, f.Records[0].Packets)
}

// Packets without a time, or with one that cannot be, are counted and not stored; the others are.
func TestCapturesWithTimesThatCannotBe(t *testing.T) {
	for _, wrong := range []time.Time{{}, time.Unix(0, 0), time.Unix(86400*365*19, 0), time.Now().Add(30 * time.Hour)} {
		var file bytes.Buffer
		w, err := pcapgo.NewNgWriter(&file, layers.LinkTypeEthernet)
		require.NoError(t, err)
		for i, data := range frames(t) {
			for _, ts := range []time.Time{wrong, at(i)} {
				require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: ts, CaptureLength: len(data),
					Length: len(data)}, data))
			}
		}
		require.NoError(t, w.Flush())
		f := traffic(t, file.Bytes(), ingest.TrafficOptions{})
		require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried"}, said(f), "%s", wrong)
		require.EqualValues(t, 3, f.Records[0].Packets, "%s", wrong)
		require.Equal(t, 3, f.Bad, "%s", wrong)
		require.Contains(t, f.Errors[0].Reason, "expected a time from 1990 on that is not more than a day ahead")
	}
}

// A file of several interfaces, of several kinds: what two of them saw is counted once;
// what cannot be read is named.
func TestCapturesOfSeveralInterfaces(t *testing.T) {
	var file bytes.Buffer
	w, err := pcapgo.NewNgWriterInterface(&file, pcapgo.NgInterface{Name: "eth0", LinkType: layers.LinkTypeEthernet,
		SnapLength: 65535}, pcapgo.DefaultNgWriterOptions)
	require.NoError(t, err)
	raw, err := w.AddInterface(pcapgo.NgInterface{Name: "tun0", LinkType: layers.LinkTypeRaw, SnapLength: 65535})
	require.NoError(t, err)
	radio, err := w.AddInterface(pcapgo.NgInterface{Name: "radio", LinkType: layers.LinkTypeIEEE802_11,
		SnapLength: 65535})
	require.NoError(t, err)
	for i, data := range frames(t) {
		for k, n := range []int{0, raw, radio} {
			if n == raw {
				data = data[14:]
			}
			require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at(10*i + k), CaptureLength: len(data),
				Length: len(data), InterfaceIndex: n}, data))
		}
	}
	require.NoError(t, w.Flush())
	f := traffic(t, file.Bytes(), ingest.TrafficOptions{Name: "quay.pcapng"})
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried"}, said(f))
	require.EqualValues(t, 3, f.Records[0].Packets, "each was seen twice, and is counted once")
	require.Equal(t, "quay.pcapng eth0, quay.pcapng tun0", f.Records[0].Observer)
	require.Equal(t, []string{"3 packets are of link type 105 (802.11), which is not read, and passed over"},
		f.Warnings)
}

// Of packets in a tunnel the inner conversation counts; both, if somebody says so.
func TestTunnelsOfACapture(t *testing.T) {
	var file bytes.Buffer
	w := pcapgo.NewWriter(&file)
	require.NoError(t, w.WriteFileHeader(65535, layers.LinkTypeEthernet))
	for i, data := range frames(t) {
		b := gopacket.NewSerializeBuffer()
		udp := &layers.UDP{SrcPort: 4789, DstPort: 4789}
		require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true},
			&layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6),
				EthernetType: layers.EthernetTypeIPv4}, &layers.IPv4{Version: 4, TTL: 9, Protocol: layers.IPProtocolUDP,
				SrcIP: net.ParseIP("192.0.2.1"), DstIP: net.ParseIP("192.0.2.2")}, udp,
			&layers.VXLAN{ValidIDFlag: true, VNI: 3}, gopacket.Payload(data)))
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at(i), CaptureLength: len(b.Bytes()),
			Length: len(b.Bytes())}, b.Bytes()))
	}
	f := traffic(t, file.Bytes(), ingest.TrafficOptions{})
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried"}, said(f))
	require.True(t, f.Carried)
	require.Equal(t, []string{"3 packets carry another one in VXLAN: what they carry is read, and not what carries it"}, f.Warnings)
	f = traffic(t, file.Bytes(), ingest.TrafficOptions{Carriers: true})
	require.Len(t, f.Records, 2)
	require.Contains(t, strings.Join(said(f), "\n"), "192.0.2.1 → 192.0.2.2 udp/4789 ×1")
	cut := traffic(t, file.Bytes()[:100], ingest.TrafficOptions{})
	require.Equal(t, 1, cut.Bad, "it ends in the middle of a packet")
}

// Numbers of information elements mean what the registry says, not what numbers mean elsewhere.
func TestOutcomesByTheirElement(t *testing.T) {
	for heading, words := range map[string]map[string]string{
		"firewallEvent": {"1": "carried", "2": "carried", "3": "dropped", "5": "carried", "0": "unknown",
			"4": "unknown", "deny": "dropped"},
		"forwardingStatus": {"0": "unknown", "64": "carried", "0x41": "carried", "128": "dropped", "131": "dropped",
			"192": "carried"},
		"Action": {"1": "carried", "0": "dropped", "3": ""},
	} {
		for word, as := range words {
			require.Equal(t, as, ingest.GuessOutcomeIn(heading, word), "%s %s", heading, word)
		}
	}
	file := "sourceIPv4Address,destinationIPv4Address,sourceTransportPort,destinationTransportPort,protocolIdentifier," +
		"octetDeltaCount,packetDeltaCount,flowStartMilliseconds,firewallEvent\n"
	for _, event := range []string{"1", "3", "2", "4"} {
		file += "10.0.0.1,10.0.0.2,50000,443,6,100,2,1795000000000," + event + "\n"
	}
	look, err := ingest.LookAt([]byte(file), true, ingest.Form{}, 4)
	require.NoError(t, err)
	look.Form.Columns = ingest.GuessFlows(look.Headings)
	var got []flow.Outcome
	_, err = ingest.ReadTraffic(strings.NewReader(file), int64(len(file)), ingest.TrafficOptions{Form: look.Form,
		Emit: func(j *flow.Joined) error { got = append(got, j.Outcome); return nil }})
	require.NoError(t, err)
	require.Equal(t, []flow.Outcome{flow.Carried, flow.Dropped, flow.Carried, flow.Unknown}, got)
}
