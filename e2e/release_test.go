package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// A newcomer releases the draft, sees what it would reject, lets it enforce wave by
// wave, finds the point that lost a rule, and goes back; the address keeps what is open.
func TestADraftGoesIntoForceAndBack(t *testing.T) {
	p := browse(t, start(t, "--demo", "--points", "--drift", "1s"))
	p.open("/release")
	p.see(`[data-in-force="0"]`)
	p.see(`[data-point="bench-gate"][data-state=holds]`)
	p.click(`//main//button[text()="Release…"]`)
	p.fill(`input[aria-label="title of the release"]`, "First allowances")
	p.click(button("Release; wave 1 observes"))
	p.see(`[data-release="1"]`)
	p.see(`[data-in-force="1"]`)

	// Each wave observes before it enforces; what it would reject is said on the way.
	for _, step := range []string{"1 enforce", "2 observe", "2 enforce", "3 observe"} {
		if step == "2 enforce" {
			p.see(`[data-would]`)
			require.Positive(t, value[int](p, `parseInt(document.querySelector("[data-would]").textContent)`))
		}
		p.click(`[data-next="` + step + `"]`)
	}
	p.see(`[data-next="3 enforce"]`)
	p.until(`document.querySelector("[data-wave='2']").dataset.stage === "enforces"`)

	// One point has lost a rule.
	p.see(`[data-point="trial-south"][data-state=drifted]`)
	p.click(`[data-troubled="1"]`)
	p.see(saying("is missing"))
	require.Contains(t, value[string](p, `location.search`), "point=trial-south")
	p.click(button("Put back what was released"))
	p.see(`[data-holds=holds]`)
	p.click(button("Show the plan as nftables"))
	p.until(`document.querySelector("textarea[aria-label='the plan']").value.includes("table inet lucid_orchard")`)
	p.click(`//div[@role="dialog"]//button[text()="Close"]`)
	p.gone(`[data-troubled]`)

	// What is in force already cannot be released once more.
	p.open("/release?release=new")
	p.see(saying("there is nothing to release"))
	p.click(button("Cancel"))

	p.click(button("Hold nothing again"))
	p.see(`[data-in-force="0"]`)
	p.until(`document.querySelectorAll("[data-stage='not yet']").length === 4`)
}

// A new point shows its token once, and says what is wrong with what it is to guard.
func TestAPointIsAdded(t *testing.T) {
	p := browse(t, start(t, "--demo"))
	p.open("/release")
	p.see(saying("No enforcement point yet"))
	p.click(button("Add a point…"))
	p.fill(`input[aria-label="name of the point"]`, "ticket-hall")
	p.fill(`input[aria-label="which workloads it guards"]`, "env is nowhere")
	p.click(button("Make it"))
	p.see(saying("guards nobody"))
	p.fill(`input[aria-label="which workloads it guards"]`, "app is booking and env is live")
	p.click(button("Make it"))
	p.see(`[data-token]`)
	p.click(button("Done"))
	p.see(`[data-point="ticket-hall"][data-state=new]`)
}
