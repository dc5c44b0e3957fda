package releasing

import (
	"context"

	// Orders to enforcement points: each is one request that is carried out whole.
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/access"
	"lucidorchard/core/plan"
	"lucidorchard/core/plural"
	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/releasing/plans"
)

// orders checks orders before they are given.
type orders struct{ *Service }

// Order is what a person tells points about a release.
type Order struct {
	Do      string
	Release int
	Points  []string
	Wave    int
	Anyway  bool
	// Machines that nobody could administer any more.
	Without []string
	Minutes int
}

// Ordered is what an order did at one point.
type Ordered struct {
	Point   string
	Before  PointRuns
	After   PointRuns
	Changed bool
	Words   string
}

// PointRuns is the releases that a point is to run; 0 is none.
type PointRuns struct {
	Enforces int
	Observes int
}

// Order carries out an order at all its points, in one transaction, and returns what it
// did at each. Nothing changes if it fails. Enforcing waits for the conditions of the
// waves; a rollback never waits.
func (a *Service) Order(ctx context.Context, v *reach.View, m *model.Model, in Order) ([]Ordered, error) {
	if err := (orders{a}).checkOrder(ctx, in); err != nil {
		return nil, err
	}
	if in.Do == string(rollout.ToEnforce) {
		if err := (orders{a}).mayEnforce(ctx, v, m, in); err != nil {
			return nil, err
		}
	}
	var out []Ordered
	err := a.Store.Order(ctx, func(now Roll) (targets []Target, err error) {
		out = nil
		points, err := in.of(now.Points)
		if err != nil {
			return nil, err
		}
		for _, p := range points {
			t, err := in.target(p, a.Author)
			if err != nil {
				return nil, err
			}
			did := Ordered{Point: p.Name, Before: PointRuns(p.Runs()),
				After: PointRuns{Enforces: t.Enforces, Observes: t.Observes}}
			did.Changed = did.Before != did.After || t.Trial != p.Trial
			if did.Words = t.Words; !did.Changed {
				did.Words = p.Name + " runs " + p.Runs().String() + "; nothing changes"
			} else {
				targets = append(targets, t)
			}
			out = append(out, did)
		}
		if in.goesOn(now.Newest) && len(targets) > 0 { // inside the transaction: a pause cannot be overtaken
			if err := paused(now.Hold); err != nil {
				return nil, err
			}
		}
		return targets, nil
	})
	if err != nil {
		return nil, err
	}
	a.Events.PointsAimed()
	return out, nil
}

// goesOn reports whether the order moves the newest release forward; all else is open
// also while the roll-out is paused.
func (in *Order) goesOn(newest int) bool {
	return in.Release == newest && (in.Do == string(rollout.ToObserve) || in.Do == string(rollout.ToEnforce))
}

// checkOrder refuses an order that cannot be one.
func (a orders) checkOrder(ctx context.Context, in Order) error {
	needs := in.Do != string(rollout.ToOff) && in.Do != "confirm"
	switch {
	case needs == (in.Release == 0):
		return refuse.Invalid("release: found " + fmt.Sprint(in.Release) + ", expected " +
			map[bool]string{true: "the number of a release", false: "none with " + in.Do}[needs] +
			"; nothing was changed")
	case in.Minutes != 0 && in.Do != string(rollout.ToEnforce):
		return refuse.Invalid("minutes: only enforcement can be on trial; nothing was changed")
	case needs:
		_, err := a.ReleaseOf(ctx, in.Release)
		var missing *refuse.Problem
		if errors.As(err, &missing) {
			return refuse.Missing(fmt.Sprintf("there is no release %d; nothing was changed", in.Release))
		}
		return err
	}
	return nil
}

// of returns the points that the order is for.
func (in *Order) of(all []Point) (out []*Point, err error) {
	for _, name := range in.Points {
		i := slices.IndexFunc(all, func(p Point) bool { return p.Name == name })
		if i < 0 {
			return nil, refuse.Missing("there is no point " + name + "; nothing was changed")
		}
		out = append(out, &all[i])
	}
	if len(in.Points) > 0 {
		return out, nil
	}
	for i := range all {
		if in.Wave == 0 || all[i].Wave == in.Wave {
			out = append(out, &all[i])
		}
	}
	if len(out) == 0 {
		return nil, refuse.Missing("the order matches no point; nothing was changed. Add a point first")
	}
	return out, nil
}

// target returns what one point is to run after the order.
func (in *Order) target(p *Point, author string) (Target, error) {
	if in.Do == "confirm" {
		return Target{Point: p.Name, Enforces: p.Enforces, Observes: p.Observes,
			Words: fmt.Sprintf("Release %d stays enforced: confirmed by %s", p.Enforces, author)}, nil
	}
	t, err := target(p, rollout.Command{Do: rollout.Verb(in.Do), Release: in.Release}, author)
	if in.Minutes > 0 && err == nil && t.Enforces != p.Enforces {
		until := time.Now().Add(time.Duration(in.Minutes) * time.Minute)
		t.Trial, t.TrialUntil, t.TrialEnforces = rand.Text(), &until, p.Enforces
		t.Words += fmt.Sprintf(", on trial for %s", plural.Of(in.Minutes, "minute"))
	} else if err == nil && t.Enforces == p.Enforces && p.Trial != "" { // the trial goes on
		t.Trial, t.TrialUntil, t.TrialEnforces = p.Trial, p.TrialUntil, p.TrialEnforces
	}
	return t, err
}

// target returns what a point is to run after a command.
func target(p *Point, c rollout.Command, author string) (Target, error) {
	runs, err := p.Runs().After(c)
	var unseen *rollout.NotObserved
	if errors.As(err, &unseen) {
		return Target{}, refuse.Conflict(
			fmt.Sprintf("%s has not observed release %d yet; nothing was changed. Observe it first",
				p.Name, unseen.Release))
	}
	words := "To run " + runs.String()
	if c.Do == rollout.ToRollBack {
		words = fmt.Sprintf("Rollback to release %d: to run %s", c.Release, runs)
	}
	return Target{Point: p.Name, Enforces: runs.Enforces, Observes: runs.Observes, Words: words + ", by " + author}, err
}

// paused refuses what moves a paused roll-out forward.
func paused(h *Hold) error {
	if h == nil {
		return nil
	}
	why := ""
	if h.Reason != "" {
		why = " (" + h.Reason + ")"
	}
	return refuse.Conflict(fmt.Sprintf("%s paused the roll-out at %s%s; nothing was changed. Resume it first", h.Author,
		h.At.UTC().Format("2 Jan 15:04"), why))
}

// mayEnforce returns why points may not enforce a release yet: conditions of their waves
// that are not met, and machines that nobody could administer any more.
func (a orders) mayEnforce(ctx context.Context, v *reach.View, m *model.Model, in Order) error {
	p, err := a.Progress(ctx, v, m)
	if err != nil {
		return err
	}
	stored := make([]Point, len(p.Points))
	for i := range p.Points {
		stored[i] = p.Points[i].Point
	}
	points, err := in.of(stored)
	if err != nil {
		return err
	}
	names := map[string]bool{}
	for _, x := range points {
		names[x.Name] = x.Enforces != in.Release
	}
	if !in.Anyway && len(p.Releases) > 0 && in.Release == p.Releases[0].No {
		for _, w := range p.Waves {
			if unmet := w.Unmet(); len(unmet) > 0 && slices.ContainsFunc(w.Points,
				func(n string) bool { return names[n] }) {
				return refuse.Conflict(
					fmt.Sprintf("wave %d is not ready: %s; nothing was changed. Meet the conditions first, or "+
						"enforce anyway",
						w.No, strings.Join(unmet, "; ")))
			}
		}
	}
	var guarded []int32
	for i := range p.Points {
		if names[p.Points[i].Name] {
			guarded = append(guarded, p.Points[i].guards...)
		}
	}
	machines, err := a.access(ctx, v, m, in.Release, guarded)
	if err != nil || slices.Contains(in.Without, "*") {
		return err
	}
	shut := slices.DeleteFunc(access.Shut(machines), func(x access.Machine) bool {
		return slices.Contains(in.Without, m.Estate.Workload(x.Workload).ID)
	})
	if len(shut) == 0 {
		return nil
	}
	first := m.Estate.Workload(shut[0].Workload).Label()
	return refuse.Conflict(
		fmt.Sprintf("nobody could administer %s any more: on %s %s; nothing was changed. Permit management access, "+
			"or confirm each machine", plural.Of(len(shut), "machine"), first, shut[0].Words()))
}

// access returns from where guarded machines are administered under a release.
func (a orders) access(ctx context.Context, v *reach.View, m *model.Model, release int,
	guarded []int32) ([]access.Machine, error) {
	c, err := a.teller.Compiled(rolloutState(m), release)
	if err != nil {
		return nil, err
	}
	return access.Find(c, guarded, administration(v)), nil
}

// administration returns the administration traffic of a window that was not dropped.
func administration(v *reach.View) (out []access.Way) {
	for i := range v.Len() {
		c := v.At(i)
		if c.Carried == 0 && c.Dropped > 0 {
			continue
		}
		out = append(out, access.Way{Client: c.Client, Server: c.Server, Point: c.Point})
	}
	return out
}

// endTrials ends the trials that nobody confirmed in time: what was enforced before is
// enforced again, and what was on trial is observed.
func (a roller) endTrials(ctx context.Context) error {
	points, err := a.Store.Points(ctx)
	if err != nil || !slices.ContainsFunc(points, overdue) {
		return err
	}
	err = a.Store.Order(ctx, func(now Roll) (targets []Target, err error) {
		for i := range now.Points {
			if p := &now.Points[i]; overdue(*p) {
				runs := rollout.Runs{Enforces: p.TrialEnforces, Observes: p.Enforces}
				targets = append(targets, Target{Point: p.Name, Enforces: runs.Enforces, Observes: runs.Observes,
					Words: "Nobody confirmed in time: returns to " + runs.String()})
			}
		}
		return targets, nil
	})
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}

func overdue(p Point) bool { return p.TrialUntil != nil && !time.Now().Before(*p.TrialUntil) }

// LargestPlan returns the point whose plan of the draft would be the largest, and its size;
// blank: there is no point whose plan can be made.
func (a *Service) LargestPlan(ctx context.Context, m *model.Model) (name string, size plans.Size, err error) {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return "", size, err
	}
	state, all := rolloutState(m), rolloutPoints(points)
	for i, p := range all {
		s, err := a.teller.Size(state, p, 0, all)
		if err != nil { // its expression names a group that the draft does not have: the point says so itself
			continue
		}
		if name == "" || s.Rules+s.Elements > size.Rules+size.Elements {
			name, size = points[i].Name, s
		}
	}
	return name, size, nil
}

// RotateToken sets another token for a point. The former one is valid until the new one is
// used for the first time, so there is no gap.
func (a *Service) RotateToken(ctx context.Context, name string) (token string, err error) {
	token = rand.Text()
	found, err := a.Store.RotateToken(ctx, name, token)
	if err == nil && !found {
		err = refuse.Missing("there is no point " + name)
	}
	return token, err
}

// Yield lets a point that took an order which this server does not have follow it.
func (a *Service) Yield(ctx context.Context, name string) error {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(points, func(p Point) bool { return p.Name == name })
	if i < 0 {
		return refuse.Missing("there is no point " + name)
	}
	var said point.Status
	if err := json.Unmarshal(points[i].Said, &said); err != nil || said.State != "ahead" {
		return refuse.Conflict(name + " follows this server; nothing was changed")
	}
	if _, err := a.Store.Yield(ctx, name, said.At, a.Author); err != nil {
		return err
	}
	_, err = a.Store.TellAgain(ctx, name, "To follow this server, by "+a.Author)
	a.Events.PointsAimed()
	return err
}

// Access returns from where the machines that some points guard are administered under a
// release; those into which nobody would get come first.
func (a *Service) Access(ctx context.Context, v *reach.View, m *model.Model, release int,
	points []PointState) ([]access.Machine, error) {
	var guarded []int32
	for _, p := range points {
		guarded = append(guarded, p.guards...)
	}
	out, err := orders{a}.access(ctx, v, m, release, guarded)
	slices.SortStableFunc(out, func(x, y access.Machine) int {
		switch {
		case x.Open == y.Open:
			return 0
		case x.Open:
			return 1
		}
		return -1
	})
	return out, err
}

// Guards returns the workloads that an expression would guard, by the draft.
func (a *Service) Guards(ctx context.Context, m *model.Model, text string) (plan.Guards, error) {
	return board{a}.guardsOf(rolloutState(m), 0, text, nil)
}
