package drill

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// disk returns a folder on a disk of its own, of so many MB: a file on a loop
// device, or in memory where there is none.
func disk(t *testing.T, mb int) string {
	dir := folder(t)
	image, at := filepath.Join(dir, "image"), filepath.Join(dir, "disk")
	require.NoError(t, os.Mkdir(at, 0o755))
	run := func(program string, args ...string) error {
		out, err := exec.Command(program, args...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s: %w: %s", program, err, out)
		}
		return nil
	}
	f, err := os.Create(image)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(int64(mb)<<20))
	require.NoError(t, f.Close())
	err = run("mkfs.ext4", "-q", "-m", "0", image)
	if err == nil {
		err = run("mount", "-o", "loop", image, at)
	}
	if err != nil {
		t.Logf("no loop device (%v): a disk in memory instead", err)
		if err := run("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dm", mb), "tmpfs", at); err != nil {
			t.Skipf("A FULL DISK IS NOT TRIED: no disk of its own can be mounted here: %v", err)
		}
	}
	t.Cleanup(func() {
		for range 50 {
			if run("umount", at) == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	require.NoError(t, os.Chmod(at, 0o755))
	return at
}

// fill takes all room that there is.
func fill(t *testing.T, path string) {
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	b := make([]byte, 1<<20)
	for size := len(b); size > 0; {
		if _, err := f.Write(b[:size]); err != nil {
			size /= 2
		}
	}
	_ = f.Sync()
}

type trouble struct {
	Kind, Words, Todo, Since string
	Grave                    bool
}

func (s *site) troubles() (out []trouble) {
	a := s.ask("GET", "/api/v1/troubles", "", nil)
	if a.status != 200 || json.Unmarshal(a.body, &out) != nil {
		return []trouble{{Kind: "no answer"}}
	}
	return out
}

// sender sends connections over IPFIX and TCP, each once, and counts them.
type sender struct {
	wire.Exporter
	conn net.Conn
	to   string
	sent int
}

func (x *sender) send(n int) {
	if x.conn == nil {
		var err error
		if x.conn, err = net.DialTimeout("tcp", x.to, time.Second); err != nil {
			x.conn = nil
			return
		}
		_, _ = x.conn.Write(x.Templates(flow.MicrosOf(time.Now())))
	}
	now := flow.MicrosOf(time.Now())
	var all []flow.Observation
	for range n {
		k := x.sent
		all = append(all, flow.Observation{Src: netip.AddrFrom4([4]byte{11, byte(k >> 16), byte(k >> 8), byte(k)}),
			Dst: netip.MustParseAddr("10.251.0.1"), SrcPort: 40_000, DstPort: 443, Proto: 6, Start: now, End: now,
			Packets: 1, Bytes: 60})
		x.sent++
	}
	if _, err := x.conn.Write(x.Message(now, all)); err != nil {
		x.conn.Close()
		x.conn = nil
	}
}

// The disk is filled to the brim while edits and traffic come: it is said, what
// is acknowledged stays, and all goes on by itself when there is room again.
func TestFullDisk(t *testing.T) {
	n := rounds(t, 2)
	at := disk(t, 500)
	s := newSite(t, at, "--reserve", "48") // three segments of PostgreSQL's log, which takes 16 MB at a time
	s.may = whileFull
	s.start()
	require.Equal(t, 201, s.ask("PUT", "/api/v1/policy/text", "", []byte(`{"text":"layer allowances\n"}`)).status)
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	edits := s.editing(ctx, &group, "0", "1")
	x := &sender{to: s.ipfix}
	group.Go(func() {
		for ctx.Err() == nil {
			x.send(20)
			time.Sleep(10 * time.Millisecond)
		}
	})
	told := 0
	filler := filepath.Join(at, "of somebody else")
	for round := range n {
		time.Sleep(400 * time.Millisecond)
		fill(t, filler)
		require.Eventually(t, func() bool {
			for _, x := range s.troubles() {
				if x.Kind == "disk" && x.Grave && strings.Contains(x.Words, "is full") && x.Since != "" {
					return true
				}
			}
			return false
		}, 20*time.Second, 50*time.Millisecond, "it is said")
		if round%2 == 1 { // also a start on a full disk, after a kill or an end in order
			told += s.told() // of this run
			s.end()
			require.NoError(t, s.try(), "it starts on a full disk")
			x.to = s.ipfix
		}
		time.Sleep(500 * time.Millisecond)
		require.NoError(t, os.Remove(filler))
		require.Eventually(t, func() bool { return len(s.troubles()) == 0 }, 60*time.Second, 100*time.Millisecond,
			"it goes on by itself: %v", s.troubles())
	}
	time.Sleep(500 * time.Millisecond)
	stop()
	group.Wait()
	if x.conn != nil {
		x.conn.Close()
	}
	s.edited(edits).report(t, "edits on a full disk", n)

	// Traffic: what was sent is stored, or was not read; nothing is counted twice.
	var traffic tally
	assert.Eventually(t, func() bool {
		traffic = tally{}
		for client, n := range s.imported() {
			if strings.HasPrefix(client, "11.") {
				traffic.acknowledged++
				traffic.doubled += n - 1
			}
		}
		return x.sent-traffic.acknowledged <= told+s.told()
	}, 30*time.Second, 300*time.Millisecond, "more is lost than is said")
	t.Logf("of %d connections %d are stored; %d are said to be lost", x.sent, traffic.acknowledged, told+s.told())
	traffic.report(t, "connections on a full disk", n)
}

// told returns how many records the collector says were lost.
func (s *site) told() int {
	var out struct {
		Collectors []struct{ Lost, Unfinished int }
		Exporters  []struct{ Streams []struct{ Missed int } }
	}
	s.get("/api/v1/exporters", &out)
	n := 0
	for _, c := range out.Collectors {
		n += c.Lost + c.Unfinished
	}
	for _, e := range out.Exporters {
		for _, st := range e.Streams {
			n += st.Missed
		}
	}
	return n
}
