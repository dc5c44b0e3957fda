package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/api"
	"lucidorchard/app"
	"lucidorchard/consequences"
	"lucidorchard/core/flow"
	"lucidorchard/database/databasetest"
	"lucidorchard/demo"
	"lucidorchard/jobs"
	"lucidorchard/store"
	"lucidorchard/traffic/rows"
)

func TestMain(m *testing.M) { databasetest.Main(m) }

type client struct {
	t    testing.TB
	base string
	db   *store.Store
	url  string // of the database
}

// serve runs a server over the demo company, in a database of its own.
func serve(t testing.TB) client {
	url := databasetest.Database(t)
	db, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	c := demo.Generate(demo.Options{Workloads: 150, Days: 2, End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
	require.NoError(t, db.ImportWorkloads(t.Context(), "inventory", []string{"app", "env", "tier", "site"},
		c.Workloads))
	_, err = db.AddBatch(t.Context(), rows.BatchOf("demo", flow.Stating(c.Records), nil))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return client{t, "", db, url}.second()
}

// second runs another server on the same database.
func (c client) second() client {
	t, db := c.t, c.db
	ctx, cancel := context.WithCancel(context.Background())
	s := api.New(app.New(ctx, app.Options{Store: db, Author: "tester"}),
		api.Options{Web: fstest.MapFS{}, Estate: "Saltmarsh Ferries"})
	h := httptest.NewServer(conforming(t, s))
	t.Cleanup(func() {
		cancel()
		s.Wait()
		h.Close()
	})
	return client{t, h.URL, db, c.url}
}

// call sends JSON and reads the answer into out.
func (c client) call(method, path string, in, out any) int {
	c.t.Helper()
	return c.sendWith(method, path, in, out, nil).StatusCode
}

// sendWith is call with headers.
func (c client) sendWith(method, path string, in, out any, headers http.Header) *http.Response {
	c.t.Helper()
	var body io.Reader
	if text, ok := in.(string); ok {
		body = strings.NewReader(text)
	} else if in != nil {
		b, err := json.Marshal(in)
		require.NoError(c.t, err)
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequest(method, c.base+path, body)
	require.NoError(c.t, err)
	req.Header.Set("Content-Type", "application/json")
	if _, ok := in.(string); ok {
		req.Header.Set("Content-Type", "text/csv")
	}
	for k, v := range headers {
		req.Header[k] = v
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(c.t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(c.t, err)
	if out != nil {
		require.NoError(c.t, json.Unmarshal(text, out), string(text))
	}
	return r
}

type problem struct {
	Type     string `json:"type"`
	Detail   string `json:"detail"`
	Status   int    `json:"status"`
	Was, Now string
}

const start = "group live = env is live\ngroup trial = env is trial\nlayer allowances\npermit live -> live on " +
	"tcp/8443\nlayer closing\nassert never trial -> live on any\n"

func (c client) begin() {
	require.Equal(c.t, 201, c.replace(0, start))
}

// replace makes a text that was made from a revision the policy.
func (c client) replace(base int, text string) int {
	return c.sendWith("PUT", "/api/v1/policy/text", map[string]any{"text": text}, nil,
		http.Header{"If-Match": {fmt.Sprintf("%q", fmt.Sprint(base))}}).StatusCode
}

func (c client) edit(base int, op string, more map[string]any) (api.EditOut, problem, int) {
	in := map[string]any{"revision": base, "op": op}
	for k, v := range more {
		in[k] = v
	}
	var raw json.RawMessage
	status := c.call("POST", "/api/v1/policy/edits", in, &raw)
	var out api.EditOut
	var p problem
	_ = json.Unmarshal(raw, &out)
	_ = json.Unmarshal(raw, &p)
	return out, p, status
}

func (c client) text() string {
	r, err := http.Get(c.base + "/api/v1/policy.orchard")
	require.NoError(c.t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(c.t, err)
	return string(text)
}

func TestTwoPeopleEditing(t *testing.T) {
	c := serve(t)
	c.begin()
	// One adds a group above; the other, who has not seen it, edits a rule
	// further down: both stand.
	_, _, status := c.edit(1, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	out, p, status := c.edit(1, "change", map[string]any{"line": 4, "text": "permit live -> live on tcp/8444"})
	require.Equal(t, 201, status, p.Detail)
	require.Equal(t, 3, out.Revision)
	require.Contains(t, c.text(), "permit live -> live on tcp/8444\n")
	// A third, who still sees the rule as it was, is refused and told.
	_, p, status = c.edit(1, "switch", map[string]any{"line": 4})
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail,
		"It was: permit live -> live on tcp/8443. Now, in revision 3: permit live -> live on tcp/8444.")
	_, _, status = c.edit(3, "remove", map[string]any{"line": 5})
	require.Equal(t, 201, status)
	_, p, status = c.edit(1, "switch", map[string]any{"line": 4})
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail, "Now, in revision 4: it is gone from its place.")
	_, p, status = c.edit(1, "remove", map[string]any{"line": 400})
	require.Equal(t, 422, status, p.Detail)
	// A whole text that was made from an older one does not overwrite.
	require.Equal(t, 412, c.replace(1, "layer x"))
	require.Contains(t, c.text(), "group bench")
}

func TestEditsSayWhatIsWrongAndChangeNothing(t *testing.T) {
	c := serve(t)
	c.begin()
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
		_, p, status := c.edit(1, e.op, e.more)
		require.Equal(t, 422, status, e)
		require.Contains(t, p.Detail, e.want)
	}
	require.Equal(t, start, c.text())
}

func TestPreviewIsWhatSavingDoes(t *testing.T) {
	c := serve(t)
	c.begin()
	var before, after api.CheckOut
	require.Equal(t, 200, c.call("GET", "/api/v1/check", nil, &before))
	in := map[string]any{"revision": 1, "op": "add", "layer": "allowances", "text": "permit live -> live on tcp/5432"}
	var preview api.EditOut
	require.Equal(t, 200, c.call("POST", "/api/v1/policy/edits?dryRun=true", in, &preview))
	require.Equal(t, start, c.text())
	require.Len(t, preview.Consequences.Conversations, 1)
	require.Positive(t, preview.Consequences.Changed)
	require.Equal(t, 201, c.call("POST", "/api/v1/policy/edits", in, nil))
	require.Equal(t, 200, c.call("GET", "/api/v1/check", nil, &after))
	require.Equal(t, preview.Consequences.Changed, after.Counts.Permit-before.Counts.Permit)
	require.Equal(t, preview.Consequences.Changed, before.Counts.Uncovered-after.Counts.Uncovered)

	// The ledger, at every depth, adds up to the totals.
	var page api.LedgerPage
	require.Equal(t, 200, c.call("GET", "/api/v1/ledger?limit=1000", nil, &page))
	sum := 0
	for i, row := range page.Rows {
		sum += row.Conversations
		if i%20 > 0 {
			continue
		}
		var callers api.LedgerPage
		q := url.Values{"near": {row.Key}, "service": {row.Service}, "limit": {"1000"}}
		require.Equal(t, 200, c.call("GET", "/api/v1/ledger/callers?"+q.Encode(), nil, &callers))
		inside := 0
		for _, caller := range callers.Rows {
			inside += caller.Conversations
			q.Set("far", caller.Key)
			var convs api.ConversationPage
			require.Equal(t, 200, c.call("GET", "/api/v1/conversations?"+q.Encode(), nil, &convs))
			require.Equal(t, caller.Conversations, convs.Total)
		}
		require.Equal(t, row.Conversations, inside)
	}
	require.Equal(t, after.Counts.Permit+after.Counts.Reject+after.Counts.Uncovered, sum)
}

func TestTagPreviewAndSettling(t *testing.T) {
	c := serve(t)
	c.begin()
	var page api.WorkloadList
	require.Equal(t, 200, c.call("GET", "/api/v1/workloads?tag=env%3D(missing)", nil, &page))
	require.Equal(t, 1, page.Total)
	id := page.Workloads[0].ID
	in := map[string]any{"workloads": []string{id}, "key": "env", "value": "trial"}
	var cons consequences.Consequences
	require.Equal(t, 200, c.call("POST", "/api/v1/tags?dryRun=true", in, &cons))
	require.Contains(t, cons.Groups, consequences.GroupChange{Group: "trial", Joins: []string{id}, Leaves: []string{},
		Undecided: []string{}, JoinCount: 1})
	require.Equal(t, 200, c.call("POST", "/api/v1/tags", in, nil))
	require.Equal(t, 200, c.call("GET", "/api/v1/workloads?tag=env%3D(missing)", nil, &page))
	require.Zero(t, page.Total)
	require.Equal(t, 200, c.call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Equal(t, 200, c.call("GET", "/api/v1/workloads?q=lacks+env", nil, &page), "a filter may be an expression")
	require.Equal(t, 1, page.Total)
	var p problem
	require.Equal(t, 404, c.call("POST", "/api/v1/tags", map[string]any{"workloads": []string{id, "nobody"},
		"key": "env", "value": "x"}, &p))
	require.Contains(t, p.Detail, "nothing was changed")
}

func (c client) job(j *jobs.Job) jobs.Job {
	var out jobs.Job
	require.Eventually(c.t, func() bool {
		require.Equal(c.t, 200, c.call("GET", fmt.Sprintf("/api/v1/jobs/%d", j.ID), nil, &out))
		return out.State != "running"
	}, 30*time.Second, 20*time.Millisecond)
	return out
}

func TestChangesFromAnotherSiteAreRefused(t *testing.T) {
	c := serve(t)
	req, err := http.NewRequest("POST", c.base+"/api/v1/policy/undo", strings.NewReader("{}"))
	require.NoError(t, err)
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, http.StatusForbidden, r.StatusCode)
	require.Equal(t, 404, c.call("GET", "/api/v1/nothing", nil, nil))
	require.Equal(t, 409, c.call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
}
