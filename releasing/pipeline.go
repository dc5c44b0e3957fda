package releasing

import (
	"context"

	// Releases from a job: it saves, releases and follows.
	"fmt"
	"slices"

	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// ReleaseText saves a policy as the draft, unless it is that already, and releases it in
// the name of a job. What is in force already is given as it is: a job that runs twice
// changes nothing the second time.
func (a *Service) ReleaseText(ctx context.Context, m *model.Model, text, title string, instead bool,
	job string) (Release,
	error) {
	p, errs := policy.Parse(text)
	if len(errs) > 0 {
		return Release{}, refuse.Invalid(fmt.Sprintf("policy: %s; nothing was released", errs[0]))
	}
	formatted := p.Format()
	releases, err := a.Store.Releases(ctx)
	if err != nil {
		return Release{}, err
	}
	if len(releases) > 0 {
		if r, err := a.Store.Revision(ctx, releases[0].Revision); err != nil {
			return Release{}, err
		} else if r.Text == formatted {
			return releases[0], nil
		}
	}
	if formatted != m.Head.Text {
		if _, err := a.uses.SaveText(ctx, m, formatted, "Policy of the job "+job); err != nil {
			return Release{}, err
		}
		if m, err = a.Model(ctx); err != nil {
			return Release{}, err
		}
		if m.Head.Text != formatted {
			return Release{}, refuse.Moved(
				"somebody changed the draft at the same moment; nothing was released. Run the job again")
		}
	}
	return a.Release(ctx, m, m.Head.No, title, instead)
}

// Followed is how far a release has come with a job.
type Followed struct {
	State  string
	Words  []string
	Points int
	Of     int
}

// Follow takes the next step of a release, up to a wave, if it may be taken, and says how
// far it has come.
func (a *Service) Follow(ctx context.Context, v *reach.View, m *model.Model, no, wave int, enforce bool,
	job string) (*Followed,
	error) {
	p, err := a.Progress(ctx, v, m)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(p.Releases, func(r Release) bool { return r.No == no })
	out := &Followed{State: "arrived", Words: []string{}}
	switch {
	case i < 0:
		return nil, refuse.Missing(fmt.Sprintf("there is no release %d", no))
	case i > 0:
		out.State, out.Words = "replaced", []string{fmt.Sprintf("release %d came after it", p.Releases[0].No)}
		return out, nil
	case len(p.Waves) == 0 || p.Waves[0].No > wave:
		return nil, refuse.Invalid(fmt.Sprintf("wave: there is no point up to wave %d; add one first", wave))
	}
	mode := "observe"
	if enforce {
		mode = "enforce"
	}
	for k := range p.Waves {
		w := &p.Waves[k]
		if w.No > wave {
			continue
		}
		for _, x := range p.of(w) {
			out.Of++
			switch {
			case x.Problem != "":
				out.State, out.Words = "failed", append(out.Words, x.Name+": "+x.Problem)
			case slices.Contains([]string{"refused", "went back", "drifted", "ahead"}, x.State):
				out.State, out.Words = "failed", append(out.Words, fmt.Sprintf("%s: %s: %s", x.Name, x.State,
					x.Held.Words))
			case x.State == "holds" && x.Held != nil && (x.Held.Runs().Mode(no) == mode || x.Held.Enforces == no):
				out.Points++
			}
		}
	}
	if out.State == "failed" {
		return out, nil
	}
	if out.Points == out.Of {
		return out, nil
	}
	out.State = "moving"
	for k := range p.Waves {
		w := &p.Waves[k]
		if w.No > wave || w.Stage == "enforces" || w.Stage == "observes" && !enforce {
			continue
		}
		if p.Hold != nil {
			out.State, out.Words = "waits", []string{p.Hold.Author + " paused the roll-out: " + p.Hold.Reason}
			return out, nil
		}
		next := "observe"
		if w.Stage == "observes" {
			if out.Words = w.Unmet(); len(out.Words) > 0 {
				out.State = "waits"
				return out, nil
			}
			next = "enforce"
		}
		return out, roller{a}.advance(ctx, p.behind(w, no, next), rollout.Command{Do: rollout.Verb(next), Release: no},
			"the job "+job)
	}
	return out, nil
}
