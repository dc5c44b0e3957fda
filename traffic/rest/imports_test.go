package rest_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/imports"
	inventoryrest "lucidorchard/inventory/rest"
	trafficrest "lucidorchard/traffic/rest"
)

func TestImportReportsBadRowsAndKeepsTheRest(t *testing.T) {
	c := assemblytest.Serve(t)
	file := "id,addresses,tag:env\nnew-1,10.99.0.1,live\n" +
		"new-2,10.20.3.10,live\nbooking-entry-01,,trial\nnew-3,oops,live\n"
	var a answers.ImportAnswer
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true&source=sheet", file, &a))
	require.Equal(t, 2, a.Preview.Bad)
	require.Equal(t, 2, a.Preview.Added)
	require.Contains(t, a.Preview.Errors[0].Reason, `found "oops"`)
	require.Contains(t, a.Preview.Errors[1].Reason,
		`"booking-entry-01" holds address 10.20.3.10 by inventory, which outranks this source`)
	var before inventoryrest.FoundList
	require.Equal(t, 200, c.Call("POST", "/api/v1/workloads/find", map[string]any{"text": "10.20.3.10"}, &before))
	holder := before.Workloads[0].ID
	require.Equal(t, "booking-entry-01", holder)
	require.Equal(t, 1, a.Preview.Kept, "a source heard later does not outrank the one before")
	require.Equal(t, 200, c.Call("PUT", "/api/v1/sources", map[string]any{"names": []string{"inventory"}}, nil))
	require.Equal(t, 202, c.Call("POST", "/api/v1/imports/workloads?source=sheet", "id\nnew-1\n", &a))
	require.Equal(t, "done", c.Job(a.Job).State)
	require.Equal(t, 200, c.Call("PUT", "/api/v1/sources", map[string]any{"names": []string{"sheet", "inventory"}},
		nil))
	a = answers.ImportAnswer{}
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true&source=sheet", file, &a))
	require.Equal(t, 1, a.Preview.Bad)
	require.Contains(t, a.Preview.Examples, imports.ImportExample{ID: holder,
		What: []string{"env: live → trial", "no longer 10.20.3.10"}}, "the address goes to another")
	require.Equal(t, 202, c.Call("POST", "/api/v1/imports/workloads?source=sheet", file, &a))
	require.Equal(t, "done", c.Job(a.Job).State)
	var w inventoryrest.WorkloadPage
	require.Equal(t, 200, c.Call("GET", "/api/v1/workloads/new-2", nil, &w))
	require.Len(t, w.Leases, 1)
	require.True(t, w.Leases[0].Now)
	require.NotEmpty(t, w.Leases[0].From, "it has it from now on")
	require.Equal(t, 200, c.Call("GET", "/api/v1/workloads/"+holder, nil, &w))
	require.False(t, w.Leases[0].Now)
	require.Equal(t, 404, c.Call("GET", "/api/v1/workloads/new-3", nil, nil))
	var p assemblytest.Problem
	require.Equal(t, 422, c.Call("POST", "/api/v1/imports/flows", "start,src\n", &p))
	require.Contains(t, p.Detail, "column dst")
	require.Equal(t, 422, c.Call("POST", "/api/v1/imports/workloads", "colour\n", &p))
}

func TestAnAddressBelongsToWhoHeldItThen(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var page answers.ConversationPage
	require.Equal(t, 200, c.Call("GET", "/api/v1/conversations?limit=1000&q=roster-term", nil, &page))
	for _, v := range page.Conversations {
		held := v.Client.Workload
		var w inventoryrest.WorkloadPage
		require.Equal(t, 200, c.Call("GET", "/api/v1/workloads/"+held, nil, &w))
		first, err := estate.ParseInstant(v.First)
		require.NoError(t, err)
		until, err := estate.ParseInstant(w.Leases[0].Until)
		require.NoError(t, err)
		require.True(t, first.Before(until))
	}
}

// A packed file is the file that is in it; one that is damaged is named for that.
func TestPackedFilesAreTheFilesInThem(t *testing.T) {
	c := assemblytest.Serve(t)
	post := func(body []byte) (out answers.ImportAnswer, status int, detail string) {
		r, err := http.Post(c.Base+"/api/v1/imports/flows?preview=true", "application/octet-stream",
			bytes.NewReader(body))
		require.NoError(t, err)
		defer r.Body.Close()
		raw, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		var p assemblytest.Problem
		_ = json.Unmarshal(raw, &out)
		_ = json.Unmarshal(raw, &p)
		return out, r.StatusCode, p.Detail
	}
	text := "start,client,server,service,outcome\n" +
		strings.Repeat("2026-11-22T10:00:00Z,10.20.3.10,10.20.3.11,tcp/443,carried\n", 500)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, err := z.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	plain, status, _ := post([]byte(text))
	require.Equal(t, 200, status)
	require.Equal(t, 500, plain.Preview.Rows)
	got, status, _ := post(packed.Bytes())
	require.Equal(t, 200, status)
	require.Equal(t, plain, got)
	_, status, detail := post(packed.Bytes()[:packed.Len()/2])
	require.Equal(t, 400, status)
	require.Contains(t, detail, "gzip file ends too soon; nothing was stored")
	_, status, detail = post([]byte("\x0c\xa5\x02\x00" + strings.Repeat("x", 100)))
	require.Equal(t, 422, status)
	require.Contains(t, detail, "nfdump -r FILE -o csv")
}

// Files of any format become conversations with their records; a file that
// comes again is not counted again.
func TestTrafficFilesBecomeConversationsAndRecords(t *testing.T) {
	c := assemblytest.Serve(t)
	post := func(query, file string) answers.ImportAnswer {
		r, err := http.Post(c.Base+"/api/v1/imports/flows?"+query, "text/csv", strings.NewReader(file))
		require.NoError(t, err)
		defer r.Body.Close()
		var out answers.ImportAnswer
		require.NoError(t, json.NewDecoder(r.Body).Decode(&out))
		return out
	}
	file := "When seen,Source IP,Dest IP,Protocol,Dst Port,Src " +
		"Port,Action\n2026-11-22T10:00:00Z,10.20.3.10,10.20.3.11,tcp,7411,50001,allowed\n2026-11-22T10:00:01Z,10.20.3.11,10.20.3.10,tcp,50001,7411,allowed\n"
	preview := post("preview=true&directions=true", file).Preview
	require.NotNil(t, preview)
	require.NotEmpty(t, preview.Unusable, "nobody can guess what “When seen” is")
	mapped := "directions=true&name=old.csv&form=" + url.QueryEscape(`{"columns":{"When seen":"start"}}`)
	require.Empty(t, post("preview=true&"+mapped, file).Preview.Unusable)
	for _, already := range []bool{false, true} {
		job := post(mapped, file).Job
		require.NotNil(t, job)
		var done struct {
			State  string
			Result imports.ImportReport
		}
		require.Eventually(t, func() bool {
			c.Get(fmt.Sprintf("/api/v1/jobs/%d", job.ID), &done)
			return done.State != "running"
		}, 20*time.Second, 50*time.Millisecond)
		require.Equal(t, "done", done.State)
		require.Equal(t, already, done.Result.Already != "")
	}
	require.Empty(t, post("preview=true", file).Preview.Unusable, "what the headings are is remembered")
	var page trafficrest.RecordPage
	c.Get("/api/v1/records?client=10.20.3.10&server=10.20.3.11&service="+url.QueryEscape("tcp/7411"), &page)
	require.Equal(t, 1, page.Total)
	require.EqualValues(t, []any{50001, "carried", int64(1)},
		[]any{page.Records[0].ClientPort, page.Records[0].Outcome, page.Records[0].Connections})
	var found answers.ConversationPage
	c.Get("/api/v1/conversations?new=true&from=2026-11-22T10:00:00Z&services=tcp/7411&clients="+
		url.QueryEscape("address in 10.20.3.10"), &found)
	require.Equal(t, 1, found.Total)
	require.EqualValues(t, 1, found.Conversations[0].Carried)

	var refused assemblytest.Problem
	require.Equal(t, 422, c.Call("GET",
		"/api/v1/records?server=10.20.3.11&service=tcp/1&client="+url.QueryEscape("fe80::1%'; DROP TABLE records; --"),
		nil, &refused))
	require.Contains(t, refused.Detail, "expected an IP address")

	// It is the other way round, somebody says; and takes it back.
	said := map[string]string{"service": "tcp/50001", "kind": "address", "place": "10.20.3.10"}
	turned := func(want int) {
		require.Eventually(t, func() bool {
			c.Get("/api/v1/records?client=10.20.3.11&server=10.20.3.10&service="+url.QueryEscape("tcp/50001"), &page)
			c.Get("/api/v1/conversations?services=tcp/50001&servers="+url.QueryEscape("address in 10.20.3.10"),
				&found)
			return page.Total == want && found.Total == want
		}, 20*time.Second, 50*time.Millisecond)
	}
	require.Equal(t, http.StatusAccepted, c.Call(http.MethodPost, "/api/v1/service-ports", said, nil))
	turned(1)
	require.Equal(t, "set by hand", page.Records[0].Reason)
	unsaid := "/api/v1/service-ports?service=" + url.QueryEscape("tcp/50001") + "&kind=address&place=10.20.3.10"
	require.Equal(t, http.StatusAccepted, c.Call(http.MethodDelete, unsaid, nil, nil))
	turned(0)
	require.Equal(t, http.StatusNotFound, c.Call(http.MethodDelete, unsaid, nil, nil))
	for _, bad := range []map[string]string{{"service": "icmp/8", "kind": "everywhere", "place": ""},
		{"service": "tcp/1", "kind": "group", "place": "nobody"},
		{"service": "tcp/1", "kind": "address", "place": "here"},
		{"service": "tcp/1", "kind": "workload", "place": "nothing"}} {
		require.GreaterOrEqual(t, c.Call(http.MethodPost, "/api/v1/service-ports", bad, nil), 400, bad)
	}
}

// What is kept for too long is said first and then deleted, by days and by size.
func TestTrafficIsKeptAsLongAsChosen(t *testing.T) {
	c := assemblytest.Serve(t)
	var before, tried, after trafficrest.RetentionOut
	c.Get("/api/v1/retention", &before)
	require.Len(t, before.Days, 4, "two of records, two of conversations")
	require.Empty(t, before.Deletes)
	c.Get("/api/v1/retention?mostBytes=1", &tried)
	require.Len(t, tried.Deletes, 3, "the last day of conversations stays")
	require.Equal(t, http.StatusOK, c.Call(http.MethodPut, "/api/v1/retention",
		map[string]any{"conversationDays": 400, "recordDays": 30, "mostBytes": 1}, nil))
	c.Get("/api/v1/retention", &after)
	require.Len(t, after.Days, 1)
	require.Equal(t, before.Days[3].Day, after.Days[0].Day)
	// Where reading takes long, answers are of the traffic before it for a while.
	require.Eventually(t, func() bool {
		var strip trafficrest.Strip
		c.Get("/api/v1/flows/strip", &strip)
		return strip.From[:10] == before.Days[3].Day
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, http.StatusUnprocessableEntity, c.Call(http.MethodPut, "/api/v1/retention",
		map[string]any{"conversationDays": -1, "recordDays": 0, "mostBytes": 0}, nil))
}

// A lease that is learnt after the traffic cuts what is stored: each part of the
// hour is of whoever held the address then.
func TestLateInventoryRepairsWhatIsStored(t *testing.T) {
	c := assemblytest.Serve(t)
	var a answers.ImportAnswer
	file := "start,src,dst,proto,dport\n2026-11-22T10:05:00Z,10.99.1.1,10.20.3.10,tcp,7411\n" +
		"2026-11-22T10:40:00Z,10.99.1.1,10.20.3.10,tcp,7411\n"
	require.Equal(t, 202, c.Call("POST", "/api/v1/imports/flows", file, &a))
	require.Equal(t, "done", c.Job(a.Job).State)
	var found answers.ConversationPage
	c.Get("/api/v1/conversations?services=tcp/7411", &found)
	require.Equal(t, 1, found.Total)
	require.Empty(t, found.Conversations[0].Client.Workload)
	require.Equal(t, 202, c.Call("POST", "/api/v1/imports/workloads?source=leases",
		"id,addresses,from,until\nlate-1,10.99.1.1,2026-11-22T10:30:00Z,\n", &a))
	require.Equal(t, "done", c.Job(a.Job).State)
	require.Eventually(t, func() bool {
		c.Get("/api/v1/conversations?services=tcp/7411", &found)
		return found.Total == 2
	}, 20*time.Second, 50*time.Millisecond)
	whose := map[string]string{}
	for _, v := range found.Conversations {
		whose[v.First] = v.Client.Workload
	}
	require.Equal(t, map[string]string{"2026-11-22T10:05:00Z": "", "2026-11-22T10:40:00Z": "late-1"}, whose)
}
