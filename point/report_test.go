package point_test

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/point"
)

// What a server does not take is sent again as it was, so that it sees what it has
// already.
func TestWhatIsNotTakenIsReportedAgain(t *testing.T) {
	var mu sync.Mutex
	var bodies []string
	fails := 2
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		switch {
		case strings.HasSuffix(r.URL.Path, "/seen"):
			bodies = append(bodies, string(raw))
			if fails > 0 {
				fails--
				http.Error(w, "no", http.StatusServiceUnavailable)
			}
		case r.Method == http.MethodGet:
			time.Sleep(5 * time.Millisecond)
			_, _ = io.WriteString(w, `{"id":"nothing"}`)
		}
	}))
	defer h.Close()
	a := &point.Agent{Server: h.URL, Token: "secret", Kernel: &point.Memory{}, Log: slog.New(slog.DiscardHandler),
		Beat:  2 * time.Second,
		Check: 20 * time.Millisecond} // a beat is also how long an answer is waited for: a busy machine is not to look like a server that fails
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error)
	go func() { done <- a.Run(ctx) }()
	a.See(flow.Observation{Src: netip.MustParseAddr("10.0.0.1"), Dst: netip.MustParseAddr("10.0.0.2"), SrcPort: 40000,
		DstPort: 22, Proto: 6,
		Packets: 1, Bytes: 60, Outcome: flow.Dropped, Start: 1_795_000_000e6, End: 1_795_000_000e6})
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(bodies) >= 3
	}, waitLong, waitShort)
	time.Sleep(1200 * time.Millisecond) // nothing more is sent of it
	cancel()
	require.NoError(t, <-done)
	mu.Lock()
	defer mu.Unlock()
	require.Len(t, bodies, 3)
	require.Equal(t, bodies[0], bodies[1])
	require.Equal(t, bodies[0], bodies[2])
	require.Zero(t, fails)
}
