package e2e

import (
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// TestScreenshots makes the pictures of docs/screenshots; see the Makefile.
func TestScreenshots(t *testing.T) {
	dir := os.Getenv("ORCHARD_SCREENSHOTS")
	if dir == "" {
		t.Skip("make screenshots sets where the pictures go")
	}
	p := browse(t, start(t, "--demo", "--points", "--live=true", "--hold", "500ms"))
	shoot := func(name string) {
		p.do("settle", chromedp.Evaluate[chromedp.Void](
			`document.fonts.ready.then(() => new Promise((r) => setTimeout(r, 600)))`, chromedp.EvalAwaitPromise))
		picture, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".png"), picture, 0o644))
	}
	p.open("/workloads?tag=tier%3D(missing)")
	p.click(`[data-workload="booking-logic-07"] button[aria-label*="change tier"]`)
	p.fill(`input[aria-label=value]`, "logic")
	p.see(`[data-consequences]`)
	shoot("workloads")

	p.open("/workloads?show=suggestions")
	p.click(`[data-suggestion="bo-x-7719 tier"] input`)
	p.see(`[data-consequences]`)
	shoot("suggestions")

	p.open("/workloads/booking-logic-03")
	p.see(`[data-effective]`)
	shoot("workload")

	p.open("/groups/fares-store-live")
	p.fill(`.cm-content`, "app is fares and tier is store and env is live")
	p.see(`[data-consequences]`)
	p.press(kb.Escape)
	shoot("groups")

	p.open("/flows")
	p.see(saying("the walls"))
	p.click(`[data-row="0"]`)
	shoot("flows")

	p.open("/flows/exporters")
	p.see(saying("IPFIX"))
	p.until(`document.body.textContent.includes("records a second")`)
	shoot("exporters")

	p.open("/policy")
	p.click(button("Derive from the window"))
	p.see(`[data-proposal]`)
	p.see(`[data-card] [data-consequences]`)
	shoot("policy")

	p.open("/policy?text=1")
	p.see(`.cm-content`)
	shoot("policy-text")

	p.open("/check?verdict=uncovered&q=fares-store-01+5432+t03")
	for _, depth := range []string{"0", "1", "2"} {
		p.click(`[data-row="` + depth + `"]`)
	}
	p.see(`[data-why=uncovered]`)
	p.click(button("env = trial"))
	p.see(button("Set env = trial"))
	shoot("check")

	p.open("/check?part=ask&ask=" +
		url.QueryEscape("booking-entry-live -> booking-logic-live tcp/8443 = permit\nbooking-logic-03 -> "+
			"fares-store-01 postgres\ntrial -> protected any = reject\ndepots -> booking-entry-live web, ssh"))
	p.until(`document.querySelectorAll("[data-answer]").length === 4`)
	p.click(`[data-answer=several] button`)
	p.see(`[data-part=permit]`)
	shoot("whatif")

	p.open("/release?release=new")
	p.fill(`input[aria-label="title of the release"]`, "First allowances")
	p.click(button("Release; wave 1 observes"))
	for _, step := range []string{"1 enforce", "2 observe"} {
		p.goOn(step)
	}
	p.see(`[data-next="2 enforce"]`)
	p.until(`document.querySelectorAll("[data-wave='2'] [data-state=holds]").length === 2`)
	p.until(`parseInt(document.querySelector("[data-kept]").dataset.kept) > 0`)
	p.until(`document.querySelectorAll("[data-scope=toast][data-part=root]").length === 0`)
	shoot("release")

	p.open("/watch")
	p.click(`//*[@data-matter][contains(@data-says, "looks like a scan") and @data-kind="leak"]`)
	p.see(`[data-opened] [data-talk]`)
	shoot("watch")

	makeEvidence(t, p, "assert only fares-logic-live -> fares-store-live on postgres", 13)
	p.open("/evidence/1")
	p.see("[data-answer]")
	shoot("evidence")

	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "booking-logic-live -> fares-logic-live")]`)
	p.click(button("Turn off"))
	p.see(button("Turn on"))
	p.open("/check?part=report&against=1")
	p.see(`[data-flow-groups=Loses]`)
	shoot("report")
}
