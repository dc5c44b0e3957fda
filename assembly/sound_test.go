package assembly_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/consequences"
	"lucidorchard/database/databasetest"
	groupingrest "lucidorchard/grouping/rest"
	"lucidorchard/imports"
	"lucidorchard/model"
	"lucidorchard/server"
	troublerest "lucidorchard/trouble/rest"
)

// Many files sent one after the other are each imported as they are, whatever
// comes after them.
func TestFilesSentOneAfterTheOtherAreEachRead(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	var jobs []*server.Job
	const rows = 500
	for n := range 12 {
		var text strings.Builder
		if n%3 == 2 {
			for i := range rows {
				fmt.Fprintf(&text, `{"start":"2026-11-20T10:00:00Z","src":"10.%d.%d.%d","dst":"10.99.0.1","proto":"tcp","dport":443}`+"\n", n, i/250, i%250)
			}
		} else {
			text.WriteString("start,src,dst,proto,dport\n")
			for i := range rows - n {
				fmt.Fprintf(&text, "2026-11-20T10:00:00Z,10.%d.%d.%d,10.99.0.1,tcp,443\n", n, i/250, i%250)
			}
		}
		var a answers.ImportAnswer
		require.Equal(t, 202, c.Call("POST", "/api/v1/imports/flows", text.String(), &a))
		jobs = append(jobs, a.Job)
	}
	want := 0
	for n, j := range jobs {
		done := c.Job(j)
		require.Equal(t, "done", done.State, done.Message)
		var r imports.ImportReport
		require.NoError(t, json.Unmarshal(*done.Result, &r))
		if n%3 == 2 {
			want += rows
			require.Equal(t, rows, r.Rows)
			require.Equal(t, "JSON Lines", r.FileFormat)
		} else {
			want += rows - n
			require.Equal(t, rows-n, r.Rows)
		}
		require.Zero(t, r.Bad)
	}
	var s checkingrest.Summary
	c.Get("/api/v1/summary", &s)
	require.Equal(t, want, s.Conversations, "none lost, none twice")
}

func TestAFileThatDoesNotArriveWholeIsNoFile(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	r, w := io.Pipe()
	go func() {
		_, _ = w.Write([]byte("start,src,dst,proto,dport\n2026-11-20T10:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n"))
		w.CloseWithError(fmt.Errorf("the cable was pulled"))
	}()
	req, err := http.NewRequest("POST", c.Base+"/api/v1/imports/flows", r)
	require.NoError(t, err)
	_, err = http.DefaultClient.Do(req)
	require.Error(t, err)
	var jobs []server.Job
	c.Get("/api/v1/jobs", &jobs)
	require.Empty(t, jobs)
}

func TestBadNumbersAndTextsAreRefusedWithTheirPlace(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	for _, path := range []string{"/api/v1/workloads?offset=9223372036854775807",
		"/api/v1/ledger?offset=9223372036854775807", "/api/v1/conversations?offset=9223372036854775807&limit=1000"} {
		require.Equal(t, 200, c.Call("GET", path, nil, nil), path)
	}
	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("POST", "/api/v1/proposals/judge", assemblytest.Judgements(1), &p))
	for path, in := range map[string]any{
		"/api/v1/tags":             map[string]any{"workloads": []string{"w-1"}, "key": "env", "value": "a\x00b"},
		"/api/v1/proposals/refuse": map[string]any{"rule": "a\x00b", "reason": "x"},
		"/api/v1/tokens":           map[string]any{"name": "a\x00b", "source": "x"},
	} {
		require.Equal(t, 422, c.Call("POST", path, in, &p), path)
		require.Contains(t, p.Detail, "found a NUL character", path)
		require.Contains(t, p.Detail, "body.", path)
	}
	var a answers.ImportAnswer
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true",
		"id,name\na,one\nb,t\x00wo\nc,"+strings.Repeat("x", 20_000)+"\n", &a))
	require.Equal(t, 2, a.Preview.Bad)
	require.Equal(t, 3, a.Preview.Errors[0].Line)
	require.Contains(t, a.Preview.Errors[0].Reason, "NUL character, as character 2")
	require.Contains(t, a.Preview.Errors[1].Reason, "20000 characters")
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/flows?preview=true",
		"start,src,dst,proto,dport\n0001-01-01T00:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n9999-12-31T00:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n2026-11-20T10:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n", &a))
	require.Equal(t, 2, a.Preview.Bad)
	require.Contains(t, a.Preview.Errors[1].Reason, "expected a time from 1990 to 2099")
}

func TestLosingAnAssertionIsSaid(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	_, p, status := c.Edit(1, "add",
		map[string]any{"text": "assert always live -> live on tcp/8443 \"The way back\""})
	require.Equal(t, 201, status, p.Detail)
	var out answers.EditOut
	require.Equal(t, 200, c.Call("PUT", "/api/v1/policy/text?dryRun=true",
		map[string]any{"text": "group live = env is live\n"}, &out))
	require.ElementsMatch(t, []consequences.AssertChange{{Sentence: "assert never trial -> live on any",
		Before: "holds",
		After:  "gone"}, {Sentence: "assert always live -> live on tcp/8443", Before: "holds", After: "gone"}},
		out.Consequences.Asserts)
	var removed groupingrest.RegroupOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/groups/remove?dryRun=true",
		map[string]any{"revision": 2, "name": "live"}, &removed))
	require.Len(t, removed.Consequences.Asserts, 2)
	for _, a := range removed.Consequences.Asserts {
		require.Equal(t, "gone", a.After)
	}
}

func TestAPatternThatWouldTakeAllMemoryIsRefused(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	bad := `name matches "` + strings.Repeat("(a|b)*", 19_500) + `"`
	var p groupingrest.GroupPreview
	require.Equal(t, 200, c.Call("POST", "/api/v1/groups/preview", map[string]any{"name": "", "text": bad}, &p))
	require.Len(t, p.Errors, 1)
	require.Contains(t, p.Errors[0].Message, "octets long")
	_, prob, status := c.Edit(1, "add", map[string]any{"text": "group g = " + bad})
	require.Equal(t, 422, status)
	require.Contains(t, prob.Detail, "RE2")
	// One that an earlier version stored does not keep the server from starting.
	require.NoError(t, c.DB.AddRevision(t.Context(), model.Revision{No: 2, Text: assemblytest.Draft + "group g = " +
		bad + "\n",
		Blame: model.Blame{1, 1, 1, 1, 1, 1, 2}, Author: "old", Words: "Add"}))
	again := assemblytest.Small(t, c.DB, assembly.HandlerOptions{})
	var groups []groupingrest.GroupOut
	again.Get("/api/v1/groups", &groups)
	require.Len(t, groups, 3)
	var troubles []troublerest.Trouble
	again.Get("/api/v1/troubles", &troubles)
	require.Len(t, troubles, 1)
	require.Contains(t, troubles[0].Words, "on line 7")
}

func TestOnlyItsOwnNamesAreAnswered(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{AllowHosts: []string{"orchard.saltmarsh.example"}})
	for host, want := range map[string]int{"evil.example": 421, "orchard.saltmarsh.example": 200,
		"Orchard.Saltmarsh.Example:7411": 200, "localhost:7411": 200, "127.0.0.1": 200, "[::1]:7411": 200,
		"127.0.0.1.evil.example": 421} {
		r, text := c.Do("GET", "/api/v1/summary", map[string]string{"Host": host}, "")
		require.Equal(t, want, r.StatusCode, host+text)
		r, _ = c.Do("POST", "/api/v1/policy/undo", map[string]string{"Host": host, "Origin": "http://" + host}, "{}")
		require.Equal(t, want == 421, r.StatusCode == 421, host)
	}
	for _, path := range []string{"/", "/api/v1/summary", "/api/v1/nothing", "/api/v1/workloads.csv"} {
		r, _ := c.Do("GET", path, nil, "")
		require.Contains(t, r.Header.Get("Content-Security-Policy"), "script-src 'self'; ")
		require.Contains(t, r.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
		require.Equal(t, "nosniff", r.Header.Get("X-Content-Type-Options"))
		require.Equal(t, "no-referrer", r.Header.Get("Referrer-Policy"))
	}
}

func TestTheDatabaseAwayIsSaidAndNotItsSecrets(t *testing.T) {
	database := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	c := assemblytest.Small(t, db, assembly.HandlerOptions{})
	c.Begin()
	back := databasetest.Away(t, database)
	u, err := url.Parse(database)
	require.NoError(t, err)
	secret, _ := u.User.Password()
	for _, path := range []string{"/api/v1/summary", "/api/v1/jobs/1", "/api/v1/sources", "/readyz",
		"/api/v1/policy/revisions"} {
		r, text := c.Do("GET", path, nil, "")
		require.Equal(t, 503, r.StatusCode, path+text)
		for _, word := range []string{secret, u.Port(), "orchard@", "SQLSTATE"} {
			require.NotContains(t, text, word, path)
		}
	}
	require.Eventually(t, func() bool {
		var troubles []troublerest.Trouble
		c.Get("/api/v1/troubles", &troubles)
		return len(troubles) == 1 && troubles[0].Kind == "database" && troubles[0].Grave
	}, 20*time.Second, 50*time.Millisecond)
	back()
	require.Eventually(t, func() bool {
		var troubles []troublerest.Trouble
		c.Get("/api/v1/troubles", &troubles)
		return len(troubles) == 0 && c.Call("GET", "/api/v1/summary", nil, nil) == 200
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, 404, c.Call("GET", "/api/v1/jobs/1", nil, nil))
}

// A database that hangs is not waited for by who asks whether all is ready.
func TestReadinessDoesNotHang(t *testing.T) {
	p := databasetest.NewProxy(t, databasetest.Database(t))
	db, err := assembly.Open(t.Context(), p.URL)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	c := assemblytest.Small(t, db, assembly.HandlerOptions{})
	r, _ := c.Do("GET", "/readyz", nil, "")
	require.Equal(t, 200, r.StatusCode)
	p.Stalled.Store(true)
	defer p.Stalled.Store(false)
	r, text := c.Do("GET", "/readyz", nil, "")
	require.Equal(t, 503, r.StatusCode, text)
	r, _ = c.Do("GET", "/healthz", nil, "")
	require.Equal(t, 200, r.StatusCode)
	// Who leaves does not wait for it either.
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", c.Base+"/api/v1/summary", nil)
	require.NoError(t, err)
	_, err = http.DefaultClient.Do(req)
	require.Error(t, err)
}
