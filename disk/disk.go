// Package disk watches the room on the disks that the program writes to. While
// there is little, it says so, since when, and those who write wait; a reserve
// file is given up, so that the database and the end of the program still find
// room. When there is room again, all goes on by itself.
//
// It must not know what is written. A Watch is safe for concurrent use. Start
// reading at New.
package disk

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// Folder is somewhere that is written to.
type Folder struct {
	Name string // in words: "the database's folder"
	Path string
}

// State is how much room there is for a folder.
type State struct {
	Folder
	Free   int64 // octets that the program may still write, without its reserve
	Low    bool  // too little: nothing more is written until Resume is free
	Resume int64 // octets: twice the reserve, so that it does not stop and go on by turns
	Since  time.Time
	Err    string // why the room cannot be read
	Alike  bool   // it lies on the disk of a folder before it
}

// Watch watches folders. Its zero value watches none.
type Watch struct {
	reserve int64
	mu      sync.Mutex
	states  []State
	change  chan struct{} // closed when a state changes
	free    func(path string) (int64, error)
}

// DefaultReserve is how many octets are kept free for each folder.
const DefaultReserve = 64 << 20

// reserveFile is what is given up when a disk is full; lastFile is kept until
// the program ends, whoever takes the reserve.
const (
	reserveFile = "reserve"
	lastFile    = "reserve-for-the-end"
	lastSize    = 8 << 20
)

// New watches folders, which have to exist, with a reserve in octets for each;
// folders on one disk share one, in the first of them.
func New(reserve int64, folders ...Folder) *Watch {
	w := &Watch{reserve: reserve, change: make(chan struct{}), free: available}
	for _, f := range folders {
		w.states = append(w.states, State{Folder: f, Resume: 2 * reserve})
	}
	w.look()
	return w
}

// Run looks every half second until the context ends.
func (w *Watch) Run(ctx context.Context) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			w.look()
		}
	}
}

// look reads how much room there is.
func (w *Watch) look() {
	w.mu.Lock()
	defer w.mu.Unlock()
	changed := false
	for i := range w.states {
		s := &w.states[i]
		free, err := w.free(s.Path)
		if err != nil {
			s.Err = err.Error()
			continue
		}
		s.Err, s.Free, s.Alike = "", free, w.sharesReserve(i)
		if low := free < w.reserve || s.Low && free < s.Resume; low != s.Low {
			s.Low, s.Since, changed = low, time.Now(), true
		}
		if free < w.reserve/4 {
			_ = Release(s.Path)
		} else if free > 3*w.reserve && !s.Alike {
			allocate(filepath.Join(s.Path, reserveFile), w.reserve)
			allocate(filepath.Join(s.Path, lastFile), lastSize)
		}
	}
	if changed {
		close(w.change)
		w.change = make(chan struct{})
	}
}

// sharesReserve reports whether an earlier folder lies on the same disk.
func (w *Watch) sharesReserve(i int) bool {
	for k := range i {
		if same(w.states[k].Path, w.states[i].Path) {
			return true
		}
	}
	return false
}

// States returns the state of each folder.
func (w *Watch) States() []State {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]State(nil), w.states...)
}

// FullError reports that something is not written because a disk is full.
type FullError struct{ State }

func (e *FullError) Error() string {
	return fmt.Sprintf("the disk of %s (%s) is full since %s: %s", e.Name, e.Path,
		e.Since.UTC().Format(time.RFC3339), e.Room())
}

// Room returns how much room there is and how much it takes to go on, as in "12 MB are
// free, and writing resumes at 128 MB".
func (s State) Room() string {
	return fmt.Sprintf("%d MB are free, and writing resumes at %d MB", s.Free>>20, s.Resume>>20)
}

// Room returns a *FullError for a folder without room, by its name; "" asks for
// all of them.
func (w *Watch) Room(name string) error {
	for _, s := range w.States() {
		if s.Low && (name == "" || s.Name == name) {
			return &FullError{s}
		}
	}
	return nil
}

// Changed returns a channel that is closed when some folder's room becomes too
// little, or enough again.
func (w *Watch) Changed() <-chan struct{} {
	if w == nil {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.change
}

// Release deletes all reserve files, so that what ends can still be written.
func (w *Watch) Release() {
	for _, s := range w.States() {
		_ = Release(s.Path)
		_ = os.Remove(filepath.Join(s.Path, lastFile))
	}
}

// Release returns up the reserve below a folder, as the last means to start what
// does not start on a full disk.
func Release(folder string) error { return os.Remove(filepath.Join(folder, reserveFile)) }

func available(path string) (int64, error) {
	var fs syscall.Statfs_t
	if err := syscall.Statfs(path, &fs); err != nil {
		return 0, err
	}
	return int64(fs.Bavail) * fs.Bsize, nil
}

func same(a, b string) bool {
	var x, y syscall.Stat_t
	return syscall.Stat(a, &x) == nil && syscall.Stat(b, &y) == nil && x.Dev == y.Dev
}

// allocate makes a file that takes room, unless it is there; without room there
// is none, and Look tries again.
func allocate(path string, size int64) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	if syscall.Fallocate(int(f.Fd()), 0, 0, size) != nil {
		_ = os.Remove(path)
	}
}

// Words returns the error with what to do.
func (e *FullError) Words() string {
	return e.Error() + "; nothing was changed. Make room on it, then try again"
}
