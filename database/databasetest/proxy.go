package databasetest

import (
	"bytes"
	"io"
	"net"
	"net/url"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Proxy stands between a program and its database.
type Proxy struct {
	URL string // of the database through it
	// LoseCommits is how many answers to COMMIT are still to be lost: the database
	// commits, and the connection breaks off before it says so. Before is the same
	// for commits that do not reach the database.
	LoseCommits, LoseBefore atomic.Int32
	// Down lets no connection come. ThenDown sets it, and ends all others, when an
	// answer to COMMIT is lost.
	Down, ThenDown atomic.Bool
	// Stalled lets nothing through, as a database that was stopped.
	Stalled atomic.Bool

	mu   sync.Mutex
	open []net.Conn
}

// NewProxy starts one; it ends with the test.
func NewProxy(t testing.TB, database string) *Proxy {
	t.Helper()
	u, err := url.Parse(database)
	require.NoError(t, err)
	to := u.Host
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	u.Host = l.Addr().String()
	p := &Proxy{URL: u.String()}
	t.Cleanup(func() {
		l.Close()
		p.cut()
	})
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			if p.Down.Load() {
				client.Close()
				continue
			}
			server, err := net.Dial("tcp", to)
			if err != nil {
				client.Close()
				continue
			}
			p.mu.Lock()
			p.open = append(p.open, client, server)
			p.mu.Unlock()
			go p.serve(client, server)
		}
	}()
	return p
}

func (p *Proxy) wait() {
	for p.Stalled.Load() {
		time.Sleep(10 * time.Millisecond)
	}
}

func (p *Proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.open {
		c.Close()
	}
	p.open = nil
}

func (p *Proxy) serve(client, server net.Conn) {
	defer client.Close()
	defer server.Close()
	var lose atomic.Bool
	go func() {
		defer client.Close()
		defer server.Close()
		b := make([]byte, 1<<16)
		for {
			n, err := server.Read(b)
			if lose.Load() && p.ThenDown.Load() {
				p.Down.Store(true)
				p.cut()
			}
			if err != nil || lose.Load() {
				return
			}
			p.wait()
			if _, err := client.Write(b[:n]); err != nil {
				return
			}
		}
	}()
	b := make([]byte, 1<<16)
	for {
		n, err := client.Read(b)
		if err == io.EOF || err != nil {
			return
		}
		if bytes.Contains(bytes.ToLower(b[:n]), []byte("commit\x00")) {
			if p.LoseBefore.Add(-1) >= 0 {
				return
			}
			lose.Store(p.LoseCommits.Add(-1) >= 0)
		}
		p.wait()
		if _, err := server.Write(b[:n]); err != nil {
			return
		}
	}
}
