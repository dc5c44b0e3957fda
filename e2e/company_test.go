package e2e

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// Somebody with an empty estate looks around in a made-up company, names it, removes it, and
// drops files of their own.
func TestLookingAroundAndDroppingFiles(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t))
	p.open("/")
	p.click(button("Look around in a made-up company"))
	p.see(`[data-workload]`)
	p.click(`//header//button[contains(., "Saltmarsh Ferries")]`)
	p.fill(`input[aria-label="name of the estate"]`, "North quay")
	p.click(button("Save the name"))
	p.see(`//header//button[contains(., "North quay")]`)
	p.click(`//header//button[contains(., "North quay")]`)
	p.click(button("Remove it again…"))
	p.click(button("Remove the made-up company"))
	p.see(saying("No workloads yet."))
	p.gone(`[role=dialog]`)

	p.drop("list.txt", `id,name,addresses\nstore-1,store-1,10.0.0.1\n`)
	p.see(`[data-report=preview]`)
	p.click(button("Import 1 row"))
	p.click(button("Done"))
	p.see(`[data-workload="store-1"]`)
	p.drop("flows.txt", `start,src,dst,proto,dport\n2026-11-30T10:00:00Z,10.0.0.2,10.0.0.1,tcp,443\n`)
	p.see(saying("Import flows"))
	p.click(button("Import 1 row"))
	p.click(button("Done"))
	p.drop("rules.txt", `group store = id is store-1\nlayer allowances\npermit any -> store on tcp/443\n`)
	p.until(`location.pathname === "/policy" && location.search.includes("text=1")`)
	p.see(saying("changed, not saved"))
	p.click(`//button[contains(., "Save to the draft") and not(@disabled)]`)
	p.see(saying("The draft now has this text"))
	require.Contains(t, get(t, p.base+"/api/v1/policy.orchard"), "permit any -> store on tcp/443")
	p.drop("letter.txt", `Dear reader\n`)
	p.see(saying("is not clear from its first lines"))
}

// drop drops a file of some text on the page.
func (p *page) drop(name, text string) {
	p.t.Helper()
	p.gone(`[role=dialog]`)
	p.until(fmt.Sprintf(`(() => {
		const data = new DataTransfer()
		data.items.add(new File(["%s"], %q))
		document.querySelector("main").dispatchEvent(new DragEvent("drop", { bubbles: true, cancelable: true, dataTransfer: data }))
		return true
	})()`, text, name))
}
