package rest_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/consequences"
	trafficrest "lucidorchard/traffic/rest"
)

// What is rightly rejected stops asking, and the probe that says so is asked
// again at every change, also of what an edit would do.
func TestProbes(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var check checkingrest.CheckOut
	c.Get("/api/v1/check", &check)
	require.Positive(t, check.Asking)
	var rows trafficrest.LedgerPage
	c.Get("/api/v1/ledger?verdict=reject&odd=true&limit=100", &rows)
	for _, row := range rows.Rows {
		var out checkingrest.SettleOut
		c.Get("/api/v1/settle?as=reject&verdict=reject&near="+url.QueryEscape(row.Key)+"&service="+
			url.QueryEscape(row.Service), &out)
		require.NotEmpty(t, out.Probe)
		var probes []checkingrest.ProbeOut
		require.Equal(t, 200, c.Call("POST", "/api/v1/probes",
			map[string]any{"text": out.Probe + " = reject", "reason": "the depot was told"}, &probes))
		last := probes[len(probes)-1]
		require.Equal(t, "the depot was told", last.Reason)
		require.Positive(t, last.Rightly, last.Question)
	}
	c.Get("/api/v1/check", &check)
	require.Zero(t, check.Asking, "all of it is settled")
	require.Positive(t, check.Accepted)
	require.Positive(t, check.Leaks)
	var list answers.ConversationPage
	c.Get("/api/v1/conversations?verdict=reject&asking=true", &list)
	require.Equal(t, check.Counts.Reject-check.Accepted, list.Total)

	// One without an expected verdict expects what it gets.
	var probes []checkingrest.ProbeOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/probes",
		map[string]any{"text": "booking-entry-live → booking-logic-live tcp/8443", "reason": ""}, &probes))
	last := probes[len(probes)-1]
	require.Equal(t, "permit", last.Want)
	require.True(t, last.Answer.AsExpected)
	line := 0
	for i, text := range strings.Split(c.Text(), "\n") {
		if strings.HasPrefix(text, "permit booking-entry-live -> booking-logic-live") {
			line = i + 1
		}
	}
	var edit answers.EditOut
	switchOff := map[string]any{"revision": 1, "op": "switch", "line": line}
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/edits?dryRun=true", switchOff, &edit))
	require.Equal(t, []consequences.ProbeChange{{Question: last.Question, Want: "permit",
		Words: edit.Consequences.Probes[0].Words, AsExpected: false}}, edit.Consequences.Probes)
	require.Contains(t, edit.Consequences.Probes[0].Words, "uncovered for all")
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/edits", switchOff, &edit))
	c.Get("/api/v1/probes", &probes)
	require.False(t, probes[len(probes)-1].Answer.AsExpected)
	require.Contains(t, c.Raw("/api/v1/probes.csv"), last.Question+",permit,no,")
	require.Contains(t, c.Raw("/api/v1/probes.txt"), last.Question+" = permit\n")

	// What cannot be asked any more says why, and is kept; what is not right is not.
	require.Equal(t, 200, c.Call("POST", "/api/v1/probes",
		map[string]any{"text": "wharf-legacy -> booking-entry-live any = uncovered", "reason": ""}, &probes))
	for i, text := range strings.Split(c.Text(), "\n") {
		if strings.HasPrefix(text, "group wharf-legacy") {
			require.Equal(t, 201, c.Call("POST", "/api/v1/policy/edits",
				map[string]any{"revision": edit.Revision, "op": "remove", "line": i + 1}, &edit))
		}
	}
	c.Get("/api/v1/probes", &probes)
	require.Contains(t, probes[len(probes)-1].Problem, "there is no group and no workload wharf-legacy")
	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("POST", "/api/v1/probes",
		map[string]any{"text": "live -> trial any\nnobody -> trial any", "reason": ""}, &p))
	require.Contains(t, p.Detail, "line 2: there is no group and no workload nobody")
	require.Equal(t, 422, c.Call("POST", "/api/v1/probes", map[string]any{"text": "any -> any any", "reason": ""},
		&p))
	require.Contains(t, p.Detail, "several verdicts")
	require.Equal(t, 200, c.Call("POST", "/api/v1/probes/drop", map[string]any{"questions": []string{last.Question}},
		&probes))
	for _, p := range probes {
		require.NotEqual(t, last.Question, p.Question)
	}
}

func TestWhatIf(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var out checkingrest.WhatIf
	require.Equal(t, 200, c.Call("POST", "/api/v1/whatif",
		map[string]any{"text": "booking-entry-live -> booking-logic-live tcp/8443 = permit\nnobody -> live " +
			"tcp/1\nbooking-entry-02 → fares-store-01 tcp/5432\n10.40.3.3 -> booking-entry-live web, ssh"}, &out))
	require.Len(t, out.Answers, 3)
	require.Equal(t, 2, out.Errors[0].Line)
	require.Equal(t, "permit", out.Answers[0].Verdict)
	require.True(t, out.Answers[0].AsExpected)
	require.Equal(t, out.Answers[0].Pairs, out.Answers[0].Counts.Permit)
	require.Positive(t, out.Answers[0].MaybeCount, "machines without a tier may be meant")
	require.NotEmpty(t, out.Answers[0].Undecided[0].Lacks)
	require.Equal(t, out.Answers[2].Pairs, out.Answers[2].Mixed, "web is permitted, ssh is not")
	require.Len(t, out.Answers[2].Parts, 2)
	var answer checkingrest.Answer
	c.Get("/api/v1/ask?q="+url.QueryEscape("booking-entry-live -> booking-logic-live tcp/8443"), &answer)
	require.Equal(t, out.Answers[0].Words, answer.Several.Words)
}

// An assertion is tried before it is kept; one that does not hold is mended.
func TestAssertionsAreTriedAndMended(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var tried checkingrest.Tried
	try := func(text string) checkingrest.Tried {
		tried = checkingrest.Tried{}
		require.Equal(t, 200, c.Call("POST", "/api/v1/assertions/try", map[string]any{"text": text}, &tried))
		return tried
	}
	require.Equal(t, "holds", try("assert never trial -> protected on any").Results[0].Result)
	require.Equal(t, "broken", try("assert never depots -> booking-entry-live on web").Results[0].Result)
	require.NotNil(t, tried.Results[0].Rule)
	require.Equal(t, "open", try("assert always trial -> trial on tcp/1").Results[0].Result)
	require.Contains(t, try("assert never nobody -> any on any").Errors[0].Message, "nobody")
	require.Equal(t, 1, tried.Errors[0].Line)
	require.Contains(t, try("permit any -> any on any").Errors[0].Message, "expected")
	require.Contains(t, try("group g = any").Errors[0].Message, "expected an assertion")

	revision := 1
	for _, text := range []string{"assert never depots -> booking-entry-live on web",
		"assert always trial -> trial on tcp/8443",
		"assert only booking-logic-live -> booking-store-live on postgres"} {
		var edit answers.EditOut
		require.Equal(t, 201, c.Call("POST", "/api/v1/policy/edits",
			map[string]any{"revision": revision, "op": "add", "text": text}, &edit))
		var all []checkingrest.AssertOut
		c.Get("/api/v1/assertions", &all)
		for _, a := range all {
			if a.Sentence != text {
				continue
			}
			require.NotEqual(t, "holds", a.Result)
			var mend checkingrest.AssertFix
			c.Get(fmt.Sprintf("/api/v1/assertions/fix?line=%d", a.Line), &mend)
			require.True(t, mend.Found, text)
			require.Equal(t, 201, c.Call("POST", "/api/v1/settle",
				map[string]any{"revision": mend.Revision, "lines": mend.Lines, "before": mend.Before}, &edit))
		}
		revision = edit.Revision
		c.Get("/api/v1/assertions", &all)
		for _, a := range all {
			if a.Sentence == text {
				require.Equal(t, "holds", a.Result, text)
			}
		}
	}
	var p assemblytest.Problem
	require.Equal(t, 404, c.Call("GET", "/api/v1/assertions/fix?line=1", nil, &p))
}

// What one server keeps the other answers with at once: they share the database.
func TestProbesOfAnotherServer(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	d := c.Second()
	var probes []checkingrest.ProbeOut
	d.Get("/api/v1/probes", &probes)
	require.Empty(t, probes)
	require.Equal(t, 200, c.Call("POST", "/api/v1/probes", map[string]any{"text": "any -> any any = reject",
		"reason": ""}, nil))
	d.Get("/api/v1/probes", &probes)
	require.Len(t, probes, 1)
	require.False(t, probes[0].Answer.AsExpected, "much of it is permitted")
	var one, two checkingrest.CheckOut
	c.Get("/api/v1/check", &one)
	d.Get("/api/v1/check", &two)
	require.Equal(t, one, two)
	require.Positive(t, one.Accepted)

	// A tag that is set changes who is meant, on both.
	var before, after checkingrest.WhatIf
	ask := map[string]any{"text": "booking-logic-live -> booking-store-live postgres"}
	require.Equal(t, 200, d.Call("POST", "/api/v1/whatif", ask, &before))
	require.NotEmpty(t, before.Answers[0].Undecided)
	lacking := before.Answers[0].Undecided[0]
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{lacking.Workload},
		"key": "tier", "value": "logic"}, nil))
	require.Equal(t, 200, d.Call("POST", "/api/v1/whatif", ask, &after))
	require.Less(t, after.Answers[0].MaybeCount, before.Answers[0].MaybeCount)
}
