package rest_test

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/flow"
	"lucidorchard/core/rollout"
	"lucidorchard/database/databasetest"
	"lucidorchard/demo"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/point"
	"lucidorchard/releasing"
	releasingrest "lucidorchard/releasing/rest"
	"lucidorchard/traffic/rows"
)

// One order is carried out at all its points, and says what it did at each; a rollback
// takes what is enforced and what is observed back in one step.
func TestAnOrderIsCarriedOutWhole(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("trial", "env is trial", 1)
	c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	var did []releasingrest.Ordered
	send := func(o releasingrest.Order) int { return c.Call("POST", "/api/v1/rollout/orders", o, &did) }
	require.Equal(t, 200, send(releasingrest.Order{Do: "enforce", Release: 1, Points: []string{"trial"}, Anyway: true}))
	require.Equal(t, []releasingrest.Ordered{{Point: "trial", Before: releasingrest.PointRuns{Observes: 1},
		After: releasingrest.PointRuns{Enforces: 1}, Changed: true,
		Words: "To run release 1 enforced, by tester"}}, did)
	require.Equal(t, 201, c.Replace(1, assemblytest.Draft+"permit trial -> trial on tcp/443\n"))
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "Second"}, nil))
	c.Until("each goes on with what it enforces", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 2) && assemblytest.Runs(p["live"], 0, 2)
	})
	require.Equal(t, 1, c.RollOut().InForce, "what is only observed is not in force")
	effective := func(query string) int {
		var list struct{ Workloads []struct{ ID string } }
		c.Get("/api/v1/workloads?tag=env%3Dtrial&limit=1", &list)
		var rules inventoryrest.WorkloadRules
		c.Get("/api/v1/workloads/"+list.Workloads[0].ID+"/rules"+query, &rules)
		return len(rules.In)
	}
	require.Equal(t, effective("?release=1")+1, effective(""), "the draft has one rule more for it")
	require.Equal(t, effective("?release=2"), effective(""))
	require.Equal(t, 404, c.Call("GET", "/api/v1/workloads/booking-entry-01/rules?release=9", nil, nil))
	require.Equal(t, 200, send(releasingrest.Order{Do: "observe", Release: 1, Wave: 1}))
	require.False(t, did[1].Changed, "trial enforces it already: %v", did)
	require.True(t, did[0].Changed)
	require.Equal(t, 200, send(releasingrest.Order{Do: "observe", Release: 2}))
	require.Equal(t, 200, send(releasingrest.Order{Do: "roll back", Release: 1}))
	c.Until("back", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 0) && assemblytest.Runs(p["live"], 0, 1)
	})
	require.Equal(t, 422, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "off", Release: 1}, nil))
	require.Equal(t, 422, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "observe", Release: 1,
		Minutes: 3}, nil))
	require.Equal(t, 404, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "off", Wave: 7}, nil))
	require.Equal(t, 200, send(releasingrest.Order{Do: "off"}))
	c.Until("off", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 0, 0) && assemblytest.Runs(p["live"], 0, 0)
	})
}

// A release under which nobody could administer a machine is not enforced unless somebody
// says so of each; by observed administration, where no assertion says more.
func TestNobodyIsLockedOutUnasked(t *testing.T) {
	c := assemblytest.Serve(t)
	require.Equal(t, 201,
		c.Replace(0, "group live = env is live\nlayer l\nreject any -> any on tcp/22, tcp/3389, tcp/5900, tcp/5901, "+
			"tcp/5985, tcp/5986, tcp/23\n"))
	c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "No ssh"}, nil))
	c.Until("it observes", func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 0, 1) })
	var p assemblytest.Problem
	require.Equal(t, 409, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Release: 1,
		Anyway: true}, &p))
	require.Contains(t, p.Detail, "nobody could administer")
	require.Contains(t, p.Detail, "line 3")
	var machines []releasingrest.MachineAccess
	c.Get("/api/v1/rollout/waves/1/access", &machines)
	require.False(t, machines[0].Open)
	seen := 0
	var rejected []releasingrest.RejectionOut
	c.Get("/api/v1/rollout/waves/1/rejected?limit=1000", &rejected)
	var page answers.ConversationPage
	c.Get("/api/v1/conversations?wave=1", &page)
	require.Equal(t, len(rejected), page.Total, "they are rows of the ledger, too")
	require.Positive(t, page.Total)
	without := []string{}
	for _, m := range machines {
		if m.Source == "seen" {
			seen++
		}
		if !m.Open {
			without = append(without, m.ID)
		}
	}
	require.Positive(t, seen, "the demo's administrators were seen")
	require.Equal(t, 409, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Release: 1,
		Anyway:  true,
		Without: without[1:]}, &p), "one is left")
	require.Contains(t, p.Detail, "1 machine any more")
	require.Equal(t, 200, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Release: 1,
		Anyway: true, Without: without}, nil))
}

// Enforcement on trial ends by itself unless somebody confirms it.
func TestATrialIsConfirmedOrEnds(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("trial", "env is trial", 1)
	c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Release: 1,
		Anyway: true, Minutes: 1}, nil))
	c.Until("both enforce on trial", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 0) && assemblytest.Runs(p["live"], 1, 0) && p["live"].TrialUntil != nil
	})
	require.Equal(t, 200, c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "confirm",
		Points: []string{"trial"}}, nil))
	soon := time.Now().Add(-time.Second)
	// its time is over
	require.NoError(t, c.DB.Order(t.Context(), func(now releasing.Roll) ([]releasing.Target, error) {
		return []releasing.Target{{Point: "live", Enforces: 1, Words: "x", Trial: "t", TrialUntil: &soon}}, nil
	}))
	c.Until("one stays, one returns", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 0) && p["trial"].TrialUntil == nil && assemblytest.Runs(p["live"], 0, 1)
	})
}

// What a point reports is input like any other: it breaks nobody's view, and no event is of
// before the point or the release was made.
func TestReportsAreChecked(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var made releasingrest.PointMade
	require.Equal(t, 201, c.Call("POST", "/api/v1/points", map[string]any{"name": "live", "kind": "gate",
		"guards": "env is live"}, &made))
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	say := func(said point.Status) int {
		r := c.SendWith("POST", "/api/v1/point/said", said, nil, http.Header{"Authorization": {"Bearer " + made.Token}})
		return r.StatusCode
	}
	now := time.Now()
	require.Equal(t, 204, say(point.Status{State: "holds", Observes: 1}))
	for what, said := range map[string]point.Status{
		"a release that does not exist": {State: "holds", Enforces: 999},
		"far more than were lost":       {State: "ahead", Enforces: 1 << 30, At: rollout.Mark{Epoch: "x", Order: 5}},
		"another state":                 {State: "fine"},
		"an event that is none":         {State: "holds", Events: []point.Event{{At: now, What: "celebrated"}}},
		"an event of no release": {State: "holds", Events: []point.Event{{At: now, What: "applied",
			Enforces: 77}}},
		"a verdict that is none": {State: "holds", Lines: []point.Line{{Verdict: "maybe"}}},
		"counts below nothing":   {State: "holds", Lines: []point.Line{{Verdict: "permit", Packets: -1}}},
		"a long story":           {State: "holds", Words: strings.Repeat("x", 5000)},
	} {
		require.Equal(t, 422, say(said), what)
	}
	for _, at := range []time.Time{{}, now.AddDate(-10, 0, 0), now.AddDate(7000, 0, 0)} {
		require.Equal(t, 204, say(point.Status{State: "holds", Observes: 1,
			Events: []point.Event{{At: at, What: "applied", Words: "x", Observes: 1}}}))
	}
	var events []releasing.PointEvent
	c.Get("/api/v1/points/live/history", &events)
	for _, e := range events {
		require.WithinDuration(t, now, e.At, time.Minute, e.What)
	}
	require.Equal(t, 200, c.Call("GET", "/api/v1/watch", nil, nil))
	require.Equal(t, 200, c.Call("GET", "/api/v1/rollout", nil, nil))
}

// An agent of an older version is told nothing: what it does not understand it would take
// for nothing to load, and open its machine.
func TestAnOldAgentIsToldNothing(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var made releasingrest.PointMade
	require.Equal(t, 201, c.Call("POST", "/api/v1/points", map[string]any{"name": "live", "kind": "gate",
		"guards": "env is live"}, &made))
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	var p assemblytest.Problem
	header := http.Header{"Authorization": {"Bearer " + made.Token}}
	require.Equal(t, 426, c.SendWith("GET", "/api/v1/point/told?have=", nil, &p, header).StatusCode)
	require.Contains(t, p.Detail, "older than this server")
	header.Set("Orchard-Run", "new")
	require.Equal(t, 200, c.SendWith("GET", "/api/v1/point/told?have=", nil, nil, header).StatusCode)
}

// A token is replaced without a gap; two agents on one token are shown.
func TestTokensOfPoints(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var made, next releasingrest.PointMade
	require.Equal(t, 201, c.Call("POST", "/api/v1/points", map[string]any{"name": "live", "kind": "gate",
		"guards": "env is live"}, &made))
	say := func(token, run string) int {
		return c.SendWith("POST", "/api/v1/point/said", point.Status{State: "holds", Run: run}, nil,
			http.Header{"Authorization": {"Bearer " + token}}).StatusCode
	}
	require.Equal(t, 204, say(made.Token, "first"))
	require.Equal(t, 201, c.Call("POST", "/api/v1/points/live/token", nil, &next))
	require.Equal(t, 404, c.Call("POST", "/api/v1/points/nobody/token", nil, nil))
	require.Equal(t, 204, say(made.Token, "first"), "the former one is valid until the new one is used")
	require.Equal(t, 204, say(next.Token, "after a restart"))
	require.Equal(t, 401, say(made.Token, "first"))
	require.Nil(t, c.RollOut().Points[0].OtherAt, "a restart is not another agent")
	require.Equal(t, 204, say(next.Token, "thief"))
	require.Equal(t, 204, say(next.Token, "after a restart"))
	require.NotNil(t, c.RollOut().Points[0].OtherAt, "two report by turns")
	var matters struct {
		Matters []struct{ Why string }
	}
	require.Eventually(t, func() bool {
		c.Get("/api/v1/watch", &matters)
		for _, m := range matters.Matters {
			if strings.Contains(m.Why, "the token is used from") {
				return true
			}
		}
		return false
	}, 20*time.Second, 200*time.Millisecond, "that is a matter: %v", &matters)
}

// A point that enforces is not forgotten unasked; one that was, and goes on, is shown.
func TestAForgottenPointThatGoesOnIsShown(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	require.Equal(t, 200, c.Order("enforce", 1, "live"))
	c.Until("it enforces", func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 1, 0) })
	var p assemblytest.Problem
	require.Equal(t, 409, c.Call("DELETE", "/api/v1/points/live", nil, &p))
	require.Contains(t, p.Detail, "live enforces release 1")
	require.Equal(t, 204, c.Call("DELETE", "/api/v1/points/live?anyway=true", nil, nil))
	var matters struct {
		Matters []struct{ Why string }
	}
	require.Eventually(t, func() bool {
		c.Get("/api/v1/watch", &matters)
		for _, m := range matters.Matters {
			if strings.Contains(m.Why, "its agent still runs") {
				return true
			}
		}
		return false
	}, 20*time.Second, 200*time.Millisecond)
}

// Two gates may guard the same workloads if they are a pair.
func TestPairsGuardTheSame(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	add := func(name string, paired bool) int {
		return c.Call("POST", "/api/v1/points", map[string]any{"name": name, "kind": "gate", "guards": "env is live",
			"paired": paired}, nil)
	}
	require.Equal(t, 201, add("a", true))
	require.Equal(t, 409, add("b", false))
	require.Equal(t, 201, add("b", true))
	var size releasingrest.Preview
	c.Get("/api/v1/releases/preview", &size)
	require.Contains(t, []string{"a", "b"}, size.Largest)
	require.Positive(t, size.Rules)
	require.Greater(t, size.Elements, c.RollOut().Points[0].Workloads)
	var g releasingrest.Guarded
	c.Get("/api/v1/points/guarded?guards=env%20is%20live", &g)
	require.Equal(t, c.RollOut().Points[0].Workloads, g.Workloads)
	require.NotEmpty(t, g.Some)
	require.Equal(t, 422, c.Call("GET", "/api/v1/points/guarded?guards=env%20is", nil, nil))
}

// A server whose database was restored from an older back-up swaps nothing: its points keep
// what they enforce, the numbers of lost releases are not given again, and a person lets
// each point follow.
func TestARestoredServerLeadsNobodyBack(t *testing.T) {
	url := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	company := demo.Generate(demo.Options{Workloads: 150, Days: 1, End: time.Now()})
	require.NoError(t, db.ImportWorkloads(t.Context(), "inventory", []string{"app", "env", "tier", "site"},
		company.Workloads))
	_, err = db.AddBatch(t.Context(), rows.BatchOf("demo", flow.Stating(company.Records), nil))
	require.NoError(t, err)
	var now atomic.Pointer[http.Handler]
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		(*now.Load()).ServeHTTP(w, r)
	}))
	t.Cleanup(h.Close)
	run := func(db *assembly.Store) (stop func()) {
		ctx, cancel := context.WithCancel(context.Background())
		s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "tester"}),
			assembly.HandlerOptions{Web: fstest.MapFS{}, Estate: "Saltmarsh Ferries"})
		var handler http.Handler = s
		now.Store(&handler)
		return func() { cancel(); s.Wait() }
	}
	stop := run(db)
	c := assemblytest.Client{T: t, Base: h.URL, DB: db}
	c.Begin()
	k := c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	require.Equal(t, 200, c.Order("enforce", 1, "live"))
	c.Until("it enforces the first", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["live"],
			1, 0)
	})
	bin, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	require.NoError(t, err)
	backup, err := exec.Command(bin[0], url).Output() // of yesterday
	require.NoError(t, err)

	require.Equal(t, 201, c.Replace(1, assemblytest.Draft+"reject any -> live on tcp/4444\n"))
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "Second"}, nil))
	require.Equal(t, 200, c.Order("enforce", 2, "live"))
	c.Until("it enforces the second",
		func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 2, 0) })
	stop()
	require.NoError(t, db.Close())

	other := databasetest.Database(t)
	restore := exec.Command(strings.TrimSuffix(bin[0], "pg_dump")+"psql", "-q", "-v", "ON_ERROR_STOP=1", other)
	restore.Stdin = bytes.NewReader(backup)
	out, err := restore.CombinedOutput()
	require.NoError(t, err, "%s", out)
	db, err = assembly.Open(t.Context(), other)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	stop = run(db)
	t.Cleanup(stop)
	c.DB = db
	c.Until("it keeps the second, and says so", func(p assemblytest.Points) bool {
		return p["live"].State == "ahead" && p["live"].Held.Enforces == 2
	})
	require.True(t, k.Enforces())
	require.Contains(t, c.RollOut().Points[0].Held.Words, "restored from an older back-up")
	require.Equal(t, 201, c.Replace(1, assemblytest.Draft+"reject any -> live on tcp/5555\n"))
	var third releasing.Release
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "Another second"},
		&third))
	require.Equal(t, 3, third.No, "the number of the lost release is not given again")
	require.Equal(t, 200, c.Order("enforce", 3, "live"))
	time.Sleep(300 * time.Millisecond)
	require.Equal(t, "ahead", c.RollOut().Points[0].State, "not even for a later order")
	require.Equal(t, 404, c.Call("POST", "/api/v1/points/nobody/follow", nil, nil))
	require.Equal(t, 204, c.Call("POST", "/api/v1/points/live/follow", nil, nil))
	c.Until("a person lets it follow",
		func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 3, 0) })
	require.Equal(t, 409, c.Call("POST", "/api/v1/points/live/follow", nil, nil))
}
