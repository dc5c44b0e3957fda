package sql_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
	"lucidorchard/database"
	"lucidorchard/notify"
	"lucidorchard/watching"
)

var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// aDay is what a day makes: matters of so many conversations.
func aDay(day int, stamp string, conversations map[string]int64) watching.WatchedDay {
	at := noon.AddDate(0, 0, day)
	d := watching.WatchedDay{Day: at.Truncate(24 * time.Hour), Stamp: stamp,
		Hours: map[flow.Hour]*watch.Hour{flow.Hour(at.Unix() / 3600): {Held: 7}}}
	for id, n := range conversations {
		d.Matters = append(d.Matters, watching.Matter{ID: id, Kind: "leak",
			Title: json.RawMessage(`[{"text":"` + id + `"}]`), Why: "why",
			About: json.RawMessage(`{}`), First: at, Last: at.Add(time.Minute)})
		d.Days = append(d.Days, watching.MatterDay{Matter: id, Day: d.Day, Conversations: n, Connections: n,
			Clients: 1, Servers: 1,
			Hours: make([]int64, 24), First: at, Last: at.Add(time.Minute)})
	}
	return d
}

// Matters grow over days, are kept when somebody said something of them, open again when
// they grow, and go when nothing of them is left.
func TestMattersOverDays(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	put := func(d watching.WatchedDay) []watching.Opening {
		opened, err := s.PutWatchedDay(ctx, d)
		require.NoError(t, err)
		return opened
	}
	require.Len(t, put(aDay(0, "a", map[string]int64{"one": 4, "two": 1})), 2)
	require.Empty(t, put(aDay(0, "b", map[string]int64{"one": 5, "two": 1})), "it grows instead of repeating")
	require.Empty(t, put(aDay(1, "a", map[string]int64{"one": 5})))
	m, days, log, found, err := s.Matter(ctx, "one")
	require.NoError(t, err)
	require.True(t, found)
	require.Len(t, days, 2)
	require.Empty(t, log)
	require.Equal(t, []string{"new", noon.String()}, []string{m.State, m.First.UTC().String()})
	require.Equal(t, noon.AddDate(0, 0, 1).Add(time.Minute), m.Last.UTC())
	stamps, err := s.WatchStamps(ctx)
	require.NoError(t, err)
	require.Equal(t, map[time.Time]string{noon.Truncate(24 * time.Hour): "b",
		noon.AddDate(0, 0, 1).Truncate(24 * time.Hour): "a"}, stamps)

	n, err := s.PutMatterState(ctx, []string{"one", "two", "none"}, watching.MatterState{State: "settled",
		Note: "old job", Author: "ada", Words: "settled: old job"})
	require.NoError(t, err)
	require.Equal(t, 2, n)
	require.Empty(t, put(aDay(2, "a", map[string]int64{"one": 7})), "not much more than before")
	opened := put(aDay(2, "b", map[string]int64{"one": 8}))
	require.Len(t, opened, 1)
	require.True(t, opened[0].Again)
	m, _, log, _, err = s.Matter(ctx, "one")
	require.NoError(t, err)
	require.Equal(t, "new", m.State)
	require.Equal(t, "opened again: it has grown", log[0].Words)
	require.Equal(t, "ada", log[1].Author)

	put(aDay(0, "c", nil))
	_, _, _, found, err = s.Matter(ctx, "two")
	require.NoError(t, err)
	require.True(t, found, "somebody said something of it")
	put(aDay(1, "b", nil))
	put(aDay(2, "c", nil))
	_, _, _, found, err = s.Matter(ctx, "one")
	require.NoError(t, err)
	require.False(t, found)
	hours, err := s.WatchHours(ctx, flow.Hour(noon.Unix()/3600), flow.Hour(noon.Unix()/3600)+25)
	require.NoError(t, err)
	require.Len(t, hours, 2)
	require.Equal(t, int64(7), hours[flow.Hour(noon.Unix()/3600)].Held)

	// By its date.
	past := time.Now().Add(-time.Minute)
	_, err = s.PutMatterState(ctx, []string{"two"}, watching.MatterState{State: "settled", Note: "until then",
		Again: &past})
	require.NoError(t, err)
	due, err := s.OpenDue(ctx)
	require.NoError(t, err)
	require.Len(t, due, 1)
	due, err = s.OpenDue(ctx)
	require.NoError(t, err)
	require.Empty(t, due)
}

// What stands is new once, ends when it is so no more, and is open again when it comes back.
func TestWhatStandsEnds(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	none := func(watching.Matter) []watching.Telling { return nil }
	drift := watching.Matter{ID: "d", Kind: "drift", Title: json.RawMessage(`[]`), Why: "a rule is missing",
		About: json.RawMessage(`{}`), First: noon}
	put := func(list ...watching.Matter) (int, bool) {
		opened, changed, err := s.PutStanding(t.Context(), []string{"drift"}, list, none)
		require.NoError(t, err)
		return len(opened), changed
	}
	for _, step := range []struct {
		list    []watching.Matter
		opened  int
		changed bool
	}{{[]watching.Matter{drift}, 1, true}, {[]watching.Matter{drift}, 0, false}, {nil, 0, true}, {nil, 0, false},
		{[]watching.Matter{drift}, 1, true}} {
		opened, changed := put(step.list...)
		require.Equal(t, step.opened, opened)
		require.Equal(t, step.changed, changed)
	}
	drift.Why = "two rules are missing"
	opened, changed := put(drift)
	require.Zero(t, opened)
	require.True(t, changed, "it says something else")
}

// Who came on six of seven days, and not on the two after them, is silent.
func TestSilenceIsFound(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	today := noon.AddDate(0, 0, 9).Truncate(24 * time.Hour)
	caller := func(who string) watch.Caller {
		return watch.Caller{Who: watch.Side{Text: who, Kind: "group"}, What: watch.Side{Text: "store", Kind: "group"},
			Service: service.PointOf(service.TCP, 873)}
	}
	for day := range 10 {
		d := aDay(day, "a", nil)
		d.Callers = map[watch.Caller]time.Time{caller("daily"): noon}
		if day < 8 && day != 3 {
			d.Callers[caller("stopped")] = noon
		}
		if day%7 < 5 {
			d.Callers[caller("on weekdays")] = noon
		}
		_, err := s.PutWatchedDay(t.Context(), d)
		require.NoError(t, err)
	}
	found, err := s.Silences(t.Context(), today)
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.Equal(t, "stopped", found[0].Who)
	known, err := s.KnownCallers(t.Context(), today)
	require.NoError(t, err)
	require.True(t, known.Known(caller("stopped")))
	require.False(t, known.Known(caller("never")))
}

// Of traffic that a notice asks for, what is more than before is told: not what was there when the
// notice was made, nor what goes and comes back; and nothing of a notice that is gone.
func TestMoreOfWhatANoticeAsksFor(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.PutDestination(ctx, "duty", notify.Settings{Kind: "syslog", Transport: "tcp",
		Address: "127.0.0.1:1"}, "ada"))
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	n := watching.Notice{Kinds: []string{}, Filter: "q=a", Pace: "at once", To: []string{"duty"}, Author: "ada"}
	id, _, err := s.PutNotice(ctx, n, map[time.Time][]watching.Asked{day: {{Traffic: "a to b", Connections: 5}}})
	require.NoError(t, err)
	made := 0
	look := func(notice int64, amounts map[string]int64) (told map[string]int64) {
		t.Helper()
		var list []watching.Asked
		for traffic, connections := range amounts {
			list = append(list, watching.Asked{Notice: notice, Traffic: traffic, Connections: connections,
				Tell: func() []watching.Telling {
					made++
					return []watching.Telling{{Notice: notice, Destination: "duty", Matter: traffic,
						Message: notify.Message{ID: fmt.Sprint("m", made), Kind: "traffic", Title: traffic},
						Due:     time.Now()}}
				}})
		}
		_, err := s.PutWatchedDay(ctx, watching.WatchedDay{Day: day, Stamp: fmt.Sprint(made), Asked: list})
		require.NoError(t, err)
		waiting, err := s.Claim(ctx, "duty", 100)
		require.NoError(t, err)
		told = map[string]int64{}
		var ids []string
		for _, w := range waiting {
			told[w.Matter] = w.Times
			ids = append(ids, w.ID)
		}
		require.NoError(t, s.Settle(ctx, "duty", []watching.Tried{{IDs: ids, As: "x"}}))
		return told
	}
	require.Empty(t, look(id, map[string]int64{"a to b": 5}), "it was there before")
	require.Equal(t, map[string]int64{"a to b": 2, "c to d": 3}, look(id, map[string]int64{"a to b": 7, "c to d": 3}))
	require.Empty(t, look(id, map[string]int64{"c to d": 3}))
	require.Empty(t, look(id, map[string]int64{"a to b": 7, "c to d": 1}), "it comes back, and less of it is no more")
	require.Equal(t, 2, made, "messages are made of what is told only")
	found, err := s.DropNotice(ctx, id)
	require.NoError(t, err)
	require.True(t, found)
	_, err = s.PutWatchedDay(ctx, watching.WatchedDay{Day: day, Stamp: "gone",
		Asked: []watching.Asked{{Notice: id, Traffic: "e to f", Connections: 1,
			Tell: func() []watching.Telling { return nil }}}})
	require.NoError(t, err, "somebody dropped it meanwhile")
}

// What grows is told once for each notice and destination; what waits is told of once,
// with how often it happened; what is not taken is tried again; nothing is claimed twice.
func TestTheOutbox(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.PutDestination(ctx, "duty", notify.Settings{Kind: "syslog", Transport: "tcp",
		Address: "127.0.0.1:1"}, "ada"))
	id, found, err := s.PutNotice(ctx, watching.Notice{Kinds: []string{"leak"}, Pace: "at once", To: []string{"duty"},
		Author: "ada"}, nil)
	require.NoError(t, err)
	require.True(t, found)
	telling := func(n int) []watching.Telling {
		return []watching.Telling{{Notice: id, Destination: "duty", Matter: "one",
			Message: notify.Message{ID: fmt.Sprint("m", n), Kind: "leak"}, Due: time.Now()}}
	}
	day := func(n int64, stamp string) {
		d := aDay(0, stamp, map[string]int64{"one": n})
		d.Tell = telling(int(n))
		_, err := s.PutWatchedDay(ctx, d)
		require.NoError(t, err)
	}
	claim := func() []watching.Waiting {
		list, err := s.Claim(ctx, "duty", 10)
		require.NoError(t, err)
		return list
	}
	day(3, "a")
	day(3, "b") // as it was
	day(5, "c")
	first := claim()
	require.Len(t, first, 1)
	require.Equal(t, int64(5), first[0].Times)
	require.Empty(t, claim(), "it is claimed")
	day(6, "d")
	require.Len(t, claim(), 1, "what happens while another message is on its way is told by the next")
	require.NoError(t, s.Settle(ctx, "duty", []watching.Tried{{IDs: []string{first[0].ID}, Problem: "nobody listens"}}))
	all, err := s.Destinations(ctx)
	require.NoError(t, err)
	require.NotNil(t, all[0].Failing)
	require.Equal(t, "nobody listens", all[0].Problem)
	require.Equal(t, 2, all[0].Waiting)
	require.Empty(t, claim(), "it is tried again after a pause")
	require.NoError(t, s.HurryDestination(ctx, "duty"))
	again := claim()
	require.Len(t, again, 1)
	require.Equal(t, first[0].ID, again[0].ID, "under its id, so that a repeat is seen")
	require.NoError(t, s.Settle(ctx, "duty", []watching.Tried{{IDs: []string{again[0].ID}, As: again[0].ID}}))
	all, err = s.Destinations(ctx)
	require.NoError(t, err)
	require.Nil(t, all[0].Failing)
	require.NotNil(t, all[0].Sent)
	day(9, "e")
	require.Empty(t, claim(), "nothing more is said of it for a while")

	notices, err := s.Notices(ctx)
	require.NoError(t, err)
	require.NotNil(t, notices[0].Fired)
	from, until := 22*60, 6*60
	notices[0].From, notices[0].Until = &from, &until
	_, found, err = s.PutNotice(ctx, notices[0], nil)
	require.NoError(t, err)
	require.True(t, found)
	notices, err = s.Notices(ctx)
	require.NoError(t, err)
	require.Equal(t, []int{from, until}, []int{*notices[0].From, *notices[0].Until})
	_, found, err = s.PutNotice(ctx, watching.Notice{ID: 99, Kinds: []string{}, Pace: "daily", To: []string{}}, nil)
	require.NoError(t, err)
	require.False(t, found)
	found, err = s.DropDestination(ctx, "duty")
	require.NoError(t, err)
	require.True(t, found)
	notices, err = s.Notices(ctx)
	require.NoError(t, err)
	require.Empty(t, notices[0].To)
}

// What another server has looked at with more than this one knows stays, whatever it is that it knew
// more of; and as much, or more, takes its place.
func TestNothingOlderTakesThePlaceOfADay(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	put := func(stamp string, newest int64, of database.Versions) {
		d := aDay(0, stamp, map[string]int64{stamp: 1})
		d.Of, d.Newest = of, newest
		_, err := s.PutWatchedDay(t.Context(), d)
		require.NoError(t, err)
	}
	kept := func() string {
		stamps, err := s.WatchStamps(t.Context())
		require.NoError(t, err)
		all, err := s.Matters(t.Context(), noon)
		require.NoError(t, err)
		require.Len(t, all, 1)
		stamp := stamps[noon.Truncate(24*time.Hour)]
		require.Equal(t, all[0].ID, stamp)
		return stamp
	}
	now := database.Versions{Conversations: 10, Workloads: 5, Points: 3, Revision: 2}
	put("a", 12, now)
	for name, older := range map[string]database.Versions{
		"less traffic":    {Conversations: 9, Workloads: 9, Points: 9, Revision: 9},
		"older workloads": {Conversations: 19, Workloads: 4, Points: 9, Revision: 9},
		"older points":    {Conversations: 19, Workloads: 9, Points: 2, Revision: 9},
		"an older draft":  {Conversations: 19, Workloads: 9, Points: 9, Revision: 1},
	} {
		put(name, 19, older)
		require.Equal(t, "a", kept(), name)
	}
	put("without what was new", 11, database.Versions{Conversations: 11, Workloads: 5, Points: 3, Revision: 2})
	require.Equal(t, "a", kept())
	put("as new", 12, now)
	require.Equal(t, "as new", kept())
	put("newer", 13, database.Versions{Conversations: 13, Workloads: 5, Points: 3, Revision: 2})
	require.Equal(t, "newer", kept())
}

// A matter that a day does not show any more was seen last on the day before.
func TestADayThatIsJudgedOtherwise(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	for _, d := range []watching.WatchedDay{aDay(0, "a", map[string]int64{"one": 1}),
		aDay(1, "b", map[string]int64{"one": 2, "two": 1}), aDay(1, "c", map[string]int64{"two": 1})} {
		_, err := s.PutWatchedDay(t.Context(), d)
		require.NoError(t, err)
	}
	one, days, _, found, err := s.Matter(t.Context(), "one")
	require.NoError(t, err)
	require.True(t, found)
	require.Len(t, days, 1)
	require.Equal(t, noon.Add(time.Minute), one.Last.UTC())
	two, _, _, _, err := s.Matter(t.Context(), "two")
	require.NoError(t, err)
	require.Equal(t, noon.AddDate(0, 0, 1).Add(time.Minute), two.Last.UTC())
}
