package ingest_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/ingest"
)

func TestForeignHeadings(t *testing.T) {
	const text = "Host Name,IP Address,Second " +
		"IP,Environment,Application,Rack\nbe-1,10.0.0.1,,live,booking,7\nbe-2,10.0.0.2,fd00::2,trial,,8\n"
	look, err := ingest.LookAt([]byte(text), true, ingest.Form{}, 1)
	require.NoError(t, err)
	require.Equal(t, [][]string{{"be-1", "10.0.0.1", "", "live", "booking", "7"}}, look.First)
	m := ingest.Guess(look.Headings)
	require.Equal(t, ingest.Mapping{"Host Name": "id", "IP Address": "addresses", "Second IP": "addresses",
		"Environment": "tag:env", "Application": "tag:app", "Rack": ""}, m)
	f, err := ingest.WorkloadsOf(strings.NewReader(text), "plan", ingest.Form{Columns: m})
	require.NoError(t, err)
	require.Empty(t, f.Errors)
	require.Empty(t, f.Warnings)
	require.Equal(t, []string{"env", "app"}, f.Keys)
	require.Len(t, f.Workloads[1].Leases, 2)
	app, _ := f.Workloads[0].Tag("app")
	require.Equal(t, "booking", app.Value)

	for _, c := range []struct {
		mapping ingest.Mapping
		want    string
	}{
		{ingest.Mapping{"Rack": "shelf"}, `is to be read as "shelf"`},
		{ingest.Mapping{"Rack": "id", "Host Name": "id"}, `and so is "Host Name"`},
		{ingest.Mapping{"Host Name": ""}, "column id"},
	} {
		_, err := ingest.WorkloadsOf(strings.NewReader(text), "plan", ingest.Form{Columns: c.mapping})
		require.ErrorContains(t, err, c.want)
	}
	// Our own headings stay what they are.
	require.Equal(t, ingest.Mapping{"id": "id", "host": "name", "tag:tier": "tag:tier", "role": ""},
		ingest.Guess([]string{"id", "host", "tag:tier", "role"}))
}

func TestJSONLines(t *testing.T) {
	f, err := ingest.WorkloadLines(strings.NewReader("\ufeff"+
		`{"id":"a","name":"A","addresses":["10.0.0.1","::ffff:10.0.0.1"],"tags":{"env":"live","app":""}}

{"id":"b","leases":[{"addr":"10.0.0.2","from":"2026-11-01T00:00:00Z"}]}
{"id":"a"}
{"id":"c","addresses":["10.0.0.999"]}
{"id":"d","colour":"red"}
{"id":"e"} {"id":"f"}
{"id":"g","leases":[{"addr":"10.0.0.2","from":"tomorrow"}]}
{"id":"h","addresses":["10.0.0.1"]}
not json
`), "script")
	require.NoError(t, err)
	require.Equal(t, 9, f.Rows)
	require.Nil(t, f.Keys)
	var ids []string
	for _, w := range f.Workloads {
		ids = append(ids, w.ID)
	}
	require.Equal(t, []string{"a", "b", "h"}, ids)
	require.Len(t, f.Workloads[0].Leases, 1)
	require.Len(t, f.Workloads[0].Tags, 1)
	require.True(t, f.Workloads[1].Leases[0].From.IsBound())
	require.Empty(t, f.Workloads[2].Leases, "a has the address already")
	got := map[int]string{}
	for _, e := range f.Errors {
		got[e.Line] = e.Column + ": " + e.Reason
	}
	for line, want := range map[int]string{4: "once, as on line 1", 5: "10.0.0.999", 6: "colour", 7: "more behind",
		8: "tomorrow", 9: "both claim", 10: "expected an object"} {
		require.Contains(t, got[line], want)
	}
	require.Len(t, got, 7)
}
