package e2e

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// on finds something on the terrace map by what it says of itself.
func on(words string) string {
	return fmt.Sprintf(`//*[name()='g' and @role='button' and contains(@aria-label, %q)]`, words)
}

// send lets an exporter tell of connections.
func send(t *testing.T, base string, all ...flow.Observation) {
	t.Helper()
	var to string
	for _, l := range api[exporters](t, base+"/api/v1/exporters").Collectors[0].Listening {
		if at, ok := strings.CutPrefix(l, "udp "); ok {
			to = at
		}
	}
	conn, err := net.Dial("udp", to)
	require.NoError(t, err)
	defer conn.Close()
	e := wire.Exporter{Domain: 9}
	now := flow.MicrosOf(time.Now())
	for _, b := range [][]byte{e.Templates(now), e.Message(now, all)} {
		_, err = conn.Write(b)
		require.NoError(t, err)
	}
}

// From the walls down to the single records, and back by the address alone.
func TestFromTheMapToTheRecords(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--hold", "200ms"))
	p.open("/flows")
	p.see(saying("the walls"))
	p.click(on("trial → live"))
	p.see(`//span[contains(., "trial → live")]//button[@aria-label="remove this filter"]`)
	p.until(`location.search.includes("path=trial")`)
	p.click(button("Table"))
	p.see(`//th[normalize-space()="Mostly"]`)
	p.click(button("Map"))
	p.see(on("trial → live")) // it stands where the chips were

	// A filter that cannot be read says where, and keeps what was typed.
	p.click(`//span[contains(., "trial → live")]//button[@aria-label="remove this filter"]`)
	p.until(`!location.search.includes("path=")`)
	p.click(`//*[@aria-label="verdicts"]//button[@aria-pressed="true"]`)
	p.click(button("Filters…"))
	p.fill(`input[aria-label="filter by server"]`, "tier is is store")
	p.click(button("Apply"))
	p.see(saying("servers: at character"))
	p.fill(`input[aria-label="filter by server"]`, "tier is store and env is live")
	p.fill(`input[aria-label="filter by service"]`, "postgres")
	p.click(button("Apply"))
	p.see(saying("server: tier is store and env is live"))
	p.gone(saying("servers: at character"))
	p.until(`document.querySelectorAll("[data-row='0']").length > 3 && [...document.querySelectorAll("[data-row='0']")].every((r) => r.textContent.includes("tcp/5432"))`)
	p.click(button("Close"))

	// Down to the records; the unfolded rows are in the address.
	p.click(`[data-row='0'] button[aria-label=unfold]`)
	p.click(`[data-row='1'] button[aria-label=unfold]`)
	p.click(`[data-row='2'] button[aria-label=unfold]`)
	p.see(saying("Seen by"))
	p.see(saying("the file says so, 100 %"))
	address := value[string](p, "location.pathname + location.search")
	p.open("/check")
	p.see("[data-uncovered]")
	p.open(address)
	p.see(saying("the file says so, 100 %"))
	p.click(button("By the hour"))
	p.see(saying("Outcome"))

	// Another column, and another tag for the sides.
	p.open("/flows?by=app")
	p.see(`//*[@data-row='0']//*[normalize-space(text())="booking"]`)
	p.click(button("Columns"))
	p.click(`//*[@role="menuitem"][contains(., "Last seen")]`)
	p.until(`location.search.includes("show=last")`)
	p.see(saying("Last seen"))
}

// What an exporter sends stands in the ledger without a reload; if it stands the
// wrong way round, one says so once.
func TestLiveTrafficAndACorrection(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--hold", "200ms"))
	p.open("/flows?map=off&q=34567")
	p.see(saying("No conversation matches these filters"))
	// The gangway serves on an odd port; whoever calls it does so from a registered
	// one, and the exporter knows no flags: it looks the other way round.
	now := flow.MicrosOf(time.Now())
	o := flow.Observation{Src: netip.MustParseAddr("10.20.3.11"), SrcPort: 34567,
		Dst: netip.MustParseAddr("10.20.8.10"), DstPort: 8443, Proto: service.TCP, Start: now - 1e6, End: now,
		Packets: 5, Bytes: 700}
	send(t, p.base, o)
	p.open("/flows?map=off&unsure=true")
	p.open("/flows?map=off&clients=address+in+10.20.3.11&services=tcp/8443&servers=address+in+10.20.8.10")
	p.click(`[data-row='0'] button[aria-label=unfold]`)
	p.click(`[data-row='1'] button[aria-label=unfold]`)
	p.click(`[data-row='2'] button[aria-label=unfold]`)
	p.see(saying("34567"))
	p.click(saying("Swap client and server"))
	p.see(`//label[contains(., "only")]/input`)
	p.click(`//label[contains(., "only")]/input`)
	p.click(button("serves tcp/34567"))
	p.gone(".chakra-dialog__backdrop[data-state=open]")
	p.see(saying("No conversation matches these filters"))
	p.open("/flows?map=off&servers=address+in+10.20.3.11&services=tcp/34567")
	p.see(`//*[@data-row='0'][contains(., "tcp/34567")]`)
	// The next one stands the right way round at once, without a reload.
	o.Dst, o.DstPort = netip.MustParseAddr("10.20.8.12"), 9443
	p.until(`document.querySelector("[data-row='0']").textContent.includes("tcp/34567")`)
	send(t, p.base, o)
	p.until(`[...document.querySelectorAll("[data-row='0'] [role=gridcell]")][2].textContent === "2"`)

	require.Contains(t, get(t, p.base+"/metrics"), "orchard_collector_sessions")

	// The exporters' page has both, and what was said is taken back there.
	p.open("/flows/exporters")
	p.see(saying("none was lost"))
	p.see(saying("tcp/34567"))
	p.click(saying("undo"))
	p.see(saying("No corrections yet."))
	// What other bounds would delete is said before they hold.
	p.fill(`input[aria-label="single records"]`, "3")
	p.see(saying("the records of 1"))
	p.see(saying("It cannot be undone."))
	p.click(button("Save, and delete"))
	p.see(saying("How long traffic is kept is changed"))
	p.until(`document.querySelector('input[aria-label="single records"]').value === "3"`)
}
