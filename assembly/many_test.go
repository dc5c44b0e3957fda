package assembly_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/core/report"
	"lucidorchard/database/databasetest"
	draftingrest "lucidorchard/drafting/rest"
	"lucidorchard/events"
	groupingrest "lucidorchard/grouping/rest"
	"lucidorchard/server"
)

func TestAnEditOfAStatementThatHasChangedIsRefused(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	_, _, status := c.Edit(1, "change", map[string]any{"line": 1, "was": "env is live",
		"text": "group live = env in (live, trial)"})
	require.Equal(t, 201, status)
	_, p, status := c.Edit(2, "change", map[string]any{"line": 1, "was": "env is live",
		"text": "group live = env is bench"})
	require.Equal(t, 409, status, "also where the page names the newest revision")
	require.Contains(t, p.Detail, "It was: env is live. Now, in revision 2: group live = env in (live, trial).")
}

// Of two who set one tag at once, each on what both were shown, one is told.
func TestOneOfTwoThatSetOneTagAtOnceIsTold(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	was := "live"
	for round := range 30 {
		var status [2]int
		var group sync.WaitGroup
		for k := range status {
			group.Go(func() {
				body := fmt.Sprintf(`{"workloads": ["w-1"], "key": "env", "value": "%d-%d", "was": %q}`, round, k,
					was)
				r, err := http.Post(c.Base+"/api/v1/tags", "application/json", strings.NewReader(body))
				if err == nil {
					status[k] = r.StatusCode
					r.Body.Close()
				}
			})
		}
		group.Wait()
		require.ElementsMatch(t, []int{200, 409}, status[:], "round %d", round)
		was = fmt.Sprintf("%d-%d", round, map[bool]int{true: 0, false: 1}[status[0] == 200])
	}
}

func TestARequestThatIsSentAgainIsStoredOnce(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	edit := `{"revision":1,"op":"add","text":"group depots = address in 10.40.0.0/16"}`
	first, one := c.Do("POST", "/api/v1/policy/edits", map[string]string{"Idempotency-Key": "k1"}, edit)
	require.Equal(t, 201, first.StatusCode, one)
	again, two := c.Do("POST", "/api/v1/policy/edits", map[string]string{"Idempotency-Key": "k1"}, edit)
	require.Equal(t, 201, again.StatusCode)
	require.Equal(t, one, two)
	require.Equal(t, "true", again.Header.Get("Idempotency-Replayed"))
	r, text := c.Do("POST", "/api/v1/policy/edits", map[string]string{"Idempotency-Key": "k1"},
		strings.Replace(edit, "depots", "others", 1))
	require.Equal(t, 422, r.StatusCode)
	require.Contains(t, text, "another request was sent with it")
	r, _ = c.Do("POST", "/api/v1/policy/edits", map[string]string{"Idempotency-Key": "k2"},
		`{"revision":1,"op":"remove","line":99}`)
	require.Equal(t, 422, r.StatusCode, "what was refused is not remembered")
	r, _ = c.Do("POST", "/api/v1/policy/edits", map[string]string{"Idempotency-Key": "k2"},
		`{"revision":2,"op":"add","text":"group b = env is bench"}`)
	require.Equal(t, 201, r.StatusCode)
	r, text = c.Do("POST", "/api/v1/policy/undo", map[string]string{"Idempotency-Key": "k3"}, `{}`)
	require.Equal(t, 200, r.StatusCode, text)
	c.Do("POST", "/api/v1/policy/undo", map[string]string{"Idempotency-Key": "k3"}, `{}`)
	require.Contains(t, c.Text(), "group depots", "one undo, not two")
	require.NotContains(t, c.Text(), "group b ")
}

// While the answer to COMMIT is lost again and again, nothing is doubled and
// nothing that was said to be stored is missing.
func TestEditsWhoseCommitsAreLost(t *testing.T) {
	p := databasetest.NewProxy(t, databasetest.Database(t))
	db, err := assembly.Open(t.Context(), p.URL)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	c := assemblytest.Small(t, db, assembly.HandlerOptions{})
	c.Begin()
	for n := range 10 {
		p.LoseCommits.Store(0)
		var head draftingrest.PolicyOut
		c.Get("/api/v1/policy", &head)
		p.LoseCommits.Store(1)
		text, err := json.Marshal(map[string]any{"revision": head.Revision, "op": "add",
			"text": fmt.Sprintf("group g%d = env is live", n)})
		require.NoError(t, err)
		var answer string
		for try := range 5 {
			r, raw := c.Do("POST", "/api/v1/policy/edits",
				map[string]string{"Idempotency-Key": fmt.Sprint("key ", n)}, string(text))
			if answer = raw; r.StatusCode == 201 {
				break
			}
			require.Less(t, try, 4, raw)
		}
		p.LoseCommits.Store(0)
		require.Equal(t, 1, strings.Count(c.Text(), fmt.Sprintf("group g%d ", n)), answer)
	}
}

// One edit is one event, which says what there is now.
func TestAnEditIsOneEvent(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", c.Base+"/api/v1/events", nil)
	require.NoError(t, err)
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	var mu sync.Mutex
	var got bytes.Buffer
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := r.Body.Read(b)
			mu.Lock()
			got.Write(b[:n])
			mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	seen := func() (out []events.Event) {
		mu.Lock()
		defer mu.Unlock()
		for line := range strings.Lines(got.String()) {
			if data, ok := strings.CutPrefix(line, "data: "); ok {
				var e events.Event
				require.NoError(t, json.Unmarshal([]byte(data), &e))
				out = append(out, e)
			}
		}
		return out
	}
	require.Eventually(t, func() bool { all := seen(); return len(all) > 0 && all[len(all)-1].Revision == 1 },
		10*time.Second, 10*time.Millisecond)
	before := len(seen())
	_, _, status := c.Edit(1, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	require.Equal(t, 200, c.Call("GET", "/api/v1/summary", nil, nil))
	require.Eventually(t, func() bool { return len(seen()) > before }, 10*time.Second, 10*time.Millisecond)
	time.Sleep(1500 * time.Millisecond) // longer than the server looks for changes of others
	require.Len(t, seen(), before+1)
	require.Equal(t, 2, seen()[before].Revision)
}

func TestProposalsThatAreTooWideAreBarredHere(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive", map[string]any{}, &job))
	require.Equal(t, "done", c.Job(&job).State)
	var ps draftingrest.Proposals
	c.Get("/api/v1/proposals", &ps)
	i := slices.IndexFunc(ps.Derived.Proposals, func(p draftingrest.ProposalOut) bool { return p.Barred })
	require.NotEqual(t, -1, i)
	wide := ps.Derived.Proposals[i]
	var p assemblytest.Problem
	require.Equal(t, 422, c.Judge(&p, assemblytest.Taking(wide)))
	require.Contains(t, p.Detail, "can only be narrowed")
	require.Equal(t, 422, c.Judge(&p, assemblytest.Taking(ps.Derived.Proposals[0]), assemblytest.Taking(wide)),
		"nor among others")
	for k := range wide.Choices {
		status := c.Judge(&p, draftingrest.Judgement{Proposal: wide.ID, Do: "take", Choice: &k})
		require.Equal(t, k < wide.Own, status == 201, "only narrower: %s", p.Detail)
		if status == 201 {
			require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
		}
	}
	c.Get("/api/v1/proposals", &ps)
	require.Empty(t, ps.Refused, "what was taken narrower was undone with it")
}

// Renaming a group takes its probes along, and undoing brings both back.
func TestRenamingCarriesProbes(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	var probes []checkingrest.ProbeOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/probes", map[string]any{"text": "live -> live tcp/8443 = permit",
		"reason": "so"},
		&probes))
	in := map[string]any{"revision": 1, "name": "live", "to": "alive"}
	var out groupingrest.RegroupOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/groups/rename?dryRun=true", in, &out))
	require.Empty(t, out.Consequences.Probes)
	require.Contains(t, out.Changed, "probe live -> live tcp/8443")
	require.Equal(t, 201, c.Call("POST", "/api/v1/groups/rename", in, nil))
	c.Get("/api/v1/probes", &probes)
	require.Len(t, probes, 1)
	require.Equal(t, "alive -> alive tcp/8443", probes[0].Question)
	require.Equal(t, "so", probes[0].Reason)
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	probes = nil
	c.Get("/api/v1/probes", &probes)
	require.Equal(t, "live -> live tcp/8443", probes[0].Question)
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	c.Get("/api/v1/probes", &probes)
	require.Empty(t, probes, "keeping it is undone as well")
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/redo", map[string]any{}, nil))
	c.Get("/api/v1/probes", &probes)
	require.Len(t, probes, 1)
}

func TestGoingBackToARevision(t *testing.T) {
	c := assemblytest.Small(t, nil, assembly.HandlerOptions{})
	c.Begin()
	_, _, status := c.Edit(1, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	_, _, status = c.Edit(2, "remove", map[string]any{"line": 5})
	require.Equal(t, 201, status)
	var d draftingrest.Difference
	c.Get("/api/v1/policy/revisions/1/difference", &d)
	require.Equal(t, draftingrest.Difference{Revision: 1, Against: 3, Statements: []report.Statement{
		{Change: "removed", Text: "permit live -> live on tcp/8443"},
		{Change: "added", Text: "group bench = env is bench"}}}, d)
	c.Get("/api/v1/policy/revisions/1/difference?against=2", &d)
	require.Len(t, d.Statements, 1)
	var out answers.EditOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/revisions/1/restore?dryRun=true", map[string]any{}, &out))
	require.NotNil(t, out.Consequences)
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/revisions/1/restore", map[string]any{}, &out))
	require.Equal(t, 4, out.Revision)
	require.Equal(t, assemblytest.Draft, c.Text())
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Contains(t, c.Text(), "group bench")
	require.Equal(t, 404, c.Call("GET", "/api/v1/policy/revisions/99", nil, nil))
	require.Equal(t, 404, c.Call("POST", "/api/v1/policy/revisions/99/restore", map[string]any{}, nil))
}
