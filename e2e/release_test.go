package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A newcomer releases the draft, sees what it would reject, lets it enforce wave by
// wave, finds the point that lost a rule, and goes back; the address keeps what is open.
func TestADraftGoesIntoForceAndBack(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--points", "--live", "--drift", "1s"))
	p.open("/release")
	p.see(`[data-in-force="0"]`)
	p.see(`[data-point="bench-gate"][data-state=holds]`)
	p.click(`//main//button[text()="Release…"]`)
	p.fill(`input[aria-label="title of the release"]`, "First allowances")
	p.click(button("Release; wave 1 observes"))
	p.see(`[data-release="1"]`)
	p.see(`[data-in-force="0"] [data-observed="1"]`) // what is only observed is not in force

	// Each wave observes before it enforces, and waits for what is asked of it.
	all := p.goOn
	all("1 enforce")
	p.see(`[data-in-force="1"]`)
	all("2 observe")

	// What wave 2 would reject is there, with the rule that says so: one is permitted.
	p.see(`[data-would="2"]`)
	p.see(`[data-condition="wayBack"][data-met="true"]`)
	p.click(button("machines…"))
	p.see(`[data-machine="roster-logic-t01"][data-open="true"]`)
	p.click(`//div[@role="dialog"]//button[text()="Close"]`)
	p.gone(`div[role=dialog]`)
	p.see(`[data-condition="settled"][data-met="false"]`)
	p.until(`document.querySelectorAll("[data-rejection]").length === 2`)
	require.Contains(t, value[string](p, `document.querySelector("[data-rejection]").textContent`),
		"apart live, trial, bench")
	p.until(`parseInt(document.querySelector("[data-kept]").dataset.kept) > 0`) // seen, and carried
	p.click(`//*[@data-rejection][contains(., "tides-entry")]//button[text()="Permit…"]`)
	p.click(`//div[@role="dialog"]//button[@data-primary]`)
	p.gone(`div[role=dialog]`)
	p.click(`//main//button[text()="Release…"]`)
	p.see(`[data-instead]`)
	p.fill(`input[aria-label="title of the release"]`, "The trial of boarding reads the tides")
	p.click(button("Release instead of release 1"))
	p.see(`[data-release="2"]`)
	p.see(`[data-would="0"]`)
	p.see(`[data-stays]`) // release 1 decides meanwhile
	p.see(`[data-point="bench-gate"] [data-runs="enforces 1"]`)
	p.see(`[data-point="bench-gate"] [data-runs="observes 2"]`)
	all("1 enforce")
	p.see(`[data-would="1"]`)
	all("2 enforce")
	p.until(`document.querySelector("[data-wave='2']").dataset.stage === "enforces"`)
	p.until(`parseInt(document.querySelector("[data-dropped]").dataset.dropped) > 0`) // and now held
	all("3 observe")

	// The ask bar answers for the draft, and for what is in force where that differs.
	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "workloads -> names on dns")]`)
	p.click(button("Turn off"))
	p.see(button("Turn on"))
	p.fill(`input[aria-label="ask a question or find anything"]`, "booking-entry-02 -> names-01 udp/53")
	p.see(`[data-answer=uncovered] [data-in-force-says=permit]`)
	p.open("/policy")
	p.click(`//*[@data-rule][contains(@data-sentence, "workloads -> names on dns")]`)
	p.see(button("Turn on"))
	p.ctrl("z")
	p.gone(button("Turn on"))
	p.open("/release")

	// The two releases beside each other.
	p.click(`[data-compare="2"]`)
	p.click(`[data-compare="1"]`)
	p.see(`[data-changed="1"]`)
	p.click(button("Close"))

	// What is reached is a filter.
	p.see(`[data-reach="none"]`)
	p.click(`[data-reach="none"]`)
	p.see(saying("guarded by no point"))
	p.until(`document.querySelector("[data-count]").dataset.count === "7"`)
	p.open("/release")

	// One point has lost a rule.
	p.see(`[data-point="trial-south"][data-state=drifted]`)
	p.click(`[data-troubled="1"]`)
	p.see(saying("is missing"))
	require.Contains(t, value[string](p, `location.search`), "point=trial-south")
	p.click(button("Restore its plan"))
	p.see(`[data-holds=holds]`)
	p.click(button("Show the plan as nftables"))
	p.until(`document.querySelector("textarea[aria-label='the plan']").value.includes("table inet lucid_orchard")`)
	p.click(`//div[@role="dialog"]//button[text()="Close"]`)
	p.gone(`[data-troubled]`)

	// What is in force already cannot be released once more.
	p.open("/release?release=new")
	p.see(saying("there is nothing to release"))
	p.click(button("Cancel"))

	// Held by somebody, nothing goes on.
	p.click(button("Pause…"))
	p.fill(`input[aria-label="why"]`, "the owner of fares is away")
	p.click(`//div[@role="dialog"]//button[text()="Pause"]`)
	p.see(saying("the owner of fares is away"))
	p.gone(`[data-next]`)
	p.click(button("Resume"))
	p.see(`[data-next="3 enforce"]`)

	// A rollback is one order: what was enforced is replaced in one step, what was observed ends.
	p.click(button("Roll back to release 1"))
	p.see(`[data-in-force="1"]`)
	p.until(`document.querySelectorAll("[data-stage='not yet']").length === 4`)
	p.until(`document.querySelectorAll("[data-runs='enforces 1']").length > 0 &&
		document.querySelectorAll("[data-runs$=' 2']").length === 0`)
}

// goOn takes a step of a roll-out, also if its wave waits for something.
func (p *page) goOn(step string) {
	p.gone(`div[role=dialog]`)
	p.click(`[data-next="` + step + `"]:not([disabled])`)
	if strings.HasSuffix(step, "enforce") {
		p.click(`//div[@role="dialog"]//input[@type="checkbox"][parent::label[contains(., "On trial")]]`)
		p.click(`[data-enforce]`)
	}
	p.gone(`[data-next="` + step + `"]`)
}

// A machine that no point may touch is left alone until a day, with a reason.
func TestAMachineIsKeptAwayFromPoints(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--points"))
	p.open("/workloads/booking-entry-01")
	p.see(`[data-guarded-by]`)
	p.click(button("exempt it…"))
	p.fill(`input[aria-label="reason for the exemption"]`, "its vendor forbids it")
	p.fill(`input[aria-label="owner of the exemption"]`, "booking-team")
	p.click(button("Exempt it"))
	p.see(`[data-exempt]`)
	p.gone(`[data-guarded-by]`)
	p.open("/release")
	p.click(`[data-reach="exempt"]`)
	p.see(`[data-exemption="booking-entry-01"]`)
	p.click(button("end it"))
	p.gone(`[data-exemption]`)
}

// A new point shows its token once, and says what is wrong with what it is to guard.
func TestAPointIsAdded(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/release")
	p.see(saying("No enforcement point yet"))
	p.click(button("Add a point…"))
	p.fill(`input[aria-label="name of the point"]`, "ticket-hall")
	p.fill(`input[aria-label="which workloads it guards"]`, "env is nowhere")
	p.click(`//button[.="Create"]`)
	p.see(saying("matches no workload"))
	p.fill(`input[aria-label="which workloads it guards"]`, "app is booking and env is live")
	p.click(`//button[.="Create"]`)
	p.see(`[data-token]`)
	p.click(button("Done"))
	p.see(`[data-point="ticket-hall"][data-state=new]`)
}
