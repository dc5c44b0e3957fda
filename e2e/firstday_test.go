package e2e

import (
	"bytes"
	"encoding/csv"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"lucidorchard/demo"
	"lucidorchard/ingest"
)

// files writes a small company as CSV, with two rows that cannot be used.
func files(t *testing.T) (workloads, flows string) {
	c := demo.Generate(demo.Options{Workloads: 150, Days: 3, End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
	var a, b bytes.Buffer
	w := csv.NewWriter(&a)
	require.NoError(t, ingest.WriteWorkloads(w, c.Workloads))
	w.Flush()
	a.WriteString("wl-bad,,10.0.0.999,,,,,,,,\n,nobody,,,,,,,,,\n")
	w = csv.NewWriter(&b)
	require.NoError(t, w.Write(ingest.FlowHeader))
	for _, r := range c.Records {
		require.NoError(t, w.Write(ingest.FlowRow(r)))
	}
	w.Flush()
	b.WriteString("yesterday,,10.0.0.1,,10.0.0.2,tcp,80,,,,,\n")
	dir := t.TempDir()
	workloads, flows = filepath.Join(dir, "workloads.csv"), filepath.Join(dir, "flows.csv")
	require.NoError(t, os.WriteFile(workloads, a.Bytes(), 0o600))
	require.NoError(t, os.WriteFile(flows, b.Bytes(), 0o600))
	return workloads, flows
}

// A newcomer with two CSV files gets from nothing to a draft, and back.
func TestFirstDay(t *testing.T) {
	t.Parallel()
	workloads, flows := files(t)
	p := browse(t, start(t))

	// Import the workloads: the preview names the bad rows, the others are taken.
	p.open("/workloads")
	p.click(button("Import workloads…"))
	p.upload(`input[type=file]`, workloads)
	p.see(`[data-report=preview]`)
	p.see(saying(`10.0.0.999`))
	p.click(`//button[starts-with(normalize-space(.), "Import ") and not(contains(., "…"))]`)
	p.see(`[data-report=done]`)
	p.click(button("Done"))
	p.see(`[data-workload="boarding-entry-01"]`)
	require.Contains(t, get(t, p.base+"/api/v1/workloads?limit=1"), `"total":`)

	// Tag one: what it would do is shown first.
	p.open("/workloads?tag=tier%3D(missing)")
	p.until(`Number(document.querySelector("[data-count]")?.dataset.count) > 0`)
	lacking := value[int](p, `Number(document.querySelector("[data-count]").dataset.count)`)
	p.click(`[data-workload] button[aria-label*="change tier"]`)
	p.fill(`input[aria-label=value]`, "logic")
	p.see(`[data-consequences]`)
	p.click(`//button[normalize-space(.)="Set tier = logic"]`)
	p.until(`Number(document.querySelector("[data-count]").dataset.count) === ` + strconv.Itoa(lacking-1))

	// Import flows; the same file again counts nothing.
	for i, want := range []string{"conversation-hours", "imported before"} {
		p.open("/flows")
		p.click(button("Import flows…"))
		p.upload(`input[type=file]`, flows)
		p.see(`[data-report=preview]`)
		if i == 0 {
			p.until(`document.querySelector("[data-report=preview]").innerText.includes("1 row cannot be used")`)
		}
		p.click(`//button[starts-with(normalize-space(.), "Import ") and not(contains(., "…"))]`)
		p.see(`[data-report=done]`)
		p.until(`document.querySelector("[data-report=done]").innerText.includes("` + want + `")`)
		p.click(button("Done"))
	}
	p.see(`[data-row="0"]`)

	// An import is one step: undone, nothing of it is seen; done again, all of it.
	seen := value[string](p, `document.querySelector("[data-fact=flows]").textContent`)
	require.Regexp(t, "[1-9]", seen)
	p.ctrl("z")
	p.gone(`[data-row="0"]`)
	p.do("redo", chromedp.KeyEvent("z", chromedp.KeyModifiers(chromedp.ModifierCtrl|chromedp.ModifierShift)))
	p.see(`[data-row="0"]`)
	p.until(`document.querySelector("[data-fact=flows]").textContent === ` + strconv.Quote(seen))

	// Write a group, with a mistake first.
	p.open("/groups/new")
	p.fill(`input[aria-label="name of the group"]`, "booking-logic-live")
	p.fill(`.cm-content`, "app is booking and tier iz logic and env is live")
	p.see(saying("found iz, expected a test"))
	p.fill(`.cm-content`, "app is booking and tier is logic and env is live")
	p.until(`Number(document.querySelector("[aria-label=In]")?.dataset.members) > 0`)
	p.click(button("Save to the draft"))
	p.see(`//h1[contains(., "booking-logic-live has")]`)

	// A policy to start from, a derivation, and a proposal taken with a key.
	p.open("/policy")
	p.click(button("Start with four layers"))
	p.click(button("Derive from the window"))
	p.see(`[data-proposal]`)
	p.see(`[data-aside]`)
	p.open("/check")
	before := p.uncovered()
	p.open("/policy")
	p.see(`[data-proposal]`)
	proposals := value[int](p, `document.querySelectorAll("[data-proposal]").length`)
	p.press("t")
	p.until(`document.querySelectorAll("[data-proposal]").length === ` + strconv.Itoa(proposals-1))
	p.see(`[data-rule]`)
	p.open("/check")
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) < ` + strconv.Itoa(before))
	after := p.uncovered()

	// Why: from a row down to the tag that caused it. The address says it all.
	p.open("/check?verdict=permit")
	for _, depth := range []string{"0", "1", "2"} {
		p.click(`[data-row="` + depth + `"]`)
	}
	p.see(`[data-why=permit] [data-chain]`)
	p.until(`document.querySelector("[data-why=permit]").innerText.includes("from inventory")`)
	address := value[string](p, `location.pathname + location.search`)
	require.Contains(t, address, "why=flow")
	p.open(address)
	p.see(`[data-why=permit]`)
	p.press(kb.Escape)
	p.gone(`[data-why]`)

	// Undo takes the proposal back, redo brings it again.
	p.ctrl("z")
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) === ` + strconv.Itoa(before))
	p.do("redo", chromedp.KeyEvent("z", chromedp.KeyModifiers(chromedp.ModifierCtrl|chromedp.ModifierShift)))
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) === ` + strconv.Itoa(after))
}

// Assertions break, say by what, and are mended.
func TestAssertionBreaksAndIsMended(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/check?part=assertions")
	p.see(`[data-assertion=holds]`)
	p.gone(`[data-assertion=broken]`)

	p.open("/policy")
	p.click(`//div[@aria-label="layer guardrails"]//button[contains(., "add a rule")]`)
	p.fill(`[data-form=add] .cm-content`, `permit trial -> protected on postgres "A mistake"`)
	p.until(`document.querySelector("[data-form=add] [data-consequences]")?.innerText.includes("broken")`)
	p.click(`//*[@data-form="add"]//button[contains(., "Save to the draft") and not(@disabled)]`)
	p.gone(`[data-form=add]`)

	p.open("/check?part=assertions")
	p.click(`[data-assertion=broken] [data-counterexample]`)
	p.see(`[data-why=permit]`)
	p.until(`document.querySelector("[data-why]").innerText.includes("permit trial -> protected on postgres")`)

	// Moving it below the separation mends it.
	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "permit trial -> protected")]`)
	p.see(`select[aria-label="move to another layer"]`)
	p.until(`(() => { const s = document.querySelector('select[aria-label="move to another layer"]'); const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set; set.call(s, "allowances"); s.dispatchEvent(new Event("change", { bubbles: true })); return true })()`)
	p.see(`//div[@aria-label="layer allowances"]//*[@data-rule][contains(@data-sentence, "permit trial -> protected")]`)
	p.open("/check?part=assertions")
	p.see(`[data-assertion=holds]`)
	p.gone(`[data-assertion=broken]`)

	// It can be turned off, edited in place and removed; each can be undone.
	p.open("/policy")
	rule := `//*[@data-rule][contains(@data-sentence, "trial -> protected")]`
	p.click(rule)
	p.click(button("Turn off"))
	p.see(saying("off: "))
	p.click(button("Remove"))
	p.gone(rule)
	p.ctrl("z")
	p.see(rule)
	require.Contains(t, get(t, p.base+"/api/v1/policy.orchard"),
		`off permit trial -> protected on postgres "A mistake"`)
}
