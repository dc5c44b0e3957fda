package wire

import (
	"encoding/binary"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Exporter writes observations as IPFIX messages (RFC 7011), as a device does:
// the demo company sends its live traffic with it. The zero value is an
// exporter of observation domain 0.
type Exporter struct {
	Domain   uint32
	sequence uint32
}

// element is a field of a template: its number and its length in octets.
type element struct{ id, length uint16 }

const template4, template6 = 256, 257

func elements(v6 bool) []element {
	src, dst, size, icmp := uint16(8), uint16(12), uint16(4), uint16(32)
	if v6 {
		src, dst, size, icmp = 27, 28, 16, 139
	}
	return []element{{src, size}, {dst, size}, {7, 2}, {11, 2}, {4, 1}, {6, 1}, {icmp, 2}, {152, 8}, {153, 8}, {2, 8},
		{1, 8}, {89, 1}, {61, 1}}
}

// Templates returns the message that describes the records of the others; it is
// sent first, and again every few minutes.
func (e *Exporter) Templates(now flow.Micros) []byte {
	var set []byte
	for id, v6 := range map[uint16]bool{template4: false, template6: true} {
		fields := elements(v6)
		set = binary.BigEndian.AppendUint16(set, id)
		set = binary.BigEndian.AppendUint16(set, uint16(len(fields)))
		for _, f := range fields {
			set = binary.BigEndian.AppendUint16(set, f.id)
			set = binary.BigEndian.AppendUint16(set, f.length)
		}
	}
	return e.message(now, 0, appendSet(nil, 2, set))
}

// RecordsPerMessage is how many fit a datagram that no network cuts.
const RecordsPerMessage = 16

// Message returns a message with the observations, at most RecordsPerMessage of
// them for a datagram.
func (e *Exporter) Message(now flow.Micros, all []flow.Observation) []byte {
	var sets []byte
	for id, v6 := range map[uint16]bool{template4: false, template6: true} {
		var set []byte
		for i := range all {
			if all[i].Src.Is6() == v6 {
				set = appendRecord(set, &all[i])
			}
		}
		if set != nil {
			sets = appendSet(sets, id, set)
		}
	}
	return e.message(now, len(all), sets)
}

func appendRecord(b []byte, o *flow.Observation) []byte {
	put := binary.BigEndian
	b = append(append(b, o.Src.AsSlice()...), o.Dst.AsSlice()...)
	icmp := uint16(0)
	ports := [2]uint16{o.SrcPort, o.DstPort}
	if service.IsICMP(o.Proto) {
		icmp, ports = o.DstPort, [2]uint16{}
	}
	b = put.AppendUint16(put.AppendUint16(b, ports[0]), ports[1])
	b = append(b, o.Proto, o.Flags)
	b = put.AppendUint16(b, icmp)
	b = put.AppendUint64(put.AppendUint64(b, uint64(o.Start/1000)), uint64(o.End/1000))
	b = put.AppendUint64(put.AppendUint64(b, uint64(o.Packets)), uint64(o.Bytes))
	return append(b, [...]byte{0, 1 << 6, 2 << 6}[o.Outcome], byte(o.Observer&1))
}

func appendSet(b []byte, id uint16, body []byte) []byte {
	b = binary.BigEndian.AppendUint16(b, id)
	b = binary.BigEndian.AppendUint16(b, uint16(4+len(body)))
	return append(b, body...)
}

func (e *Exporter) message(now flow.Micros, records int, sets []byte) []byte {
	b := binary.BigEndian.AppendUint16(nil, 10)
	b = binary.BigEndian.AppendUint16(b, uint16(16+len(sets)))
	b = binary.BigEndian.AppendUint32(b, uint32(now/1e6))
	b = binary.BigEndian.AppendUint32(b, e.sequence)
	b = binary.BigEndian.AppendUint32(b, e.Domain)
	e.sequence += uint32(records)
	return append(b, sets...)
}
