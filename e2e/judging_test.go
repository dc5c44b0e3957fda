package e2e

import (
	"strconv"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// proposal returns the current one's key and how many there are.
func (p *page) proposals() int {
	p.t.Helper()
	return value[int](p, `document.querySelectorAll("[data-proposal]").length`)
}

// stepsAlongTheCurve steps to another point of the curve: to the right is tighter. What is read out
// changes, and the list has as many proposals as it says.
func (p *page) stepsAlongTheCurve() {
	p.t.Helper()
	const slider = `[role=slider][aria-label="balance from short to tight"]`
	p.see(slider)
	reads := `document.querySelector('` + slider + `').getAttribute("aria-valuetext")`
	before := value[string](p, reads)
	at := value[string](p, `document.querySelector('`+slider+`').getAttribute("aria-valuenow")`)
	top := value[string](p, `document.querySelector('`+slider+`').getAttribute("aria-valuemax")`)
	value[bool](p, `(document.querySelector('`+slider+`').focus(), true)`)
	if at == top {
		p.press(kb.ArrowLeft)
	} else {
		p.press(kb.ArrowRight)
	}
	p.until(`location.search.includes("balance=") && ` + reads + ` !== ` + quoteJS(before))
	p.until(reads + `.startsWith(document.querySelector("[data-left]").dataset.left + " ")`)
}

// Proposals are judged with the keyboard: along the curve, narrower, wider,
// refused with a reason, many at once; and each step is undone in one.
func TestJudgingWithTheKeyboard(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/policy")
	p.click(button("Derive from the window"))
	p.see(`[data-proposal]`)
	p.see(`[data-meter]`)
	toJudge := value[int](p, `Number(document.querySelector("[data-meter]").dataset.meter)`)
	require.Positive(t, toJudge)

	// The curve moves at once, the list with it, and where it stands is in the address.
	before := p.proposals()
	p.stepsAlongTheCurve()
	p.open("/policy")
	p.until(`document.querySelectorAll("[data-proposal]").length === ` + itoa(before))

	// Wider, and back; the sentence says what differs.
	p.fill(`input[aria-label="filter the proposals"]`, "fares-store-live 5432")
	p.until(`document.querySelectorAll("[data-proposal]").length === 1`)
	p.click(`[data-proposal] [data-row]`)
	p.see(saying("conversations that change verdict"))
	p.press("w")
	p.see(saying("from the whole application"))
	p.press("n")
	p.gone(saying("from the whole application"))
	p.click(saying("Show the conversations that it would permit"))
	p.see(`[data-evidence]:not([data-evidence="0"])`)
	p.press("t")
	p.until(`document.querySelectorAll("[data-proposal]").length === 0`)
	p.see(saying("pairs seen, "))
	p.ctrl("z")
	p.until(`document.querySelectorAll("[data-proposal]").length === 1`)

	// Refused with a reason, it stays refused.
	p.click(`[data-proposal] [data-row]`)
	p.press("r")
	p.see(`input[aria-label="reason for refusing"]`)
	p.press("a test that ended\r")
	p.see(saying("a test that ended"))
	p.click(button("Derive again"))
	p.see(saying("a test that ended"))
	p.click(saying("judge again"))
	p.gone(saying("a test that ended"))

	// Many at once, with what they do first; undone in one step.
	p.open("/policy")
	p.fill(`input[aria-label="filter the proposals"]`, "5432")
	p.click(`//label[contains(., "no warnings")]/input`)
	p.until(`document.querySelectorAll("[data-proposal]").length > 1`)
	some := p.proposals()
	rules := value[int](p, `Number(document.querySelector("[data-fact=policy]").textContent.match(/\d+/)[0])`)
	p.click(button("Take " + itoa(some)))
	p.see(`[role=dialog] [data-consequences]`)
	p.click(button("Take all"))
	p.until(`Number(document.querySelector("[data-fact=policy]").textContent.match(/\d+/)[0]) === ` +
		itoa(rules+some))
	p.ctrl("z")
	p.until(`Number(document.querySelector("[data-fact=policy]").textContent.match(/\d+/)[0]) === ` + itoa(rules))
}

// What would be far too wide is shown with who made it; it can only be narrowed.
func TestTooWideIsNarrowed(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/policy")
	p.click(button("Derive from the window"))
	p.see(`[data-proposal]`)
	p.fill(`input[aria-label="filter the proposals"]`, "any -> booking on tcp/22")
	p.see(`[data-wide]`)
	p.click(`[data-wide] [data-row]`)
	p.see(saying("Too wide to take"))
	p.see(saying("anybody could reach it"))
	p.press("t")
	p.see(saying("Too wide to take"))
	p.press("n")
	p.see(saying("only members of booking-live"))
	p.press("n")
	p.see(saying("only members of gangway"))
	p.see(saying("stay uncovered"))
	p.press("t")
	p.see(saying("taken only members of gangway"))
	p.gone(`[data-wide]`)
	// Undone in one step: it is to be judged again.
	p.ctrl("z")
	p.see(`[data-wide]`)
	p.gone(saying("taken only members of gangway"))
}

// From the proposals one sets a tag that a workload behaves as if it had, and settles
// all that was set aside for one reason.
func TestBesidesTheProposals(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/policy")
	p.click(button("Derive from the window"))
	p.click(`//*[@data-tag-hints]//button[text()="show"]`)
	p.see(`[data-tag-hints] button[aria-label^="set "]`)
	hint := value[string](p, `document.querySelector('[data-tag-hints] button[aria-label^="set "]').ariaLabel`)
	p.click(`[data-tag-hints] button[aria-label="` + hint + `"]`)
	p.gone(`[data-tag-hints] button[aria-label="` + hint + `"]`)
	p.ctrl("z")
	p.click(button("Derive again"))
	p.see(`[data-tag-hints] button[aria-label="` + hint + `"]`)

	p.click(`[data-settle-aside=scan]`)
	p.see(`[data-together]`)
	rows := p.number("data-together")
	require.Positive(t, rows)
	before := p.uncovered()
	p.click(`//div[@data-together]//button[starts-with(., "Select")]`)
	p.see(`[data-selected="` + itoa(rows) + `"]`)
	p.click(`//div[@data-selected]//button[starts-with(., "Reject")]`)
	p.see(saying("conversations that change verdict"))
	p.click(button("Add to the draft"))
	p.gone(`[data-selected]`)
	p.until(`Number(document.querySelector("[data-uncovered]")?.dataset.uncovered) < ` + itoa(before))
	p.gone(`[data-together]`)
}

// The small rows of the map are opened, and folded again; the address keeps it.
func TestEveryRowOfTheMapCanBeOpened(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	p.open("/flows?rows=app")
	p.see(`[data-all-rows=false]`)
	offered := value[string](p, `document.querySelector("[data-all-rows]").textContent`)
	require.Regexp(t, `^open \d+ more rows?$`, offered)
	p.click(`[data-all-rows]`)
	p.see(`[data-all-rows=true]`)
	address := value[string](p, `location.pathname + location.search`)
	require.Contains(t, address, "allRows=true")
	p.open(address)
	p.click(`[data-all-rows=true]`)
	p.until(`document.querySelector("[data-all-rows]").textContent === ` + strconv.Quote(offered))
}
