package point_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/rollout"
	"lucidorchard/point"
	"lucidorchard/releasing/plans"
)

// control is a server for one point, as far as the point sees it, with its orders.
type control struct {
	*httptest.Server
	t        testing.TB
	mu       sync.Mutex
	policies map[int]*policy.Policy
	teller   *plans.Teller
	estate   *estate.Estate
	version  int64
	at       plans.Point
	lineage  rollout.Lineage
	said     point.Status
	events   []string // that the point reported
	cut      bool
}

const canary, allowed = 4999, 4000

func newControl(t testing.TB, e *estate.Estate, at plans.Point) *control {
	c := &control{t: t, policies: map[int]*policy.Policy{}, estate: e, at: at,
		lineage: rollout.Lineage{{Epoch: "first", Order: 1}}}
	c.teller = &plans.Teller{Policy: func(no int) (*policy.Policy, error) { return c.policies[no], nil }}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.mu.Lock()
		defer c.mu.Unlock()
		switch {
		case c.cut:
			http.Error(w, "no", http.StatusServiceUnavailable)
		case strings.HasSuffix(r.URL.Path, "said"):
			c.said = point.Status{}
			_ = json.NewDecoder(r.Body).Decode(&c.said)
			for _, e := range c.said.Events {
				c.events = append(c.events, e.What+": "+e.Words)
			}
		case strings.HasSuffix(r.URL.Path, "told"):
			told, err := c.told(r.URL.Query().Get("have"))
			if err != nil {
				t.Error(err)
			}
			if told.ID == r.URL.Query().Get("have") {
				c.mu.Unlock()
				time.Sleep(10 * time.Millisecond)
				c.mu.Lock()
			}
			_ = json.NewEncoder(w).Encode(told)
		}
	}))
	t.Cleanup(c.Close)
	return c
}

// compiled returns a release for the estate as it is.
func (c *control) compiled(no int) *decide.Compiled {
	return decide.Compile(c.estate, c.policies[no], estate.Instant{Sec: time.Now().Unix()})
}

func (c *control) told(have string) (*point.Instructions, error) {
	s := plans.StateOf(c.compiled(1), c.version, nil)
	told, err := c.teller.Told(s, c.at, have, []plans.Point{c.at})
	if err == nil {
		told.Lineage = slices.Clone(c.lineage)
	}
	return told, err
}

// order issues an order, and returns what the point is to run by it.
func (c *control) order(do rollout.Verb, no int) rollout.Runs {
	c.mu.Lock()
	defer c.mu.Unlock()
	runs, err := c.at.Runs.After(rollout.Command{Do: do, Release: no})
	require.NoError(c.t, err)
	c.at.Runs = runs
	c.lineage[len(c.lineage)-1].Order++
	return runs
}

func (c *control) until(what string, f func(said point.Status) bool) {
	c.t.Helper()
	require.Eventually(c.t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return f(c.said)
	}, 20*time.Second, 5*time.Millisecond, "%s; %s", what, lately(func() string {
		c.mu.Lock()
		defer c.mu.Unlock()
		told, _ := c.told("")
		return fmt.Sprintf("it is told %s and says %s, %s: %s", told.ID, c.said.ID, c.said.State, c.said.Words)
	}))
}

// lately is text that is worked out when it is printed.
type lately func() string

func (l lately) String() string { return l() }

// loaded waits until the point reports that it has loaded what it is to run.
func (c *control) loaded(what string) {
	c.t.Helper()
	c.until(what, func(said point.Status) bool {
		told, err := c.told("")
		return err == nil && said.ID == told.ID && said.State == "holds"
	})
}

func (c *control) retag(id, tier string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	i, _ := c.estate.ByID(id)
	w := *c.estate.Workload(i)
	w.Tags = slices.Clone(w.Tags)
	w.SetTag(estate.Tag{Key: "tier", Value: tier})
	next, _, conflicts := c.estate.With([]estate.Workload{w}, nil)
	require.Empty(c.t, conflicts)
	c.estate = next
	c.version++
}
