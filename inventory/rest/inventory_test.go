package rest_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/database/databasetest"
	draftingrest "lucidorchard/drafting/rest"
	groupingrest "lucidorchard/grouping/rest"
	"lucidorchard/inventory"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/server"
	trafficrest "lucidorchard/traffic/rest"
)

func TestAScriptFeedsItsSource(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var token inventoryrest.TokenOut
	require.Equal(t, 201, c.Call("POST", "/api/v1/tokens", map[string]any{"name": "nightly", "source": "plan"},
		&token))
	const path = "/api/v1/inventory/workloads"
	list := `{"workloads":[{"id":"s-1","addresses":["10.99.0.1"],"tags":{"env":"live","app":"tides"}},{"id":"s-2","addresses":["10.99.0.2"],"tags":{"env":"trial"}}]}`
	var out inventoryrest.ListingOut
	require.Equal(t, 200, c.Send(path, token.Secret, "application/json", list, &out))
	require.Equal(t, inventoryrest.ListingOut{Source: "plan", Rows: 2, Taken: 2, Changed: 2, Retired: []string{},
		Errors: out.Errors}, out)
	require.Equal(t, 200, c.Send(path, token.Secret, "application/json", list, &out))
	require.Zero(t, out.Changed, "the same again changes nothing")

	// What tokens may not do, and what is refused with nothing taken.
	var p assemblytest.Problem
	require.Equal(t, 401, c.Send(path, "", "application/json", list, &p))
	require.Contains(t, p.Detail, "Authorization: Bearer")
	require.Equal(t, 401, c.Send(path, "lo_guessed", "application/json", list, &p))
	require.Equal(t, 403, c.Send("/api/v1/policy/undo", token.Secret, "application/json", "{}", &p))
	require.Contains(t, p.Detail, "a token opens only")
	for text, want := range map[string]string{
		`{"workloads":[{"id":"s-1","colour":"red"}]}`: "unknown field",
		`{}`:            "found no workloads",
		`{"workloads":`: "unexpected EOF",
	} {
		require.Equal(t, 422, c.Send(path, token.Secret, "application/json", text, &p), text)
		require.Contains(t, p.Detail, want)
	}
	require.Equal(t, 415, c.Send(path, token.Secret, "text/plain", "x", &p))
	require.Equal(t, 422, c.Send(path+"?complete=true", token.Secret, "application/x-ndjson",
		`{"id":"s-1"}`+"\n"+`{"id":"s-2","addresses":["x"]}`, &p))
	require.Contains(t, p.Detail, "would count as missing")

	// A bad row is named, the rest goes on.
	require.Equal(t, 200, c.Send(path, token.Secret, "application/x-ndjson",
		`{"id":"s-3"}`+"\n"+`{"id":"s-4","addresses":["x"]}`+"\n", &out))
	require.Equal(t, [2]int{1, 1}, [2]int{out.Taken, out.Bad})
	require.Equal(t, 2, out.Errors[0].Line)
	require.Equal(t, 200, c.Send(path, token.Secret, "text/csv", "id,tag:tier\ns-1,entry\n", &out))
	require.Equal(t, 1, out.Changed)

	// The complete list: s-2 and s-3 go, what others list stays. It lacks much, so it
	// is to be confirmed.
	require.Equal(t, 409, c.Send(path+"?complete=true", token.Secret, "application/json",
		`{"workloads":[{"id":"s-1"}]}`, &p))
	require.Contains(t, p.Detail,
		"lacks 2 of the 3 workloads that its source has listed before, and they would be retired; nothing was "+
			"changed. If the list is complete, send it again with confirm=2")
	require.Equal(t, 409, c.Send(path+"?complete=true&confirm=3", token.Secret, "application/json",
		`{"workloads":[{"id":"s-1"}]}`, nil))
	require.Equal(t, 200, c.Send(path+"?complete=true&confirm=2", token.Secret, "application/json",
		`{"workloads":[{"id":"s-1","addresses":["10.99.0.1"]},{"id":"booking-entry-01"}]}`, &out))
	require.Equal(t, []string{"s-2", "s-3"}, out.Retired)
	var there, gone inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?q=s-2", &there)
	c.Get("/api/v1/workloads?q=s-2&retired=true", &gone)
	require.Equal(t, [2]int{0, 1}, [2]int{there.Total, gone.Total})
	require.NotEmpty(t, gone.Workloads[0].Retired)
	require.False(t, gone.Workloads[0].Leases[0].Now)
	var h groupingrest.GroupHistory
	c.Get("/api/v1/groups/history?name=trial", &h)
	var whys []string
	for _, ch := range h.Changes {
		if ch.Workload == "s-2" {
			whys = append(whys, ch.Before+" "+ch.After+" "+ch.Why)
		}
	}
	require.ElementsMatch(t, []string{"yes no retired: no source lists it", "no yes its first tags"}, whys)
	require.Equal(t, 204, c.Call("DELETE", fmt.Sprintf("/api/v1/tokens/%d", token.ID), nil, nil))
	require.Equal(t, 401, c.Send(path, token.Secret, "application/json", list, &p))
	require.Contains(t, p.Detail, "revoked")
}

func TestForeignHeadingsAreRememberedAndDisagreementsSettled(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	const file = "Host Name,IP Address,Environment,Rack\nbooking-entry-01,10.20.3.10,bench,7\nnew-1,10.99.0.1,live,8\n"
	mapping := `{"columns":{"Host Name":"id","IP Address":"addresses","Environment":"tag:env","Rack":"tag:rack"}}`
	var a answers.ImportAnswer
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true&source=plan", file, &a))
	require.Equal(t, "", a.Preview.Form.Columns["Rack"])
	require.Len(t, a.Preview.First, 2)
	require.Equal(t, 1, a.Preview.Added)
	require.Equal(t, 202, c.Call("POST", "/api/v1/imports/workloads?source=plan&form="+url.QueryEscape(mapping),
		file, &a))
	require.Equal(t, "done", c.Job(a.Job).State)
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true&source=plan", file, &a))
	require.Equal(t, "tag:rack", a.Preview.Form.Columns["Rack"], "remembered for the source")
	require.Equal(t, [2]int{0, 0}, [2]int{a.Preview.Added, a.Preview.Changed})
	require.Equal(t, 200, c.Call("POST",
		"/api/v1/imports/workloads?preview=true&source=plan&form="+url.QueryEscape(`{"columns":{"Host Name":""}}`),
		file, &a))
	require.Contains(t, a.Preview.Unusable, "column id")
	require.NotEmpty(t, a.Preview.Headings, "shown all the same, to be mended")
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true&source=plan&complete=true",
		"id\nnew-1\n", &a))
	require.Equal(t, 1, a.Preview.Missing)

	var d inventoryrest.DisagreementList
	c.Get("/api/v1/disagreements", &d)
	require.Equal(t, 1, d.Total)
	require.Equal(t, [2]string{"booking-entry-01", "env"}, [2]string{d.Disagreements[0].Workload,
		d.Disagreements[0].Key})
	counts := d.Disagreements[0].Values[0].Source
	var sources []inventory.Source
	require.Equal(t, 409, c.Call("PUT", "/api/v1/sources", map[string]any{"names": []string{"plan"}}, nil),
		"one is missing")
	other := map[string]string{"plan": "inventory", "inventory": "plan"}[counts]
	require.Equal(t, 200, c.Call("PUT", "/api/v1/sources", map[string]any{"names": []string{other, counts}},
		&sources))
	c.Get("/api/v1/disagreements", &d)
	require.Equal(t, other, d.Disagreements[0].Values[0].Source)
	var p assemblytest.Problem
	require.Equal(t, 409, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"},
		"key": "env", "value": "live", "was": "something else"}, &p))
	require.Contains(t, p.Detail, "somebody else has changed this meanwhile")
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"},
		"key": "env", "value": "live"}, nil))
	c.Get("/api/v1/disagreements", &d)
	require.Zero(t, d.Total)
	r, err := http.Get(c.Base + "/api/v1/disagreements.csv")
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, 200, r.StatusCode)
}

func TestVocabularySuggestionsAndSelections(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var list inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?tag=tier%3Dlogic&tag=env%3Dlive&limit=1000", &list)
	one := list.Workloads[0]

	// A tag that is cleared is suggested again, until that is refused.
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{one.ID}, "key": "tier",
		"value": ""}, nil))
	var s inventoryrest.SuggestionList
	look := func() {
		require.Eventually(t, func() bool { c.Get("/api/v1/suggestions", &s); return s.Complete }, 20*time.Second,
			20*time.Millisecond)
	}
	look()
	find := func() *inventoryrest.Suggestion {
		for i := range s.Suggestions {
			if s.Suggestions[i].Workload == one.ID && s.Suggestions[i].Key == "tier" {
				return &s.Suggestions[i]
			}
		}
		return nil
	}
	got := find()
	require.NotNil(t, got)
	require.Equal(t, "logic", got.Value)
	require.NotEmpty(t, got.Because)
	tag := []map[string]string{{"workload": one.ID, "key": "tier", "value": "logic"}}
	require.Equal(t, 200, c.Call("POST", "/api/v1/suggestions/refuse", map[string]any{"tags": tag}, &s))
	require.Nil(t, find())
	require.Len(t, s.Refused, 1)
	require.Equal(t, 200, c.Call("POST", "/api/v1/suggestions/refuse", map[string]any{"tags": tag, "again": true},
		&s))
	require.NotNil(t, find())
	require.Equal(t, 200, c.Call("POST", "/api/v1/suggestions/accept?dryRun=true", map[string]any{"tags": tag}, nil))
	look()
	require.NotNil(t, find(), "a dry run changes nothing")
	require.Equal(t, 200, c.Call("POST", "/api/v1/suggestions/accept", map[string]any{"tags": tag}, nil))
	look()
	require.Nil(t, find())

	// Slips are mended together, as one change.
	ids := []string{list.Workloads[1].ID, list.Workloads[2].ID}
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": ids, "key": "env",
		"value": "LIVE "}, nil))
	var usual []inventoryrest.Misspelling
	c.Get("/api/v1/vocabulary/misspellings", &usual)
	require.Contains(t, usual, inventoryrest.Misspelling{Key: "env", Value: "LIVE ", Like: "live", Count: 2})
	require.Equal(t, 200, c.Call("POST", "/api/v1/vocabulary/fix", map[string]any{"misspellings": usual}, nil))
	c.Get("/api/v1/vocabulary/misspellings", &usual)
	require.Empty(t, usual)
	require.Equal(t, 409, c.Call("POST", "/api/v1/vocabulary/fix",
		map[string]any{"misspellings": []inventoryrest.Misspelling{{Key: "env", Value: "LIVE ", Like: "live"}}}, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", nil, nil))
	c.Get("/api/v1/vocabulary/misspellings", &usual)
	require.NotEmpty(t, usual)

	// All that a filter selects is tagged, if it is still what was looked at.
	filter := map[string]any{"tag": []string{"tier=store"}}
	var stores inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?tag=tier%3Dstore", &stores)
	require.Equal(t, 409, c.Call("POST", "/api/v1/tags", map[string]any{"filter": filter, "count": stores.Total + 1,
		"key": "care", "value": "high"}, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"filter": filter, "count": stores.Total,
		"key": "care", "value": "high"}, nil))
	var careful inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?tag=care%3Dhigh", &careful)
	require.Equal(t, stores.Total, careful.Total)

	var found inventoryrest.FoundList
	require.Equal(t, 200, c.Call("POST", "/api/v1/workloads/find",
		map[string]any{"text": one.ID + ", nobody;\n" + list.Workloads[1].Leases[0].Addr}, &found))
	require.Len(t, found.Workloads, 2)
	require.Equal(t, []string{"nobody"}, found.Unknown)

	// Other structural tags: what lacks them is what is missing now.
	require.Equal(t, 200, c.Call("PUT", "/api/v1/vocabulary/structural",
		map[string]any{"keys": []string{"app", "care"}}, nil))
	var sum checkingrest.Summary
	c.Get("/api/v1/summary", &sum)
	require.Equal(t, "care", sum.LackKey)
	require.Equal(t, 422, c.Call("PUT", "/api/v1/vocabulary/structural",
		map[string]any{"keys": []string{"app", "app"}}, nil))

	var sel []inventory.Selection
	require.Equal(t, 200, c.Call("PUT", "/api/v1/selections",
		map[string]any{"list": "workloads", "name": "stores", "filter": "tag=tier%3Dstore"}, &sel))
	require.Len(t, sel, 1)
	require.Equal(t, 200, c.Call("DELETE", "/api/v1/selections?list=workloads&name=stores", nil, &sel))
	require.Empty(t, sel)
}

// A tag that does not apply is missing nowhere, on either server, until it applies again.
func TestATagDoesNotApplyToSome(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	other := c.Second()
	declare := func(where string) int {
		return c.Call("PUT", "/api/v1/vocabulary/not-applicable", map[string]any{"key": "tier", "where": where}, nil)
	}
	tier := func(c assemblytest.Client) (f inventoryrest.Facet) {
		var all []inventoryrest.Facet
		c.Get("/api/v1/workloads/facets", &all)
		for _, x := range all {
			if x.Key == "tier" {
				f = x
			}
		}
		return f
	}
	before := tier(c)
	require.NotZero(t, before.Missing)
	var sum checkingrest.Summary
	c.Get("/api/v1/summary", &sum)
	require.Equal(t, before.Missing, sum.Lack)
	undecided := sum.Undecided

	require.Equal(t, 204, declare("lacks tier and has env"))
	for _, server := range []assemblytest.Client{c, other} {
		now := tier(server)
		require.NotZero(t, now.NotApplicable)
		require.Equal(t, before.Missing, now.Missing+now.NotApplicable)
		require.Equal(t, "lacks tier and has env", now.NotApplicableTo)
		var list, missing inventoryrest.WorkloadList
		server.Get("/api/v1/workloads?tag=tier%3D(not+applicable)", &list)
		require.Equal(t, now.NotApplicable, list.Total)
		require.Equal(t, []string{"tier"}, list.Workloads[0].NeedNot)
		server.Get("/api/v1/workloads?tag=tier%3D(missing)", &missing)
		require.Equal(t, now.Missing, missing.Total)
		server.Get("/api/v1/summary", &sum)
		require.Less(t, sum.Lack, before.Missing)
		require.Equal(t, undecided, sum.Undecided, "groups say what they said")
		var suggested inventoryrest.SuggestionList
		server.Get("/api/v1/suggestions", &suggested)
		for _, x := range suggested.Suggestions {
			require.False(t, x.Key == "tier" && slices.ContainsFunc(list.Workloads,
				func(w inventoryrest.WorkloadOut) bool { return w.ID == x.Workload }), x.Workload)
		}
	}

	for _, bad := range []string{"tier is", "member of live"} {
		require.Equal(t, 422, declare(bad))
	}
	require.Equal(t, "lacks tier and has env", tier(c).NotApplicableTo, "nothing was stored")
	require.Equal(t, 204, declare(" "))
	require.Equal(t, before, tier(c))
	require.Equal(t, before, tier(other))
}

func TestPagesOfAWorkloadAndAGroup(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var list inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?group=live&limit=1000", &list)
	one := list.Workloads[0]
	var rules inventoryrest.WorkloadRules
	c.Get("/api/v1/workloads/"+one.ID+"/rules", &rules)
	hits := 0
	for _, side := range [][]inventoryrest.EffectiveRule{rules.In, rules.Out} {
		last := 0
		for _, r := range side {
			require.Greater(t, r.Number, last, "in deciding order")
			last = r.Number
			hits += r.Hits
		}
	}
	n := rules.ToIt.Permit + rules.ToIt.Reject + rules.FromIt.Permit + rules.FromIt.Reject
	require.Equal(t, n, hits, "what decides its conversations is among its effective rules")
	require.NotEmpty(t, rules.Said)
	require.Equal(t, 404, c.Call("GET", "/api/v1/workloads/nobody/rules", nil, nil))

	// Who left the group, when, and why.
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{one.ID}, "key": "env",
		"value": "bench"}, nil))
	var h groupingrest.GroupHistory
	c.Get("/api/v1/groups/history?name=live", &h)
	require.NotZero(t, h.Total)
	require.Equal(t, [3]string{one.ID, "yes", "no"}, [3]string{h.Changes[0].Workload, h.Changes[0].Before,
		h.Changes[0].After})
	require.Equal(t, "env: live → bench, by tester", h.Changes[0].Why)
	c.Get("/api/v1/workloads/"+one.ID+"/rules", &rules)
	require.Equal(t, 404, c.Call("GET", "/api/v1/groups/history?name=nobody", nil, nil))

	// What reaches its members is what reaches each of them.
	var ledger trafficrest.LedgerPage
	c.Get("/api/v1/ledger?group=live&limit=1000", &ledger)
	sum := 0
	for _, r := range ledger.Rows {
		sum += r.Conversations
	}
	for _, w := range list.Workloads[1:] {
		var p answers.ConversationPage
		c.Get("/api/v1/conversations?limit=1&workload="+url.QueryEscape(w.ID), &p)
		sum -= p.Total
	}
	require.Zero(t, sum)
	require.Equal(t, 404, c.Call("GET", "/api/v1/ledger?group=nobody", nil, nil))

	var p draftingrest.PolicyOut
	c.Get("/api/v1/policy", &p)
	var out groupingrest.RegroupOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/groups/rename?dryRun=true",
		map[string]any{"revision": p.Revision, "name": "live", "to": "in force"}, &out))
	require.NotEmpty(t, out.Changed)
	require.Zero(t, out.Consequences.Changed, "a name changes no verdict")
	require.Equal(t, 201, c.Call("POST", "/api/v1/groups/rename",
		map[string]any{"revision": p.Revision, "name": "live", "to": "in force"}, &out))
	require.Equal(t, 409, c.Call("POST", "/api/v1/groups/rename",
		map[string]any{"revision": p.Revision, "name": "in force", "to": "live"}, nil),
		"made on what was there before")
	require.Contains(t, c.Text(), `group "in force" = `)
	require.Equal(t, 200, c.Call("POST", "/api/v1/groups/remove?dryRun=true",
		map[string]any{"revision": out.Revision, "name": "in force"}, &out))
	require.NotEmpty(t, append(out.Changed, out.Removed...))
	require.Equal(t, 201, c.Call("POST", "/api/v1/groups/remove",
		map[string]any{"revision": out.Revision, "name": "in force"}, &out))
	require.NotContains(t, c.Text(), `"in force"`)
	for _, file := range []string{"groups", "rules", "suggestions", "ledger", "assertions", "findings",
		"misspellings"} {
		r, err := http.Get(c.Base + "/api/" + file + ".csv")
		require.NoError(t, err)
		text, _ := io.ReadAll(r.Body)
		r.Body.Close()
		require.Equal(t, 200, r.StatusCode)
		require.Greater(t, bytes.Count(text, []byte("\n")), 0, file)
	}
}

func TestTheEstateMovesElsewhere(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	require.Equal(t, 200, c.Call("PUT", "/api/v1/vocabulary/structural",
		map[string]any{"keys": []string{"app", "env"}}, nil))
	r, err := http.Get(c.Base + "/api/v1/estate.jsonl")
	require.NoError(t, err)
	export, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	r.Body.Close()
	db, err := assembly.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	there := assemblytest.Client{T: t, DB: db}.Second()
	var job server.Job
	require.Equal(t, 202, there.Send("/api/v1/estate", "", "application/x-ndjson", "not an export", &job))
	require.Contains(t, there.Job(&job).Message, "nothing was stored")
	require.Equal(t, 202, there.Send("/api/v1/estate", "", "application/x-ndjson", string(export), &job))
	require.Equal(t, "done", there.Job(&job).State)
	var one, two inventoryrest.WorkloadList
	c.Get("/api/v1/workloads?limit=1000", &one)
	there.Get("/api/v1/workloads?limit=1000", &two)
	require.Equal(t, one, two)
	require.Equal(t, c.Text(), there.Text())
	require.Equal(t, 409, there.Send("/api/v1/estate", "", "application/x-ndjson", string(export), nil))
}
