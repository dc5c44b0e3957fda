package api_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/api"
	"lucidorchard/app"
	"lucidorchard/core/report"
	"lucidorchard/demo"
)

// company begins with the policy of the demo company.
func (c client) company() {
	text := demo.Policy(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC))
	require.Equal(c.t, 201, c.replace(0, text))
}

// raw reads what is no JSON.
func (c client) raw(path string) string {
	r, err := http.Get(c.base + path)
	require.NoError(c.t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(c.t, err)
	require.Equal(c.t, 200, r.StatusCode, path)
	return string(text)
}

// The totals, the strip and the list answer for the same conversations, whatever
// is selected; each part of the estate can be shown its own.
func TestCheckOfAPart(t *testing.T) {
	c := serve(t)
	c.company()
	var all, part api.CheckOut
	c.get("/api/v1/check?measure=pairs", &all)
	require.NotNil(t, all.Pairs)
	sum := func(x api.CountsOut) int { return x.Permit + x.Reject + x.Uncovered }
	require.Less(t, sum(*all.Pairs), sum(all.Counts), "some pairs talk on several services")
	c.get("/api/v1/check?for=app:booking", &part)
	require.Less(t, sum(part.Counts), sum(all.Counts))
	require.Equal(t, all.Conversations, part.Conversations)
	var parts []api.PartOut
	c.get("/api/v1/check/parts?by=app", &parts)
	found := false
	for _, p := range parts {
		if p.Key == "app:booking" {
			found = true
			require.Equal(t, part.Counts, p.Counts)
		}
	}
	require.True(t, found)
	var list api.ConversationPage
	c.get("/api/v1/conversations?for=app:booking&limit=1", &list)
	require.Equal(t, sum(part.Counts), list.Total)
	c.get("/api/v1/check/parts?by=~owner", &parts)
	require.Len(t, parts, 1)
	require.Equal(t, "owner:booking-team", parts[0].Key)
	var owned api.CheckOut
	c.get("/api/v1/check?for=owner:booking-team", &owned)
	require.Equal(t, parts[0].Counts, owned.Counts)

	for _, measure := range []string{"conversations", "pairs", "bytes"} {
		var strip api.Strip
		c.get("/api/v1/flows/strip?for=app:booking&measure="+measure+"&bins=1", &strip)
		require.Len(t, strip.Bins, 1)
		b := strip.Bins[0]
		switch measure {
		case "conversations":
			require.Equal(t, part.Counts, api.CountsOut{Permit: int(b.Permit), Reject: int(b.Reject),
				Uncovered: int(b.Uncovered)})
		case "bytes":
			require.Equal(t, part.Bytes, map[string]int64{"permit": b.Permit, "reject": b.Reject,
				"uncovered": b.Uncovered})
		case "pairs":
			require.Positive(t, b.Permit)
		}
	}
	var p problem
	require.Equal(t, 422, c.call("GET", "/api/v1/check?for=booking", nil, &p))
	require.Contains(t, p.Detail, "expected area:NAME")
	var use api.GroupUse
	c.get("/api/v1/groups/use?name=booking-logic-live", &use)
	require.Positive(t, use.Reached.Pairs)
	require.Equal(t, 404, c.call("GET", "/api/v1/groups/use?name=nobody", nil, &p))
}

// A row is permitted at one of three widths; each does what it said it would.
func TestSettlingARow(t *testing.T) {
	c := serve(t)
	c.company()
	var rows api.LedgerPage
	c.get("/api/v1/ledger?verdict=uncovered&limit=1", &rows)
	row := rows.Rows[0]
	ask := "/api/v1/settle?as=permit&near=" + url.QueryEscape(row.Key) + "&service=" + url.QueryEscape(row.Service)
	var out api.SettleOut
	c.get(ask, &out)
	require.Equal(t, row.Conversations, out.Conversations)
	require.NotEmpty(t, out.Options)
	permitted := 0
	for _, o := range out.Options {
		n := 0
		for _, v := range o.Consequences.Conversations {
			if v.After == "permit" {
				n += v.Count
			}
		}
		require.GreaterOrEqual(t, n, permitted, "a wider rule permits no less")
		require.GreaterOrEqual(t, n, out.Conversations)
		permitted = n
	}
	groups := out.Options[0]
	for _, o := range out.Options {
		if o.Width == "groups" {
			groups = o
		}
	}
	before := c.text()
	var edit api.EditOut
	body := map[string]any{"revision": out.Revision, "lines": groups.Lines, "before": groups.Before}
	require.Equal(t, 200, c.call("POST", "/api/v1/settle?dryRun=true", body, &edit))
	require.Equal(t, groups.Consequences, *edit.Consequences)
	require.Equal(t, before, c.text())
	require.Equal(t, 201, c.call("POST", "/api/v1/settle", body, &edit))
	require.Contains(t, c.text(), groups.Lines[len(groups.Lines)-1])
	c.get(ask, &out)
	require.Zero(t, out.Conversations, "all of it is permitted now")
	require.Empty(t, out.Options)

	// What a rule rejects is permitted by an exception that stands before it.
	var rejected api.ConversationPage
	c.get("/api/v1/conversations?verdict=reject&limit=1", &rejected)
	conv := rejected.Conversations[0]
	one := fmt.Sprintf("/api/v1/settle?as=permit&service=%s&client=%s&server=%s", url.QueryEscape(conv.Service),
		conv.Client.Addr, conv.Server.Addr)
	c.get(one, &out)
	require.Equal(t, 1, out.Conversations)
	if o := out.Options[0]; o.Before > 0 {
		require.NotNil(t, o.Instead)
		require.Equal(t, o.Before, o.Instead.Line)
	}
	require.Equal(t, 201, c.call("POST", "/api/v1/settle", map[string]any{"revision": out.Revision,
		"lines": out.Options[0].Lines, "before": out.Options[0].Before}, &edit))
	var why api.Why
	c.get(fmt.Sprintf("/api/v1/why?client=%s&server=%s&service=%s&at=%s", conv.Client.Addr, conv.Server.Addr,
		url.QueryEscape(conv.Service), url.QueryEscape(conv.First)), &why)
	require.Equal(t, "permit", why.Verdict)

	var p problem
	require.Equal(t, 422, c.call("POST", "/api/v1/settle", map[string]any{"revision": edit.Revision,
		"lines": []string{"permit nobody -> any on tcp/1"}, "before": 0}, &p))
	require.Contains(t, p.Detail, "nobody")
}

// What is rightly rejected stops asking, and the probe that says so is asked
// again at every change, also of what an edit would do.
func TestProbes(t *testing.T) {
	c := serve(t)
	c.company()
	var check api.CheckOut
	c.get("/api/v1/check", &check)
	require.Positive(t, check.Asking)
	var rows api.LedgerPage
	c.get("/api/v1/ledger?verdict=reject&odd=true&limit=100", &rows)
	for _, row := range rows.Rows {
		var out api.SettleOut
		c.get("/api/v1/settle?as=reject&verdict=reject&near="+url.QueryEscape(row.Key)+"&service="+url.QueryEscape(row.Service), &out)
		require.NotEmpty(t, out.Probe)
		var probes []api.ProbeOut
		require.Equal(t, 200, c.call("POST", "/api/v1/probes",
			map[string]any{"text": out.Probe + " = reject", "reason": "the depot was told"}, &probes))
		last := probes[len(probes)-1]
		require.Equal(t, "the depot was told", last.Reason)
		require.Positive(t, last.Rightly, last.Question)
	}
	c.get("/api/v1/check", &check)
	require.Zero(t, check.Asking, "all of it is settled")
	require.Positive(t, check.Accepted)
	require.Positive(t, check.Leaks)
	var list api.ConversationPage
	c.get("/api/v1/conversations?verdict=reject&asking=true", &list)
	require.Equal(t, check.Counts.Reject-check.Accepted, list.Total)

	// One without an expected verdict expects what it gets.
	var probes []api.ProbeOut
	require.Equal(t, 200, c.call("POST", "/api/v1/probes",
		map[string]any{"text": "booking-entry-live → booking-logic-live tcp/8443", "reason": ""}, &probes))
	last := probes[len(probes)-1]
	require.Equal(t, "permit", last.Want)
	require.True(t, last.Answer.AsExpected)
	line := 0
	for i, text := range strings.Split(c.text(), "\n") {
		if strings.HasPrefix(text, "permit booking-entry-live -> booking-logic-live") {
			line = i + 1
		}
	}
	var edit api.EditOut
	switchOff := map[string]any{"revision": 1, "op": "switch", "line": line}
	require.Equal(t, 200, c.call("POST", "/api/v1/policy/edits?dryRun=true", switchOff, &edit))
	require.Equal(t, []app.ProbeChange{{Question: last.Question, Want: "permit",
		Words: edit.Consequences.Probes[0].Words, AsExpected: false}}, edit.Consequences.Probes)
	require.Contains(t, edit.Consequences.Probes[0].Words, "uncovered for all")
	require.Equal(t, 201, c.call("POST", "/api/v1/policy/edits", switchOff, &edit))
	c.get("/api/v1/probes", &probes)
	require.False(t, probes[len(probes)-1].Answer.AsExpected)
	require.Contains(t, c.raw("/api/v1/probes.csv"), last.Question+",permit,no,")
	require.Contains(t, c.raw("/api/v1/probes.txt"), last.Question+" = permit\n")

	// What cannot be asked any more says why, and is kept; what is not right is not.
	require.Equal(t, 200, c.call("POST", "/api/v1/probes",
		map[string]any{"text": "wharf-legacy -> booking-entry-live any = uncovered", "reason": ""}, &probes))
	for i, text := range strings.Split(c.text(), "\n") {
		if strings.HasPrefix(text, "group wharf-legacy") {
			require.Equal(t, 201, c.call("POST", "/api/v1/policy/edits",
				map[string]any{"revision": edit.Revision, "op": "remove", "line": i + 1}, &edit))
		}
	}
	c.get("/api/v1/probes", &probes)
	require.Contains(t, probes[len(probes)-1].Problem, "there is no group and no workload wharf-legacy")
	var p problem
	require.Equal(t, 422, c.call("POST", "/api/v1/probes",
		map[string]any{"text": "live -> trial any\nnobody -> trial any", "reason": ""}, &p))
	require.Contains(t, p.Detail, "line 2: there is no group and no workload nobody")
	require.Equal(t, 422, c.call("POST", "/api/v1/probes", map[string]any{"text": "any -> any any", "reason": ""},
		&p))
	require.Contains(t, p.Detail, "several verdicts")
	require.Equal(t, 200, c.call("POST", "/api/v1/probes/drop", map[string]any{"questions": []string{last.Question}},
		&probes))
	for _, p := range probes {
		require.NotEqual(t, last.Question, p.Question)
	}
}

func TestWhatIf(t *testing.T) {
	c := serve(t)
	c.company()
	var out api.WhatIf
	require.Equal(t, 200, c.call("POST", "/api/v1/whatif",
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
	var answer api.Answer
	c.get("/api/v1/ask?q="+url.QueryEscape("booking-entry-live -> booking-logic-live tcp/8443"), &answer)
	require.Equal(t, out.Answers[0].Words, answer.Several.Words)
}

// An assertion is tried before it is kept; one that does not hold is mended.
func TestAssertionsAreTriedAndMended(t *testing.T) {
	c := serve(t)
	c.company()
	var tried api.Tried
	try := func(text string) api.Tried {
		tried = api.Tried{}
		require.Equal(t, 200, c.call("POST", "/api/v1/assertions/try", map[string]any{"text": text}, &tried))
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
		var edit api.EditOut
		require.Equal(t, 201, c.call("POST", "/api/v1/policy/edits",
			map[string]any{"revision": revision, "op": "add", "text": text}, &edit))
		var all []api.AssertOut
		c.get("/api/v1/assertions", &all)
		for _, a := range all {
			if a.Sentence != text {
				continue
			}
			require.NotEqual(t, "holds", a.Result)
			var mend api.AssertFix
			c.get(fmt.Sprintf("/api/v1/assertions/fix?line=%d", a.Line), &mend)
			require.True(t, mend.Found, text)
			require.Equal(t, 201, c.call("POST", "/api/v1/settle",
				map[string]any{"revision": mend.Revision, "lines": mend.Lines, "before": mend.Before}, &edit))
		}
		revision = edit.Revision
		c.get("/api/v1/assertions", &all)
		for _, a := range all {
			if a.Sentence == text {
				require.Equal(t, "holds", a.Result, text)
			}
		}
	}
	var p problem
	require.Equal(t, 404, c.call("GET", "/api/v1/assertions/fix?line=1", nil, &p))
}

// The report says what the table of verdicts says, part by part, as JSON and as
// Markdown.
func TestReport(t *testing.T) {
	c := serve(t)
	c.company()
	line := 0
	for i, text := range strings.Split(c.text(), "\n") {
		if strings.HasPrefix(text, "permit booking-logic-live -> fares-logic-live") {
			line = i + 1
		}
	}
	var edit api.EditOut
	require.Equal(t, 201, c.call("POST", "/api/v1/policy/edits",
		map[string]any{"revision": 1, "op": "remove", "line": line}, &edit))
	require.Equal(t, 201, c.call("POST", "/api/v1/settle", map[string]any{"revision": edit.Revision,
		"lines": []string{`permit freight-logic -> fares-logic-live on tcp/8443 "Freight *pays*"`,
			"group freight-logic = app is freight and tier is logic"}, "before": 0}, &edit))
	var rows api.LedgerPage
	c.get("/api/v1/ledger?verdict=reject&limit=1", &rows)
	var accepted api.SettleOut
	c.get("/api/v1/settle?as=reject&verdict=reject&near="+url.QueryEscape(rows.Rows[0].Key)+"&service="+url.QueryEscape(rows.Rows[0].Service), &accepted)
	require.Equal(t, 200, c.call("POST", "/api/v1/probes", map[string]any{"text": accepted.Probe + " = reject",
		"reason": "a scanner"}, nil))
	var check api.CheckOut
	c.get("/api/v1/check?against=1", &check)
	var r report.Report
	c.get("/api/v1/report?against=1", &r)
	require.Equal(t, check.Difference.Changed, r.Changed)
	require.Equal(t, check.Counts, api.CountsOut(r.Now))
	require.Equal(t, []report.Statement{{Change: "removed",
		Text: "permit booking-logic-live -> fares-logic-live on tcp/8443"}}, r.Statements[:1])
	byName := map[string]report.Part{}
	lost, gained := 0, 0
	for _, p := range r.Parts {
		byName[p.Name] = p
		for _, s := range p.Loses {
			if p.Name == "booking" {
				lost += s.Conversations
			}
		}
		for _, s := range p.Gains {
			if p.Name == "freight" {
				gained += s.Conversations
			}
		}
	}
	require.Equal(t, check.Difference.Counts["permit"].Uncovered, lost)
	require.Equal(t, check.Difference.Counts["uncovered"].Permit, gained)
	require.Positive(t, lost*gained)
	require.Equal(t, "booking-team", byName["booking"].Owner)
	require.Equal(t, byName["fares"].Loses, byName["booking"].Loses, "both ends are told")
	rightly := 0
	for _, p := range r.Parts {
		for _, s := range p.Accepted {
			require.Equal(t, "a scanner", s.Why)
			rightly += s.Conversations
		}
	}
	require.Positive(t, rightly)
	require.NotEmpty(t, r.Assertions)
	require.Equal(t, accepted.Probe, r.Probes[0].Question)

	text := c.raw("/api/v1/report.md?against=1")
	require.Contains(t, text, "# What the draft changes: Saltmarsh Ferries")
	require.Contains(t, text, "- permit booking-logic-live -> fares-logic-live on tcp/8443")
	require.Contains(t, text, `Freight \*pays\*`, "notes are no markup")
	require.Contains(t, text, "### Loses")
	var own report.Report
	c.get("/api/v1/report?against=1&for=app:freight", &own)
	require.Len(t, own.Parts, 1)
	require.Equal(t, byName["freight"].Gains, own.Parts[0].Gains)
	_, err := json.Marshal(own)
	require.NoError(t, err)
}

// What one server keeps the other answers with at once: they share the database.
func TestProbesOfAnotherServer(t *testing.T) {
	c := serve(t)
	c.company()
	d := c.second()
	var probes []api.ProbeOut
	d.get("/api/v1/probes", &probes)
	require.Empty(t, probes)
	require.Equal(t, 200, c.call("POST", "/api/v1/probes", map[string]any{"text": "any -> any any = reject",
		"reason": ""}, nil))
	d.get("/api/v1/probes", &probes)
	require.Len(t, probes, 1)
	require.False(t, probes[0].Answer.AsExpected, "much of it is permitted")
	var one, two api.CheckOut
	c.get("/api/v1/check", &one)
	d.get("/api/v1/check", &two)
	require.Equal(t, one, two)
	require.Positive(t, one.Accepted)

	// A tag that is set changes who is meant, on both.
	var before, after api.WhatIf
	ask := map[string]any{"text": "booking-logic-live -> booking-store-live postgres"}
	require.Equal(t, 200, d.call("POST", "/api/v1/whatif", ask, &before))
	require.NotEmpty(t, before.Answers[0].Undecided)
	lacking := before.Answers[0].Undecided[0]
	require.Equal(t, 200, c.call("POST", "/api/v1/tags", map[string]any{"workloads": []string{lacking.Workload},
		"key": "tier", "value": "logic"}, nil))
	require.Equal(t, 200, d.call("POST", "/api/v1/whatif", ask, &after))
	require.Less(t, after.Answers[0].MaybeCount, before.Answers[0].MaybeCount)
}

// An option that was made on an older revision is refused if what it stands
// before has changed since, and follows it if it has only moved.
func TestSettlingOnWhatHasChanged(t *testing.T) {
	c := serve(t)
	c.begin() // a small policy: live -> live on tcp/8443 on line 4
	base := 1
	out, _, status := c.edit(base, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	// The rule has moved down by a line; the option still goes before it.
	var taken api.EditOut
	require.Equal(t, 201, c.call("POST", "/api/v1/settle", map[string]any{"revision": base,
		"lines": []string{"reject trial -> live on tcp/8443"}, "before": 4}, &taken))
	require.Contains(t, c.text(), "reject trial -> live on tcp/8443\npermit live -> live on tcp/8443\n")
	// Now somebody has changed it.
	line := 0
	for i, l := range strings.Split(c.text(), "\n") {
		if l == "permit live -> live on tcp/8443" {
			line = i + 1
		}
	}
	_, _, status = c.edit(taken.Revision, "change", map[string]any{"line": line,
		"text": "permit live -> live on tcp/443"})
	require.Equal(t, 201, status)
	var p problem
	require.Equal(t, 409, c.call("POST", "/api/v1/settle", map[string]any{"revision": out.Revision,
		"lines": []string{"reject trial -> live on tcp/22"}, "before": 5}, &p))
	require.Contains(t, p.Detail, "somebody has changed this statement meanwhile")
	require.NotContains(t, c.text(), "tcp/22")
	// What cannot be read is said without being kept.
	var dry api.EditOut
	require.Equal(t, 200, c.call("POST", "/api/v1/settle?dryRun=true",
		map[string]any{"revision": taken.Revision, "lines": []string{"permit live -> nobody on tcp/22"}, "before": 0},
		&dry))
	require.Contains(t, dry.Errors[0].Message, "nobody")
}

// The policy document has the figures of each rule, and they agree with the
// conversations.
func TestFiguresOfRules(t *testing.T) {
	c := serve(t)
	c.company()
	var p api.PolicyOut
	c.get("/api/v1/policy", &p)
	seen := 0
	for _, s := range p.Statements {
		if s.Rule == nil || s.Hits == 0 {
			continue
		}
		seen++
		var list api.ConversationPage
		c.get(fmt.Sprintf("/api/v1/conversations?rule=%d&limit=1000", s.Line), &list)
		require.Equal(t, s.Hits, list.Total)
		pairs, last := map[string]bool{}, ""
		for _, conv := range list.Conversations {
			pairs[conv.Client.Addr+" "+conv.Server.Addr] = true
			last = max(last, conv.Last)
		}
		if list.Total <= 1000 {
			require.LessOrEqual(t, s.Pairs, s.Hits)
			require.Len(t, pairs, s.Pairs, s.Text)
			require.Equal(t, last[:19], s.Last[:19])
		}
	}
	require.Greater(t, seen, 5)

	var f api.Figures
	c.get("/api/v1/figures", &f)
	require.Len(t, f.Rules, p.Rules)
	byLine := map[int]api.StatementOut{}
	for _, s := range p.Statements {
		byLine[s.Line] = s
	}
	for _, r := range f.Rules {
		s := byLine[r.Line]
		require.Equal(t, []any{s.Hits, s.Pairs, s.Last}, []any{r.Use.Conversations, r.Use.Pairs, r.Use.Last},
			r.Sentence)
	}
	reached := 0
	for _, g := range f.Groups {
		var use api.GroupUse
		c.get("/api/v1/groups/use?name="+url.QueryEscape(g.Name), &use)
		require.Equal(t, use, g.GroupUse)
		if use.Reached.Conversations > 0 {
			reached++
			var list api.LedgerPage
			c.get("/api/v1/ledger?limit=1000&group="+url.QueryEscape(g.Name), &list)
			n := 0
			for _, row := range list.Rows {
				n += row.Conversations
			}
			require.Equal(t, use.Reached.Conversations, n, g.Name)
		}
	}
	require.Greater(t, reached, 10)
	require.Contains(t, c.raw("/api/v1/figures/rules.csv"),
		"line,layer,rule,note,conversations,pairs,connections,last\n")
	require.Equal(t, len(f.Groups)+1, strings.Count(c.raw("/api/v1/figures/groups.csv"), "\n"))
}
