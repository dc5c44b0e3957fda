package wire

import (
	"encoding/binary"
	"net/netip"

	"github.com/gopacket/gopacket/layers"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Headers reads the headers of packets, as far as they go: captures cut packets off, in
// the middle of a header as well. It is not safe for concurrent use.
type Headers struct {
	// Of fragments whose first was read: the ports that it had.
	fragments map[fragment]flow.Observation
	// Those that came before their first.
	waiting map[fragment][]flow.Observation
	waits   int
	// Lost counts fragments that carry no ports, and for whose first there was no room to wait.
	Lost int
}

// Waiting returns how many fragments carry no ports, and wait for their first.
func (h *Headers) Waiting() int { return h.waits }

// wait keeps a fragment until its first comes. Where there is no room, those that wait are given up.
func (h *Headers) wait(key fragment, o *flow.Observation) {
	if h.waits >= mostFragments {
		h.Lost += h.waits
		h.waits = 0
		clear(h.waiting)
	}
	h.waits++
	h.waiting[key] = append(h.waiting[key], *o)
}

// fragment is what the fragments of one packet have in common.
type fragment struct {
	src, dst netip.Addr
	id       uint32
	proto    uint8
}

// mostFragments is of how many packets the first fragment is remembered.
const mostFragments = 4096

// NewHeaders makes one.
func NewHeaders() *Headers {
	return &Headers{fragments: map[fragment]flow.Observation{}, waiting: map[fragment][]flow.Observation{}}
}

// Read makes an observation of one packet that begins as the link type of its capture
// says; octets is its length on the wire. It reports whether there are addresses in it. Of
// a packet that carries another one it reads the outer headers: see Each.
func (h *Headers) Read(o *flow.Observation, link layers.LinkType, data []byte, octets int) bool {
	found := false
	h.Each(link, data, octets, func(x *flow.Observation, in string) {
		if in == "" {
			*o, found = *x, true
		}
	})
	return found
}

// Each makes an observation of a packet, and of each packet that it carries: the outermost
// first. in names what carries it (GRE, VXLAN and so on); blank for the outermost.
func (h *Headers) Each(link layers.LinkType, data []byte, octets int, f func(o *flow.Observation, in string)) {
	w := walk{h: h, octets: octets, f: f}
	switch link {
	case layers.LinkTypeEthernet:
		w.ethernet(data, "")
	case layers.LinkTypeNull, layers.LinkTypeLoop:
		w.ip(after(data, 4), "")
	case layers.LinkTypeLinuxSLL:
		if len(data) >= 16 {
			w.ether(binary.BigEndian.Uint16(data[14:]), data[16:], "")
		}
	case layers.LinkTypeLinuxSLL2:
		if len(data) >= 20 {
			w.ether(binary.BigEndian.Uint16(data), data[20:], "")
		}
	case layers.LinkTypeRaw, layers.LinkTypeIPv4, layers.LinkTypeIPv6, 12, 14: // raw IP has other numbers in old files
		w.ip(data, "")
	}
}

// Reads reports whether packets of a link type can be read.
func Reads(link layers.LinkType) bool {
	switch link {
	case layers.LinkTypeEthernet, layers.LinkTypeNull, layers.LinkTypeLoop, layers.LinkTypeLinuxSLL,
		layers.LinkTypeLinuxSLL2, layers.LinkTypeRaw,
		layers.LinkTypeIPv4, layers.LinkTypeIPv6, 12, 14:
		return true
	}
	return false
}

func after(b []byte, n int) []byte {
	if len(b) < n {
		return nil
	}
	return b[n:]
}

// walk goes through the headers of one packet, from the outside in.
type walk struct {
	h      *Headers
	octets int
	f      func(*flow.Observation, string)
	depth  int
}

// deepest is how many packets may lie in each other.
const deepest = 5

func (w *walk) ethernet(b []byte, in string) {
	if len(b) >= 14 {
		w.ether(binary.BigEndian.Uint16(b[12:]), b[14:], in)
	}
}

// ether goes on with what an Ethernet type says.
func (w *walk) ether(kind uint16, b []byte, in string) {
	for kind == 0x8100 || kind == 0x88a8 || kind == 0x9100 { // tags of VLANs
		if len(b) < 4 {
			return
		}
		kind, b = binary.BigEndian.Uint16(b[2:]), b[4:]
	}
	switch kind {
	case 0x0800, 0x86dd:
		w.ip(b, in)
	case 0x8847, 0x8848: // MPLS: labels up to the one at the bottom
		for len(b) >= 4 {
			last := b[2]&1 == 1
			if b = b[4:]; last {
				if len(b) > 4 && b[0]>>4 == 0 { // a control word, and a frame
					w.ethernet(b[4:], in)
				} else {
					w.ip(b, in)
				}
				return
			}
		}
	case 0x8864: // PPPoE
		w.ip(after(b, 8), in)
	}
}

// ip reads an IP header of either version, and what follows.
func (w *walk) ip(b []byte, in string) {
	if w.depth++; w.depth > deepest || len(b) == 0 {
		return
	}
	switch b[0] >> 4 {
	case 4:
		w.ip4(b, in)
	case 6:
		w.ip6(b, in)
	}
}

func (w *walk) ip4(b []byte, in string) {
	head := int(b[0]&15) * 4
	if len(b) < 20 || head < 20 {
		return
	}
	total := int(binary.BigEndian.Uint16(b[2:]))
	o := flow.Observation{Packet: true, Packets: 1, Bytes: int64(total), NoType: true, Proto: b[9]}
	if total < 20 { // left to the network card to fill in
		o.Bytes = int64(max(w.octets, 20))
	}
	o.Src, o.Dst = netip.AddrFrom4([4]byte(b[12:16])), netip.AddrFrom4([4]byte(b[16:20]))
	at := binary.BigEndian.Uint16(b[6:])
	payload := after(b, head)
	if total >= head && len(payload) > total-head { // what follows only fills the frame
		payload = payload[:total-head]
	}
	w.transport(&o, payload, in, int(at&0x1fff), at&0x2000 != 0, uint32(binary.BigEndian.Uint16(b[4:])))
}

func (w *walk) ip6(b []byte, in string) {
	if len(b) < 40 {
		return
	}
	o := flow.Observation{Packet: true, Packets: 1, Bytes: 40 + int64(binary.BigEndian.Uint16(b[4:])), NoType: true}
	o.Src, o.Dst = netip.AddrFrom16([16]byte(b[8:24])), netip.AddrFrom16([16]byte(b[24:40]))
	next, rest := b[6], b[40:]
	offset, more, id := 0, false, uint32(0)
	for {
		size := 0
		switch next {
		case 0, 43, 60: // hop by hop, routing, destination
			if len(rest) >= 2 {
				size = (int(rest[1]) + 1) * 8
			}
		case 51: // authentication
			if len(rest) >= 2 {
				size = (int(rest[1]) + 2) * 4
			}
		case 44: // fragment
			if len(rest) >= 8 {
				size = 8
				at := binary.BigEndian.Uint16(rest[2:])
				offset, more, id = int(at>>3), at&1 != 0, binary.BigEndian.Uint32(rest[4:])
			}
		default:
			o.Proto = next
			w.transport(&o, rest, in, offset, more, id)
			return
		}
		if size == 0 || len(rest) < size { // it is cut off before it says what it carries
			o.Proto = next
			w.f(&o, in)
			return
		}
		next, rest = rest[0], rest[size:]
	}
}

// transport reads the header after that of IP. Later fragments have none: the ports are
// those of the first.
func (w *walk) transport(o *flow.Observation, b []byte, in string, offset int, more bool, id uint32) {
	ports := service.HasPorts(o.Proto) && !service.IsICMP(o.Proto)
	key := fragment{o.Src, o.Dst, id, o.Proto}
	if offset > 0 {
		first, seen := w.h.fragments[key]
		if service.HasPorts(o.Proto) && !seen {
			w.h.wait(key, o)
			return
		}
		if seen {
			o.SrcPort, o.DstPort, o.NoType = first.SrcPort, first.DstPort, first.NoType
		}
		w.f(o, in)
		return
	}
	switch {
	case ports && len(b) >= 4:
		o.SrcPort, o.DstPort = binary.BigEndian.Uint16(b), binary.BigEndian.Uint16(b[2:])
		if o.Proto == service.TCP && len(b) >= 14 {
			o.HasFlags, o.Flags = true, b[13]&(flow.FIN|flow.SYN|flow.RST|flow.PSH|flow.ACK)
		}
	case service.IsICMP(o.Proto) && len(b) >= 2:
		o.DstPort, o.NoType = binary.BigEndian.Uint16(b), false
	}
	if more {
		if len(w.h.fragments) >= mostFragments {
			clear(w.h.fragments)
		}
		w.h.fragments[key] = *o
	}
	w.f(o, in)
	if !more {
		w.carried(o, b)
		return
	}
	for _, later := range w.h.waiting[key] {
		later.SrcPort, later.DstPort, later.NoType = o.SrcPort, o.DstPort, o.NoType
		w.h.waits--
		w.f(&later, in)
	}
	delete(w.h.waiting, key)
}

// carried goes on with a packet inside another one.
func (w *walk) carried(o *flow.Observation, b []byte) {
	w.octets = 0
	switch {
	case o.Proto == 4 || o.Proto == 41:
		w.ip(b, "IP in IP")
	case o.Proto == 47:
		w.gre(b)
	case o.Proto == service.UDP && len(b) >= 16:
		w.overUDP(o.DstPort, b[8:])
	}
}

// UDP ports of tunnels. The second of VXLAN is the one that Linux took before there was one (RFC 7348).
const (
	vxlanPort    = 4789
	vxlanLinux   = 8472
	vxlanGPEPort = 4790 // draft-ietf-nvo3-vxlan-gpe
	genevePort   = 6081 // RFC 8926
	gtpUserPort  = 2152 // 3GPP TS 29.281
)

// overUDP goes on with a packet in a tunnel over UDP; b is at least 8 octets, from the tunnel's
// header on.
func (w *walk) overUDP(port uint16, b []byte) {
	switch {
	case port == vxlanPort && b[0]&8 != 0,
		port == vxlanLinux && b[0] == 8 && b[1]|b[2]|b[3]|b[7] == 0: // others use this port, too
		w.ethernet(b[8:], "VXLAN")
	case port == vxlanGPEPort && b[0]&0x0c == 0x0c: // with an identifier and the next protocol
		switch b[3] {
		case 1, 2:
			w.ip(b[8:], "VXLAN-GPE")
		case 3:
			w.ethernet(b[8:], "VXLAN-GPE")
		}
	case port == genevePort && b[0]>>6 == 0:
		if rest := after(b, 8+4*int(b[0]&0x3f)); rest != nil {
			w.inside(binary.BigEndian.Uint16(b[2:]), rest, "Geneve")
		}
	case port == gtpUserPort && b[0]&0xf0 == 0x30 && b[1] == 0xff: // version 1, a user's packet
		w.ip(gtpPayload(b), "GTP-U")
	}
}

// gtpPayload is what a GTP-U header, with the extensions that it announces, carries; nil: the
// packet is cut off before.
func gtpPayload(b []byte) []byte {
	if b[0]&7 == 0 {
		return b[8:]
	}
	if len(b) < 12 {
		return nil
	}
	next, rest := b[11], b[12:]
	for b[0]&4 != 0 && next != 0 {
		if len(rest) == 0 || rest[0] == 0 || len(rest) < 4*int(rest[0]) {
			return nil
		}
		size := 4 * int(rest[0])
		next, rest = rest[size-1], rest[size:]
	}
	return rest
}

// inside goes on with a frame, or what an Ethernet type says.
func (w *walk) inside(kind uint16, b []byte, in string) {
	if kind == 0x6558 {
		w.ethernet(b, in)
	} else {
		w.ether(kind, b, in)
	}
}

func (w *walk) gre(b []byte) {
	if len(b) < 4 || b[1]&7 != 0 { // other versions carry no packets
		return
	}
	size, numbered := 4, b[0]&0x10 != 0
	for _, bit := range []byte{0x80, 0x20, 0x10} { // a checksum, a key, a number
		if b[0]&bit != 0 {
			size += 4
		}
	}
	kind, rest := binary.BigEndian.Uint16(b[2:]), after(b, size)
	switch kind {
	case 0x88be: // ERSPAN: of the first type without a header of its own
		if numbered {
			rest = after(rest, 8)
		}
		w.ethernet(rest, "ERSPAN")
	case 0x22eb:
		if len(rest) >= 12 && rest[11]&1 != 0 { // with a part that hangs on the platform
			rest = after(rest, 8)
		}
		w.ethernet(after(rest, 12), "ERSPAN")
	default:
		w.inside(kind, rest, "GRE")
	}
}
