package collect

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/traffic/rows"
)

// spool is the batches that the database has not taken yet, a file each. Their
// names rise, and are their ids in the database: a batch whose file is still
// there although it was stored is not counted again.
type spool struct {
	folder string
	most   int64
	lock   *os.File
	more   chan struct{} // something is there, or nothing more comes

	mu         sync.Mutex
	files      []spooled
	number     int64
	bytes      int64
	lastErr    string
	took       time.Duration // storing the last batch of what goes on
	now        string        // the batch that is on its way
	batches    int64
	records    int64
	lostRows   int64
	dropped    int64     // batches, for want of room or because they cannot be read
	unfinished int64     // records that were in memory only when the collector was killed
	setAside   int64     // batches that the database refused
	since      time.Time // when lastErr began
	name       string    // of the collector, kept with the spool
}

type spooled struct {
	name  string
	bytes int64
	rows  int
	at    time.Time
	fresh bool
	what  []flow.Bucket // of what is fresh
}

const suffix = ".batch"

func openSpool(folder string, most int64) (*spool, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	s := &spool{folder: folder, most: most, more: make(chan struct{}, 1), number: time.Now().UnixMicro()}
	if err := s.own(); err != nil {
		return nil, err
	}
	if err := s.christen(); err != nil {
		s.close()
		return nil, err
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".part") {
			_ = os.Remove(filepath.Join(folder, e.Name())) // the program ended while it was written
		}
		if info, err := e.Info(); err == nil && strings.HasSuffix(e.Name(), suffix) {
			s.files = append(s.files, spooled{name: e.Name(), bytes: info.Size(), at: info.ModTime()})
			s.bytes += info.Size()
		}
	}
	slices.SortFunc(s.files, func(a, b spooled) int { return strings.Compare(a.name, b.name) })
	return s, nil
}

// christen reads the name that the collector has kept in its folder, or makes one.
func (s *spool) christen() error {
	path := filepath.Join(s.folder, "name")
	if raw, err := os.ReadFile(path); err == nil && len(bytes.TrimSpace(raw)) > 0 {
		s.name = string(bytes.TrimSpace(raw))
		return nil
	}
	host, err := os.Hostname()
	if err != nil {
		host = "collector"
	}
	s.name = host + "-" + strings.ToLower(rand.Text()[:4])
	return s.write("name", []byte(s.name+"\n"))
}

func (s *spool) close() { _ = s.lock.Close() }

// put writes a batch durably, with the sessions that were opened in it. What is fresh goes
// to the database before all else.
func (s *spool) put(b *rows.Batch, opened []flow.Open, fresh bool) error {
	s.mu.Lock()
	s.number = max(s.number+1, time.Now().UnixMicro())
	name := fmt.Sprintf("%020d", s.number)
	s.mu.Unlock()
	b.ID = "collector " + name
	before, err := s.appendOpen(opened)
	if err != nil {
		return err
	}
	whole := false
	defer func() {
		if !whole { // it is tried again, with all of them
			_ = os.Truncate(filepath.Join(s.folder, openFile), before)
		}
	}()
	var out bytes.Buffer
	out.Write(make([]byte, 4))
	if err := gob.NewEncoder(&out).Encode(b.Encode()); err != nil {
		return err
	}
	raw := out.Bytes()
	binary.BigEndian.PutUint32(raw, crc32.ChecksumIEEE(raw[4:]))
	if err := s.write(name+suffix, raw); err != nil {
		return err
	}
	whole = true
	s.mu.Lock()
	f := spooled{name: name + suffix, bytes: int64(len(raw)), rows: len(b.Records), at: time.Now(), fresh: fresh}
	if fresh && !slices.ContainsFunc(s.files, func(f spooled) bool { return f.what != nil }) {
		f.what = b.Buckets // of one batch, so that memory is bounded
	}
	s.files = append(s.files, f)
	s.bytes += f.bytes
	for s.bytes > s.most && len(s.files) > 2 {
		oldest := s.files[0].name
		if oldest == s.now {
			oldest = s.files[1].name
		}
		s.lostRows += int64(s.take(oldest).rows)
		s.dropped++
		_ = os.Remove(filepath.Join(s.folder, oldest))
	}
	s.mu.Unlock()
	s.wake()
	return nil
}

// write makes a file that is there whole or not at all, also after the power
// fails.
func (s *spool) write(name string, raw []byte) error {
	path := filepath.Join(s.folder, name)
	f, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		_ = os.Remove(path + ".part")
		return err
	}
	if err := s.syncFolder(); err != nil {
		_ = os.Remove(path) // it will be written again under another name
		return err
	}
	return nil
}

func (s *spool) syncFolder() error {
	d, err := os.Open(s.folder)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

func (s *spool) wake() {
	select {
	case s.more <- struct{}{}:
	default:
	}
}

// rested reports whether the database has taken all, and has had as long since the last
// batch was made as it took: then it may have the next one early.
func (s *spool) rested(since time.Duration) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.files) == 0 && since >= 2*s.took
}

// take takes a batch out of the list. It is called with mu held.
func (s *spool) take(name string) (f spooled) {
	if i := slices.IndexFunc(s.files, func(f spooled) bool { return f.name == name }); i >= 0 {
		f = s.files[i]
		s.files = slices.Delete(s.files, i, i+1)
		s.bytes -= f.bytes
	}
	return f
}

// hasFresh reports whether something fresh waits.
func (s *spool) hasFresh() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.ContainsFunc(s.files, func(f spooled) bool { return f.fresh })
}

// next reads the oldest batch of what is fresh, or else the oldest; nil if there is none. One
// that cannot be read is renamed, so that the others go on and nothing is lost.
func (s *spool) next() (*rows.Encoded, error) {
	s.mu.Lock()
	if len(s.files) == 0 {
		s.mu.Unlock()
		return nil, nil
	}
	f := s.files[max(0, slices.IndexFunc(s.files, func(f spooled) bool { return f.fresh }))]
	s.now = f.name
	s.mu.Unlock()
	path := filepath.Join(s.folder, f.name)
	raw, err := os.ReadFile(path)
	var e rows.Encoded
	if err == nil {
		err = errors.New("its checksum is wrong")
		if len(raw) > 4 && binary.BigEndian.Uint32(raw) == crc32.ChecksumIEEE(raw[4:]) {
			err = gob.NewDecoder(bytes.NewReader(raw[4:])).Decode(&e)
		}
	}
	if err != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.take(f.name)
		s.dropped++
		_ = os.Rename(path, path+".unreadable")
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &e, nil
}

// stored deletes the batch that was given last, which the database has, and returns what is
// fresh of it.
func (s *spool) stored(e *rows.Encoded, took time.Duration, before bool) []flow.Bucket {
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.take(s.now)
	_ = os.Remove(filepath.Join(s.folder, s.now))
	s.lastErr = ""
	if !f.fresh {
		s.took = took
	}
	if !before { // else it was there already when the program ended
		s.batches++
		s.records += int64(e.Count)
	}
	return f.what
}

// refused deletes the batch that was given last, which was set aside elsewhere.
func (s *spool) refused() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.take(s.now)
	_ = os.Remove(filepath.Join(s.folder, s.now))
	s.lastErr = ""
	s.setAside++
}

func (s *spool) failed(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lastErr == "" {
		s.since = time.Now()
	}
	s.lastErr = err.Error()
}

func (s *spool) lost(rows int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lostRows += int64(rows)
}

const openFile = "open.jsonl"

// appendOpen notes sessions whose connection is counted and that go on: all of
// them or none. It returns the size of the file before.
func (s *spool) appendOpen(opened []flow.Open) (before int64, err error) {
	path := filepath.Join(s.folder, openFile)
	if info, err := os.Stat(path); err == nil {
		before = info.Size()
	}
	if len(opened) == 0 {
		return before, nil
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return before, err
	}
	w := bufio.NewWriter(f)
	enc := json.NewEncoder(w)
	for i := range opened {
		if err = enc.Encode(&opened[i]); err != nil {
			break
		}
	}
	if e := w.Flush(); err == nil {
		err = e
	}
	if e := f.Sync(); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		_ = os.Truncate(path, before)
	}
	return before, err
}

// saveOpen writes all of them anew.
func (s *spool) saveOpen(alive []flow.Open) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	for i := range alive {
		_ = enc.Encode(&alive[i])
	}
	if err := s.write(openFile, b.Bytes()); err != nil {
		s.failed(err)
	}
}

// readOpen returns those that were noted. A last line that was cut off is passed
// over: its batch was not written either.
func (s *spool) readOpen() []flow.Open {
	raw, err := os.ReadFile(filepath.Join(s.folder, openFile))
	if err != nil {
		return nil
	}
	var out []flow.Open
	for line := range bytes.Lines(raw) {
		var o flow.Open
		if json.Unmarshal(line, &o) == nil && o.Client.IsValid() && o.Server.IsValid() {
			out = append(out, o)
		}
	}
	return out
}

const stateFile = "state.json"

func (s *spool) saveState(raw []byte) error { return s.write(stateFile, raw) }

func (s *spool) readState() ([]byte, error) {
	raw, err := os.ReadFile(filepath.Join(s.folder, stateFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return raw, err
}
