package watching

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// watchLook is how often what was seen is looked at where nothing new came, and watchRest how long it
// is let be at least where much comes.
const (
	watchLook = time.Second / 2
	watchRest = 50 * time.Millisecond
)

// mostWatchedDays is how many days are looked at: what was seen before stays as it was
// found.
const mostWatchedDays = 100

// looking is what is remembered from look to look.
type looking struct {
	means    means
	followed map[time.Time]*dayFollowed
	split    split
	wholly   bool // days were looked at as a whole, the last time
}

// watchTraffic gathers matters, day by day, as traffic comes, and what is the matter with
// the means of watching, until ctx ends. Every server does: what one has found the
// other finds again, and it is the same.
func (a *Service) watchTraffic(ctx context.Context) {
	pause := watchRest
	var rested time.Time // when days may be looked at as a whole again
	for before, seen := int64(-1), int64(-1); ; {
		if !a.newTraffic(ctx, &seen, pause) {
			return
		}
		start := time.Now()
		m := a.Models.Held()
		if m == nil || start.Before(rested) && !a.follows(m) {
			continue
		}
		a.looking.wholly = false
		err := a.look(ctx, m)
		if err != nil && ctx.Err() == nil && m.Versions.Conversations != before {
			var fault *model.Fault
			if errors.As(err, &fault) {
				a.Log.Error("what was seen cannot be gathered into matters", "panic", fault.Value, "stack",
					string(fault.Stack))
			} else {
				a.Log.Warn("what was seen cannot be gathered into matters", "error", err)
			}
			before = m.Versions.Conversations
		}
		took := time.Since(start)
		if a.looking.wholly { // as after an edit: what comes then can be looked at without rest
			rested, took = time.Now().Add(3*took), 0
		}
		pause = max(watchRest, 3*took) // a quarter of one processor at most
	}
}

// newTraffic waits for at least a while, and then until there is other traffic than what was seen, or
// for watchLook in all; false: ctx has ended.
func (a *Service) newTraffic(ctx context.Context, seen *int64, rest time.Duration) bool {
	over := time.After(max(watchLook, rest))
	select {
	case <-ctx.Done():
		return false
	case <-time.After(rest):
	}
	for {
		now, changed := a.Events.Next()
		if now.Conversations != *seen {
			*seen = now.Conversations
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-over:
			return true
		case <-a.fresh.came:
			return true
		case <-changed:
		}
	}
}

// look gathers what is new; a panic of what is computed is its error.
func (a *Service) look(ctx context.Context, m *model.Model) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &model.Fault{Value: p, Stack: debug.Stack()}
		}
	}()
	if err := a.lookAtDays(ctx, m); err != nil {
		return err
	}
	return a.lookAround(ctx, m)
}

// dayStamp reports what a day is made from: the hours that were seen, and what judges them.
// While nothing was released, the draft and the tags judge as they are; what was judged by
// them then stays as it is.
// beside are the versions of what there is beside the model.
func dayStamp(m *model.Model, beside map[flow.Hour]int64, day time.Time, watched []string) (stamp string,
	isStill func(stored string) bool) {

	h := sha256.New()
	first := flow.Hour(day.Unix() / 3600)
	for hour := first; hour < first+24; hour++ {
		_, _ = fmt.Fprintln(h, m.Hours[hour])
		if n := beside[hour]; n != 0 {
			_, _ = fmt.Fprintln(h, "and of", n)
		}
	}
	_, _ = fmt.Fprintln(h, watch.Version, watched, m.Loaded(day))
	seen := hex.EncodeToString(h.Sum(nil)[:12]) + " "
	if _, judged := m.Judged(); !judged {
		stamp = seen + fmt.Sprint(m.Versions.Revision, " ", m.Versions.Workloads)
		return stamp, func(stored string) bool { return stored == stamp }
	}
	stamp = seen + "released"
	if beforeReleases(m, day) {
		return stamp, func(stored string) bool { return strings.HasPrefix(stored, seen) }
	}
	return stamp, func(stored string) bool { return stored == stamp }
}

// beforeReleases reports whether a day was over before a point held anything.
func beforeReleases(m *model.Model, day time.Time) bool {
	since, judged := m.Judged()
	return !judged || !since.Before(day.Add(24*time.Hour))
}

func (a *Service) lookAtDays(ctx context.Context, m *model.Model) error {
	if m.From >= m.To {
		return nil
	}
	stamps, err := a.Store.WatchStamps(ctx)
	if err != nil {
		return err
	}
	watched, err := a.WatchedGroups(ctx, m)
	if err != nil {
		return err
	}
	buckets, beside := a.fresh.beside(m)
	m = m.Plus(buckets)
	last := flow.Hour((int64(m.To) - 1) / 24)
	changed := false
	for d := max(m.From/24, last-mostWatchedDays+1); d <= last; d++ { // the oldest first: they say whom one knows
		day := time.Unix(int64(d)*86400, 0).UTC()
		stamp, isStill := dayStamp(m, beside, day, watched)
		switch still := isStill(stamps[day]); {
		case !still:
			if err := a.lookAtDay(ctx, m, beside, day, stamp, watched); err != nil {
				return err
			}
			changed = true
		case d > last-mostFollowed && !a.gathered.has(day, stamps[day]): // another server did
			known, err := a.knownCallers(ctx, m, day)
			if err != nil {
				return err
			}
			a.gather(m, day, stamps[day], watched, known).Rest()
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	opened, err := a.Store.OpenDue(ctx)
	if err != nil {
		return err
	}
	if changed || len(opened) > 0 {
		a.Events.MattersChanged()
	}
	return nil
}

// lookAtDay gathers what a day makes.
func (a *Service) lookAtDay(ctx context.Context, m *model.Model, beside map[flow.Hour]int64, day time.Time,
	stamp string,
	watched []string) error {
	known, err := a.knownCallers(ctx, m, day)
	if err != nil {
		return err
	}
	f := a.gather(m, day, stamp, watched, known)
	defer f.Rest()
	g, v := f.all, f.view
	out := WatchedDay{Day: day, Stamp: stamp, Of: m.Versions, Newest: m.Versions.Conversations, Hours: g.Hours,
		Callers: map[watch.Caller]time.Time{}}
	for _, n := range beside {
		out.Newest = max(out.Newest, n)
	}
	for c, first := range g.Callers {
		out.Callers[c] = first.Time()
	}
	for i := range g.Matters {
		x := &g.Matters[i]
		n := MatterDay{Day: day, Conversations: int64(len(x.Conversations)), Connections: x.Connections,
			Clients: int64(x.Clients),
			Servers: int64(x.Servers), First: x.First.Time(), Last: x.Last.Time()}
		n.Hours, n.Carried, n.Dropped = make([]int64, 24), make([]int64, 24), make([]int64, 24)
		for _, c := range x.Conversations {
			v.EachPortion(int(c), func(p *reach.Portion) {
				h := int(p.Hour) % 24
				if x.Has(p) {
					n.Hours[h] = flow.Sum(n.Hours[h], p.Connections)
				}
				switch p.Outcome {
				case flow.Carried:
					n.Carried[h] = flow.Sum(n.Carried[h], p.Connections)
				case flow.Dropped:
					n.Dropped[h] = flow.Sum(n.Dropped[h], p.Connections)
				}
			})
		}
		out.Matters = append(out.Matters, matterOf(x))
		out.Days = append(out.Days, n)
	}
	notices, err := a.notices(ctx, time.Now().UTC())
	if err != nil {
		return err
	}
	a.tellingsOfDay(notices, &viewOfDay{View: v}, &out, g.Matters)
	if out.Asked, err = a.askedOfDay(ctx, m, f, notices); err != nil {
		return err
	}
	if _, err = a.Store.PutWatchedDay(ctx, out); err != nil {
		return err
	}
	a.hurrySending()
	if unclear(&out) {
		a.looking.split.forget(m.From)
		return a.splitUnclear(ctx, m, day)
	}
	return nil
}

// matterOf returns what is gathered as it is kept.
func matterOf(x *watch.Matter) Matter {
	about := About{Who: &x.Who, What: &x.What, Scan: x.Scan, Release: x.Ruling.Release}
	if r := x.Ruling.Rule; r != nil {
		about.Line = r.Line
	}
	if h := x.Ruling.Holder; h != nil {
		about.Point = h.Name
	}
	return Matter{ID: matterID(x.Key()), Kind: string(x.Kind), Title: encoded(x.Title()), Why: x.Why(),
		About: encoded(about),
		First: x.First.Time(), Last: x.Last.Time()}
}

// knownCallers reports who reached what is watched before a day. On the first days that
// there are, everybody is known: nobody can be new where nothing is old.
func (a *Service) knownCallers(ctx context.Context, m *model.Model, day time.Time) (Callers, error) {
	if flow.Hour(day.Unix()/3600) < m.From+24 {
		return Callers{Everybody: true}, nil
	}
	return a.Store.KnownCallers(ctx, day)
}

// WatchedGroups returns the groups that are watched: those that somebody chose, or else
// those that assertions protect.
func (a *Service) WatchedGroups(ctx context.Context, m *model.Model) ([]string, error) {
	chosen, err := a.Store.Watched(ctx)
	if err != nil || len(chosen) > 0 {
		return chosen, err
	}
	return protectedGroups(m.Policy), nil
}

// protectedGroups returns the groups that assertions keep others from.
func protectedGroups(p *policy.Policy) []string {
	out := []string{}
	for _, x := range p.Asserts {
		if x.Kind == policy.Always {
			continue
		}
		for _, o := range x.Right.Items {
			if o.Kind == policy.InGroup && p.Groups[o.Name] != nil && !slices.Contains(out, o.Name) {
				out = append(out, o.Name)
			}
		}
	}
	slices.Sort(out)
	return out
}

func matterID(key string) string {
	sum := sha256.Sum256([]byte(key))
	return hex.EncodeToString(sum[:8])
}

func encoded(x any) json.RawMessage {
	raw, err := json.Marshal(x)
	if err != nil {
		panic(err) // of types of our own
	}
	return raw
}

// Say keeps what somebody says of matters.
func (a *Service) Say(ctx context.Context, ids []string, state, holder, note string, again *time.Time) (int, error) {
	holder, note = strings.TrimSpace(holder), strings.TrimSpace(note)
	words := map[string]string{"new": "is open again", "seen": "seen", "with": "with " + holder,
		"settled": "settled: " + note}[state]
	switch {
	case state == "with" && holder == "":
		return 0, refuse.Invalid("holder: found nothing, expected an assignee; nothing was changed")
	case state == "settled" && note == "":
		return 0, refuse.Invalid("note: found nothing, expected the reason why it is settled; nothing was changed")
	case again != nil && !again.After(time.Now()):
		return 0, refuse.Invalid("again: found a time in the past, expected when it reopens; nothing was changed")
	}
	if again != nil {
		words += ", until " + again.UTC().Format(time.DateOnly)
	}
	n, err := a.Store.PutMatterState(ctx, ids, MatterState{State: state, Holder: holder, Note: note, Again: again,
		Author: a.Author,
		Words:  words})
	if err == nil {
		a.Events.MattersChanged()
	}
	return n, err
}

// PutWatched reports which groups are watched; none: those that assertions protect.
func (a *Service) PutWatched(ctx context.Context, m *model.Model, groups []string) error {
	for _, g := range groups {
		if m.Policy.Groups[g] == nil {
			return refuse.Missing("there is no group " + g + "; nothing was changed")
		}
	}
	if err := a.Store.PutWatched(ctx, groups, a.Author); err != nil {
		return err
	}
	a.Events.MattersChanged()
	return nil
}

// StillLooking reports whether some of what was seen is not gathered into matters yet.
func (a *Service) StillLooking(ctx context.Context, m *model.Model) (bool, error) {
	if m.From >= m.To {
		return false, nil
	}
	stamps, err := a.Store.WatchStamps(ctx)
	if err != nil {
		return false, err
	}
	watched, err := a.WatchedGroups(ctx, m)
	if err != nil {
		return false, err
	}
	last := flow.Hour((int64(m.To) - 1) / 24)
	for d := max(m.From/24, last-mostWatchedDays+1); d < last; d++ { // the last changes all the time
		day := time.Unix(int64(d)*86400, 0).UTC()
		if _, isStill := dayStamp(m, nil, day, watched); !isStill(stamps[day]) {
			return true, nil
		}
	}
	return false, nil
}
