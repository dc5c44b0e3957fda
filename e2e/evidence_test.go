package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/evidence"
)

// makeEvidence makes evidence for the last days, and waits until it is there.
func makeEvidence(t *testing.T, p *page, promise string, days int) {
	t.Helper()
	now := time.Now().UTC()
	ask, err := json.Marshal(map[string]string{"promise": promise, "from": now.AddDate(0, 0,
		-days).Format(time.DateOnly), "to": now.Format(time.DateOnly)})
	require.NoError(t, err)
	before := len(p.made(t))
	r, err := http.Post(p.base+"/api/v1/evidence", "application/json", strings.NewReader(string(ask)))
	require.NoError(t, err)
	defer r.Body.Close()
	text, _ := io.ReadAll(r.Body)
	require.Equal(t, 202, r.StatusCode, string(text))
	require.Eventually(t, func() bool { return len(p.made(t)) > before }, patience, 50*time.Millisecond, promise)
}

func (p *page) made(t *testing.T) (list []struct{ ID int64 }) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(get(t, p.base+"/api/v1/evidence")), &list))
	return list
}

// An assertion of the draft, its evidence: made from where it stands, read, printed by the
// server's own browser, taken along with its signature and checked elsewhere; a second one,
// beside the first; made by itself from now on.
func TestEvidenceForAnAuditor(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo"))
	p.open("/check?part=assertions")
	p.click(`//*[@data-assertion][contains(., "fares-logic-live")]//a[.="Evidence…"]`)
	p.see(`//div[@role="dialog"]//select[@aria-label="promise"]`)
	require.Equal(t, "assert only fares-logic-live -> fares-store-live on postgres",
		value[string](p, `document.querySelector("[aria-label=promise]").value`))
	p.choose(`select[aria-label="repeat"]`, "month")
	p.click(`//div[@role="dialog"]//button[.="Create"]`)
	p.see("[data-answer]")
	p.see(saying("Only fares-logic-live may reach fares-store-live on postgres"))
	p.see(saying("Nothing was in force there on any of 14 days."))
	require.Equal(t, 14, value[int](p, `document.querySelectorAll("[data-day=none]").length`))
	p.see(saying("booking-logic-t03"))
	p.click(`//button[.="Show the table"]`)
	p.see(`[aria-label="day by day"]`)

	pdf := []byte(get(t, p.base+"/api/v1/evidence/1/pdf"))
	require.Equal(t, "%PDF-", string(pdf[:5]))
	require.Greater(t, len(pdf), 20_000)
	signed := []byte(get(t, p.base+"/api/v1/evidence/1/signed"))
	e, _, err := evidence.Verify(signed)
	require.NoError(t, err)
	dir := t.TempDir()
	keep := func(name string, text []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, text, 0o600))
		return path
	}
	verify := func(args ...string) (string, error) {
		out, err := exec.Command(program, append([]string{"verify-evidence"}, args...)...).CombinedOutput()
		return string(out), err
	}
	good, traffic := keep("good.json", signed), []byte(get(t, p.base+"/api/v1/evidence/1/inputs/traffic"))
	sum := sha256.Sum256(traffic)
	require.Equal(t, e.Inputs[3].SHA256, hex.EncodeToString(sum[:]))
	var promises struct{ Fingerprint string }
	require.NoError(t, json.Unmarshal([]byte(get(t, p.base+"/api/v1/evidence/promises")), &promises))
	out, err := verify(good, keep("traffic.txt", traffic), "--key", promises.Fingerprint)
	require.NoError(t, err, out)
	require.Contains(t, out, "it is what was signed")
	require.Contains(t, out, "is the input “traffic”")
	out, err = verify(good, "--key", "0000")
	require.Error(t, err)
	require.Contains(t, out, "another key")
	out, err = verify(keep("bad.json", []byte(strings.Replace(string(signed), `"state": "none"`, `"state": "held"`,
		1))))
	require.Error(t, err)
	require.Contains(t, out, "it was changed since")
	out, err = verify(good, keep("other.txt", traffic[1:]))
	require.Error(t, err)
	require.Contains(t, out, "none of the inputs")

	makeEvidence(t, p, "group fares-store-live", 2)
	p.open("/evidence")
	p.see("[data-schedule]")
	for _, id := range []int{1, 2} {
		p.click(fmt.Sprintf(`input[aria-label="compare evidence %d"]`, id))
	}
	p.click(`//a[.="Compare the two"]`)
	p.see(`[aria-label="both periods"]`)
	p.open("/evidence")
	p.click(`//*[@data-schedule]//button[.="Stop"]`)
	p.gone("[data-schedule]")
	p.click(`button[aria-label="delete evidence 2"]`)
	p.click(`//button[.="Delete it"]`)
	p.gone(`[data-made="2"]`)
}
