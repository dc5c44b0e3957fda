package e2e

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// What the program may take at its peak, as docs/traffic.md says: this much with nothing to
// do but take records, and this much for each million conversations that it is to show.
const (
	floodBase       = 700 << 20
	floodPerMillion = 1300 << 20
)

// peak returns the most memory that a process has had, in octets (proc(5), VmHWM).
func peak(t *testing.T, pid int) int {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(t, err)
			return kb << 10
		}
	}
	t.Fatal("the system does not say what the process took at its peak")
	return 0
}

// A flood in which no two records are of one conversation, as when a network is scanned,
// takes what the documentation says and no more. ORCHARD_FLOOD says how many (300,000).
func TestAFloodStaysWithinItsBounds(t *testing.T) {
	many := 300_000
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_FLOOD")); err == nil {
		many = n
	}
	base := start(t, "--hold", "2s")
	conn, err := net.Dial("udp", listening(t, base, "udp"))
	require.NoError(t, err)
	defer conn.Close()
	e := wire.Exporter{Domain: 1}
	_, err = conn.Write(e.Templates(flow.MicrosOf(time.Now())))
	require.NoError(t, err)
	begun := time.Now()
	for sent := 0; sent < many; {
		var all []flow.Observation
		now := flow.MicrosOf(time.Now())
		for range wire.RecordsPerMessage {
			all = append(all, flow.Observation{Src: netip.AddrFrom4([4]byte{10, 66, byte(sent >> 10), byte(sent >> 2)}),
				Dst: netip.AddrFrom4([4]byte{10, 20, byte(sent >> 12), byte(sent >> 4)}), SrcPort: 40000,
				DstPort: uint16(1 + sent%20_011), Proto: service.TCP, Flags: flow.SYN, HasFlags: true, Start: now,
				End:     now,
				Packets: 1, Bytes: 60})
			sent++
		}
		_, err = conn.Write(e.Message(now, all))
		require.NoError(t, err)
		if ahead := time.Duration(sent)*time.Second/40_000 - time.Since(begun); ahead > 0 {
			time.Sleep(ahead)
		}
	}
	var shown struct{ Conversations int }
	p := 0
	pid, _ := pids.Load(base)
	require.Eventually(t, func() bool {
		shown = api[struct{ Conversations int }](t, base+"/api/v1/summary")
		p = peak(t, pid.(int))
		return shown.Conversations >= many*99/100
	}, patience, 300*time.Millisecond, "%v", &shown)
	t.Logf("%d conversations: %d MB at the peak, %s", shown.Conversations, p>>20, time.Since(begun).Round(time.Second))
	require.Less(t, p, floodBase+floodPerMillion*(many/1000)/1000)
}
