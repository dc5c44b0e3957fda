package point_test

import (
	"encoding/json"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan"
	"lucidorchard/core/rollout"
	"lucidorchard/core/service"
	"lucidorchard/point"
)

// What another version kept on the disk without a plan unloads nothing.
func TestAStateWithoutAPlanIsNotHeld(t *testing.T) {
	s, state := serve(t), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(state, "told.json"),
		[]byte(`{"id":"old","release":3,"mode":"enforce","script":"table inet lucid_orchard {}"}`), 0o600))
	k := &point.Memory{}
	x := told("x", 3, rule5)
	require.NoError(t, k.Load(x.Loaded(), false))
	s.goDown(true)
	start(t, s, k, state)
	time.Sleep(100 * time.Millisecond)
	require.Equal(t, []string{"line 5 permit"}, held(t, k))
	s.goDown(false)
	s.tell(point.Instructions{ID: "a", Enforces: &point.Assignment{Release: 3, ID: "p", Rules: "r"}})
	s.until(t, "it asks for the plan, and unloads nothing", func(x point.Status) bool { return s.asked == "" })
	require.Equal(t, []string{"line 5 permit"}, held(t, k))
	require.Eventually(t, func() bool { return s.happened("refused") }, waitLong, waitShort)
}

// both tells a release to enforce and another to observe.
func both(id string, enforces, observes point.Instructions) point.Instructions {
	return point.Instructions{ID: id, Enforces: enforces.Enforces, Observes: observes.Enforces}
}

// What is enforced goes on deciding while something newer is on trial; the step from trial
// to force, and back, needs no plan that the point has already.
func TestTheFormerReleaseDecidesWhileANewOneIsOnTrial(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	first, second := told("a", 1, rule6), told("b", 2, rule5)
	drops := func(port uint32) bool {
		_, drops := k.Meets(netip.MustParseAddr("10.9.9.9"), store, service.PointOf(service.TCP, port))
		return drops
	}
	s.tell(first)
	start(t, s, k, "")
	s.until(t, "it enforces the first", func(x point.Status) bool { return x.ID == "a" && x.Enforces == 1 })
	s.tell(both("a+b", first, second))
	s.until(t, "it observes the second beside it", func(x point.Status) bool {
		return x.ID == "a+b" && x.Enforces == 1 &&
			x.Observes == 2
	})
	require.True(t, drops(6), "the first decides")
	s.until(t, "both count for themselves", func(x point.Status) bool {
		return slices.Contains(x.Lines, point.Line{Release: 1, Line: 6, Verdict: "reject", Packets: 1}) &&
			slices.Contains(x.Lines, point.Line{Release: 2, Verdict: "uncovered", Packets: 1})
	})
	known := *second.Enforces
	known.Plan = nil // it has it
	s.tell(point.Instructions{ID: "b", Enforces: &known})
	s.until(t, "it enforces the second", func(x point.Status) bool {
		return x.ID == "b" && x.Enforces == 2 &&
			x.Observes == 0
	})
	require.False(t, drops(6))
}

// A server that was restored from an older back-up does not lead a point back, however
// often it asks; a person may let it.
func TestAnOrderOfThePastIsNotTaken(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	at := func(x point.Instructions, order int64) point.Instructions {
		x.Lineage = rollout.Lineage{{Epoch: "e", Order: order}}
		return x
	}
	s.tell(at(told("b", 2, rule6), 7))
	stop := start(t, s, k, t.TempDir())
	defer stop()
	s.until(t, "it enforces the second", func(x point.Status) bool { return x.ID == "b" && x.At.Order == 7 })
	s.tell(at(told("a", 1, rule5), 5))
	s.until(t, "it says that it is ahead", func(x point.Status) bool { return x.State == "ahead" && x.Enforces == 2 })
	require.Equal(t, []string{"line 6 reject"}, held(t, k))
	require.True(t, s.happened("ahead"))
	yields := at(told("c", 1, rule5), 5)
	yields.Yields = rollout.Mark{Epoch: "e", Order: 7}
	s.tell(yields)
	s.until(t, "a person decides", func(x point.Status) bool {
		return x.ID == "c" && x.State == "holds" &&
			x.At.Order == 5
	})
}

// Enforcement on trial ends by itself, without the server, unless somebody confirms it.
func TestATrialEndsUnlessItIsConfirmed(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	first := told("a", 1, rule5)
	s.tell(first)
	start(t, s, k, "")
	s.until(t, "it enforces the first", func(x point.Status) bool { return x.ID == "a" })
	trial := told("b", 2, rule6)
	trial.Trial = &point.Trial{ID: "t", Seconds: 0.5}
	s.tell(trial)
	s.until(t, "it enforces the second", func(x point.Status) bool { return x.ID == "b" })
	s.until(t, "it returns to the first", func(x point.Status) bool {
		return x.State == "went back" && x.Enforces == 1 && strings.Contains(x.Words, "nobody confirmed")
	})
	s.tell(first)
	s.until(t, "it is in order", func(x point.Status) bool { return x.ID == "a" && x.State == "holds" })
	again := told("c", 2, rule6)
	again.Again, again.Trial = 1, &point.Trial{ID: "u", Seconds: 1}
	s.tell(again)
	s.until(t, "it tries again", func(x point.Status) bool { return x.ID == "c" })
	confirmed := told("d", 2, rule6)
	confirmed.Again = 1
	s.tell(confirmed)
	s.until(t, "it is confirmed", func(x point.Status) bool { return x.ID == "d" })
	time.Sleep(1200 * time.Millisecond)
	require.Equal(t, []string{"line 6 reject"}, held(t, k), "and stays")
}

// blinded is a kernel whose state cannot be read for a while.
type blinded struct {
	*point.Memory
	blind atomic.Bool
	loads atomic.Int32
}

// What cannot be read back is never called in order: it is drift at once, and the plan is
// loaded anew.
func TestWhatCannotBeReadIsDrift(t *testing.T) {
	s, k := serve(t), &blinded{Memory: &point.Memory{}}
	s.tell(told("a", 1, rule5))
	start(t, s, k, "")
	s.until(t, "it holds it", func(x point.Status) bool { return x.State == "holds" && x.ID == "a" && x.Read >= 0 })
	k.blind.Store(true)
	s.until(t, "it cannot tell", func(x point.Status) bool {
		return x.State == "drifted" && strings.HasPrefix(x.Words, "cannot read what is loaded: nft is not installed")
	})
	require.Eventually(t, func() bool { return k.loads.Load() > 1 }, waitLong, waitShort, "it loads it anew")
	k.blind.Store(false)
	s.until(t, "and can tell again", func(x point.Status) bool { return x.State == "holds" })
}

// What cannot be kept on the disk is tried again until it can, and said meanwhile.
func TestAFullDiskIsTriedAgain(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	state := filepath.Join(t.TempDir(), "state")
	require.NoError(t, os.WriteFile(state, []byte("in the way"), 0o600))
	s.tell(told("a", 1, rule5))
	start(t, s, k, state)
	s.until(t, "it says so", func(x point.Status) bool {
		return strings.Contains(x.Words,
			"cannot be kept for a restart")
	})
	require.NoError(t, os.Remove(state))
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(state, "told.json")); return err == nil },
		waitLong, waitShort)
	s.until(t, "and that is over", func(x point.Status) bool { return x.Words == "" && x.State == "holds" })
}

// What a version of before kept on the disk is loaded as it was.
func TestAStateOfBeforeIsLoaded(t *testing.T) {
	s, k, state := serve(t), &point.Memory{}, t.TempDir()
	x := told("a", 3, rule6)
	raw, err := json.Marshal(map[string]any{"id": "old", "release": 3, "mode": "enforce", "rules": x.Enforces.Rules,
		"plan": x.Enforces.Plan})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(state, "told.json"), raw, 0o600))
	s.goDown(true)
	start(t, s, k, state)
	require.Eventually(t, func() bool { return k.Enforces() && len(held(t, k)) == 1 }, waitLong, waitShort)
}

// stiff is a kernel that counts plans, and may not be able to move addresses.
type stiff struct {
	*point.Memory
	held  atomic.Int32
	stiff atomic.Bool
}

// A point that could not hold one plan, and is told again what it holds, is in order; it
// does not ask again and again meanwhile; told the other once more, it tries that again.
func TestBackFromWhatCouldNotBeHeld(t *testing.T) {
	s, k := serve(t), &refusing{&point.Memory{}, 6}
	first, second := told("a", 1, rule5), told("b", 2, rule6)
	s.tell(first)
	start(t, s, k, "")
	s.until(t, "it holds the first", func(x point.Status) bool { return x.ID == "a" })
	s.tell(second)
	s.until(t, "it refuses the second", func(x point.Status) bool { return x.State == "refused" })
	s.tell(first)
	s.until(t, "it is in order again", func(x point.Status) bool {
		return x.ID == "a" && x.State == "holds" &&
			x.Words == ""
	})
	s.until(t, "it says what it has", func(point.Status) bool { return s.asked == "a" })
	s.mu.Lock()
	refused := len(s.events)
	s.mu.Unlock()
	s.tell(second)
	s.until(t, "it tries the second again", func(x point.Status) bool {
		return x.State == "refused" &&
			len(s.events) > refused
	})
}

func (k *blinded) Read() (point.Held, error) {
	if k.blind.Load() {
		return point.Held{}, errors.New("nft is not installed")
	}
	return k.Memory.Read()
}

func (k *blinded) Load(l plan.Loaded, paired bool) error {
	k.loads.Add(1)
	return k.Memory.Load(l, paired)
}

func (k *stiff) Load(l plan.Loaded, paired bool) error {
	k.held.Add(1)
	return k.Memory.Load(l, paired)
}

func (k *stiff) Move(from, to plan.Loaded) error {
	if k.stiff.Load() {
		return errors.New("an element is not there")
	}
	return k.Memory.Move(from, to)
}
