package assembly_test

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	draftingrest "lucidorchard/drafting/rest"
	groupingrest "lucidorchard/grouping/rest"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/server"
)

// The same quantity is one number, whichever view says it.
func TestNumbersAgree(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive", nil, &job))
	require.Equal(t, "done", c.Job(&job).State)
	agree := func(step string) {
		var s checkingrest.Summary
		var check checkingrest.CheckOut
		var policy draftingrest.PolicyOut
		var all, uncovered answers.ConversationPage
		var workloads inventoryrest.WorkloadList
		var figures checkingrest.Figures
		var groups []groupingrest.GroupOut
		var ps draftingrest.Proposals
		var findings checkingrest.FindingList
		c.Get("/api/v1/summary", &s)
		c.Get("/api/v1/check", &check)
		c.Get("/api/v1/policy", &policy)
		c.Get("/api/v1/conversations?limit=1", &all)
		c.Get("/api/v1/conversations?limit=1&verdict=uncovered", &uncovered)
		c.Get("/api/v1/workloads?limit=1", &workloads)
		c.Get("/api/v1/figures", &figures)
		c.Get("/api/v1/groups", &groups)
		c.Get("/api/v1/proposals", &ps)
		c.Get("/api/v1/findings", &findings)
		require.NotEmpty(t, s.Example, step)
		var answer checkingrest.Answer
		c.Get("/api/v1/ask?q="+url.QueryEscape(s.Example), &answer)
		require.NotNil(t, answer.Why, "%s: the example of the ask bar has an answer: %s", step, s.Example)

		require.Equal(t, []int{s.Conversations, s.Conversations}, []int{check.Conversations, all.Total}, step)
		require.Equal(t, []int{s.Uncovered, s.Uncovered, s.Uncovered},
			[]int{check.Counts.Uncovered, policy.Counts.Uncovered, uncovered.Total}, step)
		require.Equal(t, check.Counts, policy.Counts, step)
		require.Equal(t, check.Conversations, check.Counts.Permit+check.Counts.Reject+check.Counts.Uncovered)
		require.InDelta(t, 1-float64(s.Uncovered)/float64(s.Conversations), s.Decided, 1e-9)
		require.Equal(t, []int{s.Workloads, s.Workloads}, []int{workloads.All, workloads.Total}, step)
		require.Equal(t, []int{s.Rules, s.Rules, s.Rules}, []int{policy.Rules, check.Rules, len(figures.Rules)}, step)
		require.Equal(t, []int{s.Revision, s.Revision}, []int{policy.Revision, findings.Revision}, step)
		require.Equal(t, []int{s.Groups, s.Groups}, []int{len(groups), len(figures.Groups)}, step)

		// What decides nothing and what decides something are all that there is.
		hits, byLine := 0, map[int]int{}
		for _, st := range policy.Statements {
			if st.Rule != nil {
				hits += st.Hits
				byLine[st.Line] = st.Hits
			}
		}
		require.Equal(t, s.Conversations-s.Uncovered, hits, step)
		for _, r := range figures.Rules {
			require.Equal(t, byLine[r.Line], r.Use.Conversations, step)
		}
		undecided := 0
		for _, g := range groups {
			if g.Undecided > 0 {
				undecided++
			}
			var preview groupingrest.GroupPreview
			require.Equal(t, 200, c.Call("POST", "/api/v1/groups/preview",
				map[string]any{"name": g.Name, "text": g.Body},
				&preview))
			require.Equal(t, []int{g.In, g.Unaddressed, g.Undecided},
				[]int{preview.Counts.In, preview.Unaddressed, preview.Counts.Undecided}, "%s: %s", step, g.Name)
			var members groupingrest.MemberPage
			c.Get("/api/v1/groups/members?name="+url.QueryEscape(g.Name), &members)
			require.Equal(t, g.In, members.Total, "%s: %s", step, g.Name)
		}
		require.Equal(t, s.Undecided, undecided, step)

		// Proposals: what waits is what the page shows, and what was looked at is all
		// that no rule decided, but for what the network only dropped.
		judged := 0
		for _, p := range ps.Derived.Proposals {
			if p.Refused == nil || p.Again {
				for _, h := range assemblytest.OpenProposals(ps) {
					if h.ID == p.ID {
						judged++
					}
				}
				if p.Barred {
					judged++
				}
			}
		}
		require.Equal(t, s.Proposals, judged, step)
		if !ps.Stale {
			require.Equal(t, s.Uncovered, ps.Derived.Considered+ps.Derived.Dropped, step)
		}
	}
	agree("derived")
	var ps draftingrest.Proposals
	c.Get("/api/v1/proposals", &ps)
	first, second := assemblytest.OpenProposals(ps)[0], assemblytest.OpenProposals(ps)[1]
	require.Equal(t, 201, c.Judge(nil, assemblytest.Taking(first)))
	agree("taken")
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"wl-gate-old-3"},
		"key": "tier", "value": "entry"}, nil))
	agree("tagged")
	refusing := assemblytest.Taking(second)
	refusing.Do = "refuse"
	require.Equal(t, 200, c.Judge(nil, refusing))
	agree("refused")
}
