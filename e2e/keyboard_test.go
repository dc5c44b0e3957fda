package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// focus puts the keyboard on an element, as Tab would.
func (p *page) focus(sel string) {
	p.t.Helper()
	p.see(sel)
	p.do("focus "+sel, chromedp.Evaluate[chromedp.Void](all(sel)+`.find((x) => x.getClientRects().length).focus()`))
}

// From the window to the reason of a verdict without a mouse.
func TestWithoutAMouse(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/workloads")
	p.see(`[data-workload]`)

	t.Run("Alt and a number go along the course", func(t *testing.T) {
		for i, path := range []string{"/workloads", "/groups", "/flows", "/policy", "/check", "/release", "/watch"} {
			number := itoa(i + 1)
			p.do("Alt "+number, chromedp.KeyEvent(number, chromedp.KeyModifiers(chromedp.ModifierAlt)))
			p.until(`location.pathname === "` + path + `"`)
		}
	})

	t.Run("Enter in the ask bar counts before the answer is there", func(t *testing.T) {
		p.ctrl("k")
		p.do("question and Enter at once", chromedp.KeyEvent("booking-logic-t03 -> fares-store-01 tcp/5432"+kb.Enter))
		p.see(`[data-why=uncovered]`)
		p.press(kb.Escape)
		p.gone(`[data-why]`)
	})

	t.Run("the bare address leads to what is left to decide", func(t *testing.T) {
		p.open("/")
		p.until(`location.pathname === "/check"`)
		p.see(`nav [data-state=begun]`)
	})

	t.Run("two Tabs lead to the first row", func(t *testing.T) {
		for path, row := range map[string]string{"/check?verdict=uncovered": `[role=treegrid] [data-row="0"]`,
			"/workloads": "[data-workload]"} {
			p.open(path)
			p.see(row)
			p.press(kb.Tab)
			p.until(`document.activeElement.innerText === "Skip to the view"`)
			p.press(kb.Tab)
			p.press(kb.Enter)
			p.until(`document.activeElement === document.querySelector(` + quoteJS(row) + `)`)
		}
	})

	t.Run("the ledger unfolds with arrows and says why with Enter", func(t *testing.T) {
		p.open("/check?verdict=uncovered")
		p.focus(`[data-row="0"]`)
		p.press(kb.ArrowRight)
		p.see(`[data-row="1"]`)
		p.press(kb.ArrowDown)
		p.until(`document.activeElement.dataset.row === "1"`)
		p.press(kb.ArrowRight)
		p.see(`[data-row="2"]`)
		p.press(kb.ArrowDown)
		p.until(`document.activeElement.dataset.row === "2"`)
		p.press(kb.Enter)
		p.see(`[data-why=uncovered]`)
		p.press(kb.Escape)
		p.gone(`[data-why]`)
		p.press(kb.ArrowRight) // the hours of the conversation
		p.see(saying("Seen by"))
		p.press(kb.ArrowUp)
		p.press(kb.ArrowLeft)
		p.gone(`[data-row="2"]`)
	})

	t.Run("a workload is selected with Space and tagged", func(t *testing.T) {
		p.open("/workloads?q=gate-old-3")
		p.focus(`[data-workload="wl-gate-old-3"]`)
		p.press(" ")
		p.see(`//*[@aria-label="set a tag"]//*[text()="gate-old-3"]`) // by its name, as in the list
		p.fill(`input[aria-label=value]`, "entry")
		p.see(`[data-consequences]`)
		p.press(kb.Enter)
		p.until(`document.querySelector('[data-workload="wl-gate-old-3"]').innerText.includes("entry")`)
		p.focus(`[data-workload="wl-gate-old-3"]`)
		p.press(kb.Enter)
		p.until(`document.querySelector("aside")?.innerText.includes("by hand, architect")`)
	})

	t.Run("rules move with Ctrl and arrows", func(t *testing.T) {
		p.open("/policy")
		order := func() []string {
			return value[[]string](p,
				`[...document.querySelectorAll('[aria-label="layer allowances"] [data-rule]')].map((e) => e.dataset.sentence)`)
		}
		p.see(`[data-rule]`)
		before := order()
		p.focus(`[aria-label="layer allowances"] [data-rule]`)
		p.do("Ctrl Down", chromedp.KeyEvent(kb.ArrowDown, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
		p.until(`document.querySelector('[aria-label="layer allowances"] [data-rule]').dataset.sentence === ` +
			quoteJS(before[1]))
		require.Equal(t, before[0], order()[1])
		p.ctrl("z")
		p.until(`document.querySelector('[aria-label="layer allowances"] [data-rule]').dataset.sentence === ` +
			quoteJS(before[0]))
		require.Equal(t, before, order())
	})

	t.Run("the window moves with arrows and goes along", func(t *testing.T) {
		p.open("/flows")
		p.focus(`[role=slider][aria-label="start of the window"]`)
		for range 4 {
			p.do("Shift Right", chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(chromedp.ModifierShift)))
		}
		p.until(`new URLSearchParams(location.search).has("from")`)
		p.do("to Check", chromedp.KeyEvent("5", chromedp.KeyModifiers(chromedp.ModifierAlt)))
		p.until(`location.pathname === "/check" && new URLSearchParams(location.search).has("from")`)
		p.click(button("show the whole time"))
		p.until(`!new URLSearchParams(location.search).has("from")`)
	})

	t.Run("the list of keys", func(t *testing.T) {
		p.open("/check")
		p.see(`[data-row="0"]`)
		p.press("?")
		p.see(saying("ask a question or find anything"))
		p.click(`//button[normalize-space(.)="dark"]`)
		p.until(`document.documentElement.classList.contains("dark")`)
		p.press(kb.Escape)
	})
}

func quoteJS(s string) string { return "`" + strings.ReplaceAll(s, "`", "\\`") + "`" }

// The colours of text keep the contrast of WCAG 2.2 AA in both themes.
func TestContrast(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	for _, theme := range []string{"light", "dark"} {
		for _, path := range []string{"/workloads", "/groups/live", "/check?verdict=uncovered", "/policy"} {
			p.open(path)
			p.until(`localStorage.setItem("orchard-theme", "` + theme + `"), true`)
			p.open(path)
			p.see(`nav [data-fact]`)
			p.until(`document.querySelectorAll("[data-row], [data-rule], [data-workload]").length > 0`)
			bad := value[[]string](p, contrast)
			require.Empty(t, bad, "%s %s", theme, path)
		}
	}
}

// contrast lists texts whose colour has less than 4.5 to 1 against what is
// behind them (WCAG 2.2, 1.4.3); what is disabled is exempt.
const contrast = `(() => {
	const read = (c) => { const m = c.match(/[\d.]+/g).map(Number); return { r: m[0], g: m[1], b: m[2], a: m[3] ?? 1 } };
	const lum = ({ r, g, b }) => { const f = (v) => { v /= 255; return v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4 }; return 0.2126 * f(r) + 0.7152 * f(g) + 0.0722 * f(b) };
	const behind = (e) => { for (; e; e = e.parentElement) { const c = read(getComputedStyle(e).backgroundColor); if (c.a === 1) return c } return { r: 255, g: 255, b: 255, a: 1 } };
	const bad = [];
	for (const e of document.querySelectorAll("body *")) {
		const own = [...e.childNodes].some((n) => n.nodeType === 3 && n.textContent.trim());
		if (!own || !e.checkVisibility() || e.closest("[disabled], .cm-editor, [aria-hidden=true], script, " +
			"style")) continue;
		const faded = (() => { for (let x = e; x; x = x.parentElement) if (getComputedStyle(x).opacity < 1) return true })();
		if (faded) continue;
		const a = lum(read(getComputedStyle(e).color)), b = lum(behind(e));
		const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
		if (ratio < 4.5) bad.push(e.textContent.trim().slice(0, 40) + " " + ratio.toFixed(2));
	}
	return [...new Set(bad)].slice(0, 8);
})()`

// Two windows on one draft: what one changes, the other sees; what one writes is
// never lost.
func TestTwoWindows(t *testing.T) {
	t.Parallel()
	base := start(t, "--demo")
	a, b := browse(t, base), browse(t, base)
	a.open("/policy")
	b.open("/policy?text=1")
	b.click(`.cm-content`)
	b.do("to the end", chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	b.press("\r# a thought")
	b.see(saying("changed, not saved"))

	a.click(`//div[@aria-label="layer closing"]//button[contains(., "add a rule")]`)
	a.fill(`[data-form=add] .cm-content`, "reject bench -> live on tcp/1")
	a.click(`//*[@data-form="add"]//button[contains(., "Save to the draft") and not(@disabled)]`)
	a.see(`//*[@data-rule][contains(@data-sentence, "reject bench -> live")]`)

	b.see(`[role=alert]`)
	b.until(`document.querySelector("[role=alert]")?.innerText.includes("changed elsewhere")`)
	b.until(`document.querySelector(".cm-content")?.innerText.includes("# a thought")`)
	b.click(`//button[normalize-space(.)="Discard"]`)
	b.until(`document.querySelector(".cm-content")?.innerText !== "" && !document.querySelector(".cm-content")?.innerText.includes("# a thought")`)
	require.Contains(t, get(t, base+"/api/v1/policy.orchard"), "reject bench -> live on tcp/1")
}

// A link to what is gone says so, and errors of the server are shown.
func TestWhatIsNotThere(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t))
	for path, want := range map[string]string{
		"/workloads":             "No workloads yet.",
		"/groups":                "No groups yet",
		"/groups/nobody":         "There is no group nobody",
		"/flows":                 "No traffic yet.",
		"/policy":                "The policy is empty",
		"/check":                 "There is nothing to check yet.",
		"/check?why=workload~w9": "there is no workload with the id w9",
		"/policy?why=rule~9":     "Line 9 no longer has a rule.",
		"/nowhere":               "There is nothing to check yet.",
		"/check?from=yesterday":  "from: found",
	} {
		p.open(path)
		p.until(`document.body.innerText.includes(` + quoteJS(want) + `)`)
	}
	p.open("/")
	p.until(`location.pathname === "/workloads"`)
	p.until(`document.querySelectorAll("nav [data-state=nothing]").length === 7`)
	p.open("/release") // an empty first draft is not offered for release
	p.until(`[...document.querySelectorAll("main button")].find((b) => b.innerText === "Release…")?.disabled`)
	p.open("/watch")
	p.see(saying("so nothing can be judged"))
	p.until(`!document.body.innerText.includes("nothing leaked")`)
}
