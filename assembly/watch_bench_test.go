package assembly_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
	"lucidorchard/traffic/rows"
	"lucidorchard/watching"
)

// ninetyDays stores what each of the ninety days before today came to: sixty matters a day, out of
// five hundred.
func ninetyDays(b *testing.B, db *assembly.Store, today time.Time) {
	r := rand.New(rand.NewPCG(9, 90))
	for n := 90; n > 0; n-- {
		d := watching.WatchedDay{Day: today.AddDate(0, 0, -n), Stamp: "x", Hours: map[flow.Hour]*watch.Hour{}}
		for h := range 24 {
			d.Hours[flow.Hour(d.Day.Unix()/3600)+flow.Hour(h)] = &watch.Hour{Permitted: 200_000, Held: r.Int64N(1000),
				Leaks: r.Int64N(3)}
		}
		for _, k := range r.Perm(500)[:60] {
			at := d.Day.Add(time.Duration(r.IntN(86400)) * time.Second)
			id := fmt.Sprint("matter ", k)
			d.Matters = append(d.Matters, watching.Matter{ID: id, Kind: []string{"leak", "choke", "held"}[k%3],
				Why: "why", First: at, Last: at,
				Title: json.RawMessage(`[{"text":"` + id + `"}]`), About: json.RawMessage(`{}`)})
			d.Days = append(d.Days, watching.MatterDay{Matter: id, Day: d.Day, Conversations: 40, Connections: 400,
				Clients: 3, Servers: 2,
				Hours: make([]int64, 24), First: at, Last: at})
		}
		_, err := db.PutWatchedDay(b.Context(), d)
		require.NoError(b, err)
	}
}

// BenchmarkTheDaysList measures how long the list of a day, and of longer, takes after ninety days, with a
// day of traffic between 20,000 workloads; and how long a matter takes to open, the first time and
// again. ORCHARD_ROWS says how many conversation-hours the day has (300,000).
func BenchmarkTheDaysList(b *testing.B) {
	most := 300_000
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_ROWS")); err == nil {
		most = n
	}
	db, e, _ := large(b, 20_000, 400, 800)
	now := time.Now().UTC()
	today := now.Truncate(24 * time.Hour)
	ninetyDays(b, db, today)
	r := rand.New(rand.NewPCG(3, 3))
	var free []int // of nobody in particular: no rule rejects what goes on between them
	for i := range 20_000 {
		if tag, _ := e.Workload(int32(i)).Tag("env"); tag.Value == "bench" {
			free = append(free, i)
		}
	}
	machine := func() int { return free[r.IntN(len(free))] }
	for done := 0; done < most; done += 200_000 {
		var all flow.Buckets
		for range min(200_000, most-done) {
			at := estate.InstantOf(today.Add(time.Duration(r.Int64N(int64(now.Sub(today)) + 1))))
			x := flow.Record{Start: at, End: at, Client: sample.LargeAddr(machine()),
				Server: sample.LargeAddr(machine()),
				Point:  service.PointOf(service.TCP, 443), Connections: 1, Outcome: flow.Carried}
			if r.IntN(20_000) == 0 { // somebody tries what is closed
				x.Outcome, x.Point = flow.Dropped, service.PointOf(service.TCP, 23)
			}
			all.Add(x)
		}
		_, err := db.AddBatch(b.Context(), rows.Batch{ID: fmt.Sprint("bench ", done), Buckets: all.All()})
		require.NoError(b, err)
	}
	h := serving(b, db)
	get := func(path string, out any) time.Duration {
		start := time.Now()
		answer, err := http.Get(h.URL + "/api/v1/watch" + path)
		require.NoError(b, err)
		defer answer.Body.Close()
		require.Equal(b, 200, answer.StatusCode)
		require.NoError(b, json.NewDecoder(answer.Body).Decode(out))
		return time.Since(start)
	}
	var w struct {
		Matters []struct{ ID, Kind string }
	}
	found := "" // of today
	for found == "" {
		get("?period=day&since="+today.Format(time.RFC3339), &w)
		for _, m := range w.Matters {
			if m.Kind == "held" {
				found = m.ID
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	for b.Loop() {
		for _, period := range []string{"day", "week", "quarter"} {
			var all []time.Duration
			for range 20 {
				all = append(all, get("?period="+period, &w))
			}
			slices.Sort(all)
			b.ReportMetric(float64(all[18].Microseconds())/1000, "ms-"+period+"-p95")
		}
		b.ReportMetric(float64(len(w.Matters)), "matters-quarter")
		var opened struct{ Talks []any }
		b.ReportMetric(float64(get("/matters/"+found, &opened).Microseconds())/1000, "ms-open-matter")
		require.NotEmpty(b, opened.Talks)
	}
}
