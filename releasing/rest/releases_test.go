package rest_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	inventoryrest "lucidorchard/inventory/rest"
	"lucidorchard/point"
	"lucidorchard/releasing"
	releasingrest "lucidorchard/releasing/rest"
	"lucidorchard/server"
)

func TestAReleaseGoesWaveByWaveAndBack(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("trial", "env is trial", 1)
	k := c.AddPoint("live", "env is live", 2)
	c.Until("both are heard of", func(p assemblytest.Points) bool {
		return p["trial"].State == "holds" && p["live"].State == "holds"
	})
	require.Zero(t, c.RollOut().InForce)

	require.Equal(t, 409, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 7, "title": "no"}, nil))
	var first releasing.Release
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, &first))
	require.Equal(t, 1, first.No)
	c.Until("the first wave observes, the second holds nothing", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 0, 1) && assemblytest.Runs(p["live"], 0, 0)
	})
	require.Equal(t, 409, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "again"}, nil),
		"there is nothing to release")
	require.Equal(t, 409, c.Order("enforce", 1, "live"), "it has not observed it")
	require.Equal(t, 404, c.Order("observe", 9, "live"))
	require.Equal(t, 404, c.Order("observe", 1, "live", "nobody"))
	require.Equal(t, 422, c.Order("observe", 0, "live"))
	require.Equal(t, 200, c.Order("enforce", 1, "trial"))
	require.Equal(t, 200, c.Order("observe", 1, "live"))
	c.Until("both hold it", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 0) && assemblytest.Runs(p["live"], 0, 1)
	})
	out := c.RollOut()
	require.Equal(t, 1, out.InForce)
	require.Equal(t, 1, out.Releases[0].Enforced)
	require.Equal(t, 1, out.Releases[0].Observed)
	require.Positive(t, out.Coverage.Both)

	var guards []releasingrest.PointState
	c.Get("/api/v1/workloads/booking-entry-01/points", &guards)
	require.Len(t, guards, 1)
	require.Equal(t, 404, c.Call("GET", "/api/v1/workloads/nobody/points", nil, nil))

	// A change of a tag moves the workload, without a release.
	var plan point.Instructions
	c.Get("/api/v1/points/live/plan", &plan)
	var list struct {
		Workloads []struct {
			ID string `json:"id"`
		} `json:"workloads"`
	}
	c.Get("/api/v1/workloads?tag=env%3Dlive&limit=1", &list)
	require.NotEmpty(t, list.Workloads)
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"key": "env", "value": "bench",
		"workloads": []string{list.Workloads[0].ID}}, nil))
	c.Until("its plan is another one", func(p assemblytest.Points) bool {
		return p["live"].State == "holds" && p["live"].Held.ID != plan.ID
	})

	// Somebody takes a rule away; it is said, and put back when told.
	require.NotEmpty(t, k.Lose())
	c.Until("drift is said", func(p assemblytest.Points) bool {
		return p["live"].State == "drifted" && strings.Contains(p["live"].Held.Words, "is missing")
	})
	require.Equal(t, 204, c.Call("POST", "/api/v1/points/live/again", nil, nil))
	c.Until("and put back", func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 0, 1) })
	require.Equal(t, 404, c.Call("POST", "/api/v1/points/nobody/again", nil, nil))

	// The second release waits until the first has arrived; then it goes, and back.
	require.Equal(t, 201, c.Replace(1, assemblytest.Draft+"permit trial -> trial on tcp/443\n"))
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "Second"}, nil))
	require.Equal(t, 201, c.Replace(2, assemblytest.Draft+"permit trial -> trial on tcp/444\n"))
	require.Equal(t, 409, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 3, "title": "Third"}, nil),
		"another one is still being rolled out")
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 3, "title": "Third",
		"instead": true}, nil))
	c.Until("it takes its place", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 3) && assemblytest.Runs(p["live"], 0, 1)
	})
	require.Equal(t, 200, c.Order("enforce", 3, "trial"))
	c.Until("it enforces the third",
		func(p assemblytest.Points) bool { return assemblytest.Runs(p["trial"], 3, 0) })
	require.Equal(t, 200, c.Order("roll back", 1, "trial"), "a rollback needs no observing")
	c.Until("it is back", func(p assemblytest.Points) bool { return assemblytest.Runs(p["trial"], 1, 0) })
	var events []releasing.PointEvent
	c.Get("/api/v1/points/live/history", &events)
	seen := map[string]bool{}
	for _, e := range events {
		seen[e.What] = true
	}
	require.True(t, seen["told"] && seen["applied"] && seen["drifted"])

	require.Equal(t, 204, c.Call("DELETE", "/api/v1/points/trial?anyway=true", nil, nil))
	require.Equal(t, 404, c.Call("DELETE", "/api/v1/points/trial", nil, nil))
}

func TestPointsThatCannotBe(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	add := func(name, guards string, more map[string]any) (string, int) {
		in := map[string]any{"name": name, "kind": "gate", "guards": guards}
		for k, v := range more {
			in[k] = v
		}
		var p assemblytest.Problem
		status := c.Call("POST", "/api/v1/points", in, &p)
		return p.Detail, status
	}
	says, status := add("a", "env is nowhere", nil)
	require.Equal(t, 422, status)
	require.Contains(t, says, "matches no workload")
	says, status = add("a", "env is", nil)
	require.Equal(t, 422, status)
	require.Contains(t, says, "column 7")
	_, status = add("a", "member of nobody", nil)
	require.Equal(t, 422, status)
	_, status = add("a/b", "env is live", nil)
	require.Equal(t, 422, status)
	_, status = add("a", "env is live", map[string]any{"wave": 0})
	require.Equal(t, 422, status)
	_, status = add("a", "env is live", map[string]any{"side": "server"})
	require.Equal(t, 201, status)
	says, status = add("b", "tier is store", nil)
	require.Equal(t, 409, status)
	require.Contains(t, says, "guarded by a already")
	_, status = add("b", "env is live", map[string]any{"side": "client"})
	require.Equal(t, 201, status, "another side is another matter")
	_, status = add("a", "env is trial", nil)
	require.Equal(t, 409, status)

	for _, token := range []string{"", "Bearer", "Bearer nobody"} {
		r, err := http.NewRequestWithContext(t.Context(), "GET", c.Base+"/api/v1/point/told", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", token)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		require.Equal(t, 401, answer.StatusCode, token)
	}
}

// Two people who press at once make one release.
func TestTwoWhoReleaseAtOnceMakeOne(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var all sync.WaitGroup
	statuses := make([]int, 6)
	for i := range statuses {
		all.Go(func() {
			statuses[i] = c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": fmt.Sprint(i)}, nil)
		})
	}
	all.Wait()
	slices.Sort(statuses)
	require.Equal(t, []int{201, 409, 409, 409, 409, 409}, statuses)
	require.Len(t, c.RollOut().Releases, 1)
}

// A wave waits for what was asked of it: it is said, and whoever knows better says so.
// Somebody who holds the roll-out stops what goes on, not what goes back. A wave goes on
// by itself where that was chosen.
func TestAWaveWaitsForItsConditions(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("trial", "env is trial", 1)
	c.AddPoint("live", "env is live", 2)
	require.Equal(t, 201,
		c.Replace(1, assemblytest.Draft+
			"assert always trial -> live on tcp/22\nassert never trial -> live on tcp/23\n"))
	require.Equal(t, 404, c.Call("PUT", "/api/v1/rollout/waves/7", waiting, nil), "it has no points")
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "First"}, nil))
	c.Until("it observes", func(p assemblytest.Points) bool { return assemblytest.Runs(p["trial"], 0, 1) })
	var p assemblytest.Problem
	status := c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Points: []string{"trial"},
		Release: 1}, &p)
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail, "wave 1 is not ready: 0 of 3 assertions hold")
	conditions := c.RollOut().Waves[0].Conditions
	require.True(t, slices.ContainsFunc(conditions, func(x releasingrest.Condition) bool {
		return x.Key == "asserts" &&
			x.Asked && !x.Met
	}))

	require.Equal(t, 204, c.Call("PUT", "/api/v1/rollout/hold", map[string]any{"hold": true,
		"reason": "the owner is away"}, nil))
	status = c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Points: []string{"trial"},
		Release: 1, Anyway: true}, &p)
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail, "the owner is away")
	require.Equal(t, "the owner is away", c.RollOut().Hold.Reason)
	require.Equal(t, 409, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "no"}, nil))
	require.Equal(t, 204, c.Call("PUT", "/api/v1/rollout/hold", map[string]any{"hold": false}, nil))
	require.Equal(t, 200, c.Order("enforce", 1, "trial"), "somebody says that it may")
	require.Equal(t, 200, c.Order("off", 0, "trial"))
	c.Until("it is off", func(p assemblytest.Points) bool { return assemblytest.Runs(p["trial"], 0, 0) })
	require.Equal(t, 200, c.Order("observe", 1, "trial"))

	minutes := map[string]any{"asserts": false, "probes": true, "wayBack": true, "settled": true, "minutes": 60}
	require.Equal(t, 204, c.Call("PUT", "/api/v1/rollout/waves/1", minutes, nil))
	c.Until("it observes again", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 0,
			1)
	})
	status = c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: "enforce", Points: []string{"trial"},
		Release: 1}, &p)
	require.Equal(t, 409, status)
	require.Contains(t, p.Detail, "observed for 0 minutes of 60 minutes")

	for _, wave := range []string{"1", "2"} {
		require.Equal(t, 204, c.Call("PUT", "/api/v1/rollout/waves/"+wave, waiting, nil))
	}
	c.Until("both waves go on by themselves", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["trial"], 1, 0) && assemblytest.Runs(p["live"], 1, 0)
	})
	var events []releasing.PointEvent
	c.Get("/api/v1/points/live/history", &events)
	require.True(t, slices.ContainsFunc(events, func(e releasing.PointEvent) bool {
		return strings.Contains(e.Words,
			"automatically")
	}))
}

// waiting is a wave that waits for nothing but its points, and goes on by itself.
var waiting = map[string]any{"asserts": false, "probes": false, "wayBack": false, "settled": false, "byItself": true}

// A point that is added to a wave that enforces already observes by itself; the others
// go on enforcing.
func TestAPointThatComesLaterTakesNobodyBack(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("trial", "env is trial", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	c.Until("it observes", func(p assemblytest.Points) bool { return assemblytest.Runs(p["trial"], 0, 1) })
	require.Equal(t, 200, c.Order("enforce", 1, "trial"))
	c.Until("it enforces", func(p assemblytest.Points) bool { return assemblytest.Runs(p["trial"], 1, 0) })
	c.AddPoint("late", "env is live", 1)
	var f releasingrest.Followed
	c.AsJob("/api/v1/pipeline/releases/1/follow", map[string]any{"wave": 1}, &f)
	require.Equal(t, "moving", f.State)
	c.Until("the new one observes", func(p assemblytest.Points) bool {
		return assemblytest.Runs(p["late"], 0, 1) && assemblytest.Runs(p["trial"], 1, 0)
	})
	var events []releasing.PointEvent
	c.Get("/api/v1/points/trial/history", &events)
	require.Equal(t, "applied", events[0].What)
	require.Contains(t, events[0].Words, "release 1 enforced", "it was told nothing else since")
}

// What is exempt no point guards, until its day; it needs a reason and an owner.
func TestAnExemptWorkloadIsLeftAlone(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	count := func(side string) int {
		var out inventoryrest.WorkloadList
		c.Get("/api/v1/workloads?limit=1&guarded="+side, &out)
		return out.Total
	}
	before := c.RollOut()
	require.Equal(t, before.Coverage.Both, before.Points[0].Workloads)
	require.Equal(t, before.Coverage.Both, count("both"))
	exempt := func(id, reason string, ends time.Time) int {
		return c.Call("PUT", "/api/v1/exemptions/"+id, map[string]any{"reason": reason, "owner": "harbour office",
			"ends": ends}, nil)
	}
	soon := time.Now().Add(48 * time.Hour)
	require.Equal(t, 404, exempt("nobody", "old", soon))
	require.Equal(t, 422, exempt("booking-entry-01", " ", soon))
	require.Equal(t, 422, exempt("booking-entry-01", "old", time.Now().Add(-time.Hour)))
	require.Equal(t, 422, exempt("booking-entry-01", "old", time.Now().AddDate(2, 0, 0)))
	require.Equal(t, 204, exempt("booking-entry-01", "its vendor answers for it", soon))
	after := c.RollOut()
	require.Equal(t, 1, after.Coverage.Exempt)
	require.Equal(t, before.Coverage.Both-1, after.Coverage.Both)
	require.Equal(t, before.Points[0].Workloads-1, after.Points[0].Workloads)
	require.Equal(t, 1, count("exempt"))
	c.Until("its point knows", func(p assemblytest.Points) bool { return p["live"].State == "holds" })
	var told point.Instructions
	c.Get("/api/v1/points/live/plan", &told)
	for _, class := range told.Observes.Plan.Classes {
		require.NotContains(t, class.Workloads, "booking-entry-01")
	}
	var list []releasingrest.ExemptionOut
	c.Get("/api/v1/exemptions", &list)
	require.Len(t, list, 1)
	require.Equal(t, "its vendor answers for it", list[0].Reason)
	require.Equal(t, 204, c.Call("DELETE", "/api/v1/exemptions/booking-entry-01", nil, nil))
	require.Equal(t, 404, c.Call("DELETE", "/api/v1/exemptions/booking-entry-01", nil, nil))
	require.Equal(t, before.Coverage.Both, c.RollOut().Coverage.Both)
}

// A device that cannot be talked to fetches a file, and only when it is another one;
// group lists move without a release; what it holds is compared when somebody pastes it.
func TestADeviceFetchesAFile(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var made releasingrest.PointMade
	require.Equal(t, 201, c.Call("POST", "/api/v1/points", map[string]any{"name": "switch", "kind": "file",
		"guards": "env is live"},
		&made))
	fetch := func(path, tag string) (*http.Response, string) {
		return c.Do("GET", path, map[string]string{"Authorization": "Bearer " + made.Token, "If-None-Match": tag}, "")
	}
	_, text := fetch("/api/v1/point/file", "")
	require.Contains(t, text, "no release is ordered")
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, nil))
	r, _ := fetch("/api/v1/point/file?format=acl", "")
	require.Equal(t, 409, r.StatusCode, "it cannot observe")
	c.Until("it was fetched", func(p assemblytest.Points) bool { return p["switch"].Heard != nil })
	r, text = fetch("/api/v1/point/file", "")
	require.Equal(t, 200, r.StatusCode)
	require.Contains(t, text, "table inet lucid_orchard {")
	c.Until("it holds it", func(p assemblytest.Points) bool { return assemblytest.Runs(p["switch"], 0, 1) })
	tag := r.Header.Get("ETag")
	r, same := fetch("/api/v1/point/file", tag)
	require.Equal(t, 304, r.StatusCode)
	require.Empty(t, same)
	for format, word := range map[string]string{"acl": "ietf-access-control-list", "k8s": "NetworkPolicy",
		"json": `"classes"`} {
		require.Equal(t, 200, c.Order("enforce", 1, "switch"))
		r, other := fetch("/api/v1/point/file?format="+format, tag)
		require.Equal(t, 200, r.StatusCode, other)
		require.Contains(t, other, word)
		if format != "json" {
			require.NotEmpty(t, r.Header.Values("Warning"), "what it cannot say is said")
		}
	}

	r, members := fetch("/api/v1/point/groups/trial", "")
	require.Equal(t, 200, r.StatusCode)
	before := strings.Count(members, "\n")
	require.Positive(t, before)
	var some struct{ Workloads []struct{ ID string } }
	c.Get("/api/v1/workloads?tag=env%3Dtrial&limit=1", &some)
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"key": "env", "value": "bench",
		"workloads": []string{some.Workloads[0].ID}}, nil))
	r, members = fetch("/api/v1/point/groups/trial", r.Header.Get("ETag"))
	require.Equal(t, 200, r.StatusCode)
	require.NotEmpty(t, members)
	r, _ = fetch("/api/v1/point/groups/trial", r.Header.Get("ETag"))
	require.Equal(t, 304, r.StatusCode)
	r, _ = fetch("/api/v1/point/groups/nobody", "")
	require.Equal(t, 404, r.StatusCode)

	_, text = fetch("/api/v1/point/file", "")
	var found releasingrest.Running
	paste := func(text string) {
		require.Equal(t, 200, c.Call("POST", "/api/v1/points/switch/running", map[string]any{"text": text}, &found))
	}
	paste(strings.ReplaceAll(text, "counter ", "counter packets 7 bytes 420 "))
	require.True(t, found.Same, "%v", found)
	i := strings.Index(text, "counter drop")
	if i < 0 {
		i = strings.Index(text, "counter accept comment \"line")
	}
	from, to := strings.LastIndex(text[:i], "\n"), i+strings.Index(text[i:], "\n")
	paste(text[:from] + text[to:] + "\n\t\tip saddr 10.9.9.9 accept\n")
	require.Len(t, found.Missing, 1)
	require.Equal(t, []string{"ip saddr 10.9.9.9 accept"}, found.Extra)
	c.Until("drift is said", func(p assemblytest.Points) bool {
		return p["switch"].State == "drifted" &&
			p["switch"].Held.Words == "1 line missing, 1 line that should not be there"
	})
}

// Any two releases can be compared.
func TestReleasesAreCompared(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Company()
	c.AddPoint("live", "env is live", 1)
	var head struct{ Revision int }
	c.Get("/api/v1/summary", &head)
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": head.Revision,
		"title": "First"}, nil))
	c.Until("it is there", func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 0, 1) })
	require.Equal(t, 201, c.Replace(head.Revision, c.Text()+"\nlayer end\nreject any -> any on any\n"))
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": head.Revision + 1,
		"title": "Second"}, nil))
	var out releasingrest.ReleaseDifference
	c.Get("/api/v1/releases/2/difference?against=1", &out)
	require.Positive(t, out.Changed)
	require.Equal(t, out.Changed, out.Counts["uncovered"]["reject"])
	var back releasingrest.ReleaseDifference
	c.Get("/api/v1/releases/1/difference?against=2", &back)
	require.Equal(t, out.Changed, back.Counts["reject"]["uncovered"])
	require.Equal(t, 404, c.Call("GET", "/api/v1/releases/9/difference?against=1", nil, nil))
}

// From the first release on, a leak is what a point that enforced should have dropped, at
// the time: not what ran before, nor where a point only observed.
func TestLeaksGoByWhatPointsHeld(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	c.AddPoint("live", "env is live", 1)
	require.Equal(t, 201, c.Replace(1, assemblytest.Draft+"reject any -> live on tcp/4444\n"))
	imported := func(at time.Time) {
		var a struct{ Job server.Job }
		file := fmt.Sprintf("start,src,dst,proto,dport,outcome\n%s,192.0.2.77,10.20.3.10,tcp,4444,carried\n",
			at.UTC().Format(time.RFC3339))
		require.Equal(t, 202, c.Call("POST", "/api/v1/imports/flows", file, &a))
		require.Equal(t, "done", c.Job(&a.Job).State)
	}
	leaks := func() int {
		var out checkingrest.CheckOut
		c.Get("/api/v1/check", &out)
		var odd answers.ConversationPage
		c.Get("/api/v1/conversations?odd=true", &odd)
		require.Equal(t, out.Leaks+out.Chokes, odd.Total, "the same number everywhere")
		require.Equal(t, len(c.RollOut().Releases) > 0, out.Held)
		return out.Leaks
	}
	before := leaks()
	imported(time.Now().Add(-2 * time.Hour))
	require.Equal(t, before+1, leaks(), "before anything was released the draft says so")
	require.Equal(t, 201, c.Call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "First"}, nil))
	c.Until("it observes", func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 0, 1) })
	require.Eventually(t, func() bool { return leaks() == 0 }, 10*time.Second, 50*time.Millisecond,
		"nothing was enforced then")
	require.Equal(t, 200, c.Order("enforce", 1, "live"))
	c.Until("it enforces", func(p assemblytest.Points) bool { return assemblytest.Runs(p["live"], 1, 0) })
	require.Zero(t, leaks())
	time.Sleep(7 * time.Second) // what ran before may still be told of for some seconds
	imported(time.Now().Add(-time.Second))
	require.Eventually(t, func() bool { return leaks() == 1 }, 10*time.Second, 50*time.Millisecond,
		"it should have been dropped")
}
