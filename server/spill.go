package server

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

// errSpill says that the records of a file cannot be kept on the disk.
var errSpill = errors.New("the records of the file cannot be kept on the disk while it is read")

// changes is that of flow.Buckets.
type changes = func(netip.Addr, estate.Instant) (estate.Instant, bool)

// spill keeps the records of a file in parts on the disk, ready to be stored.
type spill struct {
	changes changes
	file    *os.File
	out     *bufio.Writer
	enc     *gob.Encoder
	records []flow.Joined
	parts   int
}

func newSpill(folder string, c changes) (*spill, error) {
	f, err := os.CreateTemp(folder, "upload-parts-*")
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errSpill, err)
	}
	_ = os.Remove(f.Name()) // it goes with the program
	out := bufio.NewWriterSize(f, 1<<20)
	return &spill{changes: c, file: f, out: out, enc: gob.NewEncoder(out)}, nil
}

func (s *spill) add(r *flow.Joined) error {
	s.records = append(s.records, *r)
	if len(s.records) < partRecords {
		return nil
	}
	return s.flush()
}

func (s *spill) flush() error {
	if len(s.records) > 0 {
		b := store.BatchOf("", s.records, s.changes)
		if err := s.enc.Encode(b.Encode()); err != nil {
			return fmt.Errorf("%w: %w", errSpill, err)
		}
		s.records = s.records[:0]
		s.parts++
	}
	if err := s.out.Flush(); err != nil {
		return fmt.Errorf("%w: %w", errSpill, err)
	}
	return nil
}

// each gives the parts; it may be asked several times.
func (s *spill) each(progress func(share float64)) iter.Seq2[*store.Encoded, error] {
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

func (s *spill) close() { _ = s.file.Close() }

// mostDistinct is up to how many conversation-hours a preview counts.
const mostDistinct = 3_000_000

// distinct counts the conversation-hours of records without keeping them.
type distinct struct {
	buckets flow.Buckets // for Part
	seed    maphash.Seed
	seen    map[uint64]struct{}
	over    bool
}

func newDistinct(c changes) *distinct {
	return &distinct{buckets: flow.Buckets{Changes: c}, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
}

func (d *distinct) add(r *flow.Joined) error {
	if d.over {
		return nil
	}
	type key struct {
		hour           flow.Hour
		client, server netip.Addr
		point          uint64
		outcome        flow.Outcome
		part           int64
	}
	k := key{flow.HourOf(r.Start), r.Client, r.Server, uint64(r.Point), r.Outcome, d.buckets.Part(r.Client, r.Server, r.Start)}
	d.seen[maphash.Comparable(d.seed, k)] = struct{}{}
	d.over = len(d.seen) >= mostDistinct
	return nil
}

func (d *distinct) count() int { return len(d.seen) }
