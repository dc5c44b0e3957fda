package rest_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/auditing"
	auditingrest "lucidorchard/auditing/rest"
	"lucidorchard/core/estate"
	"lucidorchard/core/evidence"
	"lucidorchard/core/flow"
	"lucidorchard/database/databasetest"
	"lucidorchard/inventory"
	"lucidorchard/printing"
	"lucidorchard/server"
	"lucidorchard/traffic/rows"
	watchingrest "lucidorchard/watching/rest"
)

// Evidence is made, read, handed out with its signature and its inputs, compared and
// forgotten; it counts as the watch does; what cannot be meant is told.
func TestEvidenceIsMadeAndHandedOut(t *testing.T) {
	url := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	ctx, cancel := context.WithCancel(context.Background())
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "tester"}),
		assembly.HandlerOptions{Web: fstest.MapFS{}})
	h := httptest.NewServer(assemblytest.Conforming(t, s))
	t.Cleanup(func() { cancel(); s.Wait(); h.Close() })
	c := assemblytest.Client{T: t, Base: h.URL, DB: db}
	today := time.Now().UTC().Format(time.DateOnly)
	ask := func(promise, from, to string) (int, assemblytest.Problem) {
		var p assemblytest.Problem
		status := c.Call("POST", "/api/v1/evidence", map[string]any{"promise": promise, "from": from, "to": to}, &p)
		return status, p
	}
	status, p := ask("assert never any -> any on any", today, today)
	require.Equal(t, 202, status, "it is begun, and fails: %v", p)
	require.NoError(t, db.ImportWorkloads(t.Context(), "inventory", nil,
		[]estate.Workload{{ID: "laptop", Name: "laptop", Tags: []estate.Tag{{Key: "app", Value: "desk"}},
			Leases: []estate.Lease{{Addr: netip.MustParseAddr("10.0.0.2"), From: estate.Beginning,
				Until: estate.End}}}}))
	records := assemblytest.Reaching(t)
	_, err = db.AddBatch(t.Context(), rows.BatchOf("one", flow.Stating(records), nil))
	require.NoError(t, err)
	require.Equal(t, 201,
		c.Replace(0, "group store = address in 10.0.1.0/24\ngroup desks = app is desk\nlayer l\npermit any -> store on tcp/443\nreject any -> store on tcp/22\n"+
			"assert only desks -> store on tcp/22\n"))

	for _, x := range []struct {
		promise, from, to, words string
		status                   int
	}{
		{"group nobody", today, today, "there is no group nobody", 404},
		{"assert only nobody -> store on any", today, today, "unknown group nobody", 422},
		{"permit any -> any on any", today, today, "expected an assertion", 422},
		{"group store", "2026-11-40", today, "", 422},
		{"group store", "2026-11-05", "2026-11-04", "a day before from", 422},
		{"group store", "2999-01-01", "2999-01-02", "has not come yet", 422},
		{"group store", "2020-01-01", today, "at most 400", 422},
	} {
		status, p := ask(x.promise, x.from, x.to)
		require.Equal(t, x.status, status, x)
		require.Contains(t, p.Detail, x.words)
	}
	yesterday := time.Now().UTC().AddDate(0, 0, -1).Format(time.DateOnly)
	make := func(promise string) int64 {
		t.Helper()
		var job server.Job
		require.Equal(t, 202, c.Call("POST", "/api/v1/evidence", map[string]any{"promise": promise, "from": yesterday,
			"to": today}, &job))
		job = c.Job(&job)
		require.Equal(t, "done", job.State, job.Message)
		var list []auditing.EvidenceKept
		require.Equal(t, 200, c.Call("GET", "/api/v1/evidence", nil, &list))
		require.Equal(t, fmt.Sprintf(`{"evidence":%d}`, list[0].ID), string(*job.Result))
		return list[0].ID
	}
	first := make("assert only desks -> store on tcp/22")
	var out auditingrest.EvidenceOut
	require.Equal(t, 200, c.Call("GET", fmt.Sprint("/api/v1/evidence/", first), nil, &out))
	e := out.Evidence
	require.Equal(t, "Only desks may reach store on tcp/22", e.Promise.Words)
	require.Equal(t, evidence.Sums{Leaks: 3}, e.Total, "the draft rejects what was carried")
	require.EqualValues(t, 2, e.Against)
	require.Len(t, e.Callers, 2)
	require.Equal(t, []string{"10.0.0.1", "laptop"}, []string{e.Callers[0].Name, e.Callers[1].Name})
	require.True(t, e.Callers[0].Against)
	require.False(t, e.Callers[1].Against)

	// All that reaches the store, as the watch counts it.
	group := make("group store")
	out = auditingrest.EvidenceOut{}
	require.Equal(t, 200, c.Call("GET", fmt.Sprint("/api/v1/evidence/", group), nil, &out))
	var w watchingrest.WatchOut
	require.Eventually(t, func() bool {
		c.Call("GET", "/api/v1/watch?period=week", nil, &w)
		return !w.Looking && w.Sum.Leaks > 0
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, w.Sum.Hour, out.Evidence.Total)

	// What is handed out is what was signed, by the key that the server names.
	var promises auditingrest.EvidencePromises
	require.Equal(t, 200, c.Call("GET", "/api/v1/evidence/promises", nil, &promises))
	require.Equal(t, []string{"assert only desks -> store on tcp/22"}, promises.Assertions)
	require.Equal(t, []string{"desks", "store"}, promises.Groups)
	r, text := c.Do("GET", fmt.Sprint("/api/v1/evidence/", first, "/signed"), nil, "")
	require.Contains(t, r.Header.Get("Content-Disposition"), "evidence only-desks")
	back, key, err := evidence.Verify([]byte(text))
	require.NoError(t, err)
	require.Equal(t, e.Sentence, back.Sentence)
	require.Equal(t, promises.Fingerprint, evidence.Fingerprint(key))
	require.Equal(t, promises.Fingerprint, out.Fingerprint)

	// Its inputs come out the same, whatever has changed since.
	require.NoError(t, db.SetTags(t.Context(), []inventory.TagEdit{{Workload: "laptop", Key: "app",
		Value: new(string)}}, "me", "away"))
	require.Equal(t, 201, c.Replace(1, "group store = address in 10.0.1.0/24\nlayer l\npermit any -> store on any\n"))
	_, err = db.AddBatch(t.Context(), rows.BatchOf("two", flow.Stating([]flow.Record{later(records[0])}), nil))
	require.NoError(t, err)
	for _, in := range e.Inputs {
		r, text := c.Do("GET", fmt.Sprint("/api/v1/evidence/", first, "/inputs/", in.Name), nil, "")
		require.Equal(t, 200, r.StatusCode)
		sum := sha256.Sum256([]byte(text))
		require.Equal(t, in.SHA256, hex.EncodeToString(sum[:]), in.Name)
		require.Equal(t, in.Lines, strings.Count(text, "\n"))
	}
	require.Equal(t, 404, c.Call("GET", fmt.Sprint("/api/v1/evidence/", first, "/inputs/nothing"), nil, nil))

	var x evidence.Comparison
	require.Equal(t, 200, c.Call("GET", fmt.Sprintf("/api/v1/evidence/comparison?before=%d&after=%d", first, group),
		nil, &x))
	require.False(t, x.Same)
	require.NotEmpty(t, x.Did)
	require.Equal(t, 404, c.Call("GET", fmt.Sprintf("/api/v1/evidence/comparison?before=%d&after=99", first), nil, nil))
	if printing.Browser() != "" { // nobody has said where this server is
		require.Equal(t, 503, c.Call("GET", fmt.Sprint("/api/v1/evidence/", first, "/pdf"), nil, nil))
	}
	// Somebody changes it where it is kept: then it is not shown as if it were right.
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(context.WithoutCancel(t.Context()))
	_, err = conn.Exec(t.Context(), `UPDATE evidence
		SET body = convert_to(replace(convert_from(body, 'UTF8'), '"leaks": 3', '"leaks": 0'), 'UTF8')
		WHERE id = $1`, first)
	require.NoError(t, err)
	require.Equal(t, 409, c.Call("GET", fmt.Sprint("/api/v1/evidence/", first), nil, &p))
	require.Contains(t, p.Detail, "not what was signed")
	require.Equal(t, 204, c.Call("DELETE", fmt.Sprint("/api/v1/evidence/", first), nil, nil))
	require.Equal(t, 404, c.Call("DELETE", fmt.Sprint("/api/v1/evidence/", first), nil, nil))
	require.Equal(t, 404, c.Call("GET", fmt.Sprint("/api/v1/evidence/", first), nil, nil))

	var made auditingrest.EvidenceScheduleMade
	schedule := map[string]any{"promise": "group store", "every": "month"}
	require.Equal(t, 201, c.Call("POST", "/api/v1/evidence-schedules", schedule, &made))
	require.Equal(t, 409, c.Call("POST", "/api/v1/evidence-schedules", schedule, nil))
	require.Equal(t, 404, c.Call("POST", "/api/v1/evidence-schedules",
		map[string]any{"promise": "group nobody", "every": "month"}, nil))
	var schedules []auditing.EvidenceSchedule
	require.Equal(t, 200, c.Call("GET", "/api/v1/evidence-schedules", nil, &schedules))
	require.Len(t, schedules, 1)
	require.Equal(t, 204, c.Call("DELETE", fmt.Sprint("/api/v1/evidence-schedules/", made.ID), nil, nil))
	require.Equal(t, 404, c.Call("DELETE", fmt.Sprint("/api/v1/evidence-schedules/", made.ID), nil, nil))
}

// later is the same a bit later than now: after what was made before.
func later(r flow.Record) flow.Record {
	r.Start = estate.InstantOf(time.Now().UTC())
	r.End = r.Start
	return r
}
