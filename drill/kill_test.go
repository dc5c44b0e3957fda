package drill

import (
	"context"
	"encoding/json"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// file is an import that was sent.
type file struct {
	worker, n, rows int
	job             int64
	state           string // of the job, or what the answer came to
}

// imports sends files until the context ends, each with its key until the server
// has answered, and notes the job of each.
func (s *site) imports(ctx context.Context, worker int, note func(file)) {
	for n := 0; ctx.Err() == nil && n < 250; n++ {
		f := file{worker: worker, n: n, rows: 40 + n%60}
		k := key()
		for {
			a := s.ask("POST", "/api/v1/imports/flows", k, flows(worker, n, f.rows))
			if a.status == 202 {
				var out struct {
					Job struct{ ID int64 }
				}
				if json.Unmarshal(a.body, &out) == nil {
					f.job, f.state = out.Job.ID, "sent"
				}
				break
			}
			if ctx.Err() != nil {
				f.state = "unknown"
				break
			}
			time.Sleep(30 * time.Millisecond)
		}
		note(f)
	}
}

// Edits and imports go on while the server, its database, or both are killed.
func TestKills(t *testing.T) {
	n := rounds(t, 4)
	s := newSite(t, folder(t))
	s.may = whileKilled
	s.start()
	require.Equal(t, 201, s.ask("PUT", "/api/v1/policy/text", "", []byte(`{"text":"layer allowances\n"}`)).status)
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	edits := s.editing(ctx, &group, "0", "1", "2")
	var mu sync.Mutex
	var files []file
	for w := range 2 {
		group.Go(func() {
			s.imports(ctx, w, func(f file) {
				mu.Lock()
				defer mu.Unlock()
				files = append(files, f)
			})
		})
	}
	for round := range n {
		time.Sleep(time.Duration(150+97*round%700) * time.Millisecond)
		switch round % 4 {
		case 0:
			s.kill()
			s.start()
		case 1:
			s.killPostmaster()
			var any json.RawMessage
			s.get("/api/v1/summary", &any)
		case 2:
			s.killPostmaster()
			s.kill()
			s.start()
		case 3:
			s.end()
			s.start()
		}
	}
	sent := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(files)
	}
	before := sent()
	require.Eventually(t, func() bool { return sent() > before+2 }, time.Minute, 20*time.Millisecond,
		"a server that is left alone takes files")
	stop()
	group.Wait()

	s.edited(edits).report(t, "edits through kills", n)
	s.settled(files).report(t, "imports through kills", n)
}
