package transfer

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/demo"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/traffic/rows"
)

// Company is the name of the estate, and whether it is the made-up one.
type Company struct {
	Name    string   `json:"name"`
	MadeUp  bool     `json:"madeUp,omitempty"`
	Sources []string `json:"sources,omitempty"` // that the made-up company's lists came from
}

// Added counts what a user has added to the made-up company.
type Added struct {
	Workloads, Conversations, Points int
}

// Words names what was added; blank: nothing was.
func (a Added) Words() string {
	var out []string
	for _, x := range []struct {
		n   int
		one string
	}{{a.Workloads, "workload"}, {a.Conversations, "conversation"}, {a.Points, "point"}} {
		if x.n > 0 {
			out = append(out, plural.Of(x.n, x.one))
		}
	}
	return strings.Join(out, ", ")
}

const (
	companySetting = "company"
	longestName    = 60 // characters
	usualScale     = 420
	jobsEnd        = 5 * time.Second // how long a removal waits for jobs
	madeUpName     = "Saltmarsh Ferries"
	// The switches of the made-up company report its traffic, under names of this kind.
	madeUpObserver = "quay-leaf-"
)

// Company returns the name of the estate; it is blank if nobody has set one.
func (a *Service) Company(ctx context.Context) (c Company, err error) {
	err = a.Setting(ctx, companySetting, &c)
	return c, err
}

// Rename sets the name of the estate: 1 to 60 characters, without spaces around it.
func (a *Service) Rename(ctx context.Context, name string) (Company, error) {
	name = strings.TrimSpace(name)
	if n := utf8.RuneCountInString(name); n == 0 || n > longestName || strings.ContainsFunc(name, unicode.IsControl) {
		return Company{}, refuse.Invalid(fmt.Sprintf("the name has %d characters; write 1 to %d on one line", n,
			longestName))
	}
	c, err := a.Company(ctx)
	if err != nil {
		return c, err
	}
	c.Name = name
	return c, a.Set(ctx, companySetting, c)
}

// LoadMadeUp starts to load the made-up company into an empty estate.
func (a *Service) LoadMadeUp(ctx context.Context) (job jobs.Job, err error) {
	if !a.loading.TryLock() {
		return job, refuse.Conflict("somebody is loading the made-up company already")
	}
	defer func() {
		if err != nil {
			a.loading.Unlock()
		}
	}()
	if blank, err := a.Blank(ctx); err != nil {
		return job, err
	} else if !blank {
		return job, refuse.Conflict("the estate is not empty: there are workloads, traffic, points or a " +
			"policy. Start a server with another --data folder to look around")
	}
	return a.Start(ctx, "load-made-up", "Load "+madeUpName,
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			defer a.loading.Unlock()
			loaded, err := Load(ctx, a.Store, demo.Options{End: a.now(), Workloads: usualScale}, progress)
			a.Models.Nudge()
			return loaded, err
		})
}

// RemoveMadeUp deletes the made-up company with all that was derived from it. It
// refuses to delete what a user has added, unless added is true.
func (a *Service) RemoveMadeUp(ctx context.Context, added bool) error {
	c, err := a.Company(ctx)
	if err != nil {
		return err
	}
	if !c.MadeUp {
		return refuse.Conflict("the estate is not the made-up company; nothing was deleted")
	}
	if err := a.idle(ctx); err != nil {
		return err
	}
	if !added {
		own, err := a.AddedToMadeUp(ctx)
		if err != nil {
			return err
		}
		if words := own.Words(); words != "" {
			return refuse.Conflict("users have added " + words + " to the made-up company, which would be deleted " +
				"too; nothing was deleted")
		}
	}
	if err := a.Clear(ctx); err != nil {
		return err
	}
	a.Models.Nudge()
	return nil
}

// idle returns when no job runs; it refuses if one still does after jobsEnd.
func (a *Service) idle(ctx context.Context) error {
	soon, cancel := context.WithTimeout(ctx, jobsEnd)
	defer cancel()
	for n := a.Running(); n > 0; n = a.Running() {
		select {
		case <-soon.Done():
			return refuse.Conflict(plural.Of(n, "job is", "jobs are") + " running; wait until it has ended, or stop " +
				"it. Nothing was deleted")
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

// AddedToMadeUp counts what users have added to the made-up company; nothing, if the
// estate is another.
func (a *Service) AddedToMadeUp(ctx context.Context) (Added, error) {
	c, err := a.Company(ctx)
	if err != nil || !c.MadeUp {
		return Added{}, err
	}
	return a.Added(ctx, c.Sources, madeUpObserver)
}

// Loaded counts what Load stored.
type Loaded struct {
	Workloads int `json:"workloads"`
	Flows     int `json:"flows"`
}

// Load stores the made-up company in an empty estate: first its name, so that what is
// there after a kill in the middle can be removed.
func Load(ctx context.Context, s Store, o demo.Options, progress func(float64, string)) (Loaded, error) {
	progress(0, "making up the company")
	c := demo.Generate(o)
	bySource := map[string][]estate.Workload{}
	company := Company{Name: madeUpName, MadeUp: true}
	for _, w := range c.Workloads {
		source := w.Tags[0].Source
		if bySource[source] == nil {
			company.Sources = append(company.Sources, source)
		}
		bySource[source] = append(bySource[source], w)
	}
	if err := s.Set(ctx, companySetting, company); err != nil {
		return Loaded{}, err
	}
	progress(0.2, "storing workloads")
	for _, source := range company.Sources {
		if err := s.ImportWorkloads(ctx, source, []string{"app", "tier", "env", "site"}, bySource[source]); err != nil {
			return Loaded{}, err
		}
	}
	e, conflicts := estate.New(c.Workloads)
	if len(conflicts) > 0 {
		return Loaded{}, conflicts[0]
	}
	p, errs := policy.Parse(c.Policy)
	if len(errs) > 0 {
		return Loaded{}, errs[0]
	}
	progress(0.4, "storing traffic")
	if _, err := s.AddBatch(ctx, rows.BatchOf("demo", flow.Stating(c.Records), e.ChangedHands)); err != nil {
		return Loaded{}, err
	}
	progress(0.9, "storing the policy")
	text := p.Format()
	blame := make(model.Blame, len(policy.Lines(text)))
	for i := range blame {
		blame[i] = 1
	}
	return Loaded{len(c.Workloads), len(c.Records)}, s.Begin(ctx, model.Revision{No: 1, Text: text, Blame: blame,
		Author: "harbour office", Words: "Start with the policy of " + madeUpName})
}
