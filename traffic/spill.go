package traffic

import (
	"hash/maphash"
	"io"
	"iter"
	"net/netip"
	"os"
	"sync"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/traffic/rows"
)

// partRecords is how many records of a file are in memory at once.
const partRecords = 50_000

// spillError reports that the records of a file cannot be kept on the disk while it is
// read.
type spillError struct{ Err error }

func (e *spillError) Error() string {
	return "the records of the file cannot be kept on the disk while it is read: " + e.Err.Error()
}

func (e *spillError) Unwrap() error { return e.Err }

// Words returns the error as it is.
func (e *spillError) Words() string { return e.Error() }

// changes is that of flow.Buckets.
type changes = func(netip.Addr, estate.Instant) (estate.Instant, bool)

// Spill keeps the records of a file in parts on the disk, as the database takes them. One
// reads the file into it, while another stores what is there already.
type Spill struct {
	changes changes
	number  int // of Store.NewFile
	file    *os.File
	size    int64
	records []flow.Joined

	mu    sync.Mutex
	more  sync.Cond // on mu
	parts []*rows.Part
	ended bool
	err   error // why nothing more comes
}

// newSpill makes an empty one in a folder, for a file with a number of
// Store.NewFile; it goes with the program. Close it.
func newSpill(folder string, number int, c changes) (*Spill, error) {
	f, err := os.CreateTemp(folder, "upload-parts-*")
	if err != nil {
		return nil, &spillError{err}
	}
	_ = os.Remove(f.Name()) // it goes with the program
	s := &Spill{changes: c, number: number, file: f}
	s.more.L = &s.mu
	return s, nil
}

// Add takes a record; it is copied.
func (s *Spill) Add(r *flow.Joined) error {
	s.records = append(s.records, *r)
	if len(s.records) < partRecords {
		return nil
	}
	return s.flush()
}

// flush writes what is in memory.
func (s *Spill) flush() error {
	if len(s.records) == 0 {
		return nil
	}
	p, records, buckets := rows.PartOf(s.number, s.records, s.changes)
	s.records = s.records[:0]
	put := func(rows []byte) (*io.SectionReader, error) {
		_, err := s.file.WriteAt(rows, s.size)
		if err != nil {
			err = &spillError{err}
		}
		s.size += int64(len(rows))
		return io.NewSectionReader(s.file, s.size-int64(len(rows)), int64(len(rows))), err
	}
	kept, err := put(records)
	if err != nil {
		return err
	}
	if p.Buckets, err = put(buckets); err != nil {
		return err
	}
	p.Records = kept
	s.mu.Lock()
	defer s.mu.Unlock()
	s.parts = append(s.parts, &p)
	s.more.Broadcast()
	return nil
}

// End ends the adding: because all is there, or for an error.
func (s *Spill) End(err error) {
	if err == nil {
		err = s.flush()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended, s.err = true, err
	s.more.Broadcast()
}

// Wait waits until a part is there, or all of them; or until nothing more comes.
func (s *Spill) Wait(all bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for !s.ended && (all || len(s.parts) == 0) {
		s.more.Wait()
	}
}

// Parts returns the parts in the order in which they come, and waits for those that are not
// there yet; it may be asked several times.
func (s *Spill) Parts() iter.Seq2[*rows.Part, error] {
	return func(yield func(*rows.Part, error) bool) {
		for k := 0; ; k++ {
			s.mu.Lock()
			for k == len(s.parts) && !s.ended {
				s.more.Wait()
			}
			var p *rows.Part
			err := s.err
			if err == nil && k < len(s.parts) {
				p = s.parts[k]
			}
			s.mu.Unlock()
			if p == nil && err == nil || !yield(p, err) || err != nil {
				return
			}
		}
	}
}

// Close frees the room on the disk.
func (s *Spill) Close() { _ = s.file.Close() }

// mostDistinct is up to how many conversation-hours a preview counts.
const mostDistinct = 3_000_000

// distinct counts the conversation-hours of records without keeping them.
type distinct struct {
	buckets flow.Buckets // for Part
	seed    maphash.Seed
	seen    map[uint64]struct{}
	Over    bool // there are more than it counts
}

// newDistinct makes one that has counted nothing.
func newDistinct(c changes) *distinct {
	return &distinct{buckets: flow.Buckets{Changes: c}, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
}

// Add counts the hour of a record, if it is another one. It returns no error.
func (d *distinct) Add(r *flow.Joined) error {
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
	d.Over = len(d.seen) >= mostDistinct
	return nil
}

// count returns how many there are; if Over, at least so many.
func (d *distinct) count() int { return len(d.seen) }
