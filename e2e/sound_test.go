package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Two people change one group: the later one is told, sees both versions, and
// decides; nothing is overwritten without a word.
func TestTwoPeopleChangeOneGroup(t *testing.T) {
	t.Parallel()
	base := start(t, "--demo")
	a, b := browse(t, base), browse(t, base)
	const at = "/groups/fares-store-live"
	a.open(at)
	b.open(at)
	a.see(`.cm-content`)
	b.fill(`.cm-content`, "app is fares and tier is store and env in (live, bench)")
	b.see(button("Save to the draft"))
	a.fill(`.cm-content`, "app is fares and tier is store and env is live")
	a.click(`//button[contains(., "Save to the draft") and not(@disabled)]`)
	a.gone(button("Save to the draft"))

	b.see(saying("Somebody has changed this group meanwhile"))
	b.until(`document.querySelector(".cm-content").innerText.includes("env in (live, bench)")`)
	b.until(`[...document.querySelectorAll("button")].find((x) => x.innerText.includes("Save to the draft")).disabled`)
	b.click(button("Keep mine"))
	b.click(`//button[contains(., "Save to the draft") and not(@disabled)]`)
	b.gone(button("Save to the draft"))
	require.Contains(t, get(t, base+"/api/v1/policy.orchard"),
		"group fares-store-live = app is fares and tier is store and env in (live, bench)")
	a.until(`document.querySelector(".cm-content").innerText.includes("env in (live, bench)")`)

	// A name that is a keyword of the language is written in quotes.
	a.open("/groups")
	a.click(button("New group"))
	a.fill(`input[aria-label="name of the group"]`, "log")
	a.fill(`.cm-content`, "app is roster")
	a.click(`//button[contains(., "Save to the draft") and not(@disabled)]`)
	a.until(`location.pathname.endsWith("/groups/log")`)
	require.Contains(t, get(t, base+"/api/v1/policy.orchard"), `group "log" = app is roster`)
}

// What changes after a page has read and before it listens to events, it learns too.
func TestEventsThatComeLate(t *testing.T) {
	t.Parallel()
	base := start(t, "--demo")
	to, err := url.Parse(base)
	require.NoError(t, err)
	forward := httputil.NewSingleHostReverseProxy(to)
	forward.FlushInterval = -1
	listening := make(chan struct{})
	between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/events") {
			select {
			case <-listening:
			case <-r.Context().Done():
				return
			}
		}
		forward.ServeHTTP(w, r)
	}))
	t.Cleanup(func() { between.CloseClientConnections(); between.Close() })
	p := browse(t, between.URL)
	p.open("/workloads?tag=crew%3Dnight")
	p.until(`document.querySelector("[data-count]")?.dataset.count === "0"`)
	r, err := http.Post(base+"/api/v1/tags", "application/json",
		strings.NewReader(`{"workloads":["booking-entry-01"],"key":"crew","value":"night"}`))
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, 200, r.StatusCode)
	require.Eventually(t, func() bool {
		return strings.Contains(get(t, base+"/api/v1/workloads?tag=crew%3Dnight"), "booking-entry-01")
	}, patience, 50*time.Millisecond)
	time.Sleep(time.Second) // what else that moves has been told
	close(listening)
	p.until(`document.querySelector("[data-count]")?.dataset.count === "1"`)
}

// A text without the assertions that guard the way back says that they go.
func TestLosingTheGuardIsSaid(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/policy?text=1")
	text := get(t, p.base+"/api/v1/policy.orchard")
	var kept []string
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, "assert ") {
			kept = append(kept, line)
		}
	}
	require.Less(t, len(kept), strings.Count(text, "\n"))
	file := filepath.Join(t.TempDir(), "without.orchard")
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(kept, "")), 0o600))
	p.upload(`input[type=file]`, file)
	p.see(`[data-assert=gone]`)
	p.until(`[...document.querySelectorAll("[data-assert=gone]")].some((x) => x.innerText.includes("no longer asserted: always gangway"))`)
}

// A complete list that lacks much is asked about before anything is retired.
func TestAListThatLacksMuchIsAskedAbout(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	var all struct{ Total int }
	require.NoError(t, json.Unmarshal([]byte(get(t, p.base+"/api/v1/workloads?limit=1")), &all))
	file := filepath.Join(t.TempDir(), "half.csv")
	require.NoError(t, os.WriteFile(file, []byte("id\nbooking-entry-01\nbooking-entry-02\n"), 0o600))
	p.open("/workloads")
	p.click(button("Import workloads"))
	p.fill(`input[aria-label=source]`, "inventory")
	p.upload(`input[type=file][aria-label="CSV file"]`, file)
	p.see(`[data-report=preview]`)
	p.click(`//label[contains(., "complete list")]/input`)
	p.see(`[data-confirm]`)
	p.until(`[...document.querySelectorAll("button")].find((x) => x.innerText.includes("Import 2 rows")).disabled`)
	p.click(`[data-confirm]`)
	p.click(`//button[contains(., "Import 2 rows") and not(@disabled)]`)
	p.see(`[data-report=done]`)
	var left struct{ Total int }
	require.NoError(t, json.Unmarshal([]byte(get(t, p.base+"/api/v1/workloads?limit=1")), &left))
	require.Less(t, left.Total, all.Total)
}

// Who lets everybody in is told so on every page.
func TestAnOpenDoorIsSaidOnEveryPage(t *testing.T) {
	t.Parallel()
	base := start(t, "--demo", "--listen", "0.0.0.0:0", "--trust-network")
	p := browse(t, strings.Replace(base, "[::]", "127.0.0.1", 1))
	for _, path := range []string{"/workloads", "/groups", "/flows", "/policy", "/check"} {
		p.open(path)
		p.see(`[data-trouble=network]`)
	}
	p.see(saying("there are no accounts"))
	r, err := http.Get(p.base + "/api/v1/summary")
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, 200, r.StatusCode)
}
