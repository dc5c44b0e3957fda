// Package releasing is how a draft is put in force: releases, enforcement points, waves, and
// what points report. plans/ has what each point has to load.
//
// It must not know HTTP or SQL.
package releasing

import (
	"context"

	// Releases and enforcement points: what each is to hold, and what it holds.
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/database"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/releasing/plans"
)

// states compares what points are to run with what they report.
type states struct{ *Service }

// Release is a revision of the policy under a number; it never changes.
type Release struct {
	No       int       `db:"no"`
	Revision int       `db:"revision"`
	Title    string    `db:"title"`
	Author   string    `db:"author"`
	At       time.Time `db:"at"`
}

// Point is an enforcement point.
type Point struct {
	Name     string     `db:"name"`
	Kind     string     `db:"kind"`
	Side     string     `db:"side"`
	Guards   string     `db:"guards"`
	Wave     int        `db:"wave"`
	PutsBack bool       `db:"puts_back"`
	Author   string     `db:"author"`
	Made     time.Time  `db:"made"`
	Enforces int        `db:"enforces"`
	Observes int        `db:"observes"`
	Again    int        `db:"again"` // how often it was told the same anew
	Paired   bool       `db:"paired"`
	Aimed    *time.Time `db:"aimed"`
	Heard    *time.Time `db:"heard"`
	// Enforcement on trial.
	Trial         string     `db:"trial"`
	TrialUntil    *time.Time `db:"trial_until"`
	TrialEnforces int        `db:"trial_enforces"` // what it enforced before
	// The order of an unknown history that it may give up.
	YieldsEpoch string `db:"yields_epoch"`
	YieldsOrder int64  `db:"yields_order"`
	// Who uses its token.
	RunFrom   string     `db:"run_from"`
	OtherFrom string     `db:"other_from"`
	OtherAt   *time.Time `db:"other_at"`
	Said      []byte     `db:"said"` // JSON; none: it was never heard of
}

// PointEvent is something that happened at a point.
type PointEvent struct {
	Point string    `db:"point"`
	At    time.Time `db:"at"`
	What  string    `db:"what"`
	Words string    `db:"words"`
	// What decided at the point since; none: what did before.
	Release  *int    `db:"release"`
	Mode     *string `db:"mode"`
	Observes *int    `db:"observes"`
}

// Runs returns the releases that the point is to run.
func (p *Point) Runs() rollout.Runs { return rollout.Runs{Enforces: p.Enforces, Observes: p.Observes} }

// Target is what one point is to run from now on.
type Target struct {
	Point    string
	Enforces int    // 0: none
	Observes int    // 0: none
	Words    string // for its history
	// Enforcement on trial; a blank Trial ends one.
	Trial         string
	TrialUntil    *time.Time
	TrialEnforces int // what it enforced before
}

// Roll is a roll-out as it stands inside a transaction.
type Roll struct {
	Points []Point // by wave and name
	Hold   *Hold   // nil: nobody paused it
	Newest int     // newest release; 0: none
}

// FormerPoint is a deleted point that still reports.
type FormerPoint struct {
	Name    string    `db:"name"`
	Dropped time.Time `db:"dropped"`
	Heard   time.Time `db:"heard"`
}

// silentAfter is how long a point may be quiet before it is shown as silent.
const silentAfter = 20 * time.Second

// PointState is an enforcement point with what it holds.
type PointState struct {
	Point
	Workloads int
	Undecided int
	Problem   string
	Held      *point.Status
	State     string
	Rejects   int

	guards []int32
}

// Release puts a revision in force under the next number: the points of the first
// wave hold it at once, observing. While another one is being rolled out it may take its
// place: then so do all points that the other has reached.
func (a *Service) Release(ctx context.Context, m *model.Model, revision int, title string, instead bool) (Release,
	error) {
	if revision != m.Head.No {
		return Release{}, refuse.Moved(
			fmt.Sprintf("the draft is now revision %d, and was %d when you reviewed it; nothing was released. "+
				"Review the changes again", m.Head.No, revision))
	}
	releases, err := a.Store.Releases(ctx)
	if err != nil {
		return Release{}, err
	}
	if len(releases) > 0 && m.SaysTheSame(releases[0].No, releases[0].Revision) {
		return Release{}, refuse.Conflict(fmt.Sprintf("the draft equals release %d; there is nothing to release",
			releases[0].No))
	}
	if len(releases) == 0 {
		releases = []Release{{}}
	}
	newest := releases[0].No
	runs := func(p *Point) bool { return newest != 0 && p.Runs().Newest() == newest }
	next := Release{No: newest, Revision: revision, Title: title, Author: a.Author}
	r, err := a.Store.AddRelease(ctx, next, func(no int, now Roll) ([]Target, error) {
		if err := paused(now.Hold); err != nil {
			return nil, err
		}
		some, others := 0, 0
		for i := range now.Points {
			if runs(&now.Points[i]) {
				some++
			} else {
				others++
			}
		}
		if some > 0 && others > 0 && !instead {
			return nil, refuse.Conflict(
				fmt.Sprintf("release %d is still being rolled out; nothing was released. Wait until it has reached "+
					"all points, roll back, or replace it", newest))
		}
		var out []Target
		for i := range now.Points {
			if p := &now.Points[i]; p.Wave == now.Points[0].Wave || others > 0 && runs(p) {
				t, err := target(p, rollout.Command{Do: rollout.ToObserve, Release: no}, a.Author)
				if err != nil {
					return nil, err
				}
				out = append(out, t)
			}
		}
		return out, nil
	})
	if errors.Is(err, database.ErrMoved) {
		return r, refuse.Moved("somebody else released at the same moment; nothing was released. Review that release")
	}
	if err == nil {
		a.Events.PointsAimed()
	}
	return r, err
}

// TellAgain sends a point its instructions again: what was changed by hand is put
// back, what was refused is tried again.
func (a *Service) TellAgain(ctx context.Context, name string) error {
	found, err := a.Store.TellAgain(ctx, name, "to load it again")
	if err == nil && !found {
		err = refuse.Missing("there is no point " + name)
	}
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}

// AddPoint makes a point, and returns the token by which it names itself, which is
// kept nowhere.
func (a *Service) AddPoint(ctx context.Context, m *model.Model, p Point) (token string, err error) {
	if p.Name = strings.TrimSpace(p.Name); p.Name == "" || strings.ContainsAny(p.Name, "/?#\x00") {
		return "", refuse.Invalid("name: found " + fmt.Sprintf("%q", p.Name) + ", expected a name without / ? #")
	}
	points, err := a.Store.Points(ctx)
	if err != nil {
		return "", err
	}
	state := rolloutState(m)
	mine, err := board{a}.guardsOf(state, 0, p.Guards, rolloutPoints(points))
	if err != nil {
		return "", err
	}
	if len(mine.In) == 0 {
		return "", refuse.Invalid("guards: “" + p.Guards +
			"” matches no workload, so no point was created. Check the tags it uses")
	}
	for _, other := range points {
		theirs, err := board{a}.guardsOf(state, 0, other.Guards, rolloutPoints(points))
		if err != nil {
			continue // one that cannot be read guards nobody: it says so itself
		}
		for _, w := range mine.In {
			if _, both := slices.BinarySearch(theirs.In, w); both && other.Kind == p.Kind &&
				sidesMeet(other.Side, p.Side) &&
				!(p.Paired && p.Kind != "host") {
				return "", refuse.Conflict(
					fmt.Sprintf("%s is guarded by %s already, on the same side; nothing was created. Mark the two "+
						"as a pair, or let one %s guard it", m.Estate.Workload(w).Label(), other.Name, p.Kind))
			}
		}
	}
	token, p.Author = rand.Text(), a.Author
	if err := a.Store.AddPoint(ctx, p, token); errors.Is(err, database.ErrTaken) {
		return "", refuse.Conflict("there is a point " + p.Name + " already; nothing was created. Choose another name")
	} else if err != nil {
		return "", err
	}
	a.Events.PointsAimed()
	return token, nil
}

func sidesMeet(a, b string) bool { return a == b || a == "both" || b == "both" }

// DropPoint forgets a point. One that enforces goes on enforcing, with nobody to tell it
// anything: that has to be asked for.
func (a *Service) DropPoint(ctx context.Context, name string, anyway bool) error {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(points, func(p Point) bool { return p.Name == name })
	var said point.Status
	if i >= 0 && json.Unmarshal(points[i].Said, &said) == nil && said.Enforces != 0 && !anyway {
		return refuse.Conflict(
			fmt.Sprintf("%s enforces release %d and would continue; nothing was changed. Switch it off first, or "+
				"delete it anyway",
				name, said.Enforces))
	}
	found, err := a.Store.DropPoint(ctx, name)
	if err == nil && !found {
		err = refuse.Missing("there is no point " + name)
	}
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}

// Points returns all points with what they hold, and how the estate is guarded.
func (a *Service) Points(ctx context.Context, v *reach.View, m *model.Model) ([]PointState, Coverage, error) {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return nil, Coverage{}, err
	}
	state := rolloutState(m)
	out := make([]PointState, len(points))
	cover, all := newCoverage(m), rolloutPoints(points)
	for i, p := range points {
		if out[i], err = (states{a}).pointState(ctx, v, m, p, all, state, cover); err != nil {
			return nil, Coverage{}, err
		}
	}
	sum := cover.sum(state.Exempt)
	if of, err := a.Store.Releases(ctx); err != nil {
		return nil, sum, err
	} else if len(of) > 0 {
		c, err := a.teller.Compiled(state, of[0].No)
		if err != nil {
			return nil, sum, err
		}
		cover.rules(c, &sum)
	}
	return out, sum, nil
}

func (a states) pointState(ctx context.Context, v *reach.View, m *model.Model, p Point, all []plans.Point,
	state plans.State, cover *coverage) (PointState, error) {
	out := PointState{Point: p, State: "new"}
	if p.Said != nil {
		out.Held = &point.Status{}
		if err := json.Unmarshal(p.Said, out.Held); err != nil {
			return out, fmt.Errorf("what %s said cannot be read: %w", p.Name, err)
		}
	}
	have := ""
	if out.Held != nil {
		have = out.Held.ID
	}
	told, err := board(a).tell(state, &p, have, all)
	var known *refuse.Problem
	if errors.As(err, &known) {
		out.Problem = known.Detail
	} else if err != nil {
		return out, err
	}
	none := p.Runs() == rollout.Runs{}
	switch {
	case p.Heard == nil:
	case time.Since(*p.Heard) > silentAfter:
		out.State = "silent"
	case out.Held.State != "holds":
		out.State = out.Held.State
	case told != nil && told.ID == out.Held.ID, none && out.Held.ID == "":
		out.State = "holds"
	default:
		out.State = "waiting"
	}
	release := p.Runs().Newest()
	g, err := board(a).guardsOf(state, release, p.Guards, all)
	if errors.As(err, &known) {
		out.Problem = known.Detail
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.guards = g.In
	out.Workloads, out.Undecided = len(g.In), len(g.Undecided)
	cover.add(g.In, p)
	if release != 0 {
		rejected, err := a.rejectedBy(ctx, v, m, release)
		if err != nil {
			return out, err
		}
		out.Rejects = rejected.at(g.In, p.Side)
	}
	return out, nil
}

// GuardedBy returns the points that guard a workload.
func (a *Service) GuardedBy(ctx context.Context, v *reach.View, m *model.Model, workload int32) ([]PointState, error) {
	all, _, err := a.Points(ctx, v, m)
	if err != nil {
		return nil, err
	}
	out := []PointState{}
	for _, p := range all {
		if _, in := slices.BinarySearch(p.guards, workload); in {
			out = append(out, p)
		}
	}
	return out, nil
}

// UnderRelease returns a view as a release judges it.
func (a *Service) UnderRelease(ctx context.Context, v *reach.View, m *model.Model, no int) (*reach.View, error) {
	r, err := a.ReleaseOf(ctx, no)
	if err != nil || r.Revision == m.Head.No {
		return v, err
	}
	compared, err := a.Models.View(ctx, m, v.From, v.To, r.Revision)
	if err != nil {
		return nil, err
	}
	return compared.Against, nil
}
