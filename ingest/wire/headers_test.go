package wire_test

import (
	"fmt"
	"net"
	"net/netip"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// packet puts layers together, with their lengths.
func packet(t testing.TB, all ...gopacket.SerializableLayer) []byte {
	t.Helper()
	b := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true}, all...))
	return append([]byte(nil), b.Bytes()...)
}

func ethernet(kind layers.EthernetType) *layers.Ethernet {
	return &layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6), EthernetType: kind}
}

func ip4(from, to string, proto layers.IPProtocol) *layers.IPv4 {
	return &layers.IPv4{Version: 4, TTL: 9, Protocol: proto, SrcIP: net.ParseIP(from), DstIP: net.ParseIP(to)}
}

func ip6(from, to string, proto layers.IPProtocol) *layers.IPv6 {
	return &layers.IPv6{Version: 6, HopLimit: 9, NextHeader: proto, SrcIP: net.ParseIP(from), DstIP: net.ParseIP(to)}
}

// syn opens a connection, with options that take 12 octets.
func syn() *layers.TCP {
	return &layers.TCP{SrcPort: 50000, DstPort: 443, SYN: true, Options: []layers.TCPOption{{OptionType: 8,
		OptionLength: 10, OptionData: make([]byte, 8)}}}
}

// told reports what is read of a packet: each level, from the outside in.
func told(h *wire.Headers, link layers.LinkType, data []byte) (out []string) {
	h.Each(link, data, len(data), func(o *flow.Observation, in string) {
		out = append(out, fmt.Sprintf("%s%s:%d → %s:%d proto %d flags %d/%v",
			map[bool]string{true: in + ": ", false: ""}[in != ""], o.Src, o.SrcPort, o.Dst, o.DstPort,
			o.Proto, o.Flags, o.HasFlags))
	})
	return out
}

const (
	outer = "192.0.2.1:0 → 192.0.2.2:0 proto "
	inner = "10.0.0.1:50000 → 10.0.0.2:443 proto 6 flags 2/true"
)

// What packets carry is read, whatever carries it.
func TestCarriedPacketsAreRead(t *testing.T) {
	inside := func() []gopacket.SerializableLayer {
		return []gopacket.SerializableLayer{ip4("10.0.0.1", "10.0.0.2", layers.IPProtocolTCP), syn(),
			gopacket.Payload("abcdef")}
	}
	frame := packet(t, append([]gopacket.SerializableLayer{ethernet(layers.EthernetTypeIPv4)}, inside()...)...)
	whole := packet(t, inside()...)
	over := func(proto layers.IPProtocol, all ...gopacket.SerializableLayer) []byte {
		return packet(t, append([]gopacket.SerializableLayer{ethernet(layers.EthernetTypeIPv4),
			ip4("192.0.2.1", "192.0.2.2", proto)}, all...)...)
	}
	udp := func(port layers.UDPPort) *layers.UDP { return &layers.UDP{SrcPort: 7, DstPort: port} }
	for _, x := range []struct {
		name string
		link layers.LinkType
		data []byte
		want []string
	}{
		{"a frame", layers.LinkTypeEthernet, frame, []string{inner}},
		{"raw", layers.LinkTypeRaw, whole, []string{inner}},
		{"two VLANs", layers.LinkTypeEthernet,
			packet(t, append([]gopacket.SerializableLayer{ethernet(layers.EthernetTypeQinQ),
				&layers.Dot1Q{Type: layers.EthernetTypeDot1Q, VLANIdentifier: 4},
				&layers.Dot1Q{Type: layers.EthernetTypeIPv4}}, inside()...)...), []string{inner}},
		{"any interface of Linux", layers.LinkTypeLinuxSLL, append([]byte{0, 0, 0, 1, 0, 6, 0, 0, 0, 0, 0, 0, 0, 0, 8,
			0}, whole...), []string{inner}},
		{"the same, newer", layers.LinkTypeLinuxSLL2, append(append([]byte{8, 0}, make([]byte, 18)...), whole...),
			[]string{inner}},
		{"loopback", layers.LinkTypeNull, append([]byte{2, 0, 0, 0}, whole...), []string{inner}},
		{"MPLS", layers.LinkTypeEthernet,
			packet(t, append([]gopacket.SerializableLayer{ethernet(layers.EthernetTypeMPLSUnicast),
				&layers.MPLS{Label: 17, TTL: 3},
				&layers.MPLS{Label: 18, TTL: 3, StackBottom: true}}, inside()...)...), []string{inner}},
		{"IP in IP", layers.LinkTypeEthernet, over(4, gopacket.Payload(whole)),
			[]string{outer + "4 flags 0/false", "IP in IP: " + inner}},
		{"GRE", layers.LinkTypeEthernet, over(layers.IPProtocolGRE, &layers.GRE{Protocol: layers.EthernetTypeIPv4,
			KeyPresent: true, SeqPresent: true}, gopacket.Payload(whole)),
			[]string{outer + "47 flags 0/false", "GRE: " + inner}},
		{"GRE of frames", layers.LinkTypeEthernet, over(layers.IPProtocolGRE, &layers.GRE{Protocol: 0x6558},
			gopacket.Payload(frame)), []string{outer + "47 flags 0/false", "GRE: " + inner}},
		{"ERSPAN", layers.LinkTypeEthernet, over(layers.IPProtocolGRE,
			&layers.GRE{Protocol: layers.EthernetTypeERSPAN, SeqPresent: true}, &layers.ERSPANII{Version: 1},
			gopacket.Payload(frame)),
			[]string{outer + "47 flags 0/false", "ERSPAN: " + inner}},
		{"ERSPAN of the first type", layers.LinkTypeEthernet, over(layers.IPProtocolGRE,
			&layers.GRE{Protocol: layers.EthernetTypeERSPAN}, gopacket.Payload(frame)),
			[]string{outer + "47 flags 0/false", "ERSPAN: " + inner}},
		{"ERSPAN of the third type", layers.LinkTypeEthernet, over(layers.IPProtocolGRE,
			&layers.GRE{Protocol: 0x22eb, SeqPresent: true}, gopacket.Payload(append(make([]byte, 12), frame...))),
			[]string{outer + "47 flags 0/false", "ERSPAN: " + inner}},
		{"VXLAN", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(4789),
			&layers.VXLAN{ValidIDFlag: true, VNI: 9}, gopacket.Payload(frame)),
			[]string{"192.0.2.1:7 → 192.0.2.2:4789 proto 17 flags 0/false", "VXLAN: " + inner}},
		{"Geneve", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(6081),
			gopacket.Payload(append([]byte{1, 0, 0x65, 0x58, 0, 0, 9, 0, 1, 2, 3, 0}, frame...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:6081 proto 17 flags 0/false", "Geneve: " + inner}},
		{"VXLAN on the port of Linux", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(8472),
			&layers.VXLAN{ValidIDFlag: true, VNI: 9}, gopacket.Payload(frame)),
			[]string{"192.0.2.1:7 → 192.0.2.2:8472 proto 17 flags 0/false", "VXLAN: " + inner}},
		{"something else on that port", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(8472),
			gopacket.Payload(append([]byte{8, 0, 0, 1, 0, 0, 9, 0}, frame...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:8472 proto 17 flags 0/false"}},
		{"VXLAN-GPE", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(4790),
			gopacket.Payload(append([]byte{0x0c, 0, 0, 1, 0, 0, 9, 0}, whole...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:4790 proto 17 flags 0/false", "VXLAN-GPE: " + inner}},
		{"VXLAN-GPE of frames", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(4790),
			gopacket.Payload(append([]byte{0x0c, 0, 0, 3, 0, 0, 9, 0}, frame...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:4790 proto 17 flags 0/false", "VXLAN-GPE: " + inner}},
		{"GTP-U", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(2152),
			gopacket.Payload(append([]byte{0x30, 0xff, 0, 60, 0, 0, 0, 9}, whole...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:2152 proto 17 flags 0/false", "GTP-U: " + inner}},
		{"GTP-U with two extensions", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(2152),
			gopacket.Payload(append([]byte{0x34, 0xff, 0, 72, 0, 0, 0, 9, 0, 0, 0, 0x85, 1, 0x10, 9, 0x40, 1, 0, 0, 0},
				whole...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:2152 proto 17 flags 0/false", "GTP-U: " + inner}},
		{"an echo of GTP-U", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(2152),
			gopacket.Payload(append([]byte{0x32, 1, 0, 4, 0, 0, 0, 0}, whole...))),
			[]string{"192.0.2.1:7 → 192.0.2.2:2152 proto 17 flags 0/false"}},
		{"what only looks like VXLAN", layers.LinkTypeEthernet, over(layers.IPProtocolUDP, udp(4789),
			gopacket.Payload("not one at all, by its first octet")),
			[]string{"192.0.2.1:7 → 192.0.2.2:4789 proto 17 flags 0/false"}},
		{"of a link that is not read", layers.LinkTypeIEEE802_11, frame, nil},
	} {
		require.Equal(t, x.want, told(wire.NewHeaders(), x.link, x.data), x.name)
		// Cut off anywhere, it gives what was there, and nothing else; ports from their fourth octet on.
		for n := range x.data {
			got := told(wire.NewHeaders(), x.link, x.data[:n])
			require.LessOrEqual(t, len(got), len(x.want), "%s, %d octets", x.name, n)
		}
	}
	require.Equal(t, []string{inner}, told(wire.NewHeaders(), layers.LinkTypeEthernet, frame[:14+20+14]),
		"the options are cut off, and all of the rest")
	require.Equal(t, []string{"10.0.0.1:50000 → 10.0.0.2:443 proto 6 flags 0/false"},
		told(wire.NewHeaders(), layers.LinkTypeEthernet, frame[:14+20+4]))
}

// The fragments of a packet have the ports of its first; one whose first is missing has
// none, and is counted.
func TestFragmentsHaveThePortsOfTheirFirst(t *testing.T) {
	first := ip4("10.0.0.1", "10.0.0.2", layers.IPProtocolUDP)
	first.Id, first.Flags = 7, layers.IPv4MoreFragments
	later := ip4("10.0.0.1", "10.0.0.2", layers.IPProtocolUDP)
	later.Id, later.FragOffset = 7, 185
	stray := ip4("10.0.0.1", "10.0.0.2", layers.IPProtocolUDP)
	stray.Id, stray.FragOffset = 8, 185
	h := wire.NewHeaders()
	want := []string{"10.0.0.1:50000 → 10.0.0.2:53 proto 17 flags 0/false"}
	require.Equal(t, want, told(h, layers.LinkTypeRaw, packet(t, first, &layers.UDP{SrcPort: 50000, DstPort: 53},
		gopacket.Payload(make([]byte, 64)))))
	looksLike := packet(t, &layers.UDP{SrcPort: 1, DstPort: 2})
	require.Equal(t, want, told(h, layers.LinkTypeRaw, packet(t, later, gopacket.Payload(looksLike))))
	require.Empty(t, told(h, layers.LinkTypeRaw, packet(t, stray, gopacket.Payload(looksLike))))
	require.Equal(t, []int{1, 0}, []int{h.Waiting(), h.Lost})

	// In reverse order, each is told with the ports of the first, once that comes.
	h = wire.NewHeaders()
	require.Empty(t, told(h, layers.LinkTypeRaw, packet(t, later, gopacket.Payload(looksLike))))
	require.Equal(t, 1, h.Waiting())
	require.Equal(t, []string{want[0], want[0]}, told(h, layers.LinkTypeRaw, packet(t, first,
		&layers.UDP{SrcPort: 50000, DstPort: 53}, gopacket.Payload(make([]byte, 64)))))
	require.Zero(t, h.Waiting()+h.Lost)
	for i := range 9000 { // that many do not wait, and none is forgotten
		stray.Id = uint16(i + 10)
		require.Empty(t, told(h, layers.LinkTypeRaw, packet(t, stray, gopacket.Payload(looksLike))))
		require.Equal(t, i+1, h.Waiting()+h.Lost)
	}

	six := func(offset uint16, more bool, rest []byte) []byte {
		at := offset << 3
		if more {
			at |= 1
		}
		head := append([]byte{17, 0, byte(at >> 8), byte(at), 0, 0, 0, 9}, rest...)
		return packet(t, ip6("fd00::1", "fd00::2", layers.IPProtocolIPv6HopByHop),
			gopacket.Payload(append([]byte{44, 0, 0, 0, 0, 0, 0, 0}, head...)))
	}
	h = wire.NewHeaders()
	want = []string{"fd00::1:50000 → fd00::2:53 proto 17 flags 0/false"}
	require.Equal(t, want,
		told(h, layers.LinkTypeRaw, six(0, true, packet(t, &layers.UDP{SrcPort: 50000, DstPort: 53},
			gopacket.Payload("12345678")))))
	require.Equal(t, want, told(h, layers.LinkTypeRaw, six(2, false, []byte("whatever"))))
	require.Zero(t, h.Lost)
	for i := range 9000 { // that many are not remembered, and nothing breaks
		first.Id = uint16(i)
		_ = told(h, layers.LinkTypeRaw, packet(t, first, &layers.UDP{SrcPort: 50000, DstPort: 53}))
	}
	require.Equal(t, want,
		told(h, layers.LinkTypeRaw, six(0, true, packet(t, &layers.UDP{SrcPort: 50000, DstPort: 53}))))
}

// FuzzHeaders looks for packets that crash the reader, or give what has no addresses.
func FuzzHeaders(f *testing.F) {
	f.Add(uint16(1), []byte(
		"\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x08\x00E\x00\x00\x28\x00\x00\x00\x00\x40\x2f\x00\x00\x0a\x00\x00\x01\x0a\x00\x00\x02\xb0\x00\x65\x58"))
	f.Add(uint16(101), []byte("\x60\x00\x00\x00\x00\x10\x2c\x40"))
	h := wire.NewHeaders()
	f.Fuzz(func(t *testing.T, link uint16, data []byte) {
		n := 0
		h.Each(layers.LinkType(link), data, len(data), func(o *flow.Observation, _ string) {
			if n++; o.Src == (netip.Addr{}) || o.Dst == (netip.Addr{}) || o.Bytes < 0 {
				t.Fatalf("%+v", o)
			}
		})
		if n > 10 {
			t.Fatal("too deep")
		}
	})
}
