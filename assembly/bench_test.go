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
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/database/databasetest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/traffic/rows"
)

// The interface's questions over 100,000 workloads with 20 tags each and 1,000
// groups, answered by a server on a real database.
func BenchmarkEstateOfARealSize(b *testing.B) {
	const workloads = 100_000
	db, err := assembly.Open(b.Context(), databasetest.Database(b))
	require.NoError(b, err)
	defer db.Close()
	e, text := sample.Large(workloads, 1000, 500)
	r := rand.New(rand.NewPCG(1, 2))
	all := e.Workloads()
	for i := range all {
		for k := range 16 {
			all[i].Tags = append(all[i].Tags, estate.Tag{Key: fmt.Sprintf("x%02d", k),
				Value: fmt.Sprintf("v%d", r.IntN(50))})
		}
	}
	listing := inventory.Listing{Source: "plan", Workloads: all, Complete: true}
	start := time.Now()
	_, err = db.Take(b.Context(), listing)
	require.NoError(b, err)
	first := time.Since(start)
	start = time.Now()
	taken, err := db.Take(b.Context(), listing)
	require.NoError(b, err)
	require.Zero(b, taken.Changed)
	again := time.Since(start)
	b.Run("import", func(b *testing.B) {
		b.ReportMetric(0, "ns/op") // it was measured above: once is enough
		b.ReportMetric(first.Seconds(), "s-first")
		b.ReportMetric(again.Seconds(), "s-again")
	})
	var buckets flow.Buckets
	for range 50_000 {
		at := estate.Instant{Sec: 1_795_000_000 + r.Int64N(600_000)}
		buckets.Add(flow.Record{Start: at, End: at, Client: sample.LargeAddr(r.IntN(workloads)),
			Server: sample.LargeAddr(r.IntN(workloads)), Point: sample.LargePoint(r), Connections: 1})
	}
	_, err = db.AddBatch(b.Context(), rows.Batch{ID: "bench", Buckets: buckets.All()})
	require.NoError(b, err)
	require.NoError(b, db.Begin(b.Context(), model.Revision{No: 1, Text: text, Blame: model.Blame{}, Author: "bench",
		Words: "begin"}))
	ctx, cancel := context.WithCancel(context.Background())
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "bench"}),
		assembly.HandlerOptions{Web: fstest.MapFS{}})
	h := httptest.NewServer(s)
	defer func() { cancel(); s.Wait(); h.Close() }()
	ask := func(method, path string, body any) {
		text, _ := json.Marshal(body)
		req, err := http.NewRequest(method, h.URL+path, bytes.NewReader(text))
		require.NoError(b, err)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		require.NoError(b, err)
		buf := new(bytes.Buffer)
		_, _ = buf.ReadFrom(res.Body)
		res.Body.Close()
		require.Equal(b, 200, res.StatusCode, path+" "+buf.String()[:min(200, buf.Len())])
	}
	ask("GET", "/api/v1/summary", nil) // reads and compiles everything
	for name, path := range map[string]string{
		"list": "/api/v1/workloads?limit=200", "list-sorted-by-tag": "/api/v1/workloads?sort=app&limit=200",
		"list-words":      "/api/v1/workloads?q=host-77&limit=200",
		"list-expression": "/api/v1/workloads?limit=200&q=" + url.QueryEscape("app is app7 and env is live"),
		"facets":          "/api/v1/workloads/facets",
		"facets-filtered": "/api/v1/workloads/facets?tag=env%3Dlive&tag=tier%3Dstore",
		"groups":          "/api/v1/groups", "page": "/api/v1/workloads/w77/rules", "ledger": "/api/v1/ledger",
		"check": "/api/v1/check",
	} {
		ask("GET", path, nil)
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				ask("GET", path, nil)
			}
			b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms")
		})
	}
	lines := ""
	for i := range 200 {
		lines += fmt.Sprintf("app%d-%s -> app%d-%s tcp/443\n", i, []string{"entry", "logic"}[i%2], (i*7+3)%250,
			[]string{"store", "bus"}[i%2])
	}
	b.Run("what-if-200", func(b *testing.B) {
		for b.Loop() {
			ask("POST", "/api/v1/whatif", map[string]any{"text": lines})
		}
		b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms")
	})
	b.Run("edit-and-check", func(b *testing.B) {
		line := strings.Count(text[:strings.Index(text, "\npermit")], "\n") + 2
		took := map[string]time.Duration{}
		step := func(name string, f func()) {
			start := time.Now()
			f()
			took[name] += time.Since(start)
		}
		for i := 1; b.Loop(); i++ {
			step("save", func() {
				ask("POST", "/api/v1/policy/edits", map[string]any{"revision": i, "op": "switch", "line": line})
			})
			step("totals", func() { ask("GET", "/api/v1/check", nil) })
			step("ledger", func() { ask("GET", "/api/v1/ledger", nil) })
		}
		for name, d := range took {
			b.ReportMetric(float64(d.Milliseconds())/float64(b.N), name+"-ms")
		}
	})
	b.Run("tag-preview", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			ask("POST", "/api/v1/tags?dryRun=true",
				map[string]any{"workloads": []string{fmt.Sprintf("w%d", i%workloads)}, "key": "env",
					"value": []string{"trial", "live"}[i%2]})
		}
		b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms")
	})
	b.Run("tag-set-and-list", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			ask("POST", "/api/v1/tags", map[string]any{"workloads": []string{fmt.Sprintf("w%d", i%workloads)},
				"key": "env", "value": []string{"trial", "live"}[i%2]})
			ask("GET", "/api/v1/workloads?limit=200", nil)
		}
		b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms")
	})
}
