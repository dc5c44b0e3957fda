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
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/demo"
	"lucidorchard/store"
	"lucidorchard/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

type client struct {
	t    testing.TB
	base string
	db   *store.Store
}

// serve runs a server over the demo company, in a database of its own.
func serve(t testing.TB) client {
	db, err := store.Open(t.Context(), storetest.Database(t))
	require.NoError(t, err)
	c := demo.Generate(demo.Options{Workloads: 150, Days: 2, End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
	require.NoError(t, db.ImportWorkloads(t.Context(), "inventory", []string{"app", "env", "tier", "site"},
		c.Workloads))
	_, err = db.AddBatch(t.Context(), store.BatchOf("demo", flow.Stating(c.Records), nil))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return client{t, "", db}.second()
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
	return client{t, h.URL, db}
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
	var cons app.Consequences
	require.Equal(t, 200, c.call("POST", "/api/v1/tags?dryRun=true", in, &cons))
	require.Contains(t, cons.Groups, app.GroupChange{Group: "trial", Joins: []string{id}, Leaves: []string{},
		Undecided: []string{}})
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

func (c client) job(j *store.Job) store.Job {
	var out store.Job
	require.Eventually(c.t, func() bool {
		require.Equal(c.t, 200, c.call("GET", fmt.Sprintf("/api/v1/jobs/%d", j.ID), nil, &out))
		return out.State != "running"
	}, 30*time.Second, 20*time.Millisecond)
	return out
}

func TestImportReportsBadRowsAndKeepsTheRest(t *testing.T) {
	c := serve(t)
	file := "id,addresses,tag:env\nnew-1,10.99.0.1,live\nnew-2,10.20.3.10,live\nbooking-entry-01,,trial\nnew-3,oops,live\n"
	var a api.ImportAnswer
	require.Equal(t, 200, c.call("POST", "/api/v1/imports/workloads?preview=true&source=sheet", file, &a))
	require.Equal(t, 2, a.Preview.Bad)
	require.Equal(t, 2, a.Preview.Added)
	require.Contains(t, a.Preview.Errors[0].Reason, `found "oops"`)
	require.Contains(t, a.Preview.Errors[1].Reason,
		`"booking-entry-01" holds address 10.20.3.10 by inventory, which outranks this source`)
	var before api.FoundList
	require.Equal(t, 200, c.call("POST", "/api/v1/workloads/find", map[string]any{"text": "10.20.3.10"}, &before))
	holder := before.Workloads[0].ID
	require.Equal(t, "booking-entry-01", holder)
	require.Equal(t, 1, a.Preview.Kept, "a source heard later does not outrank the one before")
	require.Equal(t, 200, c.call("PUT", "/api/v1/sources", map[string]any{"names": []string{"inventory"}}, nil))
	require.Equal(t, 202, c.call("POST", "/api/v1/imports/workloads?source=sheet", "id\nnew-1\n", &a))
	require.Equal(t, "done", c.job(a.Job).State)
	require.Equal(t, 200, c.call("PUT", "/api/v1/sources", map[string]any{"names": []string{"sheet", "inventory"}},
		nil))
	a = api.ImportAnswer{}
	require.Equal(t, 200, c.call("POST", "/api/v1/imports/workloads?preview=true&source=sheet", file, &a))
	require.Equal(t, 1, a.Preview.Bad)
	require.Contains(t, a.Preview.Examples, api.ImportExample{ID: holder,
		What: []string{"env: live → trial", "no longer 10.20.3.10"}}, "the address goes to another")
	require.Equal(t, 202, c.call("POST", "/api/v1/imports/workloads?source=sheet", file, &a))
	require.Equal(t, "done", c.job(a.Job).State)
	var w api.WorkloadPage
	require.Equal(t, 200, c.call("GET", "/api/v1/workloads/new-2", nil, &w))
	require.Len(t, w.Leases, 1)
	require.True(t, w.Leases[0].Now)
	require.NotEmpty(t, w.Leases[0].From, "it has it from now on")
	require.Equal(t, 200, c.call("GET", "/api/v1/workloads/"+holder, nil, &w))
	require.False(t, w.Leases[0].Now)
	require.Equal(t, 404, c.call("GET", "/api/v1/workloads/new-3", nil, nil))
	var p problem
	require.Equal(t, 422, c.call("POST", "/api/v1/imports/flows", "start,src\n", &p))
	require.Contains(t, p.Detail, "column dst")
	require.Equal(t, 422, c.call("POST", "/api/v1/imports/workloads", "colour\n", &p))
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

func TestAnAddressBelongsToWhoHeldItThen(t *testing.T) {
	c := serve(t)
	c.begin()
	var page api.ConversationPage
	require.Equal(t, 200, c.call("GET", "/api/v1/conversations?limit=1000&q=roster-term", nil, &page))
	for _, v := range page.Conversations {
		held := v.Client.Workload
		var w api.WorkloadPage
		require.Equal(t, 200, c.call("GET", "/api/v1/workloads/"+held, nil, &w))
		first, err := estate.ParseInstant(v.First)
		require.NoError(t, err)
		until, err := estate.ParseInstant(w.Leases[0].Until)
		require.NoError(t, err)
		require.True(t, first.Before(until))
	}
}

// Files of any format become conversations with their records; a file that
// comes again is not counted again.
func TestTrafficFilesBecomeConversationsAndRecords(t *testing.T) {
	c := serve(t)
	post := func(query, file string) api.ImportAnswer {
		r, err := http.Post(c.base+"/api/v1/imports/flows?"+query, "text/csv", strings.NewReader(file))
		require.NoError(t, err)
		defer r.Body.Close()
		var out api.ImportAnswer
		require.NoError(t, json.NewDecoder(r.Body).Decode(&out))
		return out
	}
	file := "When seen,Source IP,Dest IP,Protocol,Dst Port,Src " +
		"Port,Action\n2026-11-22T10:00:00Z,10.20.3.10,10.20.3.11,tcp,7411,50001,allowed\n2026-11-22T10:00:01Z,10.20.3.11,10.20.3.10,tcp,50001,7411,allowed\n"
	preview := post("preview=true&directions=true", file).Preview
	require.NotNil(t, preview)
	require.NotEmpty(t, preview.Unusable, "nobody can guess what “When seen” is")
	mapped := "directions=true&name=old.csv&mapping=" + url.QueryEscape(`{"When seen":"start"}`)
	require.Empty(t, post("preview=true&"+mapped, file).Preview.Unusable)
	for _, already := range []bool{false, true} {
		job := post(mapped, file).Job
		require.NotNil(t, job)
		var done struct {
			State  string
			Result api.ImportReport
		}
		require.Eventually(t, func() bool {
			c.get(fmt.Sprintf("/api/v1/jobs/%d", job.ID), &done)
			return done.State != "running"
		}, 20*time.Second, 50*time.Millisecond)
		require.Equal(t, "done", done.State)
		require.Equal(t, already, done.Result.Already != "")
	}
	require.Empty(t, post("preview=true", file).Preview.Unusable, "what the headings are is remembered")
	var page api.RecordPage
	c.get("/api/v1/records?client=10.20.3.10&server=10.20.3.11&service="+url.QueryEscape("tcp/7411"), &page)
	require.Equal(t, 1, page.Total)
	require.EqualValues(t, []any{50001, "carried", int64(1)},
		[]any{page.Records[0].ClientPort, page.Records[0].Outcome, page.Records[0].Connections})
	var found api.ConversationPage
	c.get("/api/v1/conversations?new=true&from=2026-11-22T10:00:00Z&services=tcp/7411&clients="+url.QueryEscape("address in 10.20.3.10"), &found)
	require.Equal(t, 1, found.Total)
	require.EqualValues(t, 1, found.Conversations[0].Carried)

	var refused problem
	require.Equal(t, 422, c.call("GET",
		"/api/v1/records?server=10.20.3.11&service=tcp/1&client="+url.QueryEscape("fe80::1%'; DROP TABLE records; --"), nil, &refused))
	require.Contains(t, refused.Detail, "expected an IP address")

	// It is the other way round, somebody says; and takes it back.
	said := map[string]string{"service": "tcp/50001", "kind": "address", "place": "10.20.3.10"}
	turned := func(want int) {
		require.Eventually(t, func() bool {
			c.get("/api/v1/records?client=10.20.3.11&server=10.20.3.10&service="+url.QueryEscape("tcp/50001"), &page)
			c.get("/api/v1/conversations?services=tcp/50001&servers="+url.QueryEscape("address in 10.20.3.10"),
				&found)
			return page.Total == want && found.Total == want
		}, 20*time.Second, 50*time.Millisecond)
	}
	require.Equal(t, http.StatusAccepted, c.call(http.MethodPost, "/api/v1/service-ports", said, nil))
	turned(1)
	require.Equal(t, "set by hand", page.Records[0].Reason)
	unsaid := "/api/v1/service-ports?service=" + url.QueryEscape("tcp/50001") + "&kind=address&place=10.20.3.10"
	require.Equal(t, http.StatusAccepted, c.call(http.MethodDelete, unsaid, nil, nil))
	turned(0)
	require.Equal(t, http.StatusNotFound, c.call(http.MethodDelete, unsaid, nil, nil))
	for _, bad := range []map[string]string{{"service": "icmp/8", "kind": "everywhere", "place": ""},
		{"service": "tcp/1", "kind": "group", "place": "nobody"},
		{"service": "tcp/1", "kind": "address", "place": "here"},
		{"service": "tcp/1", "kind": "workload", "place": "nothing"}} {
		require.GreaterOrEqual(t, c.call(http.MethodPost, "/api/v1/service-ports", bad, nil), 400, bad)
	}
}

// What is kept for too long is said first and then deleted, by days and by size.
func TestTrafficIsKeptAsLongAsChosen(t *testing.T) {
	c := serve(t)
	var before, tried, after api.RetentionOut
	c.get("/api/v1/retention", &before)
	require.Len(t, before.Days, 4, "two of records, two of conversations")
	require.Empty(t, before.Deletes)
	c.get("/api/v1/retention?mostBytes=1", &tried)
	require.Len(t, tried.Deletes, 3, "the last day of conversations stays")
	require.Equal(t, http.StatusOK, c.call(http.MethodPut, "/api/v1/retention",
		map[string]any{"conversationDays": 400, "recordDays": 30, "mostBytes": 1}, nil))
	c.get("/api/v1/retention", &after)
	require.Len(t, after.Days, 1)
	require.Equal(t, before.Days[3].Day, after.Days[0].Day)
	// Where reading takes long, answers are of the traffic before it for a while.
	require.Eventually(t, func() bool {
		var strip api.Strip
		c.get("/api/v1/flows/strip", &strip)
		return strip.From[:10] == before.Days[3].Day
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, http.StatusUnprocessableEntity, c.call(http.MethodPut, "/api/v1/retention",
		map[string]any{"conversationDays": -1, "recordDays": 0, "mostBytes": 0}, nil))
}

// A lease that is learnt after the traffic cuts what is stored: each part of the
// hour is of whoever held the address then.
func TestLateInventoryRepairsWhatIsStored(t *testing.T) {
	c := serve(t)
	var a api.ImportAnswer
	file := "start,src,dst,proto,dport\n2026-11-22T10:05:00Z,10.99.1.1,10.20.3.10,tcp,7411\n2026-11-22T10:40:00Z,10.99.1.1,10.20.3.10,tcp,7411\n"
	require.Equal(t, 202, c.call("POST", "/api/v1/imports/flows", file, &a))
	require.Equal(t, "done", c.job(a.Job).State)
	var found api.ConversationPage
	c.get("/api/v1/conversations?services=tcp/7411", &found)
	require.Equal(t, 1, found.Total)
	require.Empty(t, found.Conversations[0].Client.Workload)
	require.Equal(t, 202, c.call("POST", "/api/v1/imports/workloads?source=leases",
		"id,addresses,from,until\nlate-1,10.99.1.1,2026-11-22T10:30:00Z,\n", &a))
	require.Equal(t, "done", c.job(a.Job).State)
	require.Eventually(t, func() bool {
		c.get("/api/v1/conversations?services=tcp/7411", &found)
		return found.Total == 2
	}, 20*time.Second, 50*time.Millisecond)
	whose := map[string]string{}
	for _, v := range found.Conversations {
		whose[v.First] = v.Client.Workload
	}
	require.Equal(t, map[string]string{"2026-11-22T10:05:00Z": "", "2026-11-22T10:40:00Z": "late-1"}, whose)
}
