package rows

import (
	"bytes"
	"maps"
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/database"
)

// Batch is traffic that is counted together, and once.
type Batch struct {
	ID      string
	Buckets []flow.Bucket
	Records []flow.Joined // the single records behind them
}

// BatchOf gathers records into a batch. changes is that of flow.Buckets.
func BatchOf(id string, records []flow.Joined, changes func(netip.Addr, estate.Instant) (estate.Instant,
	bool)) Batch {
	b := flow.Buckets{Changes: changes}
	for i := range records {
		b.AddJoined(&records[i])
	}
	return Batch{ID: id, Buckets: b.All(), Records: records}
}

// Encoded is a batch as the database takes it, so that it can be queued in a
// file meanwhile.
type Encoded struct {
	ID      string
	Hours   []flow.Hour // with conversations, each once
	Days    []int64     // with records, each once
	Rows    int         // of Buckets
	Count   int         // of Records
	Buckets []byte      // in the binary format of COPY
	Records []byte
}

// Encode makes a batch ready to be stored.
func (b *Batch) Encode() *Encoded {
	e := &Encoded{ID: b.ID, Rows: len(b.Buckets), Count: len(b.Records),
		Buckets: BucketRows(b.Buckets, 0), Records: RecordRows(b.Records, 0)}
	hours, days := map[flow.Hour]bool{}, map[int64]bool{}
	for i := range b.Buckets {
		hours[b.Buckets[i].Hour] = true
	}
	for i := range b.Records {
		days[DayOf(flow.HourOf(b.Records[i].Start))] = true
	}
	e.Hours, e.Days = slices.Sorted(maps.Keys(hours)), slices.Sorted(maps.Keys(days))
	return e
}

// BucketRows encodes conversation-hours in the binary format of COPY, with the number of their file; 0: of none.
func BucketRows(buckets []flow.Bucket, file int) []byte {
	fields := 13
	if file != 0 {
		fields++
	}
	out := database.NewRowsOut(fields, len(buckets))
	for i := range buckets {
		b := &buckets[i]
		out.Row()
		out.Int4(int32(b.Hour))
		out.Inet(b.Client)
		out.Inet(b.Server)
		out.Int8(int64(b.Point))
		out.Int2(int16(b.Outcome))
		out.Int8(b.Part)
		out.Int8(b.Connections)
		out.Int8(b.Bytes)
		out.Int8(b.Packets)
		out.Int8(b.Unsure)
		out.Time(flow.MicrosOfInstant(b.First))
		out.Time(flow.MicrosOfInstant(b.Last))
		out.Text(b.Observer)
		if file != 0 {
			out.Int4(int32(file))
		}
	}
	return out.End()
}

// EachRecord returns the records of a batch.
func (e *Encoded) EachRecord(f func(*flow.Joined)) error {
	rows := database.NewRowsIn(bytes.NewReader(e.Records))
	rows.Start()
	for rows.Next() {
		rows.Int() // hour
		rows.Int() // key
		r := ReadRecord(rows)
		f(&r)
	}
	return rows.Err()
}
