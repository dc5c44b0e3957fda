package releasing

import (
	"context"

	// What enforcement points report: checked, bounded and attributed like any other input.
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/rollout"
	"lucidorchard/point"
	"lucidorchard/refuse"
)

// Bounds of what a point may report.
const (
	mostWords = 4000
	slack     = 2 * time.Minute // by which clocks may differ
)

var (
	saidStates   = []string{"holds", "refused", "drifted", "went back", "ahead"}
	eventKinds   = []string{"applied", "refused", "drifted", "put back", "went back", "ended", "ahead"}
	lineVerdicts = []string{"permit", "reject", "uncovered"}
)

// Heard keeps what a point reports. A report that no agent would send is refused whole.
func (a *Service) Heard(ctx context.Context, p *Point, said point.Status) error {
	r := report{p: p, said: &said, now: time.Now()}
	if err := a.known.of(ctx, a.Store, &r); err != nil {
		return err
	}
	if err := r.check(); err != nil {
		return err
	}
	if r.ahead && said.At != (rollout.Mark{Epoch: p.YieldsEpoch, Order: p.YieldsOrder}) {
		begun, err := a.Store.Ahead(ctx, said.At, r.highest())
		if err != nil {
			return err
		}
		if begun {
			a.Log.Warn("the database was restored from an older backup that lacks an order which a point has; a new "+
				"epoch begins",
				"point", p.Name, "order", said.At.Order)
			a.Events.PointsAimed()
		}
	}
	events := make([]PointEvent, len(said.Events))
	for i, e := range said.Events {
		release, mode := rollout.Runs{Enforces: e.Enforces, Observes: e.Observes}.Deciding()
		events[i] = PointEvent{Point: p.Name, At: r.at(e), What: e.What, Words: e.Words, Release: &release, Mode: &mode,
			Observes: &e.Observes}
	}
	said.Events = nil
	raw, err := json.Marshal(said)
	if err != nil {
		return err
	}
	var before point.Status
	_ = json.Unmarshal(p.Said, &before) // nothing, at first
	news := len(events) > 0 || before.ID != said.ID || before.State != said.State || before.Words != said.Words ||
		before.Runs() != said.Runs() || !slices.Equal(before.Unlisted, said.Unlisted)
	if err := a.Store.Heard(ctx, p.Name, raw, events, news); err != nil {
		return err
	}
	if news { // counts are looked at by those who look
		a.Events.PointsChanged()
	}
	return nil
}

// runNoted is how long the run of an agent is not written down again.
const runNoted = 20 * time.Second

// agents is which runs of agents reported lately.
type agents struct {
	mu sync.Mutex
	of map[string]agentRun // by point
}

type agentRun struct {
	run, from string
	at        time.Time
}

// ReportedBy notes which run of an agent reports for a point, and from where.
func (a *Service) ReportedBy(ctx context.Context, name, run, from string) error {
	now := agentRun{run, from, time.Now()}
	a.agents.mu.Lock()
	was := a.agents.of[name]
	same := was.run == run && was.from == from && now.at.Sub(was.at) < runNoted
	if !same {
		if a.agents.of == nil {
			a.agents.of = map[string]agentRun{}
		}
		a.agents.of[name] = now
	}
	a.agents.mu.Unlock()
	if same {
		return nil
	}
	return a.Store.Run(ctx, name, run, from)
}

// known is the orders and releases that reports are checked against. It is read anew only
// when a report names what is not in it: points report all the time.
type known struct {
	mu       sync.Mutex
	lineage  rollout.Lineage
	releases []Release
}

// of fills in what a report is checked against.
func (k *known) of(ctx context.Context, s Store, r *report) (err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	fits := func() bool {
		r.releases, r.ahead = k.releases, r.said.State == "ahead" || !k.lineage.Includes(r.said.At)
		return !r.ahead && r.check() == nil
	}
	if fits() {
		return nil
	}
	if k.lineage, err = s.Lineage(ctx); err != nil {
		return err
	}
	if k.releases, err = s.Releases(ctx); err != nil {
		return err
	}
	fits()
	return nil
}

// report is what a point reports, to be checked.
type report struct {
	p        *Point
	said     *point.Status
	releases []Release // newest first
	ahead    bool      // the point may know of releases that this server does not have
	now      time.Time
}

func (r *report) check() error {
	s := r.said
	switch {
	case !slices.Contains(saidStates, s.State):
		return refuse.Invalid(fmt.Sprintf("state: found %q, expected one of %s", s.State,
			strings.Join(saidStates, ", ")))
	case len(s.Words) > mostWords:
		return refuse.Invalid(fmt.Sprintf("words: found %d bytes, expected at most %d", len(s.Words), mostWords))
	case len(s.Events) > 1000 || len(s.Lines) > 100_000 || len(s.Unlisted) > 256:
		return refuse.Invalid("events, lines, unlisted: found too many, expected at most 1,000, 100,000 and 256")
	}
	if err := r.runs("", s.Runs()); err != nil {
		return err
	}
	for i, e := range s.Events {
		at := fmt.Sprintf("events[%d].", i)
		if !slices.Contains(eventKinds, e.What) {
			return refuse.Invalid(fmt.Sprintf("%swhat: found %q, expected one of %s", at, e.What,
				strings.Join(eventKinds, ", ")))
		}
		if len(e.Words) > mostWords {
			return refuse.Invalid(fmt.Sprintf("%swords: found %d bytes, expected at most %d", at, len(e.Words),
				mostWords))
		}
		if err := r.runs(at, rollout.Runs{Enforces: e.Enforces, Observes: e.Observes}); err != nil {
			return err
		}
	}
	for i, l := range s.Lines {
		if !slices.Contains(lineVerdicts, l.Verdict) || l.Packets < 0 || l.Line < 0 {
			return refuse.Invalid(
				fmt.Sprintf("lines[%d]: found line %d, %q, %d packets; expected a verdict and counts from 0", i,
					l.Line, l.Verdict,
					l.Packets))
		}
	}
	return nil
}

// runs refuses releases that do not exist. A point that is ahead may run some that this
// server lost.
func (r *report) runs(at string, x rollout.Runs) error {
	for name, no := range map[string]int{"enforces": x.Enforces, "observes": x.Observes} {
		exists := no == 0 || slices.ContainsFunc(r.releases, func(y Release) bool { return y.No == no })
		if no < 0 || !exists && (!r.ahead || no > r.last()+mostLost) {
			return refuse.Invalid(fmt.Sprintf("%s%s: found release %d, expected one that exists", at, name, no))
		}
	}
	return nil
}

// mostLost is how many releases a restored database may have lost: it bounds the numbers
// that a point can make the server skip.
const mostLost = 10_000

func (r *report) last() int {
	if len(r.releases) == 0 {
		return 0
	}
	return r.releases[0].No
}

func (r *report) highest() int { return max(r.said.Enforces, r.said.Observes) }

// at returns when an event happened, as far as the point's clock can be right: not before
// the point or the release was made, not in the future.
func (r *report) at(e point.Event) time.Time {
	at, first := e.At, r.p.Made
	for _, x := range r.releases {
		if (x.No == e.Enforces || x.No == e.Observes) && x.At.After(first) {
			first = x.At
		}
	}
	if at.Before(first) || at.After(r.now.Add(slack)) {
		return r.now.UTC()
	}
	return at.UTC()
}
