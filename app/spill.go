package app

import (
	"bufio"
	"encoding/gob"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"iter"
	"net/netip"
	"os"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/store"
)

// partRecords is how many records of a file are in memory at once.
const partRecords = 50_000

// ErrSpill says that the records of a file cannot be kept on the disk.
var ErrSpill = errors.New("the records of the file cannot be kept on the disk while it is read")

// changes is that of flow.Buckets.
type changes = func(netip.Addr, estate.Instant) (estate.Instant, bool)

// Spill keeps the records of a file in parts on the disk, ready to be stored.
type Spill struct {
	changes changes
	number  int // of store.NewFile
	file    *os.File
	out     *bufio.Writer
	enc     *gob.Encoder
	records []flow.Joined
	parts   int
}

// NewSpill makes an empty one in a folder, for a file with a number of
// store.NewFile; it goes with the program. Close it.
func NewSpill(folder string, number int, c changes) (*Spill, error) {
	f, err := os.CreateTemp(folder, "upload-parts-*")
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSpill, err)
	}
	_ = os.Remove(f.Name()) // it goes with the program
	out := bufio.NewWriterSize(f, 1<<20)
	return &Spill{changes: c, number: number, file: f, out: out, enc: gob.NewEncoder(out)}, nil
}

// Add takes a record; it is copied.
func (s *Spill) Add(r *flow.Joined) error {
	s.records = append(s.records, *r)
	if len(s.records) < partRecords {
		return nil
	}
	return s.Flush()
}

// Flush writes what is in memory; call it once after the last Add.
func (s *Spill) Flush() error {
	if len(s.records) > 0 {
		b := store.BatchOf("", s.records, s.changes)
		b.File = s.number
		if err := s.enc.Encode(b.Encode()); err != nil {
			return fmt.Errorf("%w: %w", ErrSpill, err)
		}
		s.records = s.records[:0]
		s.parts++
	}
	if err := s.out.Flush(); err != nil {
		return fmt.Errorf("%w: %w", ErrSpill, err)
	}
	return nil
}

// Each gives the parts, in the order in which they came; it may be asked several
// times. progress is told the share that is done, 0 to 1.
func (s *Spill) Each(progress func(share float64)) iter.Seq2[*store.Encoded, error] {
	return func(yield func(*store.Encoded, error) bool) {
		if _, err := s.file.Seek(0, io.SeekStart); err != nil {
			yield(nil, err)
			return
		}
		dec := gob.NewDecoder(bufio.NewReaderSize(s.file, 1<<20))
		for k := range s.parts {
			var e store.Encoded
			err := dec.Decode(&e)
			if !yield(&e, err) || err != nil {
				return
			}
			progress(float64(k+1) / float64(s.parts))
		}
	}
}

// Close gives the room on the disk back.
func (s *Spill) Close() { _ = s.file.Close() }

// MostDistinct is up to how many conversation-hours a preview counts.
const MostDistinct = 3_000_000

// Distinct counts the conversation-hours of records without keeping them.
type Distinct struct {
	buckets flow.Buckets // for Part
	seed    maphash.Seed
	seen    map[uint64]struct{}
	Over    bool // there are more than it counts
}

// NewDistinct makes one that has counted nothing.
func NewDistinct(c changes) *Distinct {
	return &Distinct{buckets: flow.Buckets{Changes: c}, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
}

// Add counts the hour of a record, if it is another one. It gives no error.
func (d *Distinct) Add(r *flow.Joined) error {
	if d.Over {
		return nil
	}
	type key struct {
		hour           flow.Hour
		client, server netip.Addr
		point          uint64
		outcome        flow.Outcome
		part           int64
	}
	k := key{flow.HourOf(r.Start), r.Client, r.Server, uint64(r.Point), r.Outcome,
		d.buckets.Part(r.Client, r.Server, r.Start)}
	d.seen[maphash.Comparable(d.seed, k)] = struct{}{}
	d.Over = len(d.seen) >= MostDistinct
	return nil
}

// Count gives how many there are; if Over, at least so many.
func (d *Distinct) Count() int { return len(d.seen) }
