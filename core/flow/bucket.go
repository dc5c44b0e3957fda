package flow

import (
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
	First, Last                 estate.Instant
	Observer                    string // the last that reported
}

// Buckets gathers records by hour. The zero value is ready to use.
type Buckets struct {
	index map[bucketKey]int
	all   []Bucket
}

type bucketKey struct {
	hour           Hour
	client, server netip.Addr
	point          service.Point
	outcome        Outcome
}

// Add counts a record in its bucket: the hour in which it started.
func (b *Buckets) Add(r Record) {
	if b.index == nil {
		b.index = map[bucketKey]int{}
	}
	k := bucketKey{HourOf(r.Start), r.Client, r.Server, r.Point, r.Outcome}
	i, ok := b.index[k]
	if !ok {
		b.index[k] = len(b.all)
		b.all = append(b.all, Bucket{Hour: k.hour, Client: r.Client, Server: r.Server, Point: r.Point, Outcome: r.Outcome,
			Connections: r.Connections, Bytes: r.Bytes, Packets: r.Packets, First: r.Start, Last: r.End, Observer: r.Observer})
		return
	}
	have := &b.all[i]
	have.Connections += r.Connections
	have.Bytes += r.Bytes
	have.Packets += r.Packets
	if r.Start.Before(have.First) {
		have.First = r.Start
	}
	if have.Last.Before(r.End) {
		have.Last = r.End
	}
	have.Observer = r.Observer
}

// All gives the buckets in the order of hours, clients, servers and services.
func (b *Buckets) All() []Bucket {
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
