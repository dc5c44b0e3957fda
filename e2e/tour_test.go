package e2e

import (
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// tour is a person who follows the tour of the README in the demo, step by step. What is to be
// typed is read there.
type tour struct {
	*page
	step string // the text of the present step
}

// code returns the nth thing in backticks of the step.
func (v *tour) code(n int) string {
	all := regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(v.step, -1)
	require.Greater(v.t, len(all), n, v.step)
	return all[n][1]
}

// named requires that the step names something, so that who changes its name changes the README.
func (v *tour) named(all ...string) {
	for _, words := range all {
		require.Contains(v.t, v.step, words)
	}
}

// The tour in the README holds, sentence by sentence.
func TestTheTour(t *testing.T) {
	t.Parallel()
	readme, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	_, text, found := strings.Cut(string(readme), "## Five minutes with Saltmarsh Ferries")
	require.True(t, found)
	text, _, _ = strings.Cut(text, "## The command line")
	steps := regexp.MustCompile(`(?m)^\d+\. .*$`).FindAllString(text, -1)
	v := &tour{page: browse(t, start(t, "--demo", "--points", "--live", "--drift", "1s"))}
	walk := []func(){v.uncoveredFirst, v.ask, v.workloads, v.groups, v.flows, v.derive, v.findings, v.text, v.check,
		v.release, v.watch, v.evidence}
	require.Len(t, steps, len(walk))
	for i, f := range walk {
		v.step = steps[i]
		f()
	}
}

func (v *tour) uncoveredFirst() {
	v.open("/")
	v.until(`location.pathname === "/check"`)
	v.see("h1")
	v.click(`[data-uncovered]`)
	v.until(`location.search.includes("verdict=uncovered")`)
	v.focus(`[data-row="0"]`)
	v.press(kb.ArrowRight)
	v.click(`[data-row="1"]`)
	v.click(`[data-row="2"]`)
	v.see(`[data-why=uncovered]`)
	v.see(saying("No rule matches"))
}

func (v *tour) ask() {
	v.named("Ctrl K", "env = trial", "Ctrl Z")
	v.ctrl("k")
	v.press(v.code(0))
	v.press("\r")
	v.see(`[data-why=uncovered]`)
	v.see(saying("undecided"))
	v.click(button(v.code(1)))
	v.until(`document.querySelector("[data-why]").innerText.includes("uncovered → reject")`)
	v.click(button("Set " + v.code(1)))
	v.see(`[data-why=reject]`)
	v.see(saying("apart live, trial"))
	v.ctrl("z")
	v.see(`[data-why=uncovered]`)
}

func (v *tour) workloads() {
	v.named("nine machines lack a tier", "same as live?", "Suggested tags")
	v.open("/workloads")
	v.see(saying("9 lack a tier"))
	v.until(`[...document.querySelectorAll("button")].filter((b) => b.innerText.includes("same as live?")).length === 2`)
	for left := 1; left >= 0; left-- {
		v.click(button("same as live?"))
		v.see(`[data-consequences]`)
		v.click(`//button[normalize-space(.)="Set env = live"]`)
		v.until(`[...document.querySelectorAll("button")].filter((b) => b.innerText.includes("same as live?")).length === ` +
			itoa(left))
	}
	v.open("/workloads?show=suggestions")
	v.see(`[data-suggestion]`)
}

func (v *tour) groups() {
	v.named("pins names")
	v.open("/groups/" + v.code(0))
	v.see(saying("It lists names or ids"))
	v.click(`.cm-content`)
	v.ctrl("a")
	v.press(v.code(1))
	v.see(saying("adds 1 workload to"))
	v.click(button("Save to the draft"))
	v.gone(saying("What saving does"))
}

func (v *tour) flows() {
	v.named("Exporters")
	v.open("/flows")
	v.see(saying("the walls"))
	v.click(on("trial → live"))
	v.until(`location.search.includes("path=trial")`)
	v.open(value[string](v.page, "location.pathname + location.search")) // what is drawn then is of the gate alone
	v.click(`[data-row='0'] button[aria-label=unfold]`)
	v.click(`[data-row='1'] button[aria-label=unfold]`)
	v.click(`[data-row='2'] button[aria-label=unfold]`)
	v.see(saying("Seen by"))
	v.open("/flows/exporters")
	v.see(saying("none was lost"))
}

func (v *tour) derive() {
	v.named("Derive from the window", "gangway")
	v.open("/policy")
	v.click(button("Derive from the window"))
	v.see(`[data-proposal]`)
	v.stepsAlongTheCurve()
	v.open("/policy")
	v.fill(`input[aria-label="filter the proposals"]`, v.code(0))
	v.click(`[data-wide] [data-row]`)
	v.press("n")
	v.press("n")
	v.see(saying("only members of gangway"))
	v.see(saying("stay uncovered"))
	v.press("t")
	v.gone(`[data-wide]`)
	v.ctrl("z")
	v.see(`[data-wide]`)
	v.fill(`input[aria-label="filter the proposals"]`, " ")
	v.see(`[data-aside]`)
}

func (v *tour) findings() {
	v.named("*mergeable*", "*empty*", "*Remove it*")
	v.open("/check?part=findings")
	v.see(`[data-finding=mergeable]`)
	v.see(`[data-finding=empty]`)
	v.open("/groups/" + v.code(0))
	v.see(saying("It has no members."))
	v.click(`//*[@data-findings]//button[contains(., "Remove it")]`)
	v.see(saying("There is no group " + v.code(0)))
}

func (v *tour) text() {
	v.open("/policy")
	v.click(`//*[@aria-label="how the policy is shown"]//button[.="Text"]`)
	v.click(`.cm-content`)
	v.do("end", chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	v.press("\rpermit nobody -> live on tcp/1")
	v.see(saying("found the unknown group nobody"))
	v.click(button("Discard"))
	v.see(saying("saved"))
}

func (v *tour) check() {
	v.named("*What if*", "*Assertions*", "*Report*")
	v.open("/check?part=ask")
	v.fill(`.cm-content`, v.code(0))
	v.see(`[data-answer]`)
	v.open("/policy")
	v.click(`//div[@aria-label="layer guardrails"]//button[contains(., "add a rule")]`)
	v.fill(`[data-form=add] .cm-content`, "reject "+v.code(1))
	v.click(`//*[@data-form="add"]//button[contains(., "Save to the draft") and not(@disabled)]`)
	v.gone(`[data-form=add]`)
	v.click(`//*[@data-rule][contains(@data-sentence, "reject gangway -> workloads")]`)
	for range 9 {
		if value[bool](v.page, `!!document.querySelector("[data-shut]")`) {
			break
		}
		v.click(button("Up"))
		v.until(`document.activeElement?.dataset.sentence?.startsWith("reject gangway")`)
	}
	v.see(`[data-shut]`)
	for strings.Contains(get(v.t, v.base+"/api/v1/policy.orchard"), "reject "+v.code(1)) {
		v.ctrl("z") // the moves, and the rule
		time.Sleep(500 * time.Millisecond)
	}
	v.gone(`[data-shut]`)
	v.open("/check?part=report")
	v.see(`[data-report-part]`)
}

func (v *tour) release() {
	v.named("*Release…*", "*Enforce anyway*", "*Confirm* the trial", "*Observe in wave 2*", "*Restore its plan*",
		"*Roll back to release 1*")
	v.open("/release")
	v.click(`//main//button[text()="Release…"]`)
	v.fill(`input[aria-label="title of the release"]`, "First allowances")
	v.click(button("Release; wave 1 observes"))
	v.see(`[data-release="1"]`)
	v.click(`[data-next="1 enforce"]:not([disabled])`)
	v.see(saying("assertions hold"))
	v.click(button("Enforce anyway"))
	v.click(button("Confirm"))
	v.see(`[data-in-force="1"]`)
	v.goOn("2 observe")
	v.see(`[data-would="2"]`)
	v.click(`//*[@data-rejection][contains(., "tides-entry")]//button[text()="Permit…"]`)
	v.click(`//div[@role="dialog"]//button[@data-primary]`)
	v.gone(`div[role=dialog]`)
	v.click(`//main//button[text()="Release…"]`)
	v.fill(`input[aria-label="title of the release"]`, "The trial of boarding reads the tides")
	v.click(button("Release instead of release 1"))
	v.see(`[data-point="bench-gate"] [data-runs="enforces 1"]`)
	v.see(`[data-point="bench-gate"] [data-runs="observes 2"]`)
	v.goOn("1 enforce")
	v.goOn("2 enforce")
	v.until(`parseInt(document.querySelector("[data-dropped]").dataset.dropped) > 0`)
	v.see(`[data-point="trial-south"][data-state=drifted]`)
	v.click(`[data-troubled="1"]`)
	v.click(button("Restore its plan"))
	v.see(`[data-holds=holds]`)
	v.click(`//div[@role="dialog"]//button[text()="Close"]`)
	v.click(button("Roll back to release 1"))
	v.see(`[data-in-force="1"]`)
}

func (v *tour) watch() {
	v.named("Notify me when this happens again…", "*By rule*")
	v.open("/watch?period=quarter")
	for _, words := range []string{"boarding-logic-trial reached tides-entry-live", "logbook could not reach",
		"10.40.7.19", "vault → manifest-store-live on rsync"} {
		v.see(matter(words))
	}
	v.open("/watch?period=quarter&show=all")
	v.see(matter("trial-south"))
	v.open("/watch?period=quarter")
	v.click(matter("vault → manifest-store-live on rsync"))
	v.click(`//*[@data-opened]//button[.="records"]`)
	v.see(saying("Single records"))
	v.see(`//*[@data-actions]//button[contains(., "Notify me when")]`)
	v.open("/watch?part=rules")
	v.see(`[data-counter]`)
}

func (v *tour) evidence() {
	v.named("only the fares logic reaches the fares store", "*Signed JSON*")
	v.open("/evidence?make=yes")
	v.choose(`select[aria-label="promise"]`, "assert only fares-logic-live -> fares-store-live on postgres")
	v.click(`//div[@role="dialog"]//button[.="Create"]`)
	v.see("[data-answer]")
	v.see(saying("Only fares-logic-live may reach fares-store-live on postgres"))
	v.see(`//a[.="Signed JSON"]`)
}
