package assembly_test

import (
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	draftingrest "lucidorchard/drafting/rest"
	groupingrest "lucidorchard/grouping/rest"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/model"
	"lucidorchard/server"
)

// What an operation is called, and that it says what may become of it.
func TestEveryOperationSaysItsContract(t *testing.T) {
	c := assemblytest.ContractOf(t, assembly.Handler(nothing(t), assembly.HandlerOptions{}))
	readable := regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`)
	ids := map[string]bool{}
	for path, ops := range c.Paths {
		require.True(t, strings.HasPrefix(path, server.Version+"/"), path)
		for method, op := range ops {
			require.Regexp(t, readable, op.ID, path)
			require.NotRegexp(t, "^(get|post|put|delete)-", op.ID, "a name says what is done, not how")
			require.False(t, ids[op.ID], "twice: %s", op.ID)
			ids[op.ID] = true
			require.NotEmpty(t, op.Summary, op.ID)
			require.False(t, method == "delete" && op.RequestBody != nil, "%s has a body", op.ID)
			for _, status := range []string{"201", "202"} {
				if r, ok := op.Responses[status]; ok {
					require.Contains(t, r.Headers, "Location", op.ID)
				}
			}
			for _, status := range []string{"422", "500", "503"} {
				require.Contains(t, op.Responses[status].Content, "application/problem+json", op.ID)
			}
			if method != "get" {
				require.Contains(t, op.Responses, "409", op.ID)
			}
			if strings.HasPrefix(op.ID, "list-") && !slices.Contains(bounded, op.ID) {
				var names []string
				for _, p := range op.Parameters {
					names = append(names, p.Name)
				}
				require.Subset(t, names, []string{"offset", "limit"}, op.ID)
			}
		}
	}
	require.Greater(t, len(ids), 80)
}

// bounded are lists whose length the program bounds itself.
var bounded = []string{"list-troubles", "list-settle-choices", "list-facets", "list-conversation-hours",
	"list-proposals"}

// Every operation is asked wrongly, and answers with a status that it says and a
// problem that a program can act upon; the server of the tests sees to that.
func TestEveryOperationIsAskedWrongly(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	said := assemblytest.ContractOf(t, assembly.Handler(nothing(t), assembly.HandlerOptions{}))
	wrong := map[string]int{
		"find-workloads": 422, "read-retention": 200, "undo": 200, "redo": 409, "restore-estate": 409,
		"import-workloads": 422, "take-listing": 401, "read-told": 401, "say-seen": 401, "fetch-device-file": 401,
		"fetch-device-group": 401, "release-policy": 401, "follow-release": 401,
		"forget-exporter": 422, "drop-refused-batch": 404, "export-refused-batch": 404, "cancel-job": 422,
		"read-job": 422, "revoke-token": 422, "read-token": 422, "read-revision": 422,
		"list-evidence": 422, "compare-evidence": 422, "read-workload": 404,
		"remove-made-up-company": 409, "load-made-up-company": 409,
	}
	asked, n := []string{"from", "offset", "limit", "dryRun", "balance", "line", "client", "service", "name", "list",
		"as", "guards"}, 0
	for _, path := range slices.Sorted(maps.Keys(said.Paths)) {
		for method, op := range said.Paths[path] {
			at := regexp.MustCompile(`\{\w+\}`).ReplaceAllString(path, "nothing-like-it")
			text := ""
			if op.RequestBody != nil {
				text = `{"unknown":1}`
			}
			// Times that cannot be read, and places in a list that there cannot be.
			query := ""
			for _, p := range op.Parameters {
				if p.In == "query" && slices.Contains(asked, p.Name) {
					query += "&" + p.Name + "=-"
				}
			}
			r, body := c.Do(strings.ToUpper(method), at+"?"+strings.TrimPrefix(query, "&"), nil, text)
			want, special := wrong[op.ID]
			if !special {
				want = http.StatusUnprocessableEntity
			}
			if !special && op.RequestBody == nil && at == path &&
				!slices.ContainsFunc(op.Parameters,
					func(p assemblytest.Parameter) bool { return slices.Contains(asked, p.Name) }) {
				want = http.StatusOK // nothing can be asked wrongly
			}
			if !special && want != http.StatusOK && r.StatusCode == http.StatusNotFound {
				want = http.StatusNotFound // there is no such thing, whatever else is wrong
			}
			require.Equal(t, want, r.StatusCode, "%s: %s", op.ID, body)
			n++
			if want != http.StatusUnauthorized {
				r, body = c.Do(strings.ToUpper(method), at+"?forever=1", nil, text)
				require.Equal(t, http.StatusUnprocessableEntity, r.StatusCode, "%s: %s", op.ID, body)
				require.Contains(t, body, "forever: there is no such query parameter here", op.ID)
				require.Contains(t, body, `"location":"query.forever"`, op.ID)
			}
			if op.RequestBody != nil &&
				!slices.Contains([]string{"import-workloads", "import-flows", "restore-estate", "take-listing",
					"say-seen",
					"release-policy", "follow-release"},
					op.ID) {
				r, body = c.Do(strings.ToUpper(method), at, nil, `{"broken`)
				require.Contains(t, []int{400, 422}, r.StatusCode, "%s: %s", op.ID, body)
				r, body = c.Do(strings.ToUpper(method), at, map[string]string{"Content-Type": "text/html"}, `{}`)
				require.Equal(t, 415, r.StatusCode, "%s: %s", op.ID, body)
			}
		}
	}
	require.Greater(t, n, 80)
	for path, status := range map[string]int{"/api/v1/nothing": 404, "/api/v2/policy": 404} {
		r, body := c.Do("GET", path, nil, "")
		require.Equal(t, status, r.StatusCode)
		require.Contains(t, body, `"type":"/problems/not-found"`)
	}
	// of which none is described
	for _, path := range []string{"/api/v1/events", "/api/v1/watch/stream", "/api/v1/watch/flows"} {
		r, body := c.Do("GET", path+"?forever=1", nil, "")
		require.Equal(t, 422, r.StatusCode, path)
		require.Contains(t, body, `forever`)
	}
	r, body := c.Do("GET", "/api/v1/ledger?serverss=any", nil, "")
	require.Equal(t, 422, r.StatusCode)
	require.Contains(t, body, "did you mean servers?")
	r, body = c.Do("PATCH", "/api/v1/policy", nil, "{}")
	require.Equal(t, 405, r.StatusCode)
	require.Contains(t, body, `"type":"/problems/no-such-method"`)
	r, body = c.Do("POST", "/api/v1/policy/undo", map[string]string{"Sec-Fetch-Site": "cross-site"}, "{}")
	require.Equal(t, 403, r.StatusCode)
	require.Contains(t, body, `"type":"/problems/forbidden"`)
}

// Paths from before there were versions lead to those of today.
func TestPathsWithoutAVersionLeadOn(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	var list inventoryrest.WorkloadList
	require.Equal(t, 200, c.Call("GET", "/api/workloads?limit=1", nil, &list))
	require.Equal(t, 1, list.Total)
	require.Equal(t, 201, c.Call("POST", "/api/policy/edits",
		map[string]any{"revision": 0, "op": "add", "text": "group g = any"}, nil), "with the body")
}

func TestListsAreReadInParts(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	for n := range 5 {
		_, _, status := c.Edit(n+1, "add", map[string]any{"text": fmt.Sprintf("group more-%d = any", n)})
		require.Equal(t, 201, status)
	}
	var names []string
	for path := "/api/v1/groups?limit=3"; path != ""; {
		var part []groupingrest.GroupOut
		r := c.SendWith("GET", path, nil, &part, nil)
		require.Equal(t, "7", r.Header.Get("Total-Count"))
		for _, g := range part {
			names = append(names, g.Name)
		}
		next := regexp.MustCompile(`^<(.*)>; rel="next"$`).FindStringSubmatch(r.Header.Get("Link"))
		if path = ""; next != nil {
			path = next[1]
		}
	}
	var whole []string
	var all []groupingrest.GroupOut
	c.Get("/api/v1/groups", &all)
	for _, g := range all {
		whole = append(whole, g.Name)
	}
	require.Equal(t, whole, names)
	var part []model.Revision
	require.Equal(t, "6", c.SendWith("GET", "/api/v1/policy/revisions?limit=2&offset=1", nil, &part,
		nil).Header.Get("Total-Count"))
	require.Equal(t, []int{5, 4}, []int{part[0].No, part[1].No})
}

// A whole text replaces only what its author has read.
func TestReplacingNeedsWhatWasRead(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	r := c.SendWith("GET", "/api/v1/policy", nil, nil, nil)
	require.Equal(t, `"1"`, r.Header.Get("ETag"))
	in := map[string]any{"text": "group other = any\nlayer l\n"}
	var p server.Problem
	require.Equal(t, 428, c.SendWith("PUT", "/api/v1/policy/text", in, &p, nil).StatusCode)
	require.Equal(t, "/problems/if-match-missing", p.Type)
	_, _, status := c.Edit(1, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	require.Equal(t, 412, c.SendWith("PUT", "/api/v1/policy/text", in, &p,
		http.Header{"If-Match": {`"1"`}}).StatusCode)
	require.Equal(t, server.Problem{Type: "/problems/changed-meanwhile", Title: "Precondition Failed", Status: 412,
		Detail: p.Detail, Revision: 2, Was: `"1"`, Now: `"2"`}, p)
	r = c.SendWith("PUT", "/api/v1/policy/text", in, nil, http.Header{"If-Match": {`"2"`}})
	require.Equal(t, 201, r.StatusCode)
	require.Equal(t, "/api/v1/policy/revisions/3", r.Header.Get("Location"))
	var made draftingrest.RevisionOut
	c.Get(r.Header.Get("Location"), &made)
	require.Equal(t, "group other = any\nlayer l\n", made.Text)
	require.Equal(t, 200, c.SendWith("PUT", "/api/v1/policy/text", in, nil,
		http.Header{"If-Match": {`"3"`}}).StatusCode, "the same text changes nothing")
}

// nothing is an App that only describes itself.
func nothing(t *testing.T) *assembly.App { return assembly.New(t.Context(), assembly.Options{}) }
