package wire_test

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// v5 makes a packet of NetFlow v5 with ICMP messages, of which the ports are given.
func v5(number uint32, ports ...[2]uint16) []byte {
	b := make([]byte, 24, 24+48*len(ports))
	binary.BigEndian.PutUint16(b, 5)
	binary.BigEndian.PutUint16(b[2:], uint16(len(ports)))
	binary.BigEndian.PutUint32(b[4:], 10_000)
	binary.BigEndian.PutUint32(b[8:], 1_795_000_000)
	binary.BigEndian.PutUint32(b[16:], number)
	for i, p := range ports {
		r := make([]byte, 48)
		copy(r, []byte{10, 0, 0, byte(i), 10, 0, 1, 1})
		binary.BigEndian.PutUint32(r[16:], 1)
		binary.BigEndian.PutUint32(r[20:], 84)
		binary.BigEndian.PutUint16(r[32:], p[0])
		binary.BigEndian.PutUint16(r[34:], p[1])
		r[38] = 1
		b = append(b, r...)
	}
	return b
}

type message5 struct {
	typeCode uint16
	known    bool
}

func types(got []flow.Observation) (out []message5) {
	for _, o := range got {
		out = append(out, message5{o.DstPort, !o.NoType})
	}
	return out
}

// An exporter without a field for the type of ICMP messages has a habit, which it shows; as
// long as it has not, a message that could be anything is nothing.
func TestWhereTypesAreWritten(t *testing.T) {
	unsure, reply, request := message5{}, message5{0, true}, message5{8 << 8, true}
	for name, c := range map[string]struct {
		packets [][][2]uint16
		said    wire.Habit
		want    []message5
		learnt  wire.Habit
	}{
		"nothing is known": {packets: [][][2]uint16{{{0, 0}}}, want: []message5{unsure}},
		"as the destination port, once it was seen": {packets: [][][2]uint16{{{0, 0}}, {{0, 0}, {0, 8 << 8}}, {{0, 0}}},
			want: []message5{unsure, reply, request, reply}, learnt: wire.InDestination},
		"as the source port": {packets: [][][2]uint16{{{8, 0}, {0, 0}, {3, 3}}},
			want: []message5{request, reply, {3<<8 | 3, true}}, learnt: wire.InSource},
		"what fits no type": {packets: [][][2]uint16{{{0, 99 << 8}, {4711, 0}, {0, 200}, {200, 9}}},
			want: []message5{unsure, unsure, unsure, unsure}},
		"a low port is no answer where types are in the high octet": {packets: [][][2]uint16{{{0, 3<<8 | 1}, {0, 3}}},
			want: []message5{{3<<8 | 1, true}, unsure}, learnt: wire.InDestination},
		"both ways":        {packets: [][][2]uint16{{{0, 3<<8 | 1}, {3, 0}}}, want: []message5{unsure, unsure}},
		"as somebody said": {packets: [][][2]uint16{{{0, 0}}}, said: wire.InDestination, want: []message5{reply}},
		"somebody said that nothing is told": {packets: [][][2]uint16{{{0, 8 << 8}}}, said: wire.Nowhere,
			want: []message5{unsure}, learnt: wire.InDestination},
	} {
		t.Run(name, func(t *testing.T) {
			d := wire.NewDecoder()
			d.ICMP = func() wire.Habit { return c.said }
			var got []flow.Observation
			for i, p := range c.packets {
				some, faults := read(d, v5(uint32(i), p...))
				require.Empty(t, faults)
				got = append(got, some...)
			}
			require.Equal(t, c.want, types(got))
			require.Equal(t, c.learnt, d.Streams()[0].ICMP())
		})
	}
	d := wire.NewDecoder()
	for i := range uint32(20) {
		got, _ := read(d, v5(10*i, make([][2]uint16, 10)...))
		require.True(t, got[0].NoType)
	}
	require.Equal(t, wire.Nowhere, d.Streams()[0].ICMP(), "of two hundred none has a type")
	d = wire.NewDecoder()
	d.Habit = func(wire.Protocol, uint32) wire.Habit { return wire.InDestination }
	got, _ := read(d, v5(0, [2]uint16{}))
	require.Equal(t, []message5{reply}, types(got), "it is remembered")
}

// Whatever the habit and the order, no type that is told is a wrong one.
func TestNoTypeIsAWrongOne(t *testing.T) {
	usual := []uint16{0, 8 << 8, 3<<8 | 3, 3<<8 | 1, 11 << 8, 13 << 8, 14 << 8, 5<<8 | 1}
	write := map[wire.Habit]func(uint16) [2]uint16{
		wire.InDestination: func(t uint16) [2]uint16 { return [2]uint16{0, t} },
		wire.InSource:      func(t uint16) [2]uint16 { return [2]uint16{t >> 8, t & 0xff} },
		wire.Nowhere:       func(uint16) [2]uint16 { return [2]uint16{} },
	}
	rapid.Check(t, func(t *rapid.T) {
		habit := rapid.SampledFrom(wire.Habits).Draw(t, "habit")
		d := wire.NewDecoder()
		told, all := 0, 0
		for n := range uint32(rapid.IntRange(1, 6).Draw(t, "packets")) {
			sent := rapid.SliceOfN(rapid.SampledFrom(usual), 1, 20).Draw(t, "types")
			var ports [][2]uint16
			for _, x := range sent {
				ports = append(ports, write[habit](x))
			}
			got, _ := read(d, v5(1000*n, ports...))
			for i, x := range types(got) {
				all++
				if x.known {
					told++
					require.Equal(t, sent[i], x.typeCode, habit)
				}
			}
		}
		if habit == wire.Nowhere {
			require.Zero(t, told)
		} else if d.Streams()[0].ICMP() == habit && all > 0 {
			require.Positive(t, told)
		}
	})
}
