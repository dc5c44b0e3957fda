package rows

import (
	"hash/fnv"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
)

// RecordRows encodes records in the binary format of COPY, with the number of their file; 0: of none.
func RecordRows(records []flow.Joined, file int) []byte {
	fields := 19
	if file != 0 {
		fields++
	}
	out := database.NewRowsOut(fields, len(records))
	for i := range records {
		r := &records[i]
		out.Row()
		out.Int4(int32(flow.HourOf(r.Start)))
		out.Int8(KeyOf(&r.Record))
		out.Inet(r.Client)
		out.Inet(r.Server)
		out.Int8(int64(r.Point))
		out.Int4(int32(r.SourcePort))
		out.Time(flow.MicrosOfInstant(r.Start))
		out.Time(flow.MicrosOfInstant(r.End))
		out.Int2(int16(r.Outcome))
		out.Int8(r.Connections)
		out.Int8(r.Packets)
		out.Int8(r.Bytes)
		out.Int8(r.ReplyPackets)
		out.Int8(r.ReplyBytes)
		flags, reply := int16(-1), int16(-1)
		if r.HasFlags {
			flags, reply = int16(r.Flags), int16(r.ReplyFlags)
		}
		out.Int2(flags)
		out.Int2(reply)
		out.Int2(int16(r.Confidence))
		out.Int2(int16(r.Reason))
		out.Text(r.Observer)
		if file != 0 {
			out.Int4(int32(file))
		}
	}
	return out.End()
}

// ReadRecord decodes the row that r is at.
func ReadRecord(r *database.RowsIn) flow.Joined {
	var j flow.Joined
	j.Client, j.Server, j.Point, j.SourcePort = r.Inet(), r.Inet(), service.Point(r.Int()), uint16(r.Int())
	j.Start, j.End = r.Time().Instant(), r.Time().Instant()
	j.Outcome, j.Connections, j.Packets, j.Bytes = flow.Outcome(r.Int()), r.Int(), r.Int(), r.Int()
	j.ReplyPackets, j.ReplyBytes = r.Int(), r.Int()
	if flags, reply := r.Int(), r.Int(); flags >= 0 {
		j.Flags, j.ReplyFlags, j.HasFlags = uint8(flags), uint8(reply), true
	}
	j.Confidence, j.Reason, j.Observer = uint8(r.Int()), flow.Reason(r.Int()), r.Text()
	j.Observers = [2]int32{-1, -1}
	return j
}

// KeyOf hashes (FNV-1a) what the records of a conversation have in common.
func KeyOf(r *flow.Record) int64 {
	h := fnv.New64a()
	a, b := r.Client.As16(), r.Server.As16()
	h.Write(a[:])
	h.Write(b[:])
	h.Write([]byte{byte(r.Point >> 24), byte(r.Point >> 16), byte(r.Point >> 8), byte(r.Point)})
	return int64(h.Sum64())
}

// DayOf returns the number of whole days since 1970-01-01.
func DayOf(h flow.Hour) int64 {
	q := int64(h) / 24
	if h%24 < 0 {
		q--
	}
	return q
}
