package assembly_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	groupingrest "lucidorchard/grouping/rest"
	"lucidorchard/imports"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/server"
)

func TestOpenPagesAreTold(t *testing.T) {
	c := assemblytest.Serve(t)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", c.Base+"/api/v1/events", nil)
	require.NoError(t, err)
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	require.Equal(t, "text/event-stream", r.Header.Get("Content-Type"))
	lines := bufio.NewScanner(r.Body)
	changed := func() {
		for lines.Scan() {
			if lines.Text() == "event: changed" {
				return
			}
		}
		require.Fail(t, "the stream ended", lines.Err())
	}
	changed() // the greeting
	c.Begin()
	changed()
}

func TestImportTwiceCountsOnce(t *testing.T) {
	c := assemblytest.Serve(t)
	file := "start,src,dst,proto,dport\n2026-11-22T10:00:00Z,192.0.2.9,10.20.3.10,tcp,7\n" +
		"2026-11-22T10:30:00Z,192.0.2.9,10.20.3.10,tcp,7\nnever,1,2,3,4\n"
	count := func() int64 {
		var page answers.ConversationPage
		c.Get("/api/v1/conversations?q=192.0.2.9+tcp/7", &page)
		if page.Total == 0 {
			return 0
		}
		return page.Conversations[0].Connections
	}
	for i := range 2 {
		var a answers.ImportAnswer
		require.Equal(t, 202, c.Call("POST", "/api/v1/imports/flows", file, &a))
		job := c.Job(a.Job)
		require.Equal(t, "done", job.State, job.Message)
		var report imports.ImportReport
		require.NoError(t, json.Unmarshal(*job.Result, &report))
		require.Equal(t, []int{3, 1, 2}, []int{report.Rows, report.Bad, report.Outside})
		require.Equal(t, i == 1, report.Already != "")
		require.Equal(t, int64(2), count())
	}
	var jobs []server.Job
	c.Get("/api/v1/jobs", &jobs)
	require.Len(t, jobs, 2)
	require.Equal(t, 404, c.Call("GET", "/api/v1/jobs/99", nil, nil))
}

func TestHealthAndMetrics(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Get("/api/v1/summary", nil)
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready",
		"/metrics":   `orchard_request_seconds_count{method="GET",route="/api/v1/summary",status="200"} 1`,
		"/somewhere": "make web"} {
		r, err := http.Get(c.Base + path)
		require.NoError(t, err)
		text, err := io.ReadAll(r.Body)
		r.Body.Close()
		require.NoError(t, err)
		require.Equal(t, 200, r.StatusCode)
		require.Contains(t, string(text), want)
	}
}

// What one server writes, another that runs on the same database shows, by
// reading only what has changed; and an import of very many is read whole.
func TestTwoServersOnOneDatabase(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	other := c.Second()
	var list, again inventoryrest.WorkloadList
	other.Get("/api/v1/workloads?limit=3", &list)
	id := list.Workloads[0].ID
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{id}, "key": "crew",
		"value": "night"}, nil))
	other.Get("/api/v1/workloads?tag=crew%3Dnight", &again)
	require.Equal(t, 1, again.Total)
	require.Equal(t, id, again.Workloads[0].ID)
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", nil, nil))
	other.Get("/api/v1/workloads?tag=crew%3Dnight", &again)
	require.Zero(t, again.Total)
	var one, two checkingrest.CheckOut
	c.Get("/api/v1/check", &one)
	other.Get("/api/v1/check", &two)
	require.Equal(t, one, two)
}

// A broken expression says so instead of matching nothing; a tag that nothing has
// is pointed at; words stay words.
func TestFiltersSayWhatIsWrongWithThem(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	var p assemblytest.Problem
	for _, q := range []string{"env is", "env in (live", "member of", "env is live and", "not (env is live"} {
		require.Equal(t, 422, c.Call("GET", "/api/v1/workloads?q="+url.QueryEscape(q), nil, &p), q)
		require.Contains(t, p.Detail, "character ", q)
		require.Equal(t, 422, c.Call("GET", "/api/v1/workloads/facets?q="+url.QueryEscape(q), nil, &p), q)
	}
	var list inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?q="+url.QueryEscape("envv is live or env is trial"), &list)
	require.Equal(t, "nothing has a tag envv; the nearest is env", list.Hint)
	for q, want := range map[string]int{"booking entry": 1, "env is live": 1, "nothing like it": 0, "island": 0} {
		list = inventoryrest.WorkloadList{}
		c.Get("/api/v1/workloads?q="+url.QueryEscape(q), &list)
		require.Equal(t, want, list.Total, q)
		require.Empty(t, list.Hint)
	}
}

// All members of a group can be read, in parts, searched, and exported.
func TestMembersOfAGroup(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var preview groupingrest.GroupPreview
	require.Equal(t, 200, c.Call("POST", "/api/v1/groups/preview",
		map[string]any{"name": "live", "text": "env is live"},
		&preview))
	for as, count := range map[string]int{"yes": preview.Counts.In, "undecided": preview.Counts.Undecided,
		"no": preview.Counts.Out} {
		seen := map[string]bool{}
		for offset := 0; ; offset += 7 {
			var page groupingrest.MemberPage
			c.Get(fmt.Sprintf("/api/v1/groups/members?name=live&as=%s&limit=7&offset=%d", as, offset), &page)
			require.Equal(t, count, page.Total, as)
			for _, m := range page.Members {
				require.False(t, seen[m.ID])
				seen[m.ID] = true
			}
			if len(page.Members) == 0 {
				break
			}
		}
		require.Len(t, seen, count)
		require.Equal(t, count+1, strings.Count(c.Raw("/api/v1/groups/members.csv?name=live&as="+as), "\n"))
	}
	var some groupingrest.MemberPage
	c.Get("/api/v1/groups/members?name=live&q="+url.QueryEscape("tier is store"), &some)
	require.Positive(t, some.Total)
	require.Less(t, some.Total, preview.Counts.In)
	var groups []groupingrest.GroupOut
	c.Get("/api/v1/groups", &groups)
	require.Equal(t, []int{preview.Counts.In, preview.Unaddressed}, []int{groups[0].In, groups[0].Unaddressed})
	require.Equal(t, 404, c.Call("GET", "/api/v1/groups/members?name=nobody", nil, nil))
}

// A new policy begins with groups by the tags that there are, in one step.
func TestBeginningWithStarters(t *testing.T) {
	c := assemblytest.Serve(t)
	var list groupingrest.StarterList
	c.Get("/api/v1/starters", &list)
	require.Greater(t, list.Total, 10)
	var ids []string
	doubts := map[string]string{}
	for _, s := range list.Starters {
		ids = append(ids, s.ID)
		if s.Doubt != "" {
			doubts[s.Kind+" "+s.Words] = s.Doubt
		}
	}
	// What serves every environment is taken out of the one that it is in.
	require.Contains(t, ids, "guardrail apart live-own, trial, bench")
	// The traffic speaks against some of it; every such sentence names a conversation that is there.
	require.NotEmpty(t, doubts)
	for id, doubt := range doubts {
		if !strings.HasPrefix(id, "assertion") && !strings.HasPrefix(id, "guardrail") {
			continue
		}
		m := regexp.MustCompile(`^the window has (\d+) conversations? against it, such as (\S+) → (\S+) on (\S+)$`).
			FindStringSubmatch(doubt)
		require.NotNil(t, m, doubt)
		var a checkingrest.Answer
		c.Get("/api/v1/ask?q="+url.QueryEscape(m[2]+" -> "+m[3]+" "+m[4]), &a)
		require.NotNil(t, a.Why.Seen, doubt)
	}
	var out answers.EditOut
	in := map[string]any{"revision": list.Revision, "ids": ids}
	require.Equal(t, 200, c.Call("POST", "/api/v1/starters?dryRun=true", in, &out))
	require.NotEmpty(t, out.Consequences.Groups)
	require.Equal(t, 201, c.Call("POST", "/api/v1/starters", in, &out))
	var groups []groupingrest.GroupOut
	c.Get("/api/v1/groups", &groups)
	members := map[string]int{}
	for _, g := range groups {
		members["group "+g.Name] = g.In
	}
	for _, s := range list.Starters {
		if s.Kind == "environment" || s.Kind == "group" {
			require.Equal(t, s.Members, members[s.ID], s.ID)
		}
	}
	require.Equal(t, 409, c.Call("POST", "/api/v1/starters", in, nil), "it was made on another revision")
	c.Get("/api/v1/starters", &list)
	require.Zero(t, list.Total)
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Empty(t, c.Text(), "it was one step")
}

// A workload without a name is listed by its id: an expression that tests names says so.
func TestTestingNamesOfWorkloadsThatHaveNone(t *testing.T) {
	c := assemblytest.Empty(t)
	require.Less(t, c.Send("/api/v1/imports/workloads?source=plan", "", "text/csv",
		"id,name,addresses\nstore-1,,10.0.0.1\nstore-2,,10.0.0.2\nx,entry-1,10.0.0.3\n", nil), 300)
	preview := func(text string) (out groupingrest.GroupPreview) {
		require.Equal(t, 200, c.Call("POST", "/api/v1/groups/preview", map[string]any{"name": "", "text": text}, &out))
		return out
	}
	require.Eventually(t, func() bool { return preview("any").Counts.In == 3 }, 10*time.Second, 20*time.Millisecond)
	is := preview(`name matches "^store-" or name is entry-1`)
	require.Equal(t, 2, is.Counts.Undecided)
	require.Equal(t, 2, is.Nameless.Count)
	then := preview(is.Nameless.WithID)
	require.Nil(t, then.Nameless)
	require.Equal(t, 2, then.Counts.In)
	require.Zero(t, then.Counts.Undecided)
	require.Nil(t, preview("tag:name is store-1").Nameless, "a tag of that name is another thing")
}
