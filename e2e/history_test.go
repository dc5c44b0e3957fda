package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// What was done is listed, compared in words, and gone back to; a dialog is
// finished with Ctrl Enter, and asks before it throws away what was written.
func TestHistoryOfThePolicy(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	text := func() string { return get(t, p.base+"/api/v1/policy.orchard") }
	before := text()
	p.open("/policy?history=all")
	p.see(`[data-revision]`)
	newest := value[string](p, `document.querySelector("[data-revision]").dataset.revision`)
	p.press(kb.Escape)
	p.gone(`[data-revision]`)

	p.open("/check")
	p.click(`[data-history]`)
	p.see(`[data-revision="` + newest + `"]`)
	p.press(kb.Escape)
	p.open("/policy")
	p.focus(`[aria-label="layer allowances"] [data-rule]`)
	p.do("Ctrl Down", chromedp.KeyEvent(kb.ArrowDown, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.until(`!!document.querySelector("[data-history]")?.innerText.match(/revision (?!` + newest + `)/)`)
	require.NotEqual(t, before, text())
	p.click(`[data-history]`)
	p.click(`[data-revision="` + newest + `"]`)
	p.see(`[data-difference="` + newest + `"]`)
	p.do("Ctrl Enter", chromedp.KeyEvent(kb.Enter, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.gone(`[data-revision]`)
	p.until(`document.body.innerText.includes("Undo Go back to revision ` + newest + `")`)
	require.Equal(t, before, text())

	p.open("/workloads")
	p.click(button("More"))
	p.click(saying("Select a pasted list…"))
	p.fill(`textarea[aria-label="list of workloads"]`, "booking-entry-02")
	p.press(kb.Escape)
	p.see(saying("Closing discards what you wrote"))
	p.press(kb.Escape)
	p.gone(`textarea[aria-label="list of workloads"]`)
}
