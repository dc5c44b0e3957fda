package rest_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/flow"
	"lucidorchard/database/databasetest"
	"lucidorchard/traffic/rows"
	watchingrest "lucidorchard/watching/rest"
)

// Matters, the picture and the counters count the same as Check; a stream tells of what
// happens, and goes on where somebody was.
func TestWatchCountsAsCheckDoes(t *testing.T) {
	db, err := assembly.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	ctx, cancel := context.WithCancel(context.Background())
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "tester"}),
		assembly.HandlerOptions{Web: fstest.MapFS{}})
	h := httptest.NewServer(s)
	t.Cleanup(func() { cancel(); s.Wait(); h.Close() })
	c := assemblytest.Client{T: t, Base: h.URL, DB: db}
	require.Equal(t, 201,
		c.Replace(0, "group entry = address in 10.0.0.0/24\ngroup store = address in 10.0.1.0/24\nlayer l\n"+
			"permit entry -> store on tcp/443\nreject any -> store on tcp/22\n"))
	var w watchingrest.WatchOut
	watch := func(query string) {
		t.Helper()
		w = watchingrest.WatchOut{}
		require.Equal(t, 200, c.Call("GET", "/api/v1/watch?"+query, nil, &w))
	}
	watch("")
	require.Empty(t, w.Matters)
	lines := make(chan string, 1000)
	listen := func(last string) func() {
		r, err := http.NewRequest("GET", c.Base+"/api/v1/watch/stream", nil)
		require.NoError(t, err)
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		go func() {
			for s := bufio.NewScanner(answer.Body); s.Scan(); {
				lines <- s.Text()
			}
		}()
		return func() { answer.Body.Close() }
	}
	stop := listen("")
	_, err = db.AddBatch(t.Context(), rows.BatchOf("seen", flow.Stating(assemblytest.Reaching(t)), nil))
	require.NoError(t, err)
	require.Eventually(t, func() bool { watch(""); return len(w.Matters) == 4 && !w.Looking }, 20*time.Second,
		50*time.Millisecond)
	kinds := map[string]watchingrest.MatterOut{}
	for _, m := range w.Matters {
		kinds[fmt.Sprint(m.Kind, m.About.Scan)] = m
	}
	require.Equal(t, []int64{2, 3}, []int64{kinds["leakfalse"].Conversations, kinds["leakfalse"].Connections})
	require.Equal(t, []int64{1, 3}, []int64{kinds["chokefalse"].Conversations, kinds["chokefalse"].Connections})
	require.Equal(t, []int64{1, 5}, []int64{kinds["heldfalse"].Conversations, kinds["heldfalse"].Connections})
	require.Equal(t, []int64{12, 12}, []int64{kinds["heldtrue"].Conversations, kinds["heldtrue"].Connections})
	for _, period := range []string{"day", "week", "quarter"} {
		watch("period=" + period)
		require.Equal(t, []int64{4, 0, 17, 3, 3}, []int64{w.Sum.Permitted, w.Sum.Uncovered, w.Sum.Held, w.Sum.Leaks,
			w.Sum.Chokes}, period)
	}
	var check struct{ Leaks, Chokes int }
	require.Equal(t, 200, c.Call("GET", "/api/v1/check", nil, &check))
	require.Equal(t, []int{2, 1}, []int{check.Leaks, check.Chokes})
	for _, by := range []string{"pair", "rule"} {
		var page watchingrest.CounterPage
		require.Equal(t, 200, c.Call("GET", "/api/v1/watch/counters?period=day&by="+by, nil, &page))
		var sum watchingrest.WatchBin
		for _, x := range page.Counters {
			sum.Held, sum.Leaks, sum.Permitted, sum.Chokes = sum.Held+x.Counts.Held, sum.Leaks+x.Counts.Leaks,
				sum.Permitted+x.Counts.Permitted, sum.Chokes+x.Counts.Chokes
		}
		require.Equal(t, []int64{4, 17, 3, 3}, []int64{sum.Permitted, sum.Held, sum.Leaks, sum.Chokes}, by)
	}
	leak := kinds["leakfalse"]
	var page watchingrest.MatterPage
	require.Equal(t, 200, c.Call("GET", "/api/v1/watch/matters/"+leak.ID, nil, &page))
	require.Equal(t, 2, page.Total)
	require.Equal(t, "reject", page.Talks[0].Verdict)
	require.Equal(t, 404, c.Call("GET", "/api/v1/watch/matters/none", nil, nil))
	require.Equal(t, 422, c.Call("GET", "/api/v1/watch/matters/"+leak.ID+"?day=soon", nil, nil))
	watch("since=" + url.QueryEscape(time.Now().Add(time.Hour).UTC().Format(time.RFC3339)))
	require.Empty(t, w.Matters)
	require.Equal(t, 422, c.Call("GET", "/api/v1/watch?since=soon", nil, nil))

	// The stream told of each, and tells of what is said.
	next := func(want int) (ids []string, list []watchingrest.MatterOut) {
		t.Helper()
		for over := time.After(20 * time.Second); len(list) < want; {
			select {
			case l := <-lines:
				if id, ok := strings.CutPrefix(l, "id: "); ok {
					ids = append(ids, id)
				}
				if data, ok := strings.CutPrefix(l, "data: "); ok {
					var m watchingrest.MatterOut
					require.NoError(t, json.Unmarshal([]byte(data), &m))
					list = append(list, m)
				}
			case <-over:
				require.Fail(t, "the stream says no more")
			}
		}
		return ids, list
	}
	ids, list := next(4)
	require.Len(t, list, 4)
	stop()
	require.Equal(t, 422, c.Call("POST", "/api/v1/watch/matters/state",
		map[string]any{"ids": []string{leak.ID}, "state": "settled"}, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/watch/matters/state",
		map[string]any{"ids": []string{leak.ID}, "state": "settled", "note": "old"}, nil))
	defer listen(ids[len(ids)-1])()
	_, list = next(1)
	found := list
	for len(found) < 4 {
		if found[len(found)-1].ID == leak.ID {
			break
		}
		_, more := next(1)
		found = append(found, more...)
	}
	require.Equal(t, []string{leak.ID, "settled"}, []string{found[len(found)-1].ID, found[len(found)-1].State})
	watch("")
	require.Equal(t, 3, w.Open)
}

// The feed has every flow, and after a cursor what changed since, under the ids that it
// had; a filter keeps what it says; what cannot be meant is refused.
func TestTheFeedOfFlowsGoesOn(t *testing.T) {
	db, err := assembly.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	ctx, cancel := context.WithCancel(context.Background())
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "tester"}),
		assembly.HandlerOptions{Web: fstest.MapFS{}})
	h := httptest.NewServer(s)
	t.Cleanup(func() { cancel(); s.Wait(); h.Close() })
	c := assemblytest.Client{T: t, Base: h.URL, DB: db}
	require.Equal(t, 201,
		c.Replace(0, "group store = address in 10.0.1.0/24\nlayer l\npermit any -> store on tcp/443\nreject any -> store on tcp/22\n"))
	add := func(id string, records []flow.Record) {
		_, err := db.AddBatch(t.Context(), rows.BatchOf(id, flow.Stating(records), nil))
		require.NoError(t, err)
	}
	read := func(query string) (flows []watchingrest.FedFlow, cursor int64) {
		t.Helper()
		answer, err := http.Get(c.Base + "/api/v1/watch/flows?" + query)
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Equal(t, 200, answer.StatusCode)
		for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
			var end watchingrest.FedCursor
			var f watchingrest.FedFlow
			if strings.HasPrefix(lines.Text(), `{"cursor"`) {
				require.NoError(t, json.Unmarshal(lines.Bytes(), &end))
				require.Greater(t, end.Cursor, cursor)
				cursor = end.Cursor
				continue
			}
			require.NoError(t, json.Unmarshal(lines.Bytes(), &f))
			flows = append(flows, f)
		}
		return flows, cursor
	}
	records := assemblytest.Reaching(t)
	add("one", records)
	all, cursor := read("")
	require.Len(t, all, len(records))
	ids := map[string]watchingrest.FedFlow{}
	for _, f := range all {
		ids[f.ID] = f
	}
	require.Len(t, ids, len(records))
	again, same := read(fmt.Sprint("cursor=", cursor))
	require.Empty(t, again)
	require.Zero(t, same)

	early := records[0]
	early.Start.Sec -= 3 * 3600
	early.End = early.Start
	add("two", []flow.Record{early})
	next, later := read(fmt.Sprint("cursor=", cursor))
	require.Len(t, next, 1, "only the hour that changed")
	require.Greater(t, later, cursor)
	more := records[1]
	add("three", []flow.Record{more})
	next, _ = read(fmt.Sprint("cursor=", later))
	require.Len(t, next, len(records))
	for _, f := range next {
		before, known := ids[f.ID]
		require.True(t, known)
		if f.Service == "tcp/22" && f.Client == "10.0.0.1" {
			require.Equal(t, before.Connections+more.Connections, f.Connections)
			require.Equal(t, []string{"reject", "leak", "reject any -> store on tcp/22"},
				[]string{f.Verdict, f.Fate, f.Rule})
		}
	}
	some, _ := read("servers=" + url.QueryEscape("member of store") + "&outcome=dropped&clients=" +
		url.QueryEscape("address in 10.9.9.9"))
	require.Len(t, some, 12)
	none, _ := read("aside=all")
	require.Empty(t, none, "nothing was set aside")
	for _, bad := range []string{"cursor=x", "cursor=-1", "servers=tier+is", "colour=red", "verdict=perhaps",
		"against=1",
		"servers=member+of+nobody"} {
		answer, err := http.Get(c.Base + "/api/v1/watch/flows?" + bad)
		require.NoError(t, err)
		answer.Body.Close()
		require.Equal(t, 422, answer.StatusCode, bad)
	}
}
