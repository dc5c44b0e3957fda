package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The demo with real packets: machines in namespaces talk through gates, what the
// release rejects is carried while a gate observes, and dropped when it enforces; nothing
// is left behind.
func TestTheDemoWithRealPackets(t *testing.T) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	if os.Geteuid() != 0 {
		t.Skip("PACKETS ARE NOT TESTED: only root may make network namespaces")
	}
	if out, err := exec.Command("ip", "netns", "add", "lo-try").CombinedOutput(); err != nil {
		t.Skipf("PACKETS ARE NOT TESTED: the kernel refuses namespaces: %s", out)
	}
	_ = exec.Command("ip", "netns", "del", "lo-try").Run()
	cmd := exec.Command(os.Args[0], "packets", "--data", scratch(t), "--port", "7976")
	cmd.Env = append(os.Environ(), "ORCHARD_AS_PROGRAM=1")
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	ended := false
	stop := func() {
		if !ended {
			ended = true
			_ = cmd.Process.Signal(syscall.SIGTERM)
			_ = cmd.Wait()
		}
	}
	t.Cleanup(func() {
		stop()
		if t.Failed() {
			t.Log(said.String())
		}
	})
	r := &running{t: t, base: fmt.Sprintf("http://%s:7976", packetsHere)}
	type state struct {
		Points []struct {
			Name, State string
			Held        *struct {
				Observes int
				Lately   struct{ Permit, Reject int }
			}
		}
	}
	until := func(what string, f func(s state) bool) {
		t.Helper()
		require.Eventually(t, func() bool {
			answer, err := http.Get(r.base + "/api/v1/rollout")
			if err != nil {
				return false
			}
			defer answer.Body.Close()
			var s state
			return json.NewDecoder(answer.Body).Decode(&s) == nil && len(s.Points) == 3 && s.Points[0].Held != nil &&
				f(s)
		}, 60*time.Second, 200*time.Millisecond, what)
	}
	until("the points are heard of", func(s state) bool { return s.Points[2].Held != nil })
	r.send("POST", "/api/v1/releases", "application/json", `{"revision":1,"title":"First"}`)
	until("what is rejected is seen, and carried", func(s state) bool {
		h := s.Points[0].Held
		return h.Observes == 1 && h.Lately.Permit > 0 && h.Lately.Reject > 0
	})
	r.send("POST", "/api/v1/rollout/orders", "application/json",
		`{"do":"enforce","points":["trial-gate"],"release":1,"anyway":true,"without":["*"]}`)
	require.Eventually(t, func() bool {
		return strings.Contains(r.get("/api/v1/conversations?verdict=reject&outcome=dropped"), "-t01")
	}, 60*time.Second, 200*time.Millisecond, "and dropped")
	stop()
	left, err := exec.Command("ip", "netns", "list").Output()
	require.NoError(t, err)
	require.NotContains(t, string(left), "lo-gate")
}
