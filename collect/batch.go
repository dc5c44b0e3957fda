package collect

import (
	"hash/maphash"
	"net/netip"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/traffic/rows"
)

// batch is what the joiner has sent off and that is not in the spool yet, in parts: all of a
// conversation is in one of them, so that each part can be stored by itself.
type batch struct {
	parts [16]part
	made  time.Time // when the last one went to the spool
}

type part struct {
	buckets flow.Buckets
	records []flow.Joined
	opened  []flow.Open
}

func (b *batch) add(h uint64, x *flow.Joined) {
	p := &b.parts[h%uint64(len(b.parts))]
	p.buckets.AddJoined(x)
	p.records = append(p.records, *x)
}

// changes sets how to find when an address changed hands.
func (b *batch) changes(f func(netip.Addr, estate.Instant) (estate.Instant, bool)) {
	for i := range b.parts {
		b.parts[i].buckets.Changes = f
	}
}

func (b *batch) open(h uint64, o *flow.Open) {
	p := &b.parts[h%uint64(len(b.parts))]
	p.opened = append(p.opened, *o)
}

// len returns how many records there are.
func (b *batch) len() int {
	n := 0
	for i := range b.parts {
		n += len(b.parts[i].records)
	}
	return n
}

// inOne is about how many records are stored in one transaction: while it goes on, nothing else
// of traffic can be stored.
const inOne = 20_000

// next returns some parts as what is stored in one transaction, and how to forget them; nil: there is
// no more.
func (b *batch) next() (out *rows.Batch, opened []flow.Open, forget func()) {
	from := 0
	for from < len(b.parts) && len(b.parts[from].records) == 0 && len(b.parts[from].opened) == 0 {
		from++
	}
	if from == len(b.parts) {
		return nil, nil, nil
	}
	out = &rows.Batch{}
	to := from
	for ; to < len(b.parts) && (to == from || len(out.Records)+len(b.parts[to].records) <= inOne); to++ {
		p := &b.parts[to]
		out.Buckets, out.Records, opened = append(out.Buckets, p.buckets.All()...), append(out.Records, p.records...),
			append(opened, p.opened...)
	}
	return out, opened, func() {
		for i := from; i < to; i++ {
			was := &b.parts[i]
			b.parts[i] = part{buckets: flow.Buckets{Changes: was.buckets.Changes},
				records: make([]flow.Joined, 0, len(was.records))}
		}
	}
}

// talk is what goes on between two addresses on a service.
type talk struct {
	client, server netip.Addr
	point          service.Point
}

// known remembers what went on lately, so that what is new can be told from what goes on, and be
// stored before it.
type known struct {
	seed     maphash.Seed
	now, was map[uint64]struct{}
	since    time.Time // of now
	fresh    map[uint64]struct{}
}

const (
	knownFor  = time.Hour
	mostKnown = 1 << 20
)

func newKnown() known {
	return known{maphash.MakeSeed(), map[uint64]struct{}{}, map[uint64]struct{}{}, time.Now(), map[uint64]struct{}{}}
}

// hash distinguishes conversations, nearly always.
func (k *known) hash(x talk) uint64 { return maphash.Comparable(k.seed, x) }

// opened reports whether a session belongs to what is new.
func (k *known) opened(h uint64) bool {
	for o := range uint64(4) {
		if _, ok := k.fresh[h<<2|o]; ok {
			return true
		}
	}
	return false
}

// new reports whether a conversation with some outcome is new: of what is new, all is until it is
// in the spool.
func (k *known) new(h uint64, o flow.Outcome) bool {
	h = h<<2 | uint64(o)
	if _, ok := k.fresh[h]; ok {
		return true
	}
	_, ok := k.now[h]
	if !ok {
		_, ok = k.was[h]
	}
	if !ok {
		k.fresh[h] = struct{}{}
		return true
	}
	k.now[h] = struct{}{}
	return false
}

// spooled notes that what was new so far is in the spool.
func (k *known) spooled() {
	for h := range k.fresh {
		k.now[h] = struct{}{}
	}
	clear(k.fresh)
}

// turn forgets what was quiet for long.
func (k *known) turn() {
	if len(k.now) > mostKnown || time.Since(k.since) > knownFor {
		k.was, k.now, k.since = k.now, map[uint64]struct{}{}, time.Now()
	}
}
