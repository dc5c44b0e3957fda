package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A list from elsewhere, with headings of its own, comes in; what it disagrees
// with is settled; a script takes over and retires what is gone.
func TestSourcesOfAnInventory(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	file := filepath.Join(t.TempDir(), "plan.csv")
	require.NoError(t, os.WriteFile(file,
		[]byte("Host Name,IP Address,Environment,Rack\nquay-crane-77,10.77.0.1,live,7\nbooking-entry-02,,bench,8\n"),
		0o600))
	p.open("/workloads")
	p.click(button("Import workloads"))
	p.fill(`input[aria-label=source]`, "rack plan")
	p.upload(`input[type=file][aria-label="CSV file"]`, file)
	p.see(`select[aria-label="read Rack as"]`)
	require.Equal(t, "", value[string](p, `document.querySelector('select[aria-label="read Rack as"]').value`))
	require.Equal(t, "id", value[string](p, `document.querySelector('select[aria-label="read Host Name as"]').value`))
	p.until(`document.querySelector("[data-report=preview]")?.innerText.includes("1 workload would be added")`)
	p.click(button("Import 2 rows"))
	p.see(`[data-report=done]`)
	p.click(button("Done"))
	p.gone(`[role=dialog]`)

	p.gone(`.chakra-dialog__backdrop[data-state=open]`)
	p.click(button("Disagreements"))
	p.until(`location.search.includes("show=disagreements")`)
	p.see(`[data-disagreement="booking-entry-02 env"]`)
	p.click(`//*[@data-disagreement="booking-entry-02 env"]//button[normalize-space(.)="live"]`)
	p.gone(`[data-disagreement="booking-entry-02 env"]`)

	p.click(button("Sources"))
	p.see(`[data-source="rack plan"]`)
	p.fill(`input[aria-label="name of the script"]`, "nightly")
	p.fill(`input[aria-label="source it feeds"]`, "rack plan")
	p.click(button("Create a token"))
	p.see(`[data-secret]`)
	secret := value[string](p, `document.querySelector("[data-secret]").dataset.secret`)
	req, err := http.NewRequest("POST", p.base+"/api/v1/inventory/workloads?complete=true&confirm=1",
		strings.NewReader(`{"workloads":[{"id":"booking-entry-02","tags":{"env":"live"}}]}`))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+secret)
	req.Header.Set("Content-Type", "application/json")
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, 200, r.StatusCode)
	p.open("/workloads?retired=1")
	p.see(`[data-workload="quay-crane-77"]`)
	p.open("/workloads/quay-crane-77")
	p.see(saying("no source lists it"))
}

// Tags: suggestions are accepted and refused, slips mended together, a pasted
// list and a whole filter are tagged, a selection is saved.
func TestTagsByTheDozen(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/workloads?show=suggestions")
	p.click(`[data-suggestion="bo-x-7719 tier"] input`)
	p.see(`[data-consequences]`)
	p.click(button("Accept 1"))
	p.gone(`[data-suggestion="bo-x-7719 tier"]`)
	p.click(`//*[@data-suggestion="bo-x-7720 tier"]//button[normalize-space(.)="Refuse"]`)
	p.see(`[data-refused="bo-x-7720"]`)
	p.open("/workloads?show=suggestions")
	p.see(`[data-refused="bo-x-7720"]`)
	require.False(t, value[bool](p, `!!document.querySelector('[data-suggestion="bo-x-7720 tier"]')`))

	p.click(button("Misspelt"))
	p.see(`[data-slip="live-"]`)
	p.click(button("Fix all"))
	p.gone(`[data-slip]`)
	p.ctrl("z")
	p.see(`[data-slip="live-"]`)

	p.open("/workloads")
	p.see(`[data-workload]`)
	p.click(button("More"))
	p.click(`//*[@role="menuitem"][contains(., "pasted list")]`)
	p.fill(`textarea`, "booking-entry-01 10.20.3.19 nobody")
	p.see(`[data-found="2"]`)
	p.see(saying("name no workload"))
	p.click(button("Select 2 workloads"))
	p.gone(`[role=dialog]`)
	p.see(saying("2 workloads selected"))
	p.see(saying("Type a value"))
	p.fill(`input[aria-label=tag]`, "crew")
	p.fill(`input[aria-label=value]`, "night")
	p.click(button("Set crew = night"))
	p.open("/workloads?tag=crew%3Dnight")
	p.until(`document.querySelector("[data-count]")?.dataset.count === "2"`)
	p.click(`input[aria-label="select all that are listed"]`)
	p.fill(`input[aria-label=tag]`, "crew")
	p.click(button("Clear crew…"))
	p.see(`[aria-label="set a tag"] [data-consequences]`)
	p.click(`//button[normalize-space(.)="Clear crew"]`)
	p.until(`document.querySelector("[data-count]")?.dataset.count === "0"`)

	p.open("/workloads?tag=tier%3Dstore")
	p.click(button("Selections"))
	p.fill(`input[aria-label="name of the selection"]`, "all stores")
	p.press("\r")
	p.see(button("all stores"))
	p.open("/workloads")
	p.click(button("Selections"))
	p.click(`//*[@role="menuitem"][contains(., "all stores")]`)
	p.until(`location.search.includes("tier%3Dstore")`)
}

// The page of a workload and of a group; a group is renamed, with all that names
// it, and removed, with what uses it shown first.
func TestPagesOfWorkloadsAndGroups(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/workloads/booking-logic-03")
	p.see(`[data-effective]`)
	p.click(button("What was seen"))
	p.see(`[data-row="0"]`)
	p.click(button("Tags over time"))
	p.see(saying("inventory"))
	p.open("/groups/fares-store-live?part=reached")
	p.see(`[data-row="0"]`)
	p.click(button("Rename"))
	p.fill(`input[aria-label="new name"]`, "fare-stores")
	p.press("\r")
	p.until(`location.pathname === "/groups/fare-stores"`)
	require.NotContains(t, get(t, p.base+"/api/v1/policy.orchard"), "fares-store-live")
	p.click(button("Remove…"))
	p.see(`[data-regroup]`)
	p.click(`//button[starts-with(normalize-space(.), "Remove it")]`)
	p.gone(`[data-regroup]`)
	require.NotContains(t, get(t, p.base+"/api/v1/policy.orchard"), "fare-stores")
	p.ctrl("z")
	p.open("/groups/fare-stores?part=history")
	p.see(`[data-history]`)
}

// A file of another program, in another language: what it says is guessed, what
// nobody can know is asked, and what was said stays while answers are on their way.
func TestAFileAsItReallyIs(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t))
	text := "Auszug;;;;;;\nZeitpunkt;Quelle;Ziel;Protokoll;Zielport;Datenmenge;Aktion\n" +
		"20.11.2026 00:00:34;10.9.0.1;10.9.0.2;TCP;443;1.234;erlaubt\n" +
		"20.11.2026 00:00:35;10.9.0.1;10.9.0.2;TCP;;1;erlaubt\n20.11.2026 00:00:36;10.9.0.1;10.9.0.2;TCP;22;1;nanu\n"
	file := filepath.Join(t.TempDir(), "auszug.csv")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	p.open("/flows")
	p.click(button("Import flows…"))
	p.upload(`input[type=file]`, file)
	p.see(`[data-words="1"]`)
	p.see(`[data-question=port]`)
	p.until(`document.querySelector("[data-bad]")?.dataset.bad === "1"`)
	p.until(`document.querySelector('input[aria-label="header on line"]').value === "2"`)
	p.see(button("Import 1 row"))
	// Many choices, one after the other, faster than the answers come: all stay.
	value[bool](p, `(() => {
		const set = (label, v) => {
			const e = document.querySelector('select[aria-label="' + label + '"]');
			Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, v);
			e.dispatchEvent(new Event("change", {bubbles: true}));
		};
		set("read Datenmenge as", "packets");
		set("read Aktion as", "observer");
		set("read Quelle as", "dst");
		set("read Ziel as", "src");
		return true;
	})()`)
	p.until(`document.querySelector("[data-report=preview]")?.innerText.includes("2 flows in")`)
	for heading, as := range map[string]string{"Datenmenge": "packets", "Aktion": "observer", "Quelle": "dst",
		"Ziel": "src"} {
		require.Equal(t, as, value[string](p, `document.querySelector('select[aria-label="read `+heading+
			` as"]').value`))
	}
	p.choose(`select[aria-label="read Aktion as"]`, "outcome")
	p.see(`[data-words="1"]`)
	p.choose(`select[aria-label="outcome nanu means"]`, "unknown")
	p.gone(`[data-bad]`)
	p.click(`[data-question=port] input`)
	p.see(button("Import 3 rows"))
	p.click(button("Import 3 rows"))
	p.see(`[data-report=done]`)
	require.Contains(t, get(t, p.base+"/api/v1/conversations.csv"), "10.9.0.2,,10.9.0.1,tcp/443")
}

// imports imports a list of workloads through its preview.
func (p *page) imports(list, words string) {
	p.t.Helper()
	file := filepath.Join(p.t.TempDir(), "w.csv")
	require.NoError(p.t, os.WriteFile(file, []byte(list), 0o600))
	p.open("/workloads")
	p.click(button("Import workloads…"))
	p.upload(`input[type=file]`, file)
	p.see(`[data-report=preview]`)
	p.click(button(words))
}

// Desks have no environment: said once, they no longer lack one.
func TestATagDoesNotApply(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t))
	p.imports("id,addresses,tag:app,tag:tier,tag:env\na,10.0.0.1,fares,store,live\n"+
		"d1,10.0.9.1,fares,desk,\nd2,10.0.9.2,fares,desk,\n", "Import 3 rows")
	p.click(button("Done"))
	p.until(`document.querySelector("main").innerText.includes("lack an env")`)
	p.click(`//*[@aria-label="env"]//button[contains(., "missing")]`)
	p.click(button("not applicable to some…"))
	p.fill(`[role=dialog] input`, "tier is desk")
	p.until(`document.querySelector("[role=dialog] [role=status]").innerText === "2 workloads: 2 without env."`)
	p.click(`//div[@role="dialog"]//button[text()="Save"]`)
	p.gone(`[role=dialog]`)
	p.until(`document.querySelector("main").innerText.includes("3 workloads, each with the structural tags")`)
	p.see(`[data-workload="a"]`)
	p.click(button("not applicable to tier is desk…"))
	p.click(button("It applies to all"))
	p.gone(`[role=dialog]`)
	p.until(`document.querySelector("main").innerText.includes("lack an env")`)
}

// After the first list: groups and guardrails by its tags, in one reviewable step.
func TestBeginningWithWhatIsThere(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t))
	p.imports("id,addresses,tag:app,tag:tier,tag:env\na,10.0.0.1,fares,store,live\n"+
		"b,10.0.0.2,fares,entry,trial\n", "Import 2 rows")
	p.see(`[data-next]`)
	p.click(button("Start from the tags…"))
	p.see(`[data-starters=environment]`)
	p.see(`[data-starters=assertion]`)
	p.click(`//label[contains(., "No telnet leaves the estate")]`)
	p.see(saying("conversations that change verdict"))
	p.click(`//button[starts-with(normalize-space(.), "Add ")]`)
	p.gone(`[data-starters]`)
	p.until(`document.body.innerText.includes("5 groups")`)
	text := get(t, p.base+"/api/v1/policy.orchard")
	require.Contains(t, text, "apart live, trial")
	require.Contains(t, text, "group fares-store-live")
	require.NotContains(t, text, "tcp/23")
}
