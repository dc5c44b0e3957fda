package assembly_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	draftingrest "lucidorchard/drafting/rest"
	groupingrest "lucidorchard/grouping/rest"
	"lucidorchard/ingest"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/model"
	trafficrest "lucidorchard/traffic/rest"
)

func TestTheCommittedAPIIsTheServers(t *testing.T) {
	s := assembly.Handler(assembly.New(t.Context(), assembly.Options{}), assembly.HandlerOptions{})
	text, err := s.OpenAPI()
	require.NoError(t, err)
	committed, err := os.ReadFile("../web/src/api/openapi.json")
	require.NoError(t, err)
	var now, then any
	require.NoError(t, json.Unmarshal(text, &now))
	require.NoError(t, json.Unmarshal(committed, &then))
	require.True(t, reflect.DeepEqual(now, then),
		"the committed description of the API is an old one: run make types")
}

func TestGroupPreview(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	look := func(name, text string) groupingrest.GroupPreview {
		var out groupingrest.GroupPreview
		require.Equal(t, 200, c.Call("POST", "/api/v1/groups/preview", map[string]any{"name": name, "text": text},
			&out))
		return out
	}
	every := look("", "any").Counts
	all := every.In + every.Undecided + every.Out
	p := look("", "env is live and tier is\n logic")
	require.Empty(t, p.Errors)
	require.Equal(t, "env is live and tier is logic", p.Canonical)
	require.Equal(t, all, p.Counts.In+p.Counts.Undecided+p.Counts.Out)
	require.Positive(t, p.Counts.In)
	require.Positive(t, p.Counts.Undecided, "those without a tier are undecided, not swept in")
	for _, m := range p.Undecided {
		require.NotEmpty(t, m.Missing, m.Name)
		require.Contains(t, m.Why, "missing")
	}
	require.Contains(t, p.Shares[0].Group, "live")

	// The group in the draft: what a change moves.
	p = look("live", "env is live and not app is booking")
	require.NotNil(t, p.Consequences)
	require.Greater(t, p.Was.In, p.Counts.In)
	require.Equal(t, "leaves", p.Out[0].Change)
	require.Positive(t, p.Consequences.Changed)
	require.Equal(t, "live", p.Consequences.Groups[0].Group)
	require.Len(t, p.Consequences.Groups[0].Leaves, p.Was.In-p.Counts.In)

	// Errors have places in the text that was typed, over lines too.
	for text, col := range map[string]int{"env iz live": 5, "env is live and\n(": 18, "member of nobody": 11,
		"app matches \"(\"": 13, "env is live include": 20} {
		p = look("live", text)
		require.NotEmpty(t, p.Errors, text)
		require.Equal(t, col, p.Errors[0].Column, "%q: %+v", text, p.Errors)
	}
	require.Contains(t, look("live", "member of live").Errors[0].Message, "cycle")
}

func TestAskAndWhy(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	ask := func(text string) checkingrest.Answer {
		var out checkingrest.Answer
		c.Get("/api/v1/ask?q="+url.QueryEscape(text), &out)
		return out
	}
	a := ask("booking-entry-01 -> booking-logic-01 tcp/8443")
	require.Equal(t, "permit", a.Why.Verdict)
	require.Equal(t, 4, a.Why.Rule.Line)
	require.Equal(t, "tester", a.Why.Rule.Author)
	require.Equal(t, "live", a.Why.ClientIs[0].Group)
	require.Equal(t, "inventory", a.Why.ClientIs[0].Reasons[0].Tag.Source)

	a = ask("booking-logic-t01 → 10.20.3.10 tcp/5432")
	require.Equal(t, "uncovered", a.Why.Verdict)
	require.Nil(t, a.Why.Rule)
	require.Len(t, a.Why.Steps, 1)

	a = ask("192.0.2.1 -> fd00::77 proto/47")
	require.Equal(t, "uncovered", a.Why.Verdict)
	require.Empty(t, a.Why.Client.Workload)

	for text, want := range map[string]string{
		"booking-entry-01 -> nobody tcp/1":             "there is no workload nobody",
		"booking-entry-01 -> booking-logic-01":         "say the service too",
		"booking-entry-01 -> booking-logic-01 tcp/x":   "expected a protocol with a port",
		"-> booking-logic-01 tcp/1":                    "ask as: client -> server service",
		"booking-entry-01 -> booking-logic-01 nothing": "expected a protocol with a port",
	} {
		require.Contains(t, ask(text).Problem, want, text)
	}
	kinds := map[string]bool{}
	for _, f := range ask("live").Findings {
		kinds[f.Kind] = true
	}
	require.Equal(t, map[string]bool{"group": true, "workload": true, "rule": true}, kinds)
	require.Empty(t, ask("zzz").Findings)

	// The machine without an environment: which tag would settle it.
	var w inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?tag=env%3D(missing)", &w)
	a = ask(w.Workloads[0].ID + " -> booking-logic-01 tcp/8443")
	require.Equal(t, "env", a.Why.Hints[0].Key)
	require.Equal(t, []string{"live"}, a.Why.Hints[0].Values, "no other value lets a rule decide")
	require.True(t, a.Why.Hints[0].Settles)
	require.Contains(t, a.Why.Closest.Rule.Sentence, "permit live -> live")
	a = ask(w.Workloads[0].ID + " -> booking-logic-01 tcp/9999")
	require.Equal(t, "uncovered", a.Why.Verdict)
	require.False(t, a.Why.Hints[0].Settles, "no rule is about this service")
	require.Greater(t, len(a.Why.Hints[0].Values), 1)

	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("GET", "/api/v1/why?client=x&server=10.0.0.1&service=tcp/1", nil, &p))
	require.Equal(t, 422, c.Call("GET", "/api/v1/why?client=10.0.0.1&server=10.0.0.1&service=web", nil, &p))
	require.Equal(t, 422, c.Call("GET", "/api/v1/why?client=10.0.0.1&server=10.0.0.1&service=tcp/1&at=noon", nil, &p))
}

func TestTheDocumentKnowsWhoWroteWhat(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	_, _, status := c.Edit(1, "add", map[string]any{"layer": "allowances",
		"text": `permit trial -> trial on any until 2020-01-01 "old"`})
	require.Equal(t, 201, status)
	var p draftingrest.PolicyOut
	c.Get("/api/v1/policy", &p)
	require.Equal(t, 2, p.Revision)
	require.Equal(t, 2, p.Rules)
	byText := map[string]draftingrest.StatementOut{}
	hits := 0
	for _, s := range p.Statements {
		byText[s.Text] = s
		hits += s.Hits
	}
	require.Equal(t, p.Counts.Permit+p.Counts.Reject, hits)
	old := byText[`permit trial -> trial on any until 2020-01-01 "old"`]
	require.Equal(t, []answers.FindingOut{{Kind: "expired",
		Words: "Its last day, 2020-01-01, is over: it no longer matches anything.", Fix: "Remove it"}}, old.Findings)

	// A finding is mended with one action, which can be undone.
	mend := map[string]any{"revision": 2, "line": old.Line, "kind": "expired"}
	var out answers.EditOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/fix?dryRun=true", mend, &out))
	require.Zero(t, out.Consequences.Changed)
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/fix", mend, &out))
	require.Equal(t, assemblytest.Draft, c.Text())
	require.Equal(t, 409, c.Call("POST", "/api/v1/policy/fix", mend, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	c.Get("/api/v1/policy", &p)
	require.Equal(t, "tester", old.Author)
	require.Equal(t, "tester", byText["permit live -> live on tcp/8443"].Author)
	require.Equal(t, []string{"trial"}, old.Rule.Right)
	var rs []model.Revision
	c.Get("/api/v1/policy/revisions?limit=3", &rs)
	require.Equal(t, "Add “permit trial -> trial on any until 2020-01-01”", rs[2].Words)
	require.Equal(t, rs[2].Words, p.Undo.Words)
}

func TestTheWindowLimitsEverything(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var all, half checkingrest.CheckOut
	sum := func(o checkingrest.CheckOut) int { return o.Counts.Permit + o.Counts.Reject + o.Counts.Uncovered }
	c.Get("/api/v1/check", &all)
	c.Get("/api/v1/check?from=2026-11-22T00:00:00Z&to=2026-11-22T06:00:00Z", &half)
	require.Less(t, sum(half), sum(all))
	require.Positive(t, sum(half))
	var strip trafficrest.Strip
	c.Get("/api/v1/flows/strip?from=2026-11-22T00:00:00Z&to=2026-11-22T06:00:00Z&bins=6", &strip)
	require.Len(t, strip.Bins, 6)
	require.Equal(t, "2026-11-22T00:00:00Z", strip.Bins[0].At)
	require.Equal(t, "2026-11-21T00:00:00Z", strip.From, "the whole time stays known")
	var none checkingrest.CheckOut
	c.Get("/api/v1/check?from=2030-01-01T00:00:00Z", &none)
	require.Zero(t, sum(none))
	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("GET", "/api/v1/check?from=yesterday", nil, &p))
	require.Contains(t, p.Detail, "from: found")
}

func TestFacetsAndLists(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var fs []inventoryrest.Facet
	c.Get("/api/v1/workloads/facets", &fs)
	require.Equal(t, "app", fs[0].Key)
	total := 0
	for _, v := range fs[2].Values {
		total += v.Count
		if strings.TrimRight(strings.ToLower(v.Value), " -") == "live" && v.Value != "live" {
			require.Equal(t, "live", v.Like, v.Value)
		}
	}
	var list inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?limit=1000&sort=-address", &list)
	require.Equal(t, list.All, total+fs[2].Missing)
	// A facet counts under the filters of the others; several values of one key
	// are alternatives.
	c.Get("/api/v1/workloads/facets?tag=app%3Dbooking&tag=env%3Dlive", &fs)
	require.Greater(t, len(fs[0].Values), 1)
	var one, two inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?tag=app%3Dbooking", &one)
	c.Get("/api/v1/workloads?tag=app%3Dbooking&tag=app%3Dfares", &two)
	require.Greater(t, two.Total, one.Total)
	c.Get("/api/v1/workloads?group=live&q=booking", &two)
	require.Less(t, two.Total, one.Total)
	require.Equal(t, 404, c.Call("GET", "/api/v1/workloads?group=nobody", nil, nil))
	require.Equal(t, 422, c.Call("GET", "/api/v1/workloads?tag=booking", nil, nil))
	c.Get("/api/v1/workloads?limit=2&offset=1", &two)
	c.Get("/api/v1/workloads?limit=3", &one)
	require.Equal(t, one.Workloads[1:], two.Workloads)

	var groups []groupingrest.GroupOut
	c.Get("/api/v1/groups", &groups)
	require.Equal(t, "live", groups[0].Name)
	require.Len(t, groups[0].UsedBy, 2)
	var s checkingrest.Summary
	c.Get("/api/v1/summary", &s)
	require.Equal(t, []int{list.All, len(groups), 1}, []int{s.Workloads, s.Groups, s.Rules})
	require.Equal(t, "tier", s.LackKey)
}

func TestExportsAreReadBack(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	r, err := http.Get(c.Base + "/api/v1/workloads.csv?tag=app%3Dbooking")
	require.NoError(t, err)
	defer r.Body.Close()
	file, err := ingest.Workloads(r.Body, "x")
	require.NoError(t, err)
	require.Empty(t, file.Errors)
	var list inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?tag=app%3Dbooking", &list)
	require.Len(t, file.Workloads, list.Total)
	r2, err := http.Get(c.Base + "/api/v1/conversations.csv?verdict=permit")
	require.NoError(t, err)
	defer r2.Body.Close()
	rows, err := csv.NewReader(r2.Body).ReadAll()
	require.NoError(t, err)
	var check checkingrest.CheckOut
	c.Get("/api/v1/check", &check)
	require.Len(t, rows, check.Counts.Permit+1)
	for _, row := range rows[1:] {
		require.Equal(t, "permit", row[5])
		require.Equal(t, "4", row[6])
	}
}

func TestHoursBelowAConversation(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var page answers.ConversationPage
	c.Get("/api/v1/conversations?limit=3", &page)
	require.Nil(t, page.Conversations[0].Detail)
	c.Get("/api/v1/conversations?limit=12&detail=true", &page)
	for _, v := range page.Conversations {
		q := url.Values{"client": {v.Client.Addr}, "server": {v.Server.Addr}, "service": {v.Service},
			"first": {v.First}}
		var hours []trafficrest.HourOut
		c.Get("/api/v1/conversations/hours?"+q.Encode(), &hours)
		sum, packets, by := int64(0), int64(0), map[string]bool{}
		for _, h := range hours {
			sum += h.Connections
			packets += h.Packets
			by[h.Observer] = true
		}
		require.Equal(t, v.Connections, sum)
		require.Equal(t, packets, v.Detail.Packets)
		require.ElementsMatch(t, slices.Collect(maps.Keys(by)), v.Detail.Exporters)
		var client inventoryrest.WorkloadPage
		c.Get("/api/v1/workloads/"+v.Client.Workload, &client)
		var groups, tags []string
		for _, g := range client.Groups {
			if g.Truth == "yes" {
				groups = append(groups, g.Group)
			}
		}
		for _, x := range client.Tags {
			tags = append(tags, x.Key+"="+x.Value)
		}
		require.ElementsMatch(t, groups, v.Detail.ClientGroups)
		require.ElementsMatch(t, tags, v.Detail.ClientTags)
		q.Set("first", "2020-01-01T00:00:00Z")
		require.Equal(t, 404, c.Call("GET", "/api/v1/conversations/hours?"+q.Encode(), nil, nil))
	}
}

// Check compares the draft with any revision, and each cell of the table is a
// filter of the ledger; the trace speaks for both.
func TestCheckAgainstARevision(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var p draftingrest.PolicyOut
	c.Get("/api/v1/policy", &p)
	line, sentence := 0, ""
	for _, s := range p.Statements {
		if s.Kind == "rule" && s.Hits > 0 && line == 0 {
			line, sentence = s.Line, s.Rule.Sentence
		}
	}
	require.NotZero(t, line)
	var edited answers.EditOut
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/edits",
		map[string]any{"revision": p.Revision, "op": "remove", "line": line}, &edited))

	var check checkingrest.CheckOut
	c.Get("/api/v1/check?against="+fmt.Sprint(p.Revision), &check)
	require.Equal(t, p.Revision, check.Difference.Revision.No)
	sum, changed := answers.CountsOut{}, 0
	for was, n := range check.Difference.Counts {
		sum.Permit, sum.Reject, sum.Uncovered = sum.Permit+n.Permit, sum.Reject+n.Reject, sum.Uncovered+n.Uncovered
		for is, k := range map[string]int{"permit": n.Permit, "reject": n.Reject, "uncovered": n.Uncovered} {
			if was != is {
				changed += k
			}
			var page answers.ConversationPage
			c.Get(fmt.Sprintf("/api/v1/conversations?against=%d&was=%s&verdict=%s&limit=1", p.Revision, was, is),
				&page)
			require.Equal(t, k, page.Total, "%s, then %s", was, is)
			if k > 0 {
				require.Equal(t, was, page.Conversations[0].Was)
			}
			if was != "uncovered" && is == "uncovered" && k > 0 {
				one := page.Conversations[0]
				var why checkingrest.Why
				c.Get("/api/v1/why?"+url.Values{"client": {one.Client.Addr}, "server": {one.Server.Addr},
					"service": {one.Service}, "at": {one.First}, "against": {fmt.Sprint(p.Revision)}}.Encode(), &why)
				require.Equal(t, "uncovered", why.Verdict)
				require.Equal(t, was, why.Before.Verdict)
				require.Equal(t, sentence, why.Before.Rule.Sentence)
			}
		}
	}
	require.Equal(t, check.Counts, sum)
	require.Positive(t, changed)
	require.Equal(t, changed, check.Difference.Changed)
	var ledger trafficrest.LedgerPage
	c.Get(fmt.Sprintf("/api/v1/ledger?against=%d&limit=1000", p.Revision), &ledger)
	for _, r := range ledger.Rows {
		changed -= r.Changed
	}
	require.Zero(t, changed)
	require.Equal(t, 404, c.Call("GET", "/api/v1/check?against=999", nil, nil))
}

// All findings in one list: each is about a statement that is there, what can be
// mended comes first, and the mend makes it go.
func TestFindingsInOneList(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var p draftingrest.PolicyOut
	c.Get("/api/v1/policy", &p)
	out, _, status := c.Edit(p.Revision, "add", map[string]any{"text": "group nobody = app is nothing"})
	require.Equal(t, 201, status)
	var list checkingrest.FindingList
	c.Get("/api/v1/findings", &list)
	require.Equal(t, out.Revision, list.Revision)
	lines := strings.Split(c.Text(), "\n")
	var empty checkingrest.FoundAt
	mended := true
	for _, f := range list.Findings {
		require.True(t, mended || f.Fix == "", "what can be mended comes first")
		mended = f.Fix != ""
		if f.Line > 0 {
			require.Equal(t, lines[f.Line-1], f.Text)
		}
		if f.Group == "nobody" && f.Kind == "empty" {
			empty = f
		}
	}
	require.NotEmpty(t, empty.Fix)
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/fix",
		map[string]any{"revision": list.Revision, "line": empty.Line, "kind": empty.Kind}, nil))
	var after checkingrest.FindingList
	c.Get("/api/v1/findings", &after)
	for _, f := range after.Findings {
		require.NotEqual(t, "nobody", f.Group)
	}
}
