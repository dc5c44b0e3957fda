package rollout_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/rollout"
)

func TestWhatARunIsSaidToBe(t *testing.T) {
	for _, x := range []struct {
		runs    rollout.Runs
		words   string
		release int
		mode    string
		newest  int
	}{
		{rollout.Runs{}, "no release", 0, rollout.Off, 0},
		{rollout.Runs{Observes: 3}, "release 3 observed", 3, rollout.Observe, 3},
		{rollout.Runs{Enforces: 2}, "release 2 enforced", 2, rollout.Enforce, 2},
		{rollout.Runs{Enforces: 2, Observes: 3}, "release 2 enforced, release 3 observed", 2, rollout.Enforce, 3},
		{rollout.Runs{Enforces: 4, Observes: 3}, "release 4 enforced, release 3 observed", 4, rollout.Enforce, 4},
	} {
		require.Equal(t, x.words, x.runs.String())
		release, mode := x.runs.Deciding()
		require.Equal(t, x.release, release, x.words)
		require.Equal(t, x.mode, mode, x.words)
		require.Equal(t, x.newest, x.runs.Newest(), x.words)
	}
}

func TestTheModeOfARelease(t *testing.T) {
	r := rollout.Runs{Enforces: 2, Observes: 3}
	require.Equal(t, rollout.Enforce, r.Mode(2))
	require.Equal(t, rollout.Observe, r.Mode(3))
	require.Equal(t, rollout.Off, r.Mode(1))
	require.Equal(t, rollout.Off, r.Mode(0))
	require.Equal(t, rollout.Off, rollout.Runs{}.Mode(0), "no release runs nothing")
	require.Equal(t, rollout.Off, rollout.Runs{Observes: 3}.Mode(0))
	require.Contains(t, (&rollout.NotObserved{Release: 7}).Error(), "release 7")
}

func TestTheLatestOrder(t *testing.T) {
	require.Equal(t, rollout.Mark{}, rollout.Lineage{}.Now())
	l := rollout.Lineage{{Epoch: "a", Order: 5}, {Epoch: "b", Order: 9}}
	require.Equal(t, rollout.Mark{Epoch: "b", Order: 9}, l.Now())
	require.True(t, l.Includes(rollout.Mark{}))
	require.True(t, rollout.Lineage{}.Includes(rollout.Mark{}))
	require.True(t, l.Includes(rollout.Mark{Epoch: "a", Order: 4}))
	require.False(t, l.Includes(rollout.Mark{Epoch: "b", Order: 10}))
}

// What a point returns to, step by step.
func TestAPointProvesWhatItLoads(t *testing.T) {
	l := rollout.Lineage{{Epoch: "a", Order: 1}}
	one, two := rollout.Runs{Enforces: 1}, rollout.Runs{Enforces: 2}
	var p rollout.Point
	require.True(t, p.Take(one, false, l, rollout.Mark{}))
	require.Equal(t, rollout.Runs{}, *p.Former, "it is not proved yet")
	require.Equal(t, rollout.Runs{}, p.Disk)
	p.Settle(false)
	require.NotNil(t, p.Former, "no contact proves nothing")
	p.Settle(true)
	require.Nil(t, p.Former)
	require.Equal(t, one, p.Disk)

	l[0].Order = 2
	require.True(t, p.Take(two, true, l, rollout.Mark{}))
	require.Equal(t, rollout.Mark{Epoch: "a", Order: 2}, p.At)
	p.Settle(true)
	require.Equal(t, one, *p.Former, "a trial also needs somebody")
	require.Equal(t, one, p.Disk)
	p.Return()
	require.Equal(t, rollout.Point{Loaded: one, Disk: one, At: p.At}, p)
	p.Return()
	require.Equal(t, one, p.Loaded, "there is nothing further back")

	require.True(t, p.Take(two, true, l, rollout.Mark{}))
	require.True(t, p.Take(two, false, l, rollout.Mark{}), "somebody confirmed it")
	require.False(t, p.Trial)
	require.Equal(t, one, *p.Former, "what was proved is still that of before")
	p.Settle(true)
	require.Equal(t, two, p.Disk)

	require.True(t, p.Take(rollout.Runs{Enforces: 3}, false, l, rollout.Mark{}))
	require.True(t, p.Take(rollout.Runs{Enforces: 4}, true, l, rollout.Mark{}))
	require.Equal(t, two, *p.Former, "what was not proved is nothing to return to")
	p.Restart()
	require.Equal(t, rollout.Point{Loaded: two, Disk: two, At: p.At}, p)

	require.True(t, p.Take(two, true, l, rollout.Mark{}))
	require.Nil(t, p.Former, "it is loaded and proved already")
	require.False(t, p.Trial)
	require.False(t, p.Take(one, false, rollout.Lineage{{Epoch: "a", Order: 1}}, rollout.Mark{}), "the order is of the past")
	require.Equal(t, two, p.Loaded)
}
