package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// figures is what the page shows of a figure in several places: expressions of the page that
// must all have one value on a view.
var figures = []struct {
	view  string // what is pressed in the course
	there string // is there when the view is drawn
	same  map[string][]string
}{
	{"workloads", "[data-workload]", map[string][]string{
		"that lack a tag": {`first("[data-fact=workloads] span")`, `first("h1")`},
		"workloads":       {`first("[data-fact=workloads]")`, `Number(document.querySelector("[data-count]").dataset.count)`},
	}},
	{"groups", "button[data-row][aria-current]", map[string][]string{
		"groups": {`first("[data-fact=groups]")`, `document.querySelectorAll("button[data-row][aria-current]").length`},
	}},
	{"policy", "[data-meter]", map[string][]string{
		"rules":     {`first("[data-fact=policy]")`, `first("h1")`},
		"proposals": {`first("[data-fact=policy] span")`, `Number(document.querySelector("[data-left]").dataset.left)`},
		"uncovered": {`first("[data-fact=check]")`, `first("h1 button")`},
	}},
	{"check", "[data-uncovered]", map[string][]string{
		"uncovered": {`first("[data-fact=check]")`, `Number(document.querySelector("[data-uncovered]").dataset.uncovered)`,
			`first("[data-verdict=uncovered]")`, `column("uncovered")`},
		"conversations": {`first("[data-fact=flows]")`, `first("[data-verdict=permit]") + first("[data-verdict=reject]") +
			first("[data-verdict=uncovered]")`, `column("permit") + column("reject") + column("uncovered")`},
		"rejected":  {`first("[data-verdict=reject]")`, `column("reject")`},
		"permitted": {`first("[data-verdict=permit]")`, `column("permit")`},
	}},
	{"watch", "[data-open]", map[string][]string{
		"matters": {`first("[data-fact=watch] span")`, `Number(document.querySelector("[data-open]").dataset.open)`},
	}},
}

// reading is what the expressions of figures use: the first number of what an element shows (0 if
// there is no such element, or no number), and the sum of a column of the table of outcomes.
const reading = `
	const number = (text) => Number((text?.match(/\d[\d,]*/) ?? ["0"])[0].replaceAll(",", ""))
	const first = (sel) => number(document.querySelector(sel)?.textContent)
	const column = (verdict) => [...document.querySelectorAll("[data-outcomes] [data-column=" + verdict + "]")]
		.reduce((sum, cell) => sum + number(cell.textContent.trim()), 0)`

// A figure that two views show is one number, whatever was edited.
func TestFiguresAgreeAfterEveryEdit(t *testing.T) {
	t.Parallel()
	p := browse(t, start(t, "--demo", "--live=false"))
	c := editor{t, p.base, rand.New(rand.NewPCG(7, 11))}
	p.open("/policy")
	p.click(button("Derive from the window"))
	p.see(`[data-proposal]`)
	for edit := range 20 {
		did := c.edit(edit)
		for _, v := range figures {
			p.click(fmt.Sprintf(`nav [data-fact=%s]`, v.view))
			p.see(v.there)
			for name, places := range v.same {
				if p.agree(places) {
					continue
				}
				all := ""
				for _, x := range places {
					all += fmt.Sprintf("\n  %v: %s", value[any](p, "(() => {"+reading+"; return "+x+"})()"), x)
				}
				p.fail("after edit %d (%s), on %s: %s are%s", edit, did, v.view, name, all)
			}
		}
	}
}

// agree waits until expressions of the page have one value; false: they never did.
func (p *page) agree(places []string) bool {
	js := "(() => {" + reading + "; const all = ["
	for _, x := range places {
		js += x + ","
	}
	return p.within(20*time.Second, js+"]; return all.every((x) => x === all[0]) })()")
}

// editor edits a draft and tags at random, as scripts do.
type editor struct {
	t    *testing.T
	base string
	r    *rand.Rand
}

func (c editor) send(path string, in any) {
	raw, err := json.Marshal(in)
	require.NoError(c.t, err)
	r, err := http.Post(c.base+path, "application/json", bytes.NewReader(raw))
	require.NoError(c.t, err)
	defer r.Body.Close()
	text, _ := io.ReadAll(r.Body)
	require.Less(c.t, r.StatusCode, 300, "%s %s: %s", path, raw, text)
}

// edit makes one change, and names it.
func (c editor) edit(n int) string {
	var policy struct {
		Revision int
		Text     string
	}
	require.NoError(c.t, json.Unmarshal([]byte(get(c.t, c.base+"/api/v1/policy")), &policy))
	rules := regexp.MustCompile(`(?m)^(permit|reject) `).FindAllStringIndex(policy.Text, -1)
	at := rules[c.r.IntN(len(rules))][0]
	line := 1 + bytes.Count([]byte(policy.Text[:at]), []byte("\n"))
	edit := func(op string, more map[string]any) {
		more["revision"], more["op"] = policy.Revision, op
		c.send("/api/v1/policy/edits", more)
	}
	switch what := []string{"remove", "add", "switch", "take", "tag", "undo"}[c.r.IntN(6)]; {
	case what == "remove" && len(rules) > 5:
		edit("remove", map[string]any{"line": line})
		return fmt.Sprintf("remove line %d", line)
	case what == "switch":
		edit("switch", map[string]any{"line": line})
		return fmt.Sprintf("switch line %d", line)
	case what == "take":
		var list struct{ Proposals []struct{ ID int } }
		require.NoError(c.t, json.Unmarshal([]byte(get(c.t, c.base+"/api/v1/proposals")), &list))
		for _, x := range list.Proposals {
			raw, _ := json.Marshal(map[string]any{"revision": policy.Revision,
				"judgements": []map[string]any{{"proposal": x.ID, "do": "take"}}})
			r, err := http.Post(c.base+"/api/v1/proposals/judge", "application/json", bytes.NewReader(raw))
			require.NoError(c.t, err)
			r.Body.Close()
			if r.StatusCode < 300 { // one that is too wide cannot be taken as it is
				return fmt.Sprintf("take proposal %d", x.ID)
			}
		}
	case what == "tag":
		var list struct{ Workloads []struct{ ID string } }
		require.NoError(c.t, json.Unmarshal([]byte(get(c.t, c.base+"/api/v1/workloads?limit=400")), &list))
		id := list.Workloads[c.r.IntN(len(list.Workloads))].ID
		value := []string{"live", "trial", ""}[c.r.IntN(3)]
		c.send("/api/v1/tags", map[string]any{"workloads": []string{id}, "key": "env", "value": value})
		return fmt.Sprintf("env of %s = %q", id, value)
	case what == "undo" && n > 0:
		c.send("/api/v1/policy/undo", map[string]any{})
		return "undo"
	}
	edit("add", map[string]any{"text": fmt.Sprintf("group made-%d = env is live", n)})
	return "add a group"
}
