package server

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/whatif"
	"lucidorchard/store"
)

// state is what was last read from the database, in the form that answers need.
// When the database's versions say that something has changed, only that is read
// and compiled again.
type state struct {
	mu       sync.Mutex
	known    bool
	current  snapshot
	traffic  traffic
	urgent   bool  // the next answer must know all traffic: something was just imported
	windows  int64 // counts how often the conversations, or who held an address, have changed
	views    []keptView
	compared *comparedView
}

// snapshot is one state of the estate and the draft.
type snapshot struct {
	store.Versions
	estate     *estate.Estate
	head       store.Revision
	policy     *policy.Policy
	compiled   *decide.Compiled
	from, to   flow.Hour              // of all conversations
	structural []string               // tag keys that say where a workload belongs
	findings   func() []prove.Finding // found when first asked for
	asserts    func() []prove.Result
	people     func() [][]decide.Placed     // of now, by class
	keys       func() []string              // all tag keys, in order
	counts     func() (in, undecided []int) // of each group, in the order of GroupOrder
	census     func() *whatif.Census
	probes     func() []probed        // asked of this state
	settling   func() *reach.Settling // what probes say is rightly rejected
}

// keptView is a view with what it is of.
type keptView struct {
	windows  int64
	from, to flow.Hour
	view     *reach.View
}

// At most so many views are kept, and follow an edit.
const (
	viewsKept     = 6
	viewsFollowed = 2
)

// hurry makes the next answer wait for all traffic.
func (s *Server) hurry() {
	s.state.mu.Lock()
	defer s.state.mu.Unlock()
	s.state.urgent = true
}

// snapshot gives the current state.
func (s *Server) snapshot(ctx context.Context) (snapshot, error) {
	st := &s.state
	st.mu.Lock()
	defer st.mu.Unlock()
	return s.load(ctx)
}

// load brings the state up to date; the lock is held. Who holds an address, and
// which rules are over, is asked as of the last change, and anew each hour: so
// what was compiled can be used for a while.
func (s *Server) load(ctx context.Context) (snapshot, error) {
	st := &s.state
	v, err := s.Store.Versions(ctx)
	if err != nil {
		return snapshot{}, unavailable(err)
	}
	asOf := estate.InstantOf(time.Now())
	current := st.known && !st.current.compiled.AsOf.Before(estate.InstantOf(time.Now().Truncate(time.Hour)))
	if current && st.current.Workloads == v.Workloads && st.current.Revision == v.Revision {
		// At most there is new traffic: what was compiled and found stays.
		if err := s.loadTraffic(ctx, v.Conversations); err != nil {
			return snapshot{}, unavailable(err)
		}
		if st.current.Probes != v.Probes {
			if err := s.loadProbes(ctx, &st.current, v.Probes); err != nil {
				return snapshot{}, unavailable(err)
			}
		}
		st.current.Versions = v
		st.current.from, st.current.to = st.traffic.table.Span()
		return st.current, nil
	}
	next := st.current
	if !st.known || next.Revision != v.Revision {
		if next.head, err = s.Store.Head(ctx); err != nil {
			return snapshot{}, unavailable(err)
		}
		var errs any
		next.policy, errs = parsed(next.head.Text)
		if errs != nil {
			s.Log.Error("the stored policy has errors", "revision", next.head.No, "errors", errs)
		}
	}
	fresh := !st.known
	if fresh || next.Workloads != v.Workloads {
		keys := slices.Clone(reach.Structural)
		if err := s.Store.Setting(ctx, "structural", &keys); err != nil {
			return snapshot{}, unavailable(err)
		}
		if !slices.Equal(keys, next.structural) {
			next.structural = keys
			st.windows++
		}
	}
	if !fresh && next.Workloads != v.Workloads {
		changed, gone, whole, err := s.Store.Touched(ctx, next.Workloads, v.Workloads)
		if err != nil {
			return snapshot{}, unavailable(err)
		}
		if fresh = whole; !fresh {
			e, touched, conflicts := next.estate.With(changed, gone)
			s.logConflicts(conflicts)
			u := next.compiled.WithEstate(e, touched)
			next.estate, next.compiled = e, u.After
			st.follow(u)
		}
	}
	if fresh {
		ws, err := s.Store.Workloads(ctx)
		if err != nil {
			return snapshot{}, unavailable(err)
		}
		var conflicts []estate.Conflict
		next.estate, conflicts = estate.New(ws)
		s.logConflicts(conflicts)
		next.compiled = decide.Compile(next.estate, next.policy, asOf)
		st.windows++
	} else {
		u := next.compiled.WithPolicy(next.policy, asOf)
		next.compiled = u.After
		st.follow(u)
		if next.compiled.Worn() { // many edits, and previews of edits, have left something behind
			next.compiled = decide.Compile(next.estate, next.policy, asOf)
		}
	}
	if err := s.loadTraffic(ctx, v.Conversations); err != nil {
		return snapshot{}, unavailable(err)
	}
	next.from, next.to = st.traffic.table.Span()
	next.Versions = v
	compiled := next.compiled
	next.findings = sync.OnceValue(func() []prove.Finding { return prove.Findings(compiled) })
	if e := next.estate; !st.known || e != st.current.estate {
		next.keys = sync.OnceValue(func() []string { return keysOf(e) })
	}
	next.counts = sync.OnceValues(func() ([]int, []int) { return compiled.GroupCounts(compiled.AsOf) })
	next.people = sync.OnceValue(func() [][]decide.Placed { return compiled.Population(compiled.AsOf) })
	next.asserts = sync.OnceValue(func() []prove.Result { return prove.Assertions(compiled) })
	next.census = sync.OnceValue(func() *whatif.Census { return whatif.Count(compiled) })
	if err := s.loadProbes(ctx, &next, v.Probes); err != nil {
		return snapshot{}, unavailable(err)
	}
	st.current, st.known = next, true
	return next, nil
}

func parsed(text string) (*policy.Policy, any) {
	p, errs := policy.Parse(text)
	if len(errs) > 0 {
		return p, errs
	}
	return p, nil
}

// follow brings the views that were used last along; others are made again when
// they are asked for.
func (st *state) follow(u *decide.Update) {
	kept := st.views[:0:0]
	for _, k := range st.views[max(0, len(st.views)-viewsFollowed):] {
		if k.windows == st.windows && k.view.Compiled == u.Before {
			k.view = k.view.With(u)
			kept = append(kept, k)
		}
	}
	st.views = kept
}

func (s *Server) logConflicts(conflicts []estate.Conflict) {
	for _, c := range conflicts {
		s.Log.Error("the stored leases conflict", "conflict", c.Error())
	}
}

// Window is the stretch of time that a request speaks of.
type Window struct {
	From string `query:"from" doc:"Start of the window, RFC 3339; without it, the first conversation"`
	To   string `query:"to" doc:"End of the window, RFC 3339; without it, the last conversation"`
}

func (w Window) hours(snap snapshot) (from, to flow.Hour, err error) {
	from, to = snap.from, snap.to
	for _, b := range []struct {
		text string
		hour *flow.Hour
		name string
	}{{w.From, &from, "from"}, {w.To, &to, "to"}} {
		if b.text == "" {
			continue
		}
		t, bad := estate.ParseInstant(b.text)
		if bad != nil {
			return 0, 0, huma.Error422UnprocessableEntity(b.name + ": " + bad.Error())
		}
		*b.hour = flow.HourOf(t)
	}
	// Nothing was seen outside of what there is: a wider window is the same one.
	from, to = max(from, snap.from), min(to, snap.to)
	return from, max(from, to), nil
}

// view gives the conversations of a window under the draft.
func (s *Server) view(ctx context.Context, w Window) (*reach.View, snapshot, error) {
	st := &s.state
	st.mu.Lock()
	defer st.mu.Unlock()
	snap, err := s.load(ctx)
	if err != nil {
		return nil, snap, err
	}
	from, to, err := w.hours(snap)
	if err != nil {
		return nil, snap, err
	}
	for i, k := range st.views {
		if k.windows == st.windows && k.from == from && k.to == to && k.view.Compiled == snap.compiled {
			st.views = append(slices.Delete(st.views, i, i+1), k) // the last is that which was used last
			return k.view, snap, nil
		}
	}
	start := time.Now()
	window := reach.NewWindow(snap.estate, st.traffic.table, from, to)
	window.Structural = snap.structural
	v := window.Under(snap.compiled)
	st.traffic.cost = max(st.traffic.cost, time.Since(start))
	st.views = append(st.views, keptView{st.windows, from, to, v})
	if len(st.views) > viewsKept {
		st.views = slices.Delete(st.views, 0, 1)
	}
	return v, snap, nil
}

// viewAgainst is view, compared with another revision of the policy over the
// same window and estate; 0 is none.
func (s *Server) viewAgainst(ctx context.Context, w Window, revision int) (*reach.View, snapshot, error) {
	v, snap, err := s.view(ctx, w)
	if err != nil || revision == 0 {
		return v, snap, err
	}
	st := &s.state
	st.mu.Lock()
	defer st.mu.Unlock()
	if st.compared != nil && st.compared.revision == revision && st.compared.of == v {
		return st.compared.view, snap, nil
	}
	p, err := s.revisionPolicy(ctx, revision)
	if err != nil {
		return nil, snap, err
	}
	out := v.Compared(v.With(snap.compiled.WithPolicy(p, snap.compiled.AsOf)))
	st.compared = &comparedView{revision, v, out}
	return out, snap, nil
}

// comparedView is the last view that was compared with a revision.
type comparedView struct {
	revision int
	of, view *reach.View
}

// revisionPolicy gives the policy of a revision.
func (s *Server) revisionPolicy(ctx context.Context, revision int) (*policy.Policy, error) {
	r, err := s.Store.Revision(ctx, revision)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, unavailable(err)
	}
	if r.No == 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no revision %d to compare with", revision))
	}
	p, _ := policy.Parse(r.Text)
	return p, nil
}

func unavailable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return huma.Error503ServiceUnavailable("the database cannot be used just now: "+err.Error()+"; nothing was changed, try again", err)
}
