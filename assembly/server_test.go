package assembly_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/consequences"
	inventoryrest "lucidorchard/inventory/rest"
	trafficrest "lucidorchard/traffic/rest"
)

func TestTwoPeopleEditing(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	// One adds a group above; the other, who has not seen it, edits a rule
	// further down: both stand.
	_, _, status := c.Edit(1, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	out, p, status := c.Edit(1, "change", map[string]any{"line": 4, "text": "permit live -> live on tcp/8444"})
	require.Equal(t, 201, status, p.Detail)
	require.Equal(t, 3, out.Revision)
	require.Contains(t, c.Text(), "permit live -> live on tcp/8444\n")
	// A third, who still sees the rule as it was, is refused and told.
	_, p, status = c.Edit(1, "switch", map[string]any{"line": 4})
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail,
		"It was: permit live -> live on tcp/8443. Now, in revision 3: permit live -> live on tcp/8444.")
	_, _, status = c.Edit(3, "remove", map[string]any{"line": 5})
	require.Equal(t, 201, status)
	_, p, status = c.Edit(1, "switch", map[string]any{"line": 4})
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail, "Now, in revision 4: it was removed.")
	_, p, status = c.Edit(1, "remove", map[string]any{"line": 400})
	require.Equal(t, 422, status, p.Detail)
	// A whole text that was made from an older one does not overwrite.
	require.Equal(t, 412, c.Replace(1, "layer x"))
	require.Contains(t, c.Text(), "group bench")
}

func TestEditsSayWhatIsWrongAndChangeNothing(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	for _, e := range []struct {
		op   string
		more map[string]any
		want string
	}{
		{"add", map[string]any{"text": "permit nobody -> live on any", "layer": "allowances"},
			"unknown group nobody"},
		{"add", map[string]any{"text": "permit live -> live on any", "layer": "nowhere"}, `found no layer "nowhere"`},
		{"add", map[string]any{"text": "permit live ->"}, "expected"},
		{"remove", map[string]any{"line": 1}, "unknown group live"},
		{"move", map[string]any{"line": 1, "layer": "closing"}, "expected a rule"},
		{"switch", map[string]any{"line": 6}, "expected a rule"},
		{"change", map[string]any{"line": 4, "text": "layer a\nlayer b"}, "found 2 statements"},
	} {
		_, p, status := c.Edit(1, e.op, e.more)
		require.Equal(t, 422, status, e)
		require.Contains(t, p.Detail, e.want)
	}
	require.Equal(t, assemblytest.Draft, c.Text())
}

func TestPreviewIsWhatSavingDoes(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var before, after checkingrest.CheckOut
	require.Equal(t, 200, c.Call("GET", "/api/v1/check", nil, &before))
	in := map[string]any{"revision": 1, "op": "add", "layer": "allowances", "text": "permit live -> live on tcp/5432"}
	var preview answers.EditOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/edits?dryRun=true", in, &preview))
	require.Equal(t, assemblytest.Draft, c.Text())
	require.Len(t, preview.Consequences.Conversations, 1)
	require.Positive(t, preview.Consequences.Changed)
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/edits", in, nil))
	require.Equal(t, 200, c.Call("GET", "/api/v1/check", nil, &after))
	require.Equal(t, preview.Consequences.Changed, after.Counts.Permit-before.Counts.Permit)
	require.Equal(t, preview.Consequences.Changed, before.Counts.Uncovered-after.Counts.Uncovered)

	// The ledger, at every depth, adds up to the totals.
	var page trafficrest.LedgerPage
	require.Equal(t, 200, c.Call("GET", "/api/v1/ledger?limit=1000", nil, &page))
	sum := 0
	for i, row := range page.Rows {
		sum += row.Conversations
		if i%20 > 0 {
			continue
		}
		var callers trafficrest.LedgerPage
		q := url.Values{"near": {row.Key}, "service": {row.Service}, "limit": {"1000"}}
		require.Equal(t, 200, c.Call("GET", "/api/v1/ledger/callers?"+q.Encode(), nil, &callers))
		inside := 0
		for _, caller := range callers.Rows {
			inside += caller.Conversations
			q.Set("far", caller.Key)
			var convs answers.ConversationPage
			require.Equal(t, 200, c.Call("GET", "/api/v1/conversations?"+q.Encode(), nil, &convs))
			require.Equal(t, caller.Conversations, convs.Total)
		}
		require.Equal(t, row.Conversations, inside)
	}
	require.Equal(t, after.Counts.Permit+after.Counts.Reject+after.Counts.Uncovered, sum)
}

func TestTagPreviewAndSettling(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var page inventoryrest.WorkloadList
	require.Equal(t, 200, c.Call("GET", "/api/v1/workloads?tag=env%3D(missing)", nil, &page))
	require.Equal(t, 1, page.Total)
	id := page.Workloads[0].ID
	in := map[string]any{"workloads": []string{id}, "key": "env", "value": "trial"}
	var cons consequences.Consequences
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags?dryRun=true", in, &cons))
	require.Contains(t, cons.Groups, consequences.GroupChange{Group: "trial", Joins: []string{id}, Leaves: []string{},
		Undecided: []string{}, JoinCount: 1})
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", in, nil))
	require.Equal(t, 200, c.Call("GET", "/api/v1/workloads?tag=env%3D(missing)", nil, &page))
	require.Zero(t, page.Total)
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Equal(t, 200, c.Call("GET", "/api/v1/workloads?q=lacks+env", nil, &page), "a filter may be an expression")
	require.Equal(t, 1, page.Total)
	var p assemblytest.Problem
	require.Equal(t, 404, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{id, "nobody"},
		"key": "env", "value": "x"}, &p))
	require.Contains(t, p.Detail, "nothing was changed")
}

func TestChangesFromAnotherSiteAreRefused(t *testing.T) {
	c := assemblytest.Serve(t)
	req, err := http.NewRequest("POST", c.Base+"/api/v1/policy/undo", strings.NewReader("{}"))
	require.NoError(t, err)
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, http.StatusForbidden, r.StatusCode)
	require.Equal(t, 404, c.Call("GET", "/api/v1/nothing", nil, nil))
	require.Equal(t, 409, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
}
