package sql_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/model"
	"lucidorchard/releasing"
)

// What waves wait for, who holds a roll-out, and what is exempt, is kept; and all that
// says who guarded what comes with the next state, once it has changed.
func TestWhatARollOutHangsOnIsKept(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	waves, err := s.Waves(ctx)
	require.NoError(t, err)
	require.Empty(t, waves)
	w := releasing.Wave{No: 2, Title: "trial", Minutes: 90, Asserts: true, ByItself: true}
	require.NoError(t, s.PutWave(ctx, w, "me"))
	w.Minutes = 30
	require.NoError(t, s.PutWave(ctx, w, "me"))
	waves, err = s.Waves(ctx)
	require.NoError(t, err)
	require.Equal(t, []releasing.Wave{w}, waves)

	held, err := s.Held(ctx)
	require.NoError(t, err)
	require.Nil(t, held)
	for _, reason := range []string{"first", "second"} {
		require.NoError(t, s.PutHold(ctx, &releasing.Hold{Author: "me", Reason: reason}))
	}
	held, err = s.Held(ctx)
	require.NoError(t, err)
	require.Equal(t, "second", held.Reason)
	require.NoError(t, s.PutHold(ctx, nil))
	held, err = s.Held(ctx)
	require.NoError(t, err)
	require.Nil(t, held)

	before, err := s.State(ctx, nil)
	require.NoError(t, err)
	require.NotNil(t, before.Guarding)
	same, err := s.State(ctx, &before.Versions)
	require.NoError(t, err)
	require.Nil(t, same.Guarding, "nothing has changed")
	soon := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	require.NoError(t, s.PutExemption(ctx, model.Exemption{Workload: "w", Reason: "old", Owner: "o", Ends: soon,
		Author: "me"}))
	require.NoError(t, s.PutExemption(ctx, model.Exemption{Workload: "w", Reason: "older", Owner: "o", Ends: soon,
		Author: "me"}))
	after, err := s.State(ctx, &before.Versions)
	require.NoError(t, err)
	require.Len(t, after.Guarding.Exemptions, 1)
	require.Equal(t, "older", after.Guarding.Exemptions[0].Reason)
	found, err := s.DropExemption(ctx, "w")
	require.NoError(t, err)
	require.True(t, found)
	found, err = s.DropExemption(ctx, "w")
	require.NoError(t, err)
	require.False(t, found)
}

// What a point held when is read from what happened to it: one period for each change,
// whatever else happened meanwhile.
func TestPeriodsAreReadFromWhatHappened(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.Begin(ctx, model.Revision{No: 1, Text: "layer l\n", Blame: model.Blame{1}, Author: "me",
		Words: "begin"}))
	require.NoError(t, s.AddPoint(ctx, releasing.Point{Name: "p", Kind: "gate", Side: "both", Guards: "not outside",
		Wave: 1}, "token"))
	one := 1
	_, err := s.AddRelease(ctx, releasing.Release{Revision: 1, Title: "t", Author: "me"}, assemblytest.ObservedAt("p"))
	require.NoError(t, err)
	at := time.Date(2026, 11, 20, 10, 0, 0, 0, time.UTC)
	happened := func(minutes int, what, mode string) {
		require.NoError(t, s.Heard(ctx, "p", json.RawMessage(`{}`), []releasing.PointEvent{{Point: "p", At: at.Add(
			time.Duration(minutes) * time.Minute), What: what, Words: "x", Release: &one, Mode: &mode}}, true))
	}
	happened(0, "applied", "observe")
	happened(1, "drifted", "observe")
	happened(2, "applied", "enforce")
	happened(3, "put back", "enforce")
	happened(4, "went back", "observe")
	state, err := s.State(ctx, nil)
	require.NoError(t, err)
	var got []string
	for _, p := range state.Guarding.Periods {
		require.Equal(t, 1, p.Release)
		got = append(got, p.At.UTC().Format("15:04 ")+p.Mode)
	}
	require.Equal(t, []string{"10:00 observe", "10:02 enforce", "10:04 observe"}, got)

	var many []releasing.PointEvent
	for range 2010 {
		many = append(many, releasing.PointEvent{Point: "p", At: at.Add(time.Hour), What: "drifted", Words: "again"})
	}
	require.NoError(t, s.Heard(ctx, "p", json.RawMessage(`{}`), many, true))
	require.NoError(t, s.ForgetPointHistory(ctx))
	events, err := s.PointHistory(ctx, "p", 10_000)
	require.NoError(t, err)
	count := map[string]int{}
	for _, e := range events {
		count[e.What]++
	}
	require.Equal(t, map[string]int{"told": 1, "applied": 2, "went back": 1, "drifted": 2000}, count,
		"the oldest of many are forgotten, and nothing of what it held")
	require.Equal(t, []model.ReleaseText{{No: 1, Revision: 1, Text: "layer l\n"}}, state.Guarding.Releases)
	require.Equal(t, []model.Guard{{Name: "p", Side: "both", Guards: "not outside"}}, state.Guarding.Points)
}
