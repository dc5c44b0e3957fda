package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
)

// matter finds the row of a matter by its words.
func matter(words string) string { return `//*[@data-matter][contains(@data-says, "` + words + `")]` }

// The stories of the demo are matters of the first day; from the count to the single
// record and the why it is three presses, and the place is kept; what was settled goes from
// the list, and is found among what is settled.
func TestTheStoriesAreMatters(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/watch?period=quarter")
	p.until(`document.querySelectorAll("[data-matter]").length >= 8`)
	for _, words := range []string{"boarding-logic-trial reached tides-entry-live",
		"roster-logic-trial reached roster-store-live",
		"logbook could not reach tides-entry-live on metrics", "10.40.7.19 tried", "booking-logic → fares-store-live",
		"boarding-entry-live → manifest-store-live", "vault → manifest-store-live on rsync"} {
		p.see(matter(words))
	}
	open := value[int](p, `Number(document.querySelector("[data-open]").dataset.open)`)
	require.Less(t, open, 25)

	p.click(matter("logbook could not reach"))
	p.see(`[data-opened] [data-talk="tcp/9100"]`)
	p.click(`//*[@data-opened]//button[.="records"]`)
	p.see(saying("Single records"))
	p.click(`//*[@data-opened]//button[.="why"]`)
	p.see(`[data-why="permit"]`)
	p.see(`[data-opened] [data-talk="tcp/9100"]`)

	p.click(`//*[@data-actions]//button[contains(., "Assign")]`)
	p.fill(`input[aria-label="assignee"]`, "network team")
	p.click(`//div[@role="dialog"]//button[.="Keep"]`)
	p.see(saying("with network team"))
	p.click(`//*[@data-actions]//button[contains(., "Settle with a note")]`)
	p.fill(`input[aria-label="why"]`, "a device was replaced")
	p.click(`//div[@role="dialog"]//button[.="Settle"]`)
	p.until(`Number(document.querySelector("[data-open]").dataset.open) === ` + itoa(open-1))
	p.open("/watch?show=settled&period=quarter")
	p.see(matter("logbook could not reach"))
	p.see(saying("settled: a device was replaced"))

	// By the keyboard: to the first row, down, open, seen.
	p.open("/watch?period=quarter")
	p.see("[data-matter]")
	p.focus("[data-matter]")
	p.press(kb.ArrowDown)
	second := value[string](p, `document.activeElement.dataset.matter`)
	require.Equal(t, value[string](p, `document.querySelectorAll("[data-matter]")[1].dataset.matter`), second)
	p.press("e")
	p.until(`document.querySelector('[data-matter="` + second + `"]').dataset.state === "seen"`)

	// A part of the picture shows what was seen then.
	p.until(`document.querySelectorAll("[data-bin]").length === 91`)
	p.click(`[data-bin]:not([data-through="0"])`)
	p.see(saying("seen "))
	p.until(`new URLSearchParams(location.search).get("at") !== null`)
}

// From a matter to a message in under a minute: a destination is made on the way, a trial
// arrives, and what happens again is told.
func TestTellMeWhenThisHappensAgain(t *testing.T) {
	t.Parallel()
	got := make(chan map[string]any, 100)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var event map[string]any
		raw, _ := io.ReadAll(r.Body)
		_ = json.Unmarshal(raw, &event)
		got <- event
	}))
	defer hook.Close()
	p := browse(t, start(t, "--demo"))
	p.open("/watch?period=quarter")
	p.click(matter("boarding-logic-trial reached tides-entry-live"))
	p.click(`//*[@data-actions]//button[contains(., "Notify me when")]`)
	p.click(`//div[@role="dialog"]//button[contains(., "Add a destination")]`)
	p.fill(`input[aria-label="name"]`, "duty")
	p.click(`//button[.="Webhook"]`)
	p.fill(`input[aria-label="address"]`, hook.URL)
	p.fill(`input[aria-label="key"]`, "a key")
	p.click(button("Save and send a test"))
	select {
	case event := <-got:
		require.Equal(t, "lucid-orchard.trial", event["type"])
	case <-time.After(20 * time.Second):
		p.fail("the trial never came")
	}
	p.until(`document.querySelector("[data-sentence]").textContent.includes("happens again → duty")`)
	p.click(`//div[@role="dialog"]//button[.="Notify me"]`)
	p.see("[data-notice]")
	p.until(`document.querySelector('[data-destination="duty"]').dataset.sent === "true"`)
	p.click(`//*[@data-notice]//button[.="pause"]`)
	p.see(saying("paused"))
	p.click(`//*[@data-notice]//button[.="resume"]`)
	p.gone(saying("· paused"))
}

// From a filter of the ledger to a message: what is permitted is told, too, when more of it comes. A
// selection that was saved can be chosen for a notice, as well.
func TestTellMeOfWhatAFilterSelects(t *testing.T) {
	t.Parallel()
	got := make(chan string, 1000)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		got <- string(raw)
	}))
	defer hook.Close()
	base := start(t, "--demo", "--live")
	require.Equal(t, 204, ask(t, "PUT", base+"/api/v1/watch/destinations/duty",
		map[string]any{"kind": "webhook", "address": hook.URL, "secret": "x"}, nil))
	p := browse(t, base)
	p.open("/check?verdict=permit&clients=tier+is+entry&show=all")
	p.click(button("Notify me…"))
	p.until(`document.querySelector("[data-sentence]").textContent.includes("at once, when anything permitted from tier is entry comes → duty")`)
	p.click(`//div[@role="dialog"]//button[.="Notify me"]`)
	p.gone(`//div[@role="dialog"]`)
	select {
	case message := <-got:
		require.Contains(t, message, "reached")
		require.Contains(t, message, `"verdict":"permit"`)
	case <-time.After(90 * time.Second):
		p.fail("nothing was told")
	}
	require.Equal(t, 200, ask(t, "PUT", base+"/api/v1/selections", map[string]any{"list": "check",
		"name":   "into stores",
		"filter": "servers=tier+is+store&show=all"}, nil))
	p.open("/watch")
	p.see(`//*[@data-notice][contains(., "anything permitted from tier is entry comes")]`)
	p.click(saying("when … +"))
	p.choose(`select[aria-label="or a saved selection of the ledger"]`, "servers=tier+is+store")
	p.until(`document.querySelector("[data-sentence]").textContent.includes("anything to tier is store comes")`)
	p.click(`//div[@role="dialog"]//button[.="Notify me"]`)
	p.see(`//*[@data-notice][contains(., "anything to tier is store comes")]`)
}

// Counters move while one looks, by pair and by rule.
func TestCountersMove(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live"))
	p.open("/watch?part=pairs")
	p.see("[data-counter]")
	sum := `[...document.querySelectorAll("[data-counter]")].reduce((s, r) => s + Number(r.dataset.carried), 0)`
	before := value[int](p, sum)
	p.until(sum + ` > ` + itoa(before+5))
	p.click(`//button[.="By rule"]`)
	p.see(`[data-counter*="permit"]`)
}

// What an exporter reports is a message at a receiver moments later: a leak that nobody saw
// before, and an attempt that was dropped.
func TestFromAPacketToAMessage(t *testing.T) {
	t.Parallel()
	got := make(chan time.Time, 100)
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, _ *http.Request) { got <- time.Now() }))
	defer hook.Close()
	base := start(t, "--demo", "--exporters", "127.0.0.0/8")
	require.Equal(t, 204, ask(t, "PUT", base+"/api/v1/watch/destinations/duty",
		map[string]any{"kind": "webhook", "address": hook.URL, "secret": "x"}, nil))
	require.Equal(t, 201, ask(t, "POST", base+"/api/v1/watch/notices",
		map[string]any{"kinds": []string{"leak", "held"}, "pace": "at once",
			"to": []string{"duty"}}, nil))
	found := api[struct {
		Workloads []struct{ Leases []struct{ Addr string } }
	}](t, base+"/api/v1/workloads?q=fares-store-01")
	store := netip.MustParseAddr(found.Workloads[0].Leases[0].Addr)
	var took []time.Duration
	for i := range 8 {
		now := flow.MicrosOf(time.Now())
		there := flow.Observation{Src: netip.AddrFrom4([4]byte{203, 0, byte(113 - i), 7}), Dst: store,
			SrcPort: uint16(40000 + i),
			DstPort: 5432, Proto: 6, Flags: flow.SYN | flow.ACK | flow.FIN, HasFlags: true, Start: now - 5000,
			End: now, Packets: 5, Bytes: 500}
		back := there
		back.Src, back.Dst, back.SrcPort, back.DstPort, back.Start = there.Dst, there.Src, there.DstPort,
			there.SrcPort, there.Start+800
		sent := []flow.Observation{there, back}
		if i%2 == 1 {
			there.Flags, there.Packets, there.Outcome = flow.SYN, 1, flow.Dropped
			sent = []flow.Observation{there}
		}
		begun := time.Now()
		send(t, base, sent...)
		select {
		case at := <-got:
			took = append(took, at.Sub(begun))
		case <-time.After(30 * time.Second):
			require.Fail(t, "no message came")
		}
		for len(got) > 0 {
			<-got
		}
		time.Sleep(300 * time.Millisecond)
	}
	t.Logf("leaks and attempts by turns: %v", took)
}

// What to do about a matter is done from where it stands: what leaked is permitted, and is
// a matter no more; what came is asserted never to be permitted.
func TestWhatToDoAboutAMatter(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/watch?period=quarter")
	leak := matter("boarding-logic-trial reached tides-entry-live")
	p.click(leak)
	p.click(`//*[@data-actions]//button[.="Permit…"]`)
	p.see(`[data-width="exact"]`)
	p.click(button("Add to the draft"))
	p.gone(leak)
	require.Contains(t, get(t, p.base+"/api/v1/policy.orchard"),
		"permit boarding-logic-trial -> tides-entry-live on tcp/443")

	p.click(matter("boarding-entry-live → manifest-store-live on postgres"))
	p.click(`//*[@data-actions]//button[.="Assert never"]`)
	p.gone(`//*[@data-actions]//button[.="Assert never"]`)
	require.Contains(t, get(t, p.base+"/api/v1/policy.orchard"),
		"assert never boarding-entry-live -> manifest-store-live on tcp/5432")

	p.click(`//*[@data-opened]//button[.="Permit…"]`)
	p.see(`[data-width="exact"]`)
	p.click(`//div[@role="dialog"]//button[.="Cancel"]`)
	p.click(button("Choose groups…"))
	p.fill(`input[aria-label="a group"]`, "cranes")
	p.press(kb.Enter)
	p.click(`//div[@role="dialog"]//button[.="Watch them"]`)
	p.see(saying("cranes"))
}
