package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// number reads the number behind a data attribute.
func (p *page) number(attribute string) int {
	p.see(`[` + attribute + `]`)
	return value[int](p, fmt.Sprintf(`Number(document.querySelector("[%s]").getAttribute(%q))`, attribute, attribute))
}

// choose picks an option of a select, as somebody would.
func (p *page) choose(sel, option string) {
	p.see(sel)
	p.until(fmt.Sprintf(
		`(() => { const s = document.querySelector(%s); if (![...s.options].some((o) => o.value === %q)) return false; const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set; set.call(s, %q); s.dispatchEvent(new Event("change", { bubbles: true })); return true })()`, quoteJS(sel), option, option))
}

// The bar's parts are switches, its measure can be chosen, and each part of the
// estate can be shown its own; all of it is in the address.
func TestVerdictsAreSwitches(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/check")
	all := p.uncovered()
	p.click(`[data-total=reject]`)
	p.see(`[data-total=reject][aria-pressed=true]`)
	p.until(`location.search.includes("verdict=reject")`)
	p.click(`[data-total=reject]`)
	p.until(`!location.search.includes("verdict=")`)
	p.click(`//div[@aria-label="counted by"]//button[.="bytes"]`)
	p.until(`/[kMG]B/.test(document.querySelector("[data-total=permit]").innerText)`)
	p.click(`//div[@aria-label="counted by"]//button[.="pairs"]`)
	p.until(`!/[kMG]B/.test(document.querySelector("[data-total=permit]").innerText) && document.querySelector('svg[aria-label^="pairs by verdict"]') !== null`)
	p.focus("#for-part")
	p.choose("#for-part", "app:booking")
	p.see(saying("For booking: "))
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) < ` + itoa(all))
	address := value[string](p, `location.pathname + location.search`)
	require.Contains(t, address, "for=app%3Abooking")
	p.choose(`select[aria-label="grouped by"]`, "app")
	p.see(`//*[@data-row="0"][contains(@aria-label, "booking on ")]`)
	p.open("/check?for=owner:booking-team")
	p.see(saying("For booking-team: "))
	p.open(address)
	p.see(saying("For booking: "))
}

// From a row, with the keyboard: it is permitted at a width that was looked at,
// and it is taken back.
func TestSettlingWhereOneStands(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/check?verdict=uncovered&q=booking-bus-live")
	p.focus(`[data-row="0"]`)
	before := p.uncovered()
	p.press("p")
	for _, width := range []string{"exact", "groups", "wider"} {
		p.see(`[data-width=` + width + `]`)
	}
	p.click(`[data-width=groups]`)
	p.see(saying("exactly your selection"))
	p.fill(`input[aria-label=why]`, "the queue of booking")
	p.click(button("Add to the draft"))
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) < ` + itoa(before))
	require.Contains(t, get(t, p.base+"/api/v1/policy.orchard"), `"the queue of booking"`)
	p.gone(`[data-width]`)
	p.ctrl("z")
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) === ` + itoa(before))

	// What is rightly rejected stops asking, and is a probe from then on.
	p.open("/check")
	asking := p.number("data-asking")
	p.open("/check?verdict=reject&odd=1")
	p.focus(`[data-row="0"]`)
	p.press("r")
	p.fill(`input[aria-label="why it is right"]`, "the depot was told")
	p.until(`document.querySelector('[role=dialog] .cm-content')?.innerText.includes("->")`)
	p.press(kb.Enter)
	p.gone(`[role=dialog]`)
	p.open("/check")
	p.until(`Number(document.querySelector("[data-asking]")?.dataset.asking ?? 0) < ` + itoa(asking))
	p.see(`[data-settled]`)
	p.open("/check?part=ask")
	p.see(`[data-probe=expected]`)
	p.see(saying("the depot was told"))
}

// Questions are answered while they are written, kept as probes, and a draft that
// changes an answer says so on every page.
func TestProbesWatchTheDraft(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/check?part=ask")
	p.see(saying("None yet."))
	p.fill(`.cm-content`, "booking-entry-live -> booking-logic-live tcp/8443\nbooking-logic-03 -> fares-store-01 "+
		"tcp/5432")
	p.until(`document.querySelectorAll("[data-answer]").length === 2`)
	p.click(`[data-answer=permit] button`)
	p.see(`[data-part=permit]`)
	p.click(button("Why, by an example"))
	p.see(`[data-why=permit]`)
	p.press(kb.Escape)
	p.gone(`[data-why]`)
	p.until(`location.search.includes("ask=")`)
	p.click(button("Save 2 as probes"))
	p.until(`document.querySelectorAll("[data-probe=expected]").length === 2`)
	p.fill(`.cm-content`, "nobody -> live any")
	p.see(saying("there is no group and no workload nobody"))

	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "booking-entry-live -> booking-logic-live")]`)
	p.see(`[data-use]`)
	p.click(button("Turn off"))
	p.see(`[data-off="1"]`)
	p.open("/workloads")
	p.click(`[data-off="1"]`)
	p.see(`[data-probe=off]`)
	p.see(saying("permit was expected"))
	p.ctrl("z")
	p.gone(`[data-off]`)

	// The ask bar answers for groups too.
	p.open("/groups")
	p.see(`[data-row="0"]`)
	p.ctrl("k")
	p.press("trial -> live any")
	p.see(`[data-answer=several]`)
	p.press(kb.Enter)
	p.until(`location.pathname === "/check" && location.search.includes("part=ask")`)
	p.see(`[data-answer=several]`)
}

// A path that must stay open is shut by a slip: every page says so until it is
// mended. And an assertion is written in plain words.
func TestTheGuardAgainstLockingOut(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/policy")
	p.click(`//div[@aria-label="layer guardrails"]//button[contains(., "add a rule")]`)
	p.fill(`[data-form=add] .cm-content`, `reject gangway -> workloads on ssh "A slip"`)
	p.click(`//*[@data-form="add"]//button[contains(., "Save to the draft") and not(@disabled)]`)
	p.gone(`[data-form=add]`)
	p.click(`//*[@data-rule][contains(@data-sentence, "reject gangway -> workloads")]`)
	p.click(button("Up"))
	p.see(saying("revision 3"))
	p.click(button("Up")) // it stands elsewhere now, and is still what is selected
	p.until(`document.activeElement?.dataset.sentence?.startsWith("reject gangway")`)
	p.see(`[data-shut="1"]`)
	p.open("/workloads")
	p.see(saying("The draft locks out"))
	p.click(`[data-shut]`)
	p.see(`[data-assertion=broken]`)
	p.see(saying("must always be open"))
	p.click(`[data-assertion=broken] [data-mend]`)
	p.see(saying("Then it holds."))
	p.click(button("Apply"))
	p.gone(`[data-shut]`)
	p.gone(`[data-assertion=broken]`)

	p.click(button("New assertion"))
	p.click(button("Only these may reach this"))
	p.choose(`select[aria-label="group 1"]`, "manifest-logic-live")
	p.choose(`select[aria-label="group 2"]`, "manifest-store-live")
	p.choose(`select[aria-label="service 3"]`, "postgres")
	p.see(`[data-tried]`)
	p.until(`document.querySelector("[data-writing] .cm-content").innerText.includes("assert only manifest-logic-live -> manifest-store-live on postgres")`)
	p.click(`//*[@data-writing]//button[contains(., "Save to the draft") and not(@disabled)]`)
	p.gone(`[data-writing]`)
	require.Contains(t, get(t, p.base+"/api/v1/policy.orchard"),
		"assert only manifest-logic-live -> manifest-store-live on postgres")
}

// Which rules carry the traffic, and which groups are reached.
func TestFigures(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/check?part=figures")
	p.see(`[data-figures]`)
	p.click(`//button[starts-with(normalize-space(.), "Conv.")]`)
	p.until(`location.search.includes("sort=conversations")`)
	p.until(`(() => { const n = [...document.querySelectorAll("[data-figures]")].map((r) => Number(r.children[1].innerText.replace(/\D/g, ""))); return n.length > 5 && n.every((v, i) => i === 0 || v <= n[i - 1]) })()`)
	p.click(`//button[starts-with(normalize-space(.), "Groups")]`)
	p.click(`[data-figures="booking-logic-live"] button`)
	p.until(`location.pathname === "/groups/booking-logic-live"`)
	p.see(`[data-seen=reached]`)
}

// What the draft changes, for those whose traffic it is.
func TestReportForOwners(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "booking-logic-live -> fares-logic-live")]`)
	p.click(button("Remove"))
	p.gone(`//*[@data-rule][contains(@data-sentence, "booking-logic-live -> fares-logic-live")]`)
	p.open("/check?part=report&against=1")
	p.see(`[data-report-part=booking] [data-flow-groups=Loses]`)
	p.see(`[data-report-part=fares] [data-flow-groups=Loses]`)
	p.see(saying("− permit booking-logic-live -> fares-logic-live"))
	p.choose(`select[aria-label="parts of the report"]`, "~owner")
	p.see(`[data-report-part=booking-team] [data-flow-groups=Loses]`)
	p.focus("#for-part")
	p.choose("#for-part", "app:fares")
	p.until(`document.querySelectorAll("[data-report-part]").length >= 1 && location.search.includes("for=")`)
	href := value[string](p, `document.querySelector('a[download="draft.md"]').getAttribute("href")`)
	text := get(t, p.base+href)
	require.True(t, strings.HasPrefix(text, "# What the draft changes"), text)
	require.Contains(t, text, "### Loses")
	// On paper there is the report alone.
	require.Equal(t, []string{"none", "none"}, printed(p, "nav", "header"))
}

// printed returns how elements are displayed on paper.
func printed(p *page, selectors ...string) (out []string) {
	for _, sel := range selectors {
		out = append(out, value[string](p, fmt.Sprintf(`(() => {
			const e = document.querySelector(%q);
			for (const sheet of document.styleSheets) for (const r of sheet.cssRules) {
				const walk = (rule, media) => {
					const print = media || (rule instanceof CSSMediaRule && rule.conditionText === "print");
					if (print && rule.selectorText && e.matches(rule.selectorText) && rule.style.display) return rule.style.display;
					for (const inner of rule.cssRules ?? []) { const found = walk(inner, print); if (found) return found; }
				};
				const found = walk(r, false);
				if (found) return found;
			}
			return "shown";
		})()`, sel)))
	}
	return out
}

// Several rows are selected with Space, and settled in one step.
func TestSettlingSeveralRows(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/check?verdict=uncovered")
	p.focus(`[data-row="0"]`)
	before := p.uncovered()
	p.press(" ")
	p.see(`[data-selected="1"]`)
	second := value[string](p, `document.querySelectorAll('[data-row="0"]')[1].getAttribute("aria-label")`)
	p.click(`input[aria-label="select ` + second + `"]`)
	p.see(`[data-selected="2"]`)
	p.click(`//div[@data-selected]//button[starts-with(., "Permit")]`)
	p.see(saying("conversations that change verdict"))
	p.click(button("Add to the draft"))
	p.gone(`[data-selected]`)
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) < ` + itoa(before))
	p.until(`document.body.innerText.includes("Undo Permit 2 rows")`)
	p.ctrl("z")
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) === ` + itoa(before))
}
