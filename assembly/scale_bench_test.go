package assembly_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/database/databasetest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	trafficrest "lucidorchard/traffic/rest"
	"lucidorchard/traffic/rows"
)

// large stores an estate with its policy.
func large(b *testing.B, workloads, groups, rules int) (*assembly.Store, *estate.Estate, string) {
	db, err := assembly.Open(b.Context(), databasetest.Database(b))
	require.NoError(b, err)
	b.Cleanup(func() { db.Close() })
	e, text := sample.Large(workloads, groups, rules)
	_, err = db.Take(b.Context(), inventory.Listing{Source: "plan", Workloads: e.Workloads(), Complete: true})
	require.NoError(b, err)
	require.NoError(b, db.Begin(b.Context(), model.Revision{No: 1, Text: text, Blame: model.Blame{}, Author: "bench",
		Words: "begin"}))
	return db, e, text
}

// serving runs a server on a database.
func serving(b *testing.B, db *assembly.Store) *httptest.Server {
	ctx, cancel := context.WithCancel(context.Background())
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "bench"}),
		assembly.HandlerOptions{Web: fstest.MapFS{}})
	h := httptest.NewServer(s)
	b.Cleanup(func() { cancel(); s.Wait(); h.Close() })
	return h
}

// BenchmarkCheckOfARealSize measures what the check's questions take over a million
// conversations of 100,000 workloads under 2,000 rules, in a real database: after
// the start, after an edit, and when a row is opened. ORCHARD_ROWS is another
// number of conversations.
func BenchmarkCheckOfARealSize(b *testing.B) {
	most := 1_000_000
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_ROWS")); err == nil {
		most = n
	}
	db, e, text := large(b, 100_000, 1000, 2000)
	byRole := map[string][]estate.Lease{}
	var roles []string
	for _, w := range e.All() {
		app, _ := w.Tag("app")
		tier, _ := w.Tag("tier")
		role := app.Value + " " + tier.Value
		if byRole[role] == nil {
			roles = append(roles, role)
		}
		byRole[role] = append(byRole[role], w.Leases[0])
	}
	r := rand.New(rand.NewPCG(7, 7))
	ports := []uint32{443, 8443, 5432, 22, 53, 9100, 636, 5671}
	const batch = 400_000
	for done := 0; done < most; done += batch {
		var buckets flow.Buckets
		for range min(batch, most-done) {
			at := estate.Instant{Sec: 1_795_000_000 + r.Int64N(24*3600)}
			server := r.IntN(len(roles)) // each role is called by members of six others, on two services
			clients, servers := byRole[roles[(server*7+r.IntN(6)*13)%len(roles)]], byRole[roles[server]]
			buckets.Add(flow.Record{Start: at, End: at, Client: clients[r.IntN(len(clients))].Addr,
				Server: servers[r.IntN(len(servers))].Addr,
				Point:  service.PointOf(service.TCP, ports[(server+r.IntN(2))%len(ports)]), Connections: 1,
				Bytes: 4000, Outcome: flow.Carried})
		}
		_, err := db.AddBatch(b.Context(), rows.Batch{ID: fmt.Sprint("bench ", done), Buckets: buckets.All()})
		require.NoError(b, err)
	}
	h := serving(b, db)
	ask := func(method, path string, body, out any) {
		text, _ := json.Marshal(body)
		req, err := http.NewRequest(method, h.URL+path, bytes.NewReader(text))
		require.NoError(b, err)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		require.NoError(b, err)
		defer res.Body.Close()
		require.Equal(b, 200, res.StatusCode, path)
		if out != nil {
			require.NoError(b, json.NewDecoder(res.Body).Decode(out))
		}
	}
	step := func(name string, f func()) {
		start := time.Now()
		f()
		b.ReportMetric(float64(time.Since(start).Milliseconds()), name+"-ms")
	}
	var check checkingrest.CheckOut
	begin := time.Now()
	ask("GET", "/api/v1/check", nil, &check)
	started := time.Since(begin)
	ask("GET", "/api/v1/ledger", nil, nil)
	line := strings.Count(text[:strings.Index(text, "\npermit")], "\n") + 2
	b.ResetTimer()
	b.ReportMetric(float64(check.Conversations), "conversations")
	b.ReportMetric(started.Seconds(), "start-s")
	revision := 1
	for range b.N {
		var ledger trafficrest.LedgerPage
		step("save", func() {
			ask("POST", "/api/v1/policy/edits", map[string]any{"revision": revision, "op": "switch", "line": line},
				nil)
		})
		revision++
		step("totals", func() { ask("GET", "/api/v1/check", nil, &check) })
		step("ledger", func() { ask("GET", "/api/v1/ledger", nil, &ledger) })
		step("strip", func() { ask("GET", "/api/v1/flows/strip", nil, nil) })
		row := "near=" + url.QueryEscape(ledger.Rows[0].Key) + "&service=" + url.QueryEscape(ledger.Rows[0].Service)
		var callers trafficrest.LedgerPage
		step("open", func() { ask("GET", "/api/v1/ledger/callers?"+row, nil, &callers) })
		var list answers.ConversationPage
		step("open-pairs", func() {
			ask("GET", "/api/v1/conversations?"+row+"&limit=50&far="+url.QueryEscape(callers.Rows[0].Key), nil, &list)
		})
		c := list.Conversations[0]
		step("open-hours", func() {
			ask("GET", fmt.Sprintf("/api/v1/conversations/hours?client=%s&server=%s&service=%s&first=%s",
				c.Client.Addr, c.Server.Addr, url.QueryEscape(c.Service), url.QueryEscape(c.First)), nil, nil)
		})
		step("settle", func() { ask("GET", "/api/v1/settle?as=permit&"+row, nil, nil) })
		step("against", func() { ask("GET", "/api/v1/check?against=1", nil, nil) })
		step("policy", func() { ask("GET", "/api/v1/policy", nil, nil) })
	}
}
