package releasing

import (
	"context"

	// How a release goes on from wave to wave: what has to be true first, who holds it,
	// and which workloads are left out.
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// roller takes the steps of a roll-out that need nobody.
type roller struct{ *Service }

// Wave is a step of a roll-out: what has to be true before its points enforce.
type Wave struct {
	No            int    `db:"no"`
	Title         string `db:"title"`
	Minutes       int    `db:"minutes"`
	Asserts       bool   `db:"asserts"`
	Probes        bool   `db:"probes"`
	Administrable bool   `db:"way_back"`
	Settled       bool   `db:"settled"`
	ByItself      bool   `db:"by_itself"`
}

// usualWave is the conditions of a wave of which nobody has said any.
func usualWave(no int) Wave {
	return Wave{No: no, Asserts: true, Probes: true, Administrable: true, Settled: true}
}

// Hold is a pause of a roll-out, with its reason.
type Hold struct {
	Author string    `db:"author"`
	At     time.Time `db:"at"`
	Reason string    `db:"reason"`
}

// Condition is something that has to be true before a wave enforces.
type Condition struct {
	Key   string
	Met   bool
	Asked bool
	Words string
}

// WaveState is a wave with how far it has come.
type WaveState struct {
	Wave
	Points     []string
	Stage      string
	Since      *time.Time
	Conditions []Condition
}

// Unmet returns the words of the conditions that it waits for.
func (w *WaveState) Unmet() (out []string) {
	for _, c := range w.Conditions {
		if c.Asked && !c.Met {
			out = append(out, c.Words)
		}
	}
	return out
}

// Progress is how far the newest release has come.
type Progress struct {
	Points   []PointState
	Coverage Coverage
	Waves    []WaveState
	Hold     *Hold
	Releases []Release // newest first
}

// Progress returns the progress of every wave of the newest release.
func (a *Service) Progress(ctx context.Context, v *reach.View, m *model.Model) (*Progress, error) {
	out := &Progress{}
	var err error
	if out.Points, out.Coverage, err = a.Points(ctx, v, m); err != nil {
		return nil, err
	}
	if out.Releases, err = a.Store.Releases(ctx); err != nil {
		return nil, err
	}
	if out.Hold, err = a.Store.Held(ctx); err != nil {
		return nil, err
	}
	known, err := a.Store.Waves(ctx)
	if err != nil {
		return nil, err
	}
	for i := range out.Points {
		p := &out.Points[i]
		n := len(out.Waves) - 1
		if n < 0 || out.Waves[n].No != p.Wave {
			w := usualWave(p.Wave)
			if i := slices.IndexFunc(known, func(k Wave) bool { return k.No == p.Wave }); i >= 0 {
				w = known[i]
			}
			out.Waves = append(out.Waves, WaveState{Wave: w, Points: []string{}, Stage: "not yet",
				Conditions: []Condition{}})
			n++
		}
		out.Waves[n].Points = append(out.Waves[n].Points, p.Name)
	}
	if len(out.Releases) == 0 {
		return out, nil
	}
	newest := out.Releases[0]
	for i := range out.Waves {
		w := &out.Waves[i]
		mine := out.of(w)
		w.stage(mine, newest.No)
		if w.Stage == "observes" {
			if w.Conditions, err = (conditions{a}).conditions(ctx, v, m, w, mine, newest); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// of returns the points of a wave.
func (p *Progress) of(w *WaveState) (out []PointState) {
	for _, x := range p.Points {
		if x.Wave == w.No {
			out = append(out, x)
		}
	}
	return out
}

// behind returns the points of a wave that are not told to be as far with a release: who
// enforces it already does not go back to observing because another point came.
func (p *Progress) behind(w *WaveState, release int, mode string) (out []string) {
	for _, x := range p.of(w) {
		if how := x.Runs().Mode(release); how == rollout.Off || mode == rollout.Enforce && how != rollout.Enforce {
			out = append(out, x.Name)
		}
	}
	return out
}

// stage notes how far the points are told to be with a release, and since when.
func (w *WaveState) stage(points []PointState, release int) {
	modes := map[string]int{}
	for _, p := range points {
		modes[p.Runs().Mode(release)]++
	}
	switch {
	case modes["enforce"] == len(points):
		w.Stage = "enforces"
	case modes["enforce"]+modes["observe"] == len(points):
		w.Stage = "observes"
	default:
		return
	}
	for _, p := range points {
		if p.Aimed != nil && (w.Since == nil || p.Aimed.After(*w.Since)) {
			w.Since = p.Aimed
		}
	}
}

// Run lets waves that go on by themselves do so, until ctx ends. Every server
// looks; what one has told already is not told again.
func (a *Service) Run(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := (roller{a}).endTrials(ctx); err != nil && ctx.Err() == nil {
			a.Log.Warn("trials of enforcement cannot be ended", "error", err)
		}
		if err := (roller{a}).nextByItself(ctx); err != nil && ctx.Err() == nil {
			a.Log.Warn("the conditions of a wave cannot be checked", "error", err)
		}
	}
}

func (a roller) nextByItself(ctx context.Context) error {
	waves, err := a.Store.Waves(ctx)
	if err != nil || !slices.ContainsFunc(waves, func(w Wave) bool { return w.ByItself }) {
		return err
	}
	m, err := a.Model(ctx)
	if err != nil {
		return err
	}
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return err
	}
	p, err := a.Progress(ctx, v, m)
	if err != nil || p.Hold != nil || len(p.Releases) == 0 {
		return err
	}
	newest := p.Releases[0].No
	for i := range p.Waves {
		w := &p.Waves[i]
		switch {
		case w.Stage == "enforces":
			continue
		case w.Stage == "observes" && w.ByItself && len(w.Unmet()) == 0:
			return a.advance(ctx, p.behind(w, newest, rollout.Enforce),
				rollout.Command{Do: rollout.ToEnforce, Release: newest},
				"automatically: all conditions are met")
		case w.Stage == "not yet" && w.ByItself && i > 0 && p.Waves[i-1].Stage == "enforces":
			return a.advance(ctx, p.behind(w, newest, rollout.Observe),
				rollout.Command{Do: rollout.ToObserve, Release: newest},
				"automatically: the wave before it enforces")
		}
		return nil
	}
	return nil
}

// advance takes the next step of a roll-out at some points, unless somebody paused it
// meanwhile or did something else.
func (a roller) advance(ctx context.Context, names []string, c rollout.Command, why string) error {
	err := a.Store.Order(ctx, func(now Roll) (targets []Target, err error) {
		if err := paused(now.Hold); err != nil || now.Newest != c.Release {
			return nil, err
		}
		for i := range now.Points {
			p := &now.Points[i]
			if !slices.Contains(names, p.Name) {
				continue
			}
			t, err := target(p, c, why)
			if err != nil {
				return nil, err
			}
			if t.Enforces != p.Enforces || t.Observes != p.Observes {
				targets = append(targets, t)
			}
		}
		return targets, nil
	})
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}

// PutWave keeps what has to be true before a wave enforces.
func (a *Service) PutWave(ctx context.Context, w Wave) error {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(points, func(p Point) bool { return p.Wave == w.No }) {
		return refuse.Missing(fmt.Sprintf("wave %d has no points; nothing was changed. Add a point to it first", w.No))
	}
	if err := a.Store.PutWave(ctx, w, a.Author); err != nil {
		return err
	}
	a.Events.PointsChanged()
	return nil
}

// PutHold holds the roll-out for a reason, or lets it go on.
func (a *Service) PutHold(ctx context.Context, hold bool, reason string) error {
	var h *Hold
	if hold {
		h = &Hold{Author: a.Author, Reason: strings.TrimSpace(reason)}
	}
	if err := a.Store.PutHold(ctx, h); err != nil {
		return err
	}
	a.Events.PointsChanged()
	return nil
}

// Exempt keeps a workload from all points until a day.
func (a *Service) Exempt(ctx context.Context, m *model.Model, e model.Exemption) error {
	e.Reason, e.Owner, e.Author = strings.TrimSpace(e.Reason), strings.TrimSpace(e.Owner), a.Author
	_, ok := m.Estate.ByID(e.Workload)
	switch {
	case !ok:
		return refuse.Missing("there is no workload with the id " + e.Workload + "; nothing was changed")
	case e.Reason == "" || e.Owner == "":
		return refuse.Invalid(
			"reason, owner: found nothing, expected a reason and an owner of the exemption")
	case !e.Ends.After(time.Now()):
		return refuse.Invalid("ends: found " + e.Ends.Format(time.DateOnly) + ", expected a day to come")
	case e.Ends.After(time.Now().AddDate(1, 0, 1)):
		return refuse.Invalid("ends: found " + e.Ends.Format(time.DateOnly) +
			", expected at most a year from now; it can be renewed")
	}
	if err := a.Store.PutExemption(ctx, e); err != nil {
		return err
	}
	a.Events.PointsAimed()
	return nil
}

// EndExemption lets points guard a workload again.
func (a *Service) EndExemption(ctx context.Context, workload string) error {
	found, err := a.Store.DropExemption(ctx, workload)
	if err == nil && !found {
		err = refuse.Missing("the workload " + workload + " is not exempt")
	}
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}
