// Package plans works out what each enforcement point is to hold: the plan of its
// release for the estate as it is, or what moves since the plan that it has.
//
// It must not know of databases, sockets or screens. Start reading at Teller.
package plans

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/core/rollout"
	"lucidorchard/point"
)

// Point is what has to be known of an enforcement point to work out its plans.
type Point struct {
	Kind   plan.Kind
	Side   plan.Side
	Guards string       // an expression
	Runs   rollout.Runs // that it is to run
	Again  int          // how often it was told the same anew
	Paired bool         // another point sees part of its packets
	Trial  string       // names an enforcement that has to be confirmed; blank: none has
}

// releases returns the releases that a point is to run, the enforced one first; 0: none.
func (p *Point) releases() [2]int { return [2]int{p.Runs.Enforces, p.Runs.Observes} }

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
	// Policy returns the policy of a release.
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
			for _, release := range all[i].releases() {
				keep[all[i].key(release)] = true
			}
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

// nextChange returns when, after an instant, an address next gets or loses its holder,
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

// release returns a release for the state.
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

// GuardsError is why an expression cannot select what a point guards.
type GuardsError struct{ Words string }

func (e *GuardsError) Error() string { return "guards: " + e.Words }

// Compiled returns a release compiled for the state; 0 is the draft.
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

// Guards returns what an expression guards, as a release has its groups; without those
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

// key is the same for points whose plans of a release are the same.
type key struct {
	release int
	kind    plan.Kind
	side    plan.Side
	guards  string
}

func (p *Point) key(release int) key { return key{release, p.Kind, p.Side, p.Guards} }

// Mark is another one whenever a point may have to be told something else; the zero Mark says
// nothing.
type Mark struct {
	of     [2]*line
	runs   rollout.Runs
	again  int
	paired bool
	trial  string
}

// Marks returns the mark of each of all points; those of whom asked is false get none.
func (t *Teller) Marks(s State, all []Point, asked func(i int) bool) []Mark {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, all)
	out := make([]Mark, len(all))
	for i := range all {
		p := &all[i]
		if p.Runs == (rollout.Runs{}) || !asked(i) {
			continue
		}
		m, failed := Mark{runs: p.Runs, again: p.Again, paired: p.Paired, trial: p.Trial}, false
		for k, release := range p.releases() {
			if release != 0 {
				l, err := t.line(p, release, all)
				m.of[k], failed = l, failed || err != nil
			}
		}
		if !failed {
			out[i] = m
		}
	}
	return out
}

// Told returns what a point is to load: whole plans, or what moves since what it has. all
// are all points.
func (t *Teller) Told(s State, p Point, have string, all []Point) (*point.Instructions, error) {
	if p.Runs == (rollout.Runs{}) {
		nothing := point.Nothing
		return &nothing, nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, all)
	told := &point.Instructions{Again: p.Again, Paired: p.Paired, Estate: t.state.Version}
	var lines [2]*line
	parts := [2]*point.Assignment{}
	for k, release := range p.releases() {
		if release == 0 {
			continue
		}
		l, err := t.line(&p, release, all)
		if err != nil {
			return nil, err
		}
		lines[k], parts[k] = l, &point.Assignment{Release: release, ID: partID(release, l.hash), Rules: l.rules}
	}
	told.Enforces, told.Observes = parts[0], parts[1]
	if told.ID = idOf(&p, parts); told.ID == have {
		return told, nil
	}
	loaded := partsOf(have)
	for k, part := range parts {
		if part != nil {
			lines[k].lead(part, loaded, lines[1-k])
		}
	}
	return told, nil
}

// Size is how large a plan is in a kernel.
type Size struct {
	Rules    int
	Elements int
}

// Size returns how large the plan of a point is for a release; 0 is the draft.
func (t *Teller) Size(s State, p Point, release int, all []Point) (out Size, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.enter(s, all)
	l, err := t.line(&p, release, all)
	if err != nil {
		return out, err
	}
	sets, ways := nft.Contents(plan.Loaded{Enforced: l.plan})
	for _, a := range sets {
		out.Elements += len(a)
	}
	for _, w := range ways {
		out.Elements += len(w)
	}
	for i := range l.plan.Classes {
		out.Rules += len(l.plan.Classes[i].Server) + len(l.plan.Classes[i].Client)
	}
	return out, nil
}

// StateOf returns the state now.
func StateOf(c *decide.Compiled, version int64, exempt map[string]bool) State {
	return State{Compiled: c, Version: version, At: estate.InstantOf(time.Now()), Exempt: exempt}
}
