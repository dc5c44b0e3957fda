package api_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/api"
	"lucidorchard/app"
	"lucidorchard/point"
	"lucidorchard/store"
)

// addPoint makes a point and lets a stand-in hold what it is told.
func (c client) addPoint(name, guards string, wave int) *point.Memory {
	var made api.PointMade
	require.Equal(c.t, 201, c.call("POST", "/api/v1/points", map[string]any{"name": name, "kind": "gate", "guards": guards,
		"wave": wave}, &made))
	k := &point.Memory{}
	a := &point.Agent{Server: c.base, Token: made.Token, Kernel: k, Log: slog.New(slog.DiscardHandler),
		WayBack: 5 * time.Second, Check: 50 * time.Millisecond, Beat: 100 * time.Millisecond}
	ctx, stop := context.WithCancel(c.t.Context())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	c.t.Cleanup(func() {
		stop()
		<-done
	})
	return k
}

func (c client) rollOut() api.RollOut {
	var out api.RollOut
	c.get("/api/v1/rollout", &out)
	return out
}

// until waits for a state of the points, by name.
func (c client) until(what string, f func(points map[string]app.PointState) bool) {
	c.t.Helper()
	require.Eventually(c.t, func() bool {
		points := map[string]app.PointState{}
		for _, p := range c.rollOut().Points {
			points[p.Name] = p
		}
		return f(points)
	}, 15*time.Second, 20*time.Millisecond, what)
}

func (c client) aim(release int, mode string, points ...string) int {
	return c.call("POST", "/api/v1/rollout/aim", app.Aiming{Points: points, Release: release, Mode: mode}, nil)
}

func holding(p app.PointState, release int, mode string) bool {
	return p.State == "holds" && p.Held.Release == release && p.Held.Mode == mode
}

func TestAReleaseGoesWaveByWaveAndBack(t *testing.T) {
	c := serve(t)
	c.begin()
	c.addPoint("trial", "env is trial", 1)
	k := c.addPoint("live", "env is live", 2)
	c.until("both are heard of", func(p map[string]app.PointState) bool {
		return p["trial"].State == "holds" && p["live"].State == "holds"
	})
	require.Zero(t, c.rollOut().InForce)

	require.Equal(t, 409, c.call("POST", "/api/v1/releases", map[string]any{"revision": 7, "title": "no"}, nil))
	var first store.Release
	require.Equal(t, 201, c.call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "First"}, &first))
	require.Equal(t, 1, first.No)
	c.until("the first wave observes, the second holds nothing", func(p map[string]app.PointState) bool {
		return holding(p["trial"], 1, "observe") && holding(p["live"], 0, "off")
	})
	require.Equal(t, 409, c.call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": "again"}, nil),
		"there is nothing to release")
	require.Equal(t, 409, c.aim(1, "enforce", "live"), "it has not observed it")
	require.Equal(t, 404, c.aim(9, "observe", "live"))
	require.Equal(t, 404, c.aim(1, "observe", "live", "nobody"))
	require.Equal(t, 422, c.aim(0, "observe", "live"))
	require.Equal(t, 204, c.aim(1, "enforce", "trial"))
	require.Equal(t, 204, c.aim(1, "observe", "live"))
	c.until("both hold it", func(p map[string]app.PointState) bool {
		return holding(p["trial"], 1, "enforce") && holding(p["live"], 1, "observe")
	})
	out := c.rollOut()
	require.Equal(t, 1, out.InForce)
	require.Equal(t, 2, out.Releases[0].HeldAt)
	require.Positive(t, out.Coverage.Both)

	var guards []app.PointState
	c.get("/api/v1/workloads/booking-entry-01/points", &guards)
	require.Len(t, guards, 1)
	require.Equal(t, 404, c.call("GET", "/api/v1/workloads/nobody/points", nil, nil))

	// A change of a tag moves the workload, without a release.
	var plan point.Told
	c.get("/api/v1/points/live/plan", &plan)
	var list struct {
		Workloads []struct {
			ID string `json:"id"`
		} `json:"workloads"`
	}
	c.get("/api/v1/workloads?tag=env%3Dlive&limit=1", &list)
	require.NotEmpty(t, list.Workloads)
	require.Equal(t, 200, c.call("POST", "/api/v1/tags", map[string]any{"key": "env", "value": "bench",
		"workloads": []string{list.Workloads[0].ID}}, nil))
	c.until("its plan is another one", func(p map[string]app.PointState) bool {
		return p["live"].State == "holds" && p["live"].Held.ID != plan.ID
	})

	// Somebody takes a rule away; it is said, and put back when told.
	require.NotEmpty(t, k.Lose())
	c.until("drift is said", func(p map[string]app.PointState) bool {
		return p["live"].State == "drifted" && strings.Contains(p["live"].Held.Words, "is missing")
	})
	require.Equal(t, 204, c.call("POST", "/api/v1/points/live/again", nil, nil))
	c.until("and put back", func(p map[string]app.PointState) bool { return holding(p["live"], 1, "observe") })
	require.Equal(t, 404, c.call("POST", "/api/v1/points/nobody/again", nil, nil))

	// The second release waits until the first has arrived; then it goes, and back.
	require.Equal(t, 201, c.replace(1, start+"permit trial -> trial on tcp/443\n"))
	require.Equal(t, 201, c.call("POST", "/api/v1/releases", map[string]any{"revision": 2, "title": "Second"}, nil))
	require.Equal(t, 201, c.replace(2, start+"permit trial -> trial on tcp/444\n"))
	require.Equal(t, 409, c.call("POST", "/api/v1/releases", map[string]any{"revision": 3, "title": "Third"}, nil),
		"another one is still being rolled out")
	require.Equal(t, 204, c.aim(1, "enforce", "trial"), "going back needs no observing")
	c.until("it is back", func(p map[string]app.PointState) bool { return holding(p["trial"], 1, "enforce") })
	var events []store.PointEvent
	c.get("/api/v1/points/live/history", &events)
	seen := map[string]bool{}
	for _, e := range events {
		seen[e.What] = true
	}
	require.True(t, seen["told"] && seen["applied"] && seen["drifted"])

	require.Equal(t, 204, c.call("DELETE", "/api/v1/points/trial", nil, nil))
	require.Equal(t, 404, c.call("DELETE", "/api/v1/points/trial", nil, nil))
}

func TestPointsThatCannotBe(t *testing.T) {
	c := serve(t)
	c.begin()
	add := func(name, guards string, more map[string]any) (string, int) {
		in := map[string]any{"name": name, "kind": "gate", "guards": guards}
		for k, v := range more {
			in[k] = v
		}
		var p problem
		status := c.call("POST", "/api/v1/points", in, &p)
		return p.Detail, status
	}
	says, status := add("a", "env is nowhere", nil)
	require.Equal(t, 422, status)
	require.Contains(t, says, "guards nobody")
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
		r, err := http.NewRequestWithContext(t.Context(), "GET", c.base+"/api/v1/point/told", nil)
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
	c := serve(t)
	c.begin()
	var all sync.WaitGroup
	statuses := make([]int, 6)
	for i := range statuses {
		all.Go(func() {
			statuses[i] = c.call("POST", "/api/v1/releases", map[string]any{"revision": 1, "title": fmt.Sprint(i)}, nil)
		})
	}
	all.Wait()
	slices.Sort(statuses)
	require.Equal(t, []int{201, 409, 409, 409, 409, 409}, statuses)
	require.Len(t, c.rollOut().Releases, 1)
}
