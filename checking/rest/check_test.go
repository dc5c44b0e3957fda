package rest_test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/core/report"
	draftingrest "lucidorchard/drafting/rest"
	trafficrest "lucidorchard/traffic/rest"
)

// The totals, the strip and the list answer for the same conversations, whatever
// is selected; each part of the estate can be shown its own.
func TestCheckOfAPart(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var all, part checkingrest.CheckOut
	c.Get("/api/v1/check?measure=pairs", &all)
	require.NotNil(t, all.Pairs)
	sum := func(x answers.CountsOut) int { return x.Permit + x.Reject + x.Uncovered }
	require.Less(t, sum(*all.Pairs), sum(all.Counts), "some pairs talk on several services")
	c.Get("/api/v1/check?for=app:booking", &part)
	require.Less(t, sum(part.Counts), sum(all.Counts))
	require.Equal(t, all.Conversations, part.Conversations)
	var parts []checkingrest.PartOut
	c.Get("/api/v1/check/parts?by=app", &parts)
	found := false
	for _, p := range parts {
		if p.Key == "app:booking" {
			found = true
			require.Equal(t, part.Counts, p.Counts)
		}
	}
	require.True(t, found)
	var list answers.ConversationPage
	c.Get("/api/v1/conversations?for=app:booking&limit=1", &list)
	require.Equal(t, sum(part.Counts), list.Total)
	c.Get("/api/v1/check/parts?by=~owner", &parts)
	require.Len(t, parts, 1)
	require.Equal(t, "owner:booking-team", parts[0].Key)
	var owned checkingrest.CheckOut
	c.Get("/api/v1/check?for=owner:booking-team", &owned)
	require.Equal(t, parts[0].Counts, owned.Counts)

	for _, measure := range []string{"conversations", "pairs", "bytes"} {
		var strip trafficrest.Strip
		c.Get("/api/v1/flows/strip?for=app:booking&measure="+measure+"&bins=1", &strip)
		require.Len(t, strip.Bins, 1)
		b := strip.Bins[0]
		switch measure {
		case "conversations":
			require.Equal(t, part.Counts, answers.CountsOut{Permit: int(b.Permit), Reject: int(b.Reject),
				Uncovered: int(b.Uncovered)})
		case "bytes":
			require.Equal(t, part.Bytes, map[string]int64{"permit": b.Permit, "reject": b.Reject,
				"uncovered": b.Uncovered})
		case "pairs":
			require.Positive(t, b.Permit)
		}
	}
	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("GET", "/api/v1/check?for=booking", nil, &p))
	require.Contains(t, p.Detail, "expected area:NAME")
	var use checkingrest.GroupUse
	c.Get("/api/v1/groups/use?name=booking-logic-live", &use)
	require.Positive(t, use.Reached.Pairs)
	require.Equal(t, 404, c.Call("GET", "/api/v1/groups/use?name=nobody", nil, &p))
}

// A row is permitted at one of three widths; each does what it said it would.
func TestSettlingARow(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var rows trafficrest.LedgerPage
	c.Get("/api/v1/ledger?verdict=uncovered&limit=1", &rows)
	row := rows.Rows[0]
	ask := "/api/v1/settle?as=permit&near=" + url.QueryEscape(row.Key) + "&service=" + url.QueryEscape(row.Service)
	var out checkingrest.SettleOut
	c.Get(ask, &out)
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
	before := c.Text()
	var edit answers.EditOut
	body := map[string]any{"revision": out.Revision, "lines": groups.Lines, "before": groups.Before}
	require.Equal(t, 200, c.Call("POST", "/api/v1/settle?dryRun=true", body, &edit))
	require.Equal(t, groups.Consequences, *edit.Consequences)
	require.Equal(t, before, c.Text())
	require.Equal(t, 201, c.Call("POST", "/api/v1/settle", body, &edit))
	require.Contains(t, c.Text(), groups.Lines[len(groups.Lines)-1])
	c.Get(ask, &out)
	require.Zero(t, out.Conversations, "all of it is permitted now")
	require.Empty(t, out.Options)

	// What a rule rejects is permitted by an exception that stands before it.
	var rejected answers.ConversationPage
	c.Get("/api/v1/conversations?verdict=reject&limit=1", &rejected)
	conv := rejected.Conversations[0]
	one := fmt.Sprintf("/api/v1/settle?as=permit&service=%s&client=%s&server=%s", url.QueryEscape(conv.Service),
		conv.Client.Addr, conv.Server.Addr)
	c.Get(one, &out)
	require.Equal(t, 1, out.Conversations)
	if o := out.Options[0]; o.Before > 0 {
		require.NotNil(t, o.Instead)
		require.Equal(t, o.Before, o.Instead.Line)
	}
	require.Equal(t, 201, c.Call("POST", "/api/v1/settle", map[string]any{"revision": out.Revision,
		"lines": out.Options[0].Lines, "before": out.Options[0].Before}, &edit))
	var why checkingrest.Why
	c.Get(fmt.Sprintf("/api/v1/why?client=%s&server=%s&service=%s&at=%s", conv.Client.Addr, conv.Server.Addr,
		url.QueryEscape(conv.Service), url.QueryEscape(conv.First)), &why)
	require.Equal(t, "permit", why.Verdict)

	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("POST", "/api/v1/settle", map[string]any{"revision": edit.Revision,
		"lines": []string{"permit nobody -> any on tcp/1"}, "before": 0}, &p))
	require.Contains(t, p.Detail, "nobody")
}

// The report says what the table of verdicts says, part by part, as JSON and as
// Markdown.
func TestReport(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	line := 0
	for i, text := range strings.Split(c.Text(), "\n") {
		if strings.HasPrefix(text, "permit booking-logic-live -> fares-logic-live") {
			line = i + 1
		}
	}
	var edit answers.EditOut
	require.Equal(t, 201, c.Call("POST", "/api/v1/policy/edits",
		map[string]any{"revision": 1, "op": "remove", "line": line}, &edit))
	require.Equal(t, 201, c.Call("POST", "/api/v1/settle", map[string]any{"revision": edit.Revision,
		"lines": []string{`permit freight-logic -> fares-logic-live on tcp/8443 "Freight *pays*"`,
			"group freight-logic = app is freight and tier is logic"}, "before": 0}, &edit))
	var rows trafficrest.LedgerPage
	c.Get("/api/v1/ledger?verdict=reject&limit=1", &rows)
	var accepted checkingrest.SettleOut
	c.Get("/api/v1/settle?as=reject&verdict=reject&near="+url.QueryEscape(rows.Rows[0].Key)+"&service="+
		url.QueryEscape(rows.Rows[0].Service), &accepted)
	require.Equal(t, 200, c.Call("POST", "/api/v1/probes", map[string]any{"text": accepted.Probe + " = reject",
		"reason": "a scanner"}, nil))
	var check checkingrest.CheckOut
	c.Get("/api/v1/check?against=1", &check)
	var r report.Report
	c.Get("/api/v1/report?against=1", &r)
	require.Equal(t, check.Difference.Changed, r.Changed)
	require.Equal(t, check.Counts, answers.CountsOut(r.Now))
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

	text := c.Raw("/api/v1/report.md?against=1")
	require.Contains(t, text, "# What the draft changes: Saltmarsh Ferries")
	require.Contains(t, text, "- permit booking-logic-live -> fares-logic-live on tcp/8443")
	require.Contains(t, text, `Freight \*pays\*`, "notes are no markup")
	require.Contains(t, text, "### Loses")
	var own report.Report
	c.Get("/api/v1/report?against=1&for=app:freight", &own)
	require.Len(t, own.Parts, 1)
	require.Equal(t, byName["freight"].Gains, own.Parts[0].Gains)
	_, err := json.Marshal(own)
	require.NoError(t, err)
}

// An option that was made on an older revision is refused if what it stands
// before has changed since, and follows it if it has only moved.
func TestSettlingOnWhatHasChanged(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin() // a small policy: live -> live on tcp/8443 on line 4
	base := 1
	out, _, status := c.Edit(base, "add", map[string]any{"text": "group bench = env is bench"})
	require.Equal(t, 201, status)
	// The rule has moved down by a line; the option still goes before it.
	var taken answers.EditOut
	require.Equal(t, 201, c.Call("POST", "/api/v1/settle", map[string]any{"revision": base,
		"lines": []string{"reject trial -> live on tcp/8443"}, "before": 4}, &taken))
	require.Contains(t, c.Text(), "reject trial -> live on tcp/8443\npermit live -> live on tcp/8443\n")
	// Now somebody has changed it.
	line := 0
	for i, l := range strings.Split(c.Text(), "\n") {
		if l == "permit live -> live on tcp/8443" {
			line = i + 1
		}
	}
	_, _, status = c.Edit(taken.Revision, "change", map[string]any{"line": line,
		"text": "permit live -> live on tcp/443"})
	require.Equal(t, 201, status)
	var p assemblytest.Problem
	require.Equal(t, 409, c.Call("POST", "/api/v1/settle", map[string]any{"revision": out.Revision,
		"lines": []string{"reject trial -> live on tcp/22"}, "before": 5}, &p))
	require.Contains(t, p.Detail, "somebody has changed this statement meanwhile")
	require.NotContains(t, c.Text(), "tcp/22")
	// What cannot be read is said without being kept.
	var dry answers.EditOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/settle?dryRun=true",
		map[string]any{"revision": taken.Revision, "lines": []string{"permit live -> nobody on tcp/22"}, "before": 0},
		&dry))
	require.Contains(t, dry.Errors[0].Message, "nobody")
}

// The policy document has the figures of each rule, and they agree with the
// conversations.
func TestFiguresOfRules(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var p draftingrest.PolicyOut
	c.Get("/api/v1/policy", &p)
	seen := 0
	for _, s := range p.Statements {
		if s.Rule == nil || s.Hits == 0 {
			continue
		}
		seen++
		var list answers.ConversationPage
		c.Get(fmt.Sprintf("/api/v1/conversations?rule=%d&limit=1000", s.Line), &list)
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

	var f checkingrest.Figures
	c.Get("/api/v1/figures", &f)
	require.Len(t, f.Rules, p.Rules)
	byLine := map[int]draftingrest.StatementOut{}
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
		var use checkingrest.GroupUse
		c.Get("/api/v1/groups/use?name="+url.QueryEscape(g.Name), &use)
		require.Equal(t, use, g.GroupUse)
		if use.Reached.Conversations > 0 {
			reached++
			var list trafficrest.LedgerPage
			c.Get("/api/v1/ledger?limit=1000&group="+url.QueryEscape(g.Name), &list)
			n := 0
			for _, row := range list.Rows {
				n += row.Conversations
			}
			require.Equal(t, use.Reached.Conversations, n, g.Name)
		}
	}
	require.Greater(t, reached, 10)
	require.Contains(t, c.Raw("/api/v1/figures/rules.csv"),
		"line,layer,rule,note,conversations,pairs,connections,last\n")
	require.Equal(t, len(f.Groups)+1, strings.Count(c.Raw("/api/v1/figures/groups.csv"), "\n"))
}

// Several rows are settled in one step, and said to be rightly rejected in one.
func TestSettlingSeveralRows(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	var ledger trafficrest.LedgerPage
	c.Get("/api/v1/ledger?verdict=uncovered&limit=3", &ledger)
	require.Len(t, ledger.Rows, 3)
	var head draftingrest.PolicyOut
	c.Get("/api/v1/policy", &head)
	var rows []map[string]any
	sum := 0
	for _, r := range ledger.Rows {
		rows = append(rows, map[string]any{"near": r.Key, "service": r.Service})
		sum += r.Conversations
	}
	in := map[string]any{"revision": head.Revision, "as": "permit", "width": "exact", "rows": rows}
	path := "/api/v1/settle/rows?verdict=uncovered"
	var out answers.EditOut
	require.Equal(t, 200, c.Call("POST", path+"&dryRun=true", in, &out))
	require.GreaterOrEqual(t, out.Consequences.Changed, sum)
	require.Equal(t, 201, c.Call("POST", path, in, &out))
	require.Equal(t, "Permit 3 rows", out.Words)
	var after draftingrest.PolicyOut
	c.Get("/api/v1/policy", &after)
	require.LessOrEqual(t, after.Counts.Uncovered, head.Counts.Uncovered-sum)
	require.Equal(t, 409, c.Call("POST", path, in, nil), "made on another revision")
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	c.Get("/api/v1/policy", &after)
	require.Equal(t, head.Counts, after.Counts, "one step")

	in = map[string]any{"revision": after.Revision, "as": "rightly", "reason": "scans", "rows": rows[:2]}
	require.Equal(t, 200, c.Call("POST", path, in, &out))
	var probes []checkingrest.ProbeOut
	c.Get("/api/v1/probes", &probes)
	require.Len(t, probes, 2)
	require.Equal(t, "scans", probes[0].Reason)
	require.Equal(t, 409, c.Call("POST", path+"&clients=tier+is+nowhere", in, nil),
		"no row is passed over because the filters leave nothing of it")
}
