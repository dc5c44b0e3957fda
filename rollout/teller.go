// Package rollout works out what each enforcement point is to hold: the plan of its
// release for the estate as it is, or what moves since the plan that it has.
//
// It must not know of databases, sockets or screens. Start reading at Teller.
package rollout

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/point"
)

// Point is what has to be known of an enforcement point to work out its plan.
type Point struct {
	Kind    plan.Kind
	Side    plan.Side
	Guards  string // an expression
	Release int    // 0: nothing is to be held
	Mode    string // observe or enforce
	Again   int    // how often it was told the same anew
}

// State is the estate that plans are made for. It is not changed.
type State struct {
	Compiled *decide.Compiled // with the draft
	Version  int64            // of the estate
	At       estate.Instant
	Exempt   map[string]bool // ids of workloads that no point guards
	Draft    int             // a release that says the same as the draft; 0: none
}

// Teller works out what points are to hold, and remembers it. It is safe for use by
// several goroutines; they wait for each other.
type Teller struct {
	// Policy gives the policy of a release.
	Policy func(release int) (*policy.Policy, error)

	mu      sync.Mutex
	state   State
	until   estate.Instant    // when an address next changes hands
	of      map[int]*released // by release; 0 is the draft
	told    map[key]*line     // by what makes plans the same
	unasked int               // states since lines were last looked through
}

// released is a release for the state.
type released struct {
	compiled *decide.Compiled
	planner  *plan.Planner
	guards   map[string]guarded // by expression
}

// guarded is what an expression guards.
type guarded struct {
	plan.Guards            // without those that are exempt
	asked       *expr.Expr // by which they were found
}

// line is the plans of points that are told the same, one after the other.
type line struct {
	of    *released       // that the last was made for
	stale bool            // it may be another for what of is by now
	text  string          // what is guarded
	sets  map[string]bool // names of the plan's sets
	hash  string
	rules string
	plan  *plan.Plan
	steps []step
	size  int // elements that move in the steps
	// The plan before this one, if it had other rules.
	before     *plan.Plan
	beforeHash string
}

// step is what moved from a plan to the next one.
type step struct {
	from  string // hash
	moves plan.Moves
}

// What is remembered of the moves of each plan: a point that has missed more is told
// all of it.
const (
	mostSteps = 256
	mostMoves = 20_000
)

// enter makes s the state that is answered for. all are all points, where they are known.
func (t *Teller) enter(s State, all []Point) {
	same := t.of != nil && t.state.Compiled.Estate == s.Compiled.Estate && sameKeys(t.state.Exempt, s.Exempt) &&
		s.At.Before(t.until)
	if same {
		if t.state.Compiled != s.Compiled {
			delete(t.of, 0)
		}
		t.state.Compiled, t.state.Version = s.Compiled, s.Version
		return
	}
	if t.of != nil && sameKeys(t.state.Exempt, s.Exempt) && s.At.Before(t.until) && t.follow(s.Compiled.Estate) {
		delete(t.of, 0)
		at := t.state.At // what was compiled is of this instant; until t.until all others are alike
		t.state = s
		t.state.At = at
		return
	}
	t.state, t.of, t.until = s, map[int]*released{}, nextChange(s.Compiled.Estate, s.At)
	if t.told == nil {
		t.told = map[key]*line{}
	}
	if t.unasked++; t.unasked > 64 && len(all) > 0 { // what nobody holds any more is forgotten
		keep := map[key]bool{}
		for i := range all {
			keep[all[i].key()] = true
		}
		for k := range t.told {
			if !keep[k] {
				delete(t.told, k)
			}
		}
		t.unasked = 0
	}
}

// mostTouched is up to how many workloads are followed one by one.
const mostTouched = 64

// follow brings what was found of releases to an estate in which tags of a few workloads
// are others. It reports false if all has to be found anew.
func (t *Teller) follow(e *estate.Estate) bool {
	before := t.state.Compiled.Estate
	touched, ok := e.Since(before, mostTouched)
	if !ok || !e.SameHolders(before, touched) {
		return false
	}
	for no, r := range t.of {
		if no == 0 {
			continue // it comes with the state
		}
		u := r.compiled.WithEstate(e, touched)
		if u.After.Worn() {
			return false
		}
		changed := plan.Changed{}
		if r.planner != nil {
			if changed, ok = r.planner.Follow(u); !ok {
				return false
			}
		}
		r.compiled = u.After
		others := map[string]bool{} // expressions that guard others now
		for text, g := range r.guards {
			next := g
			for _, w := range touched {
				if !t.state.Exempt[e.Workload(w).ID] {
					next.Guards = next.Ask(r.compiled, g.asked, w)
				}
			}
			others[text] = !slices.Equal(next.In, g.In)
			r.guards[text] = next
		}
		for _, l := range t.told {
			l.stale = l.stale || l.of == r && (others[l.text] || l.uses(changed.Sets) ||
				slices.ContainsFunc(changed.Holders, func(w int32) bool {
					_, in := slices.BinarySearch(r.guards[l.text].In, w)
					return in
				}))
		}
	}
	return true
}

// uses reports whether the plan has one of some sets.
func (l *line) uses(sets map[string]bool) bool {
	for name := range sets {
		if l.sets[name] {
			return true
		}
	}
	return false
}

func sameKeys(a, b map[string]bool) bool {
	if len(a) != len(b) {
		return false
	}
	for k := range a {
		if !b[k] {
			return false
		}
	}
	return true
}

// nextChange gives when, after an instant, an address next gets or loses its holder,
// but within the hour: by then rules may be over.
func nextChange(e *estate.Estate, at estate.Instant) estate.Instant {
	next := estate.Instant{Sec: at.Sec - at.Sec%3600 + 3600}
	for _, w := range e.All() {
		for _, l := range w.Leases {
			for _, x := range []estate.Instant{l.From, l.Until} {
				if at.Before(x) && x.Before(next) {
					next = x
				}
			}
		}
	}
	return next
}

// release gives a release for the state.
func (t *Teller) release(no int) (*released, error) {
	if have := t.of[no]; have != nil {
		return have, nil
	}
	c := t.state.Compiled
	// What the draft was compiled to serves a release that says the same, as long as no
	// address changed hands since.
	if no != 0 && (no != t.state.Draft || !t.state.At.Before(nextChange(c.Estate, c.AsOf))) {
		p, err := t.Policy(no)
		if err != nil {
			return nil, err
		}
		c = c.WithPolicy(p, t.state.At).After
	}
	r := &released{compiled: c, guards: map[string]guarded{}}
	t.of[no] = r
	return r, nil
}

// GuardsError says why an expression cannot say what is guarded.
type GuardsError struct{ Words string }

func (e *GuardsError) Error() string { return "guards: " + e.Words }

// Compiled gives a release compiled for the state; 0 is the draft.
func (t *Teller) Compiled(s State, release int) (*decide.Compiled, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, nil)
	r, err := t.release(release)
	if err != nil {
		return nil, err
	}
	return r.compiled, nil
}

// Guards gives what an expression guards, as a release has its groups; without those
// that are exempt. among are other expressions that will be asked for too: they are
// asked at once.
func (t *Teller) Guards(s State, release int, text string, among []string) (plan.Guards, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, nil)
	r, err := t.release(release)
	if err != nil {
		return plan.Guards{}, err
	}
	return t.guards(r, text, among)
}

func (t *Teller) guards(r *released, text string, among []string) (plan.Guards, error) {
	if g, ok := r.guards[text]; ok {
		return g.Guards, nil
	}
	var asked []string
	var all []*expr.Expr
	for _, x := range append([]string{text}, among...) {
		e, errs := expr.ParseText(x)
		problem := ""
		if len(errs) > 0 {
			problem = fmt.Sprintf("column %d: %s", errs[0].Col, errs[0].Message)
		} else if unknown := plan.UnknownGroup(r.compiled, e); unknown != "" {
			problem = "the policy has no group " + unknown
		}
		switch {
		case problem != "" && x == text:
			return plan.Guards{}, &GuardsError{problem}
		case problem == "":
			asked, all = append(asked, x), append(all, e)
		}
	}
	exempt := func(w int32) bool { return t.state.Exempt[r.compiled.Estate.Workload(w).ID] }
	for i, g := range plan.Guarded(r.compiled, all) {
		if len(t.state.Exempt) > 0 {
			g.In = slices.DeleteFunc(slices.Clone(g.In), exempt)
		}
		r.guards[asked[i]] = guarded{g, all[i]}
	}
	return r.guards[text].Guards, nil
}

// key is the same for points whose plans are the same.
type key struct {
	release int
	kind    plan.Kind
	side    plan.Side
	guards  string
}

func (p *Point) key() key { return key{p.Release, p.Kind, p.Side, p.Guards} }

// Mark is another one whenever a point may have to be told something else; the zero Mark says
// nothing.
type Mark struct {
	of      *line
	release int
	mode    string
	again   int
}

// Marks gives the mark of each of all points; those of whom asked is false get none.
func (t *Teller) Marks(s State, all []Point, asked func(i int) bool) []Mark {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, all)
	out := make([]Mark, len(all))
	for i := range all {
		if all[i].Release == 0 || !asked(i) {
			continue
		}
		if l, err := t.line(all[i], all); err == nil {
			out[i] = Mark{l, all[i].Release, all[i].Mode, all[i].Again}
		}
	}
	return out
}

// Told gives what a point is to hold: all of it, or what moves since what it has. all
// are all points.
func (t *Teller) Told(s State, p Point, have string, all []Point) (*point.Told, error) {
	if p.Release == 0 {
		nothing := point.Nothing
		return &nothing, nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, all)
	l, err := t.line(p, all)
	if err != nil {
		return nil, err
	}
	told := &point.Told{ID: idOf(&p, l.hash), Release: p.Release, Mode: p.Mode, Rules: l.rules, Again: p.Again,
		Estate: t.state.Version}
	if have == told.ID {
		return told, nil
	}
	if i := slices.IndexFunc(l.steps, func(x step) bool { return idOf(&p, x.from) == have }); i >= 0 {
		told.From = have
		for _, x := range l.steps[i:] {
			told.Moves = append(told.Moves, x.moves)
		}
		return told, nil
	}
	told.Plan = l.plan
	if l.before != nil && idOf(&p, l.beforeHash) == have {
		var moves plan.Moves
		told.From = have
		if told.Plan, moves = l.plan.Short(l.before); !moves.Nothing() {
			told.Moves = []plan.Moves{moves}
		}
	}
	return told, nil
}

// idOf names what a point is to hold.
func idOf(p *Point, hash string) string {
	sum := sha256.Sum256([]byte(fmt.Sprint(p.Release, p.Mode, p.Again, hash)))
	return hex.EncodeToString(sum[:12])
}

// line gives the plans of a point, up to the one for the state.
func (t *Teller) line(p Point, all []Point) (*line, error) {
	r, err := t.release(p.Release)
	if err != nil {
		return nil, err
	}
	l := t.told[p.key()]
	if l != nil && l.of == r && !l.stale {
		return l, nil
	}
	var among []string
	if _, found := r.guards[p.Guards]; !found {
		for i := range all {
			if all[i].Release == p.Release {
				among = append(among, all[i].Guards)
			}
		}
	}
	g, err := t.guards(r, p.Guards, among)
	if err != nil {
		return nil, err
	}
	if r.planner == nil {
		r.planner = plan.NewPlanner(r.compiled)
	}
	made := r.planner.Plan(g.In, p.Kind, p.Side)
	next := &line{of: r, text: p.Guards, plan: made, hash: made.Hash(), rules: made.RulesHash(), sets: map[string]bool{}}
	for _, s := range made.Sets {
		next.sets[s.Name] = true
	}
	if l != nil {
		next.follow(l)
	}
	t.told[p.key()] = next
	return next, nil
}

// follow notes how the plan came from the one before it.
func (l *line) follow(before *line) {
	l.steps, l.size = before.steps, before.size
	if before.hash == l.hash {
		return
	}
	m, same := before.plan.Difference(l.plan)
	if !same {
		l.steps, l.size = nil, 0
		l.before, l.beforeHash = before.plan, before.hash
		return
	}
	for _, s := range m.Sets {
		l.size += len(s.Added) + len(s.Removed)
	}
	for _, c := range m.Classes {
		l.size += len(c.Added) + len(c.Removed)
	}
	l.steps = append(slices.Clone(l.steps), step{before.hash, m})
	if len(l.steps) > mostSteps || l.size > mostMoves {
		l.steps, l.size = nil, 0
	}
}

// StateOf gives the state now.
func StateOf(c *decide.Compiled, version int64, exempt map[string]bool) State {
	return State{Compiled: c, Version: version, At: estate.InstantOf(time.Now()), Exempt: exempt}
}
