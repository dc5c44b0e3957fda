package watching_test

import (
	"encoding/json"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/releasing"
	"lucidorchard/traffic/rows"
)

// Connections of an hour were counted together before a point reported what it did in that
// hour. They are told apart by their single records: each is judged by what the points had
// loaded then, and none stays unclear, also if what is reported later was earlier.
func TestLateReportsOfAPointSplitTheHour(t *testing.T) {
	type report struct {
		point, mode string
		minute      int
		leaks       int64 // then, of 6 connections in minute 5, 9 in minute 25 and 5 in minute 45
	}
	for name, reports := range map[string][]report{
		"one point":                   {{"p", "enforce", 20, 14}, {"p", "observe", 40, 9}},
		"the other was earlier":       {{"p", "enforce", 40, 5}, {"q", "enforce", 10, 14}},
		"the other was earlier still": {{"p", "enforce", 30, 5}, {"p", "observe", 50, 5}, {"q", "enforce", 2, 20}},
	} {
		t.Run(name, func(t *testing.T) {
			report, leaks := lateReports(t)
			leaks(0)
			for _, r := range reports {
				report(r.point, r.mode, r.minute)
				leaks(r.leaks)
			}
		})
	}
}

// lateReports watches an hour of an hour ago, in which two points guard a server.
func lateReports(t *testing.T) (report func(point, mode string, minute int), leaks func(want int64)) {
	db := assemblytest.Open(t)
	ctx := t.Context()
	var ws []estate.Workload
	for id, addr := range map[string]string{"a": "10.0.0.1", "b": "10.0.0.2"} {
		w := estate.Workload{ID: id, Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning,
			Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "env", Value: id})
		ws = append(ws, w)
	}
	_, err := db.Take(ctx, inventory.Listing{Source: "list", Workloads: ws, Complete: true})
	require.NoError(t, err)
	require.NoError(t, db.Begin(ctx, model.Revision{No: 1, Text: "layer l\nreject any -> any on any\n",
		Blame: model.Blame{}, Author: "me", Words: "begin"}))
	for _, name := range []string{"p", "q"} {
		require.NoError(t, db.AddPoint(ctx, releasing.Point{Name: name, Kind: "gate", Side: "server",
			Guards: "env is b", Wave: 1}, "token "+name))
	}
	_, err = db.AddRelease(ctx, releasing.Release{Revision: 1, Title: "t", Author: "me"},
		func(no int, _ releasing.Roll) ([]releasing.Target, error) {
			return []releasing.Target{{Point: "p", Enforces: no, Words: "to enforce"},
				{Point: "q", Enforces: no, Words: "to enforce"}}, nil
		})
	require.NoError(t, err)
	hour := time.Now().Add(-time.Hour).Truncate(time.Hour)
	report = func(point, mode string, minute int) {
		no := 1
		require.NoError(t, db.Heard(ctx, point, json.RawMessage(`{}`), []releasing.PointEvent{{Point: point,
			At: hour.Add(time.Duration(minute) * time.Minute), What: "applied", Words: "x", Release: &no,
			Mode: &mode}}, true))
	}
	report("p", "observe", 0)
	var records []flow.Record
	for _, x := range []struct {
		minute int
		n      int64
	}{{5, 6}, {25, 9}, {45, 5}} {
		at := estate.InstantOf(hour.Add(time.Duration(x.minute) * time.Minute))
		records = append(records, flow.Record{Start: at, End: at, Client: netip.MustParseAddr("10.0.0.1"),
			Server: netip.MustParseAddr("10.0.0.2"), Point: service.PointOf(service.TCP, 4444), Connections: x.n,
			Bytes: 1, Packets: 1,
			Outcome: flow.Carried, Observer: "leaf"})
	}
	_, err = db.AddBatch(ctx, rows.BatchOf("together", flow.Stating(records), nil))
	require.NoError(t, err)
	assemblytest.Running(t, db, "one")
	of := func() watch.Hour {
		h := flow.Hour(hour.Unix() / 3600)
		all, err := db.WatchHours(ctx, h, h+1)
		require.NoError(t, err)
		return all[h]
	}
	return report, func(want int64) {
		t.Helper()
		var got watch.Hour
		require.Eventually(t, func() bool {
			got = of()
			return got.Leaks == want && got.Unclear == 0 && got.All() == 20
		}, 20*time.Second, 20*time.Millisecond, "%+v", &got)
	}
}
