package watching

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/model"
)

// dayFollowed is a day whose traffic is followed, under what it was judged by so far.
type dayFollowed struct {
	*watch.Follower
	all      watch.Gathered // the last time
	view     *reach.View    // of the conversations in matters
	from, to flow.Hour
	like     model.Like
	watched  []string
	known    Callers
}

// mostFollowed is how many days are followed, beside all others that are looked at once: the last, and
// the one before it around midnight.
const mostFollowed = 2

// dayGathered is what a day came to.
type dayGathered struct {
	like    model.Like
	watched []string
	known   Callers
	table   *flow.Table
	stamp   string // of what is stored of it; blank: nobody looked at it so
	all     watch.Gathered
	view    *reach.View // of the conversations in matters
}

// gathered keeps what some days came to, for those who ask for a matter.
type gathered struct {
	making sync.Mutex // of what is not there, one at a time

	mu   sync.Mutex
	days map[time.Time]*dayGathered
}

// mostGathered is how many days are kept.
const mostGathered = 4

func (x *gathered) put(day time.Time, d *dayGathered) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.days == nil {
		x.days = map[time.Time]*dayGathered{}
	}
	x.days[day] = d
	for len(x.days) > mostGathered {
		delete(x.days, slices.MinFunc(slices.Collect(maps.Keys(x.days)), time.Time.Compare))
	}
}

// has reports whether what is stored of a day, by its stamp, is here.
func (x *gathered) has(day time.Time, stamp string) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.days[day] != nil && x.days[day].stamp == stamp
}

// on returns what a day comes to: what is stored of it, by its stamp, or as a model has it.
func (x *gathered) on(m *model.Model, day time.Time, watched []string, known Callers, stamp string) *dayGathered {
	from, to := hoursOf(m, day)
	table := m.Table.Between(from, to)
	view, like := m.Parts(from, to)
	kept := func() *dayGathered {
		x.mu.Lock()
		defer x.mu.Unlock()
		d := x.days[day]
		if d == nil || d.like != like || !slices.Equal(d.watched, watched) || !d.known.equal(known) ||
			(d.stamp == "" || d.stamp != stamp) && (d.table.Dict != table.Dict || len(table.Changed(d.table)) > 0) {
			return nil
		}
		return d
	}
	if d := kept(); d != nil {
		return d
	}
	x.making.Lock()
	defer x.making.Unlock()
	if d := kept(); d != nil { // somebody made it meanwhile
		return d
	}
	d := &dayGathered{like: like, watched: watched, known: known, table: table}
	d.all, d.view = watch.NewFollower(view, watch.Watched{Groups: watched, Known: known.Known}).Gather(table)
	x.put(day, d)
	return d
}

// gather gathers what a day comes to, and keeps it for those who ask where the day is followed. The
// caller lets it rest when all is asked.
func (a *Service) gather(m *model.Model, day time.Time, stamp string, watched []string, known Callers) *dayFollowed {
	f := a.follow(m, day, watched, known)
	a.looking.wholly = a.looking.wholly || f.view == nil
	table := m.Table.Between(f.from, f.to)
	f.all, f.view = f.Gather(table)
	if a.looking.followed[day] == f {
		a.gathered.put(day, &dayGathered{like: f.like, watched: watched, known: known, table: table, stamp: stamp,
			all: f.all, view: f.view})
	}
	return f
}

// follows reports whether the last day need not be looked at as a whole under a model.
func (a *Service) follows(m *model.Model) bool {
	day := time.Unix((int64(m.To)-1)/24*86400, 0).UTC()
	_, like := m.Parts(hoursOf(m, day))
	return a.looking.followed[day] != nil && a.looking.followed[day].like == like
}

// follow returns what follows a day: what did before, as long as conversations are judged as they were.
func (a *Service) follow(m *model.Model, day time.Time, watched []string, known Callers) *dayFollowed {
	from, to := hoursOf(m, day)
	view, like := m.Parts(from, to)
	d := a.looking.followed[day]
	if d == nil || d.like != like || !slices.Equal(d.watched, watched) || !d.known.equal(known) {
		d = &dayFollowed{Follower: watch.NewFollower(view, watch.Watched{Groups: watched, Known: known.Known}),
			from: from, to: to,
			like: like, watched: watched, known: known}
	}
	if last := flow.Hour((int64(m.To) - 1) / 24); from/24 > last-mostFollowed {
		a.looking.followed[day] = d
		maps.DeleteFunc(a.looking.followed,
			func(_ time.Time, d *dayFollowed) bool { return d.from/24 <= last-mostFollowed })
	}
	return d
}

// hoursOf returns the hours of a day of which there is something.
func hoursOf(m *model.Model, day time.Time) (from, to flow.Hour) {
	first := flow.Hour(day.Unix() / 3600)
	return max(first, m.From), min(first+24, m.To)
}

// dayView returns what was seen on a day.
func (a *Service) dayView(m *model.Model, day time.Time) *reach.View {
	return m.Stretch(hoursOf(m, day))
}

// matterPart is what was seen of a matter on a day: which conversations of a view.
type matterPart struct {
	View          *reach.View
	Conversations []int32
}

// MatterOn returns what was seen of a matter on a day.
func (a *Service) MatterOn(ctx context.Context, m *model.Model, id string, day time.Time) (matterPart, error) {
	watched, err := a.WatchedGroups(ctx, m)
	if err != nil {
		return matterPart{}, err
	}
	known, err := a.knownCallers(ctx, m, day)
	if err != nil {
		return matterPart{}, err
	}
	if from, to := hoursOf(m, day); from >= to {
		return matterPart{}, nil // it was forgotten
	}
	stamps, err := a.Store.WatchStamps(ctx)
	if err != nil {
		return matterPart{}, err
	}
	d := a.gathered.on(m, day, watched, known, stamps[day])
	for i := range d.all.Matters {
		if x := &d.all.Matters[i]; matterID(x.Key()) == id {
			return matterPart{d.view, x.Conversations}, nil
		}
	}
	return matterPart{View: d.view}, nil
}
