package flow

import (
	"math"
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
	"lucidorchard/core/service"
)

// Bucket is what was seen of one client, server, service and outcome in one
// hour.
type Bucket struct {
	Hour                        Hour
	Client, Server              netip.Addr
	Point                       service.Point
	Outcome                     Outcome
	Connections, Bytes, Packets int64
	Unsure                      int64 // connections that may be the wrong way round
	First, Last                 estate.Instant
	Observer                    string // the last that reported
	// Part tells apart what was seen before and after an address changed hands
	// within the hour: microseconds from the hour's start to the change; 0 is none.
	Part int64
}

// Most is where sums stop: one that reaches it says that it is at least so much.
const Most = math.MaxInt64

// Sum adds two numbers that are not negative. Over Most it is Most.
func Sum(a, b int64) int64 {
	if a > Most-b {
		return Most
	}
	return a + b
}

// Buckets gathers records by hour. The zero value is ready to use. It is not
// safe for concurrent use.
type Buckets struct {
	// Changes returns when an address last changed hands at or before an instant, for
	// Bucket.Part; nil: none does.
	Changes func(addr netip.Addr, at estate.Instant) (estate.Instant, bool)

	index map[bucketKey]int // places in all; nil: all was sorted since
	all   []Bucket
}

type bucketKey struct {
	hour           Hour
	client, server netip.Addr
	point          service.Point
	outcome        Outcome
	part           int64
}

// Add counts a record in its bucket: the hour in which it started.
func (b *Buckets) Add(r Record) { b.add(r, 0) }

// AddJoined is Add for what a Joiner sends off.
func (b *Buckets) AddJoined(j *Joined) {
	unsure := int64(0)
	if j.Confidence < Sure {
		unsure = j.Connections
	}
	b.add(j.Record, unsure)
}

// Part returns what tells the buckets of an hour apart.
func (b *Buckets) Part(client, server netip.Addr, at estate.Instant) int64 {
	if b.Changes == nil {
		return 0
	}
	var part int64
	for _, addr := range [2]netip.Addr{client, server} {
		if change, ok := b.Changes(addr, at); ok && !change.Before(HourOf(at).Start()) {
			part = max(part, 1, int64(MicrosOfInstant(change)-MicrosOfInstant(HourOf(at).Start())))
		}
	}
	return part
}

func (b *Buckets) add(r Record, unsure int64) {
	if b.index == nil {
		b.index = make(map[bucketKey]int, len(b.all))
		for i := range b.all {
			b.index[b.all[i].key()] = i
		}
	}
	k := bucketKey{HourOf(r.Start), r.Client, r.Server, r.Point, r.Outcome, b.Part(r.Client, r.Server, r.Start)}
	i, ok := b.index[k]
	if !ok {
		b.index[k] = len(b.all)
		b.all = append(b.all, Bucket{Hour: k.hour, Client: r.Client, Server: r.Server, Point: r.Point,
			Outcome:     r.Outcome,
			Connections: r.Connections, Bytes: r.Bytes, Packets: r.Packets, Unsure: unsure, First: r.Start,
			Last: r.End, Observer: r.Observer, Part: k.part})
		return
	}
	have := &b.all[i]
	have.Connections = Sum(have.Connections, r.Connections)
	have.Bytes = Sum(have.Bytes, r.Bytes)
	have.Packets = Sum(have.Packets, r.Packets)
	have.Unsure = Sum(have.Unsure, unsure)
	if r.Start.Before(have.First) {
		have.First = r.Start
	}
	if have.Last.Before(r.End) {
		have.Last = r.End
	}
	have.Observer = r.Observer
}

func (b *Bucket) key() bucketKey {
	return bucketKey{b.Hour, b.Client, b.Server, b.Point, b.Outcome, b.Part}
}

// Len returns how many buckets there are.
func (b *Buckets) Len() int { return len(b.all) }

// All returns the buckets in the order of hours, clients, servers and services.
// The slice is good until the next Add.
func (b *Buckets) All() []Bucket {
	b.index = nil // places change
	slices.SortFunc(b.all, func(x, y Bucket) int {
		if x.Hour != y.Hour {
			return int(x.Hour) - int(y.Hour)
		}
		if c := x.Client.Compare(y.Client); c != 0 {
			return c
		}
		if c := x.Server.Compare(y.Server); c != 0 {
			return c
		}
		return int(int64(x.Point) - int64(y.Point))
	})
	return b.all
}
