package rollout_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/rollout"
)

func TestCommandsLeadOn(t *testing.T) {
	for _, x := range []struct {
		from rollout.Runs
		do   rollout.Verb
		no   int
		to   rollout.Runs
	}{
		{rollout.Runs{}, rollout.ToObserve, 1, rollout.Runs{Observes: 1}},
		{rollout.Runs{Enforces: 1}, rollout.ToObserve, 2, rollout.Runs{Enforces: 1, Observes: 2}},
		{rollout.Runs{Enforces: 2}, rollout.ToObserve, 2, rollout.Runs{Enforces: 2}},
		{rollout.Runs{Enforces: 1, Observes: 2}, rollout.ToObserve, 3, rollout.Runs{Enforces: 1, Observes: 3}},
		{rollout.Runs{Enforces: 1, Observes: 2}, rollout.ToEnforce, 2, rollout.Runs{Enforces: 2}},
		{rollout.Runs{Enforces: 1, Observes: 2}, rollout.ToEnforce, 1, rollout.Runs{Enforces: 1, Observes: 2}},
		{rollout.Runs{Enforces: 2}, rollout.ToRollBack, 1, rollout.Runs{Enforces: 1}},
		{rollout.Runs{Enforces: 1, Observes: 2}, rollout.ToRollBack, 1, rollout.Runs{Enforces: 1}},
		{rollout.Runs{Observes: 2}, rollout.ToRollBack, 1, rollout.Runs{Observes: 1}},
		{rollout.Runs{Enforces: 1}, rollout.ToRollBack, 1, rollout.Runs{Enforces: 1}},
		{rollout.Runs{}, rollout.ToRollBack, 1, rollout.Runs{}},
		{rollout.Runs{Enforces: 2, Observes: 1}, rollout.ToRollBack, 2, rollout.Runs{Enforces: 2, Observes: 1}},
		{rollout.Runs{Enforces: 1, Observes: 2}, rollout.ToRollBack, 2, rollout.Runs{Enforces: 1, Observes: 2}},
		{rollout.Runs{Enforces: 1, Observes: 2}, rollout.ToOff, 0, rollout.Runs{}},
	} {
		got, err := x.from.After(rollout.Command{Do: x.do, Release: x.no})
		require.NoError(t, err)
		require.Equal(t, x.to, got, "%v, %s %d", x.from, x.do, x.no)
	}
	_, err := rollout.Runs{Enforces: 1}.After(rollout.Command{Do: rollout.ToEnforce, Release: 2})
	var unseen *rollout.NotObserved
	require.ErrorAs(t, err, &unseen)
	require.Equal(t, 2, unseen.Release)
}

func TestOrdersOfThePast(t *testing.T) {
	l := rollout.Lineage{{Epoch: "a", Order: 5}, {Epoch: "b", Order: 9}}
	require.True(t, rollout.Mark{}.Follows(l, rollout.Mark{}), "a point that took none yet")
	require.True(t, rollout.Mark{Epoch: "b", Order: 9}.Follows(l, rollout.Mark{}))
	require.True(t, rollout.Mark{Epoch: "a", Order: 5}.Follows(l, rollout.Mark{}), "of before the restoring")
	require.False(t, rollout.Mark{Epoch: "a", Order: 6}.Follows(l, rollout.Mark{}), "it was lost")
	require.False(t, rollout.Mark{Epoch: "c", Order: 1}.Follows(l, rollout.Mark{}), "of another database")
	at := rollout.Mark{Epoch: "a", Order: 6}
	require.True(t, at.Follows(l, at), "a person decided")
	require.False(t, rollout.Mark{Epoch: "a", Order: 7}.Follows(l, at), "that was decided of another order")
}

// world is a server, its back-ups and one point. What the point's packets meet is
// judged by what it has loaded.
type world struct {
	t       *rapid.T
	runs    rollout.Runs // that the point is to run, by the server
	lineage rollout.Lineage
	point   rollout.Point
	backups []backup
	yields  rollout.Mark
	trial   bool
	// What persons have ordered.
	ordered map[int]bool // releases that a person ever ordered to be enforced
	opened  bool         // a person ever ordered off
	// All orders ever given have a number of their own here.
	orders  int
	known   map[int]bool // that the database has
	taken   int          // the latest that the point took
	decided int          // the order of the point that a person decided to give up
}

type backup struct {
	yields  rollout.Mark
	decided int
	known   map[int]bool
	runs    rollout.Runs
	lineage rollout.Lineage
}

func (w *world) order(c rollout.Command) {
	to, err := w.runs.After(c)
	if err != nil {
		return
	}
	if to.Enforces != w.runs.Enforces {
		if c.Do == rollout.ToEnforce || c.Do == rollout.ToRollBack {
			w.ordered[to.Enforces] = true
		}
		w.opened = w.opened || c.Do == rollout.ToOff
	}
	w.runs = to
	last := &w.lineage[len(w.lineage)-1]
	last.Order++
	w.orders++
	w.known[w.orders] = true
}

// step is one thing that happens.
func (w *world) step() {
	t := w.t
	switch rapid.SampledFrom([]string{"observe", "enforce", "roll back", "off", "takes", "reached", "returns",
		"restarts", "back up", "restore",
		"person", "confirm"}).Draw(t, "step") {
	case "observe":
		w.order(rollout.Command{Do: rollout.ToObserve, Release: rapid.IntRange(1, 4).Draw(t, "release")})
	case "enforce":
		w.trial = rapid.Bool().Draw(t, "trial")
		w.order(rollout.Command{Do: rollout.ToEnforce, Release: rapid.IntRange(1, 4).Draw(t, "release")})
	case "roll back":
		w.order(rollout.Command{Do: rollout.ToRollBack, Release: rapid.IntRange(1, 4).Draw(t, "release")})
	case "off":
		if rapid.IntRange(0, 3).Draw(t, "rarely") == 0 {
			w.order(rollout.Command{Do: rollout.ToOff})
		}
	case "takes":
		was, at := w.point.Loaded, w.point.At
		// An epoch that the database does not know may have had orders.
		knows := at == (rollout.Mark{}) || slices.ContainsFunc(w.lineage,
			func(m rollout.Mark) bool { return m.Epoch == at.Epoch })
		took := w.point.Take(w.runs, w.trial && w.runs.Enforces != 0, append(rollout.Lineage(nil), w.lineage...),
			w.yields)
		if w.taken != 0 && !w.known[w.taken] && w.decided != w.taken {
			require.False(t, took, "the database lost the order that the point took")
		} else if knows {
			require.True(t, took, "nothing keeps the point from following")
		}
		if !took {
			require.Equal(t, was, w.point.Loaded)
		} else {
			w.taken = slices.Max(append(slices.Collect(maps.Keys(w.known)), 0))
		}
	case "reached":
		w.point.Settle(true)
	case "returns":
		w.point.Return()
	case "restarts":
		w.point.Restart()
	case "confirm":
		w.trial = false
	case "back up":
		w.backups = append(w.backups, backup{w.yields, w.decided, maps.Clone(w.known), w.runs,
			append(rollout.Lineage(nil), w.lineage...)})
	case "restore":
		if len(w.backups) == 0 {
			return
		}
		b := rapid.SampledFrom(w.backups).Draw(t, "which")
		w.known, w.yields, w.decided = maps.Clone(b.known), b.yields, b.decided
		w.runs, w.lineage = b.runs, append(rollout.Lineage(nil), b.lineage...)
		epoch := rapid.StringMatching(`[a-z]{12}`).Draw(t, "epoch")
		w.lineage = append(w.lineage, rollout.Mark{Epoch: epoch, Order: w.lineage.Now().Order})
	case "person": // decides by what the view shows
		if !w.lineage.Includes(w.point.At) {
			w.decided, w.yields = w.taken, w.point.At
			w.ordered[w.runs.Enforces] = true
			w.opened = w.opened || w.runs.Enforces == 0
		}
	}
}

// Whatever happens, a point opens only if a person said off, and enforces only what a
// person ordered to be enforced. What it enforces is not older than what it proved, but by
// a rollback, a return from a trial, or a person's decision.
func TestNothingOpensByItself(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := &world{t: t, lineage: rollout.Lineage{{Epoch: "first"}}, ordered: map[int]bool{}, known: map[int]bool{}}
		proved := 0 // that the point enforced and that was proved
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			w.step()
			if e := w.point.Loaded.Enforces; e != 0 {
				require.True(t, w.ordered[e], "release %d is enforced, which nobody ordered", e)
			}
			if w.point.Former == nil && w.point.Loaded.Enforces != 0 {
				proved = w.point.Loaded.Enforces
			}
			if proved != 0 && w.point.Loaded.Enforces == 0 {
				require.True(t, w.opened, "release %d was enforced, and nothing is any more", proved)
			}
			require.False(t, w.point.Trial && w.point.Former == nil, "what is on trial has something to return to")
			require.False(t, w.point.Loaded.Enforces != 0 && w.point.Loaded.Enforces == w.point.Loaded.Observes)
		}
	})
}
