package point

import (
	"fmt"
	"os"
	"sync"

	"github.com/google/nftables"
	"github.com/mdlayher/netlink"
	"github.com/ti-mo/conntrack"
)

// sockets keeps connections to the kernel open between calls. When one is closed, the
// kernel waits until no packet can meet what was deleted lately: 20 ms or more, in which
// nothing else can be changed. It is safe for use by several goroutines.
type sockets struct {
	mu       sync.Mutex
	space    os.FileInfo // namespace that the connections are in; nil: the program's own
	tables   []*nftables.Conn
	tracking []*conntrack.Conn
}

// mostIdle is how many connections of a kind are kept.
const mostIdle = 2

// withTables calls f with a connection to nftables, of which nothing is pending.
func (n *Nftables) withTables(f func(c *nftables.Conn) error) error {
	return with(n, &n.open.tables, func(fd int) (*nftables.Conn, error) { return dial(fd) },
		func(c *nftables.Conn) { _ = c.CloseLasting() }, f)
}

// withTracking calls f with a connection to connection tracking.
func (n *Nftables) withTracking(f func(c *conntrack.Conn) error) error {
	return with(n, &n.open.tracking, func(fd int) (*conntrack.Conn, error) {
		return conntrack.Dial(&netlink.Config{NetNS: fd})
	}, func(c *conntrack.Conn) { _ = c.Close() }, f)
}

// with calls f with a connection that is idle, or with a new one. After an error it is
// closed: something may be pending on it.
func with[C any](n *Nftables, idle *[]C, dial func(fd int) (C, error), done func(C), f func(C) error) error {
	return n.inside(func(fd int) error {
		var c C
		n.open.mu.Lock()
		n.open.moved(fd)
		last := len(*idle) - 1
		if last >= 0 {
			c = (*idle)[last]
			*idle = (*idle)[:last]
		}
		space := n.open.space
		n.open.mu.Unlock()
		if last < 0 {
			var err error
			if c, err = dial(fd); err != nil {
				return err
			}
		}
		err := f(c)
		n.open.mu.Lock()
		defer n.open.mu.Unlock()
		if err == nil && len(*idle) < mostIdle && same(space, n.open.space) {
			*idle = append(*idle, c)
		} else {
			done(c)
		}
		return err
	})
}

// moved closes what is open in another namespace than the one of an open file.
func (s *sockets) moved(fd int) {
	var now os.FileInfo
	if fd > 0 {
		now, _ = os.Stat(fmt.Sprintf("/proc/self/fd/%d", fd)) // without it, they are taken for others
	}
	if !same(now, s.space) {
		s.close()
		s.space = now
	}
}

func same(a, b os.FileInfo) bool {
	return a == nil && b == nil || a != nil && b != nil && os.SameFile(a, b)
}

func (s *sockets) close() {
	for _, c := range s.tables {
		_ = c.CloseLasting()
	}
	for _, c := range s.tracking {
		_ = c.Close()
	}
	s.tables, s.tracking = nil, nil
}

// Close closes the connections that are kept open. What is called later opens others.
func (n *Nftables) Close() {
	n.open.mu.Lock()
	defer n.open.mu.Unlock()
	n.open.close()
}
