package e2e

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// What is hidden in the demo company can be found and settled in the interface.
func TestStoriesOfTheDemo(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))

	t.Run("a machine without an environment queries the live fares store", func(t *testing.T) {
		p.open("/check?verdict=uncovered&q=fares-store-01+5432+t03")
		p.click(`[data-row="0"]`)
		p.click(`[data-row="1"]`)
		p.click(`[data-row="2"]`)
		p.see(`[data-why=uncovered]`)
		p.see(saying("undecided"))
		// The missing tag is one press away, with what it would do.
		p.click(button("env = trial"))
		p.click(button("Set env = trial"))
		p.see(`[data-why=reject]`)
		p.until(`document.querySelector("[data-why]").innerText.includes("apart live, trial")`)
	})

	t.Run("misspelt environments are mended at once", func(t *testing.T) {
		p.open("/workloads")
		p.click(button("same as live?"))
		p.see(`[data-consequences]`)
		p.click(`//button[normalize-space(.)="Set env = live"]`)
		p.until(`[...document.querySelectorAll("button")].filter((b) => b.innerText.includes("same as live?")).length === 1`)
		p.ctrl("z")
		p.until(`[...document.querySelectorAll("button")].filter((b) => b.innerText.includes("same as live?")).length === 2`)
	})

	t.Run("leaks and chokes stand out", func(t *testing.T) {
		p.open("/check?odd=1")
		p.see(`//*[@data-row="0"][contains(@aria-label, "roster-store")]`)
		p.see(`//*[@data-row="0"][contains(@aria-label, "tcp/9100")]`)
	})

	t.Run("an address speaks for who held it then", func(t *testing.T) {
		p.open("/flows?q=roster-term-01")
		p.click(`[data-row="0"]`)
		p.see(`[data-row="1"]`)
		p.open("/workloads?q=roster-term-01&why=workload~roster-term-01")
		p.see(`//aside//*[text()[contains(., "had")]]`)
	})

	t.Run("a group that pins names says so", func(t *testing.T) {
		p.open("/groups/fares-store-live")
		p.see(saying("It lists names or ids"))
	})

	t.Run("the scanner and the old telnet are set aside or decided, not proposed", func(t *testing.T) {
		p.open("/policy")
		p.click(button("Derive from the window"))
		p.see(`[data-aside]`)
		p.until(`document.querySelector("[data-aside]").innerText.includes("scan")`)
		require.False(t, value[bool](p,
			`[...document.querySelectorAll("[data-proposal]")].some((e) => e.dataset.proposal.includes("tcp/23") || e.dataset.proposal.includes("10.40.7.19"))`))
		// Refused with a reason, it stays refused.
		n := value[int](p, `document.querySelectorAll("[data-proposal]").length`)
		p.press("r")
		p.fill(`input[aria-label="reason for refusing"]`, "nobody asked for it")
		p.press("\r")
		p.until(`document.querySelectorAll("[data-proposal]").length === ` + strconv.Itoa(n-1))
		p.click(button("Derive again"))
		p.see(saying("nobody asked for it"))
	})

	t.Run("the ask bar answers and finds", func(t *testing.T) {
		p.open("/flows")
		p.see(`[data-row="0"]`)
		p.ctrl("k")
		p.press("booking-entry-02 -> booking-logic-03 tcp/8443")
		p.see(`[data-answer=permit]`)
		p.press("\r")
		p.see(`[data-why=permit]`)
		p.ctrl("k")
		p.ctrl("a")
		p.press("booking-entry-02 -> nowhere tcp/1")
		p.see(saying("there is no workload nowhere"))
		p.ctrl("a")
		p.press("wharf")
		p.see(`//*[@role="option"][contains(., "wharf-legacy")]`)
		p.press("\r")
		p.until(`location.pathname === "/groups/wharf-legacy"`)
	})

	t.Run("the text is the policy, with errors in place", func(t *testing.T) {
		p.open("/policy?text=1")
		p.click(`.cm-content`)
		p.do("end", chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
		p.press("\rpermit nobody -> live on tcp/1")
		p.see(saying("found the unknown group nobody"))
		p.see(`.cm-lintRange-error`)
		require.NotContains(t, get(t, p.base+"/api/v1/policy.orchard"), "nobody ->")
	})
}

// What is found of rules and groups is mended in place, with one action.
func TestFindingsAreMended(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/policy")
	p.click(`//div[@aria-label="layer allowances"]//button[contains(., "add a rule")]`)
	p.fill(`[data-form=add] .cm-content`, "permit booking-entry-live -> booking-logic-live on tcp/8443 same site")
	p.until(`document.querySelector("[data-form=add] [data-consequences]")?.innerText.includes("none in the window")`)
	p.click(`//*[@data-form="add"]//button[contains(., "Save to the draft") and not(@disabled)]`)
	shadowed := `//*[@data-rule][contains(@data-sentence, "same site")]`
	p.click(shadowed)
	p.see(saying("decides all that it matches"))
	p.click(`//*[@data-findings]//button[contains(., "Remove it")]`)
	p.gone(shadowed)
	p.ctrl("z")
	p.see(shadowed)

	p.open("/check?part=findings")
	p.see(`[data-finding=empty]`)
	p.open("/groups/wharf-legacy")
	p.see(saying("It has no members."))
	p.click(`//*[@data-findings]//button[contains(., "Remove it")]`)
	p.see(saying("There is no group wharf-legacy"))
	require.NotContains(t, get(t, p.base+"/api/v1/policy.orchard"), "wharf")
}

// The draft against an older revision: the cells of the table filter the
// ledger, and the why panel answers for both.
func TestTheDraftAgainstARevision(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "workloads -> names on dns")]`)
	p.click(button("Turn off"))
	p.see(button("Turn on"))
	p.open("/check?against=1")
	p.click(`[data-cell=permit-uncovered]`)
	p.until(`document.querySelectorAll('[data-row="0"]').length === 1`)
	for _, depth := range []string{"0", "1", "2"} {
		p.click(`[data-row="` + depth + `"]`)
	}
	p.see(`[data-why=uncovered] [data-before=permit]`)
	p.click(button("Every rule considered then"))
	p.see(`[data-before] [data-step]`)
	p.click(`[data-cell=permit-uncovered]`)
	p.until(`!location.search.includes("was=")`)
	p.ctrl("z")
	p.until(`document.querySelector("[data-changed]")?.dataset.changed === "0"`)
}
