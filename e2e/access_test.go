package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// views are the addresses of all views, each with what is there when it is drawn.
var views = map[string]string{
	"/workloads":                              "[data-workload]",
	"/workloads?show=suggestions":             "h1",
	"/workloads?show=slips":                   "h1",
	"/workloads?show=disagreements":           "h1",
	"/workloads/wl-gate-old-3":                "h1",
	"/groups/booking-entry-live":              "[data-members]",
	"/groups/booking-entry-live?part=history": "h1",
	"/groups/new":                             "h1",
	"/groups?starters=1":                      "[data-starters]",
	"/flows":                                  "svg",
	"/flows/exporters":                        "h1",
	"/policy":                                 "[data-proposal]",
	"/policy?text=1":                          "h1",
	"/policy?history=1":                       "[data-revision]",
	"/check?verdict=uncovered":                `[data-row="0"]`,
	"/watch":                                  "[data-matter]",
	"/watch?part=pairs&period=quarter":        `[aria-label="time that is counted"]`,
	"/evidence":                               "[data-made]",
	"/evidence?make=yes":                      `[role="dialog"] select`,
	"/evidence/1":                             "[data-answer]",
	"/evidence/comparison?before=1&after=2":   `[aria-label="both periods"]`,
	"/release":                                "[data-point]",
	"/release?point=bench-gate":               "[data-holds]",
	"/release?release=new":                    `input[aria-label="title of the release"]`,
	"/check?part=ask":                         "h1",
	"/check?part=assertions":                  "h1",
	"/check?part=findings":                    "h1",
	"/check?part=figures":                     "h1",
	"/check?part=report":                      "h1",
}

// Every view, in either theme, passes the checks of axe-core (WCAG 2 A and AA, and its best
// practices). At 200 % of 1280 by 800 no view has to be moved sideways, and nothing that can be
// pressed is cut.
func TestEveryViewIsAccessible(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	p := browse(t, start(t, "--demo", "--points"))
	r, err := http.Post(p.base+"/api/v1/derive", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	r.Body.Close()
	makeEvidence(t, p, "assert only fares-logic-live -> fares-store-live on postgres", 13)
	makeEvidence(t, p, "group protected", 3)
	// On the terrace map a gate is labelled in words, and drawn with clipped names and
	// short numbers; the same stands in its table, in full.
	except := map[string]string{"/flows": `, rules: {"label-content-name-mismatch": {enabled: false}}`}
	for path, there := range views {
		t.Run(path, func(t *testing.T) {
			p.open(path)
			p.see(there)
			for _, theme := range []string{"light", "dark"} {
				rules := except[path]
				if theme == "dark" { // the page is the same, but for its colours
					rules = `, runOnly: ["color-contrast", "link-in-text-block"]`
				}
				found := violations(p, string(axe), theme, rules)
				if len(found) > 0 { // the page was still being drawn, perhaps
					found = violations(p, string(axe), theme, rules)
				}
				for _, found := range found {
					t.Errorf("%s: %s", theme, found)
				}
			}
			p.do("double size", chromedp.EmulateViewport(640, 400))
			p.do("settle", chromedp.Evaluate[chromedp.Void](settled, chromedp.EvalAwaitPromise))
			assert.Empty(t, value[string](p, cut))
			p.do("size", chromedp.EmulateViewport(1280, 800))
			p.do("light again", chromedp.Evaluate[chromedp.Void](`localStorage.setItem("orchard-theme", "light")`))
		})
	}
}

// settled is a promise of the page: what it has begun to move has come to rest.
const settled = `new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))).then(() =>
	Promise.allSettled(document.getAnimations().filter((a) => a.effect.getComputedTiming().endTime < 5000)
		.map((a) => a.finished)))`

// cut is an expression of the page: elements that reach over its right edge, as text.
const cut = `[document.documentElement, ...document.querySelectorAll(
		"main, main button, main a, main select, main h1, main h2")]
	.filter((x) => x === document.documentElement ? x.scrollWidth > innerWidth
		: x.getClientRects().length && x.getBoundingClientRect().right > innerWidth + 1)
	.map((x) => x.outerHTML.slice(0, 90)).slice(0, 4).join("\n")`

// alike are the rows of lists from the ninth on, which are made as those before.
const alike = `"[data-row]:nth-of-type(n+9)", "[data-rule]:nth-of-type(n+9)", "[data-workload]:nth-of-type(n+9)"`

// violations returns what axe finds on a page in a theme, in words.
func violations(p *page, axe, theme, rules string) (out []string) {
	p.do("theme", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(
		`localStorage.setItem("orchard-theme", %q); document.documentElement.classList.toggle("dark", %q === "dark");
		document.documentElement.classList.toggle("light", %q === "light"); `+settled,
		theme, theme, theme), chromedp.EvalAwaitPromise))
	p.do("axe", chromedp.Evaluate[chromedp.Void](axe))
	p.do("axe.run", chromedp.Evaluate[chromedp.Void](`axe.run({exclude: [`+alike+`]},
		{resultTypes: ["violations"]`+rules+`}).then((r) =>
		JSON.stringify(r.violations.map((v) => ({id: v.id, help: v.help, nodes: v.nodes.slice(0, 3).map((n) =>
			n.html.slice(0, 160) + " | " + (n.any[0]?.message ?? n.failureSummary))})))).then((text) => {
		window.found = text; })`, chromedp.EvalAwaitPromise))
	var found []struct {
		ID, Help string
		Nodes    []string
	}
	require.NoError(p.t, json.Unmarshal([]byte(value[string](p, `window.found`)), &found))
	for _, f := range found {
		out = append(out, fmt.Sprintf("%s: %s\n  %s", f.ID, f.Help, strings.Join(f.Nodes, "\n  ")))
	}
	return out
}
