package collect_test

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// An exporter that counts the times of its flows from its own start, as softflowd does in
// IPFIX, is read to the second, however long it keeps a flow before it sends it.
func TestUptimesOfARealExporter(t *testing.T) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	program, err := exec.LookPath("softflowd")
	if err != nil || os.Geteuid() != 0 {
		t.Skip("NOT TESTED: softflowd is missing, or this is not root")
	}
	here, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer here.Close()
	dir := t.TempDir()
	ctx, stop := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, program, "-d", "-i", "lo", "-v", "10", "-n", here.LocalAddr().String(), "-t",
		"maxlife=4",
		"-t", "expint=1", "-p", filepath.Join(dir, "pid"), "-c", filepath.Join(dir, "control"))
	require.NoError(t, cmd.Start())
	defer func() { stop(); _ = cmd.Wait() }()

	service, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer service.Close()
	called := uint16(service.LocalAddr().(*net.UDPAddr).Port)
	asked := map[uint16]time.Time{} // by the port of who asks
	// The kernel hands packets to the exporter many at a time.
	ask := time.NewTicker(2 * time.Millisecond)
	defer ask.Stop()
	d := wire.NewDecoder()
	d.Shift = true
	b := make([]byte, 1<<16)
	var off []time.Duration
	heard := map[uint16]bool{}
	for len(heard) < 1000 {
		select {
		case <-ask.C:
			conn, err := net.Dial("udp", service.LocalAddr().String())
			require.NoError(t, err)
			port := uint16(conn.LocalAddr().(*net.UDPAddr).Port)
			if _, again := asked[port]; again {
				conn.Close()
				continue
			}
			asked[port] = time.Now()
			_, err = conn.Write([]byte("x"))
			require.NoError(t, err)
			conn.Close()
		default:
		}
		_ = here.SetReadDeadline(time.Now().Add(time.Millisecond))
		n, err := here.Read(b)
		if err != nil {
			require.Less(t, len(asked), 12_000, "it sends nothing")
			continue
		}
		_ = d.Decode(b[:n], flow.MicrosOf(time.Now()), func(o *flow.Observation) {
			at, known := asked[o.SrcPort]
			if !known || o.DstPort != called {
				return
			}
			heard[o.SrcPort] = true
			for _, told := range []flow.Micros{o.Start, o.End} {
				off = append(off, told.Instant().Time().Sub(at).Abs())
			}
		})
	}
	require.GreaterOrEqual(t, len(heard), 1000, "of %d", len(asked))
	// A busy machine delays single messages; taken from when they arrive, all would be seconds off.
	slices.Sort(off)
	require.Less(t, off[len(off)/2], time.Second)
	t.Logf("%d flows, half of the times are off by less than %s, the worst by %s",
		len(heard), off[len(off)/2], off[len(off)-1])
}
