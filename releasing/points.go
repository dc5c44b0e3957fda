package releasing

import (
	"context"

	// What enforcement points are told, and when they are woken to ask.
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/plan"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/rollout"
	"lucidorchard/events"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/releasing/plans"
)

// board is where points find what they are to run.
type board struct{ *Service }

// rolloutState is the state that plans are made for.
func rolloutState(m *model.Model) plans.State {
	s := plans.StateOf(m.Compiled, m.Versions.Workloads, m.Exempt(time.Now()))
	s.Draft = m.Released()
	return s
}

// ReleaseOf returns a release by its number.
func (a *Service) ReleaseOf(ctx context.Context, no int) (Release, error) {
	a.releases.Lock()
	r, known := a.releases.of[no]
	a.releases.Unlock()
	if known {
		return r, nil
	}
	all, err := a.Store.Releases(ctx)
	if err != nil {
		return r, err
	}
	i := slices.IndexFunc(all, func(r Release) bool { return r.No == no })
	if i < 0 {
		return r, refuse.Missing(fmt.Sprintf("there is no release %d", no))
	}
	a.releases.Lock()
	defer a.releases.Unlock()
	if a.releases.of == nil {
		a.releases.of = map[int]Release{}
	}
	a.releases.of[no] = all[i]
	return all[i], nil
}

// releases remembers those that were asked for: they never change.
type releases struct {
	sync.Mutex
	of map[int]Release
}

// releasePolicy returns the policy of a release.
func (a *Service) releasePolicy(no int) (*policy.Policy, error) {
	ctx, cancel := context.WithTimeout(a.ctx, 10*time.Second)
	defer cancel()
	r, err := a.ReleaseOf(ctx, no)
	if err != nil {
		return nil, err
	}
	return a.Models.RevisionPolicy(ctx, r.Revision)
}

// guardsOf returns what an expression guards by a release, 0 being the draft. Those of
// all points of that release are asked at once.
func (a board) guardsOf(s plans.State, release int, text string, all []plans.Point) (plan.Guards, error) {
	var among []string
	for _, p := range all {
		if release == 0 || p.Runs.Mode(release) != rollout.Off {
			among = append(among, p.Guards)
		}
	}
	g, err := a.teller.Guards(s, release, text, among)
	return g, guardsProblem(err)
}

func guardsProblem(err error) error {
	var wrong *plans.GuardsError
	if errors.As(err, &wrong) {
		return refuse.Invalid(wrong.Error())
	}
	return err
}

func rolloutPoint(p *Point) plans.Point {
	kind := plan.Kind(p.Kind)
	if p.Kind == "file" { // a device in the path
		kind = plan.Gate
	}
	return plans.Point{Kind: kind, Side: plan.Side(p.Side), Guards: p.Guards, Runs: p.Runs(), Again: p.Again,
		Paired: p.Paired,
		Trial:  p.Trial}
}

func rolloutPoints(all []Point) []plans.Point {
	out := make([]plans.Point, len(all))
	for i := range all {
		out[i] = rolloutPoint(&all[i])
	}
	return out
}

// tell returns what a point is to hold, of all that there are.
func (a board) tell(s plans.State, p *Point, have string, all []plans.Point) (*point.Instructions, error) {
	told, err := a.teller.Told(s, rolloutPoint(p), have, all)
	if err != nil {
		return nil, guardsProblem(err)
	}
	told.PutsBack = p.PutsBack
	told.Yields = rollout.Mark{Epoch: p.YieldsEpoch, Order: p.YieldsOrder}
	if p.TrialUntil != nil {
		told.Trial = &point.Trial{ID: p.Trial, Seconds: time.Until(*p.TrialUntil).Seconds()}
	}
	return told, nil
}

// InstructionsFor returns all of what a point is to hold now.
func (a *Service) InstructionsFor(ctx context.Context, m *model.Model, name string) (*point.Instructions, error) {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(points, func(p Point) bool { return p.Name == name })
	if i < 0 {
		return nil, refuse.Missing("there is no point " + name)
	}
	state := rolloutState(m)
	return board{a}.tell(state, &points[i], "", rolloutPoints(points))
}

// hub wakes the points whose plan has changed. What all are to hold is worked out
// once for each change, not once for each point that asks.
type hub struct {
	mu      sync.Mutex
	runs    bool
	state   plans.State
	points  []Point
	all     []plans.Point
	lineage rollout.Lineage
	failed  error
	index   map[string]int           // of points, by name
	ids     map[string]string        // by point: what it is to hold
	marks   map[string]plans.Mark    // by point: with which that was found
	wait    map[string]chan struct{} // by point: closed when that changes
}

// hubLook is how often changes that another server made are looked for.
const hubLook = 2 * time.Second

// AwaitInstructions returns what a point is to hold, as soon as it is something else than it
// has, or when the patience is over; nil: there is no such point any more.
func (a *Service) AwaitInstructions(ctx context.Context, name, have string, patience time.Duration) (*point.Instructions, error) {
	over := time.NewTimer(patience)
	defer over.Stop()
	h := &a.hub
	for last := false; ; {
		h.mu.Lock()
		if !h.runs {
			h.runs = true
			h.ids, h.wait, h.marks = map[string]string{}, map[string]chan struct{}{}, map[string]plans.Mark{}
			if err := (board{a}).lookAtPoints(ctx, true); err != nil {
				h.runs = false
				h.mu.Unlock()
				return nil, err
			}
			go board{a}.runHub()
		}
		wait := h.wait[name]
		if wait == nil {
			wait = make(chan struct{})
			h.wait[name] = wait
		}
		i, there := h.index[name]
		var told *point.Instructions
		err := h.failed
		if there && err == nil {
			if told, err = (board{a}).tell(h.state, &h.points[i], have, h.all); err == nil {
				told.Lineage = h.lineage
			}
		}
		h.mu.Unlock()
		if err != nil || told != nil && (told.ID != have || last) {
			return told, err
		}
		if last { // it is gone
			return nil, nil
		}
		select {
		case <-wait:
		case <-over.C:
			last = true
		case <-a.ctx.Done():
			last = true
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// lookAtPoints notes what the points are to hold now: whatever it is, or just for the
// estate as it is now. The hub is locked.
func (a board) lookAtPoints(ctx context.Context, whatever bool) error {
	h := &a.hub
	m := a.Models.Held()
	if whatever || m == nil {
		points, err := a.Store.Points(ctx)
		if err != nil {
			return err
		}
		if m, err = a.Model(ctx); err != nil {
			return err
		}
		if h.lineage, err = a.Store.Lineage(ctx); err != nil {
			return err
		}
		h.points, h.all, h.index = points, rolloutPoints(points), map[string]int{}
		for i := range points {
			h.index[points[i].Name] = i
		}
	}
	h.state = rolloutState(m)
	return nil
}

func (a board) runHub() {
	tick := time.NewTicker(hubLook)
	defer tick.Stop()
	for before := (events.Event{}); ; {
		now, changed := a.Events.Next()
		if now.Workloads != before.Workloads || now.Revision != before.Revision || now.Aims != before.Aims {
			a.wake(now.Aims != before.Aims || before == (events.Event{}))
			before = now
		}
		select {
		case <-changed:
		case <-tick.C:
			before = events.Event{}
		case <-a.ctx.Done():
			return
		}
	}
}

// wake looks at what the points are to hold, and wakes those for whom it is something
// else. Unless it is whatever that may have changed, only the estate or the draft has.
func (a board) wake(whatever bool) {
	ctx, cancel := context.WithTimeout(a.ctx, 10*time.Second)
	defer cancel()
	h := &a.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.failed = a.lookAtPoints(ctx, whatever); h.failed != nil {
		a.Log.Warn("the plans of the points cannot be computed", "error", h.failed)
	}
	asks := func(i int) bool { // of a point: somebody asks for it here
		name := h.points[i].Name
		return h.wait[name] != nil || h.ids[name] != ""
	}
	for i, mark := range a.teller.Marks(h.state, h.all, asks) {
		p := &h.points[i]
		if !asks(i) || h.failed == nil && mark != (plans.Mark{}) && mark == h.marks[p.Name] {
			continue
		}
		h.marks[p.Name] = mark
		wait, id := h.wait[p.Name], "?"
		if told, err := a.tell(h.state, p, h.ids[p.Name], h.all); err == nil {
			id = told.ID
		}
		if id != h.ids[p.Name] || h.failed != nil {
			h.ids[p.Name] = id
			if wait != nil {
				close(wait)
				delete(h.wait, p.Name)
			}
		}
	}
}

// Known waits until this server works by what was just stored, and has woken the points that are
// to hold something else by it: then it is acknowledged. What keeps it from that does not matter
// here: it is stored, and will be found.
func (a *Service) Known(ctx context.Context) {
	a.Models.Nudge()
	soon, cancel := context.WithTimeout(ctx, knownPatience)
	defer cancel()
	if _, err := a.Model(soon); err != nil {
		return
	}
	a.hub.mu.Lock()
	runs := a.hub.runs
	a.hub.mu.Unlock()
	if runs {
		board{a}.wake(false)
	}
}

const knownPatience = 2 * time.Second

// Seen takes what a point saw, as IPFIX messages one after the other.
func (a *Service) Seen(p *Point, messages []byte) error {
	if a.uses.Collect == nil {
		return refuse.Conflict("this server collects no traffic")
	}
	if err := a.uses.Collect("point "+p.Name, messages); err != nil {
		return refuse.Invalid(err.Error())
	}
	return nil
}

// GroupPrefixes returns the addresses that are in a group now, as prefixes, for a point:
// as the release has it that it is to hold.
func (a *Service) GroupPrefixes(m *model.Model, p *Point, group string) ([]netip.Prefix, error) {
	release, _ := p.Runs().Deciding()
	c, err := a.teller.Compiled(rolloutState(m), release)
	if err != nil {
		return nil, err
	}
	if c.Policy.Groups[group] == nil {
		return nil, refuse.Missing(fmt.Sprintf("the plan of %s has no group %s", p.Name, group))
	}
	return plan.Members(c, group), nil
}

// HeardOfDevice keeps what somebody found that a device holds.
func (a *Service) HeardOfDevice(ctx context.Context, name string, t *point.Instructions, missing, extra []string) error {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(points, func(p Point) bool { return p.Name == name && p.Kind == "file" })
	if i < 0 {
		return nil // it speaks for itself
	}
	runs := t.Runs()
	said := point.Status{ID: t.ID, Enforces: runs.Enforces, Observes: runs.Observes, Estate: t.Estate, State: "holds"}
	event := point.Event{At: time.Now().UTC(), What: "applied", Words: "Its text was compared: it is " + runs.String(),
		Enforces: runs.Enforces, Observes: runs.Observes}
	if len(missing)+len(extra) > 0 {
		said.State = "drifted"
		said.Words = fmt.Sprintf("%s missing, %s that should not be there", plural.Of(len(missing), "line"),
			plural.Of(len(extra), "line"))
		event.What, event.Words = "drifted", said.Words
	}
	said.Events = []point.Event{event}
	return a.Heard(ctx, &points[i], said)
}

// Promised returns what is promised now: by the release in force, or by the draft as long
// as none is (0).
func (a *Service) Promised(ctx context.Context, m *model.Model) (release int, c *decide.Compiled,
	asserts []prove.Result, err error) {
	release, c, err = a.InForce(ctx, m)
	if err != nil || release == 0 {
		return 0, m.Compiled, m.Asserts(), err
	}
	r, err := a.ReleaseOf(ctx, release)
	if err != nil {
		return 0, nil, nil, err
	}
	p, err := a.proofs(m, r)
	if err != nil {
		return 0, nil, nil, err
	}
	return release, c, p.asserts, nil
}

// InForce returns the newest release that a point enforces, compiled for the estate as it
// is; 0: none does. What is only observed is not in force.
func (a *Service) InForce(ctx context.Context, m *model.Model) (release int, c *decide.Compiled, err error) {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return 0, nil, err
	}
	for _, p := range points {
		var said point.Status
		if json.Unmarshal(p.Said, &said) == nil {
			release = max(release, said.Enforces)
		}
	}
	if release == 0 {
		return 0, nil, nil
	}
	c, err = a.teller.Compiled(rolloutState(m), release)
	return release, c, err
}
