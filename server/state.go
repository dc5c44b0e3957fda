package server

import (
	"context"
	"errors"
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
	"lucidorchard/store"
)

// state is what was last read from the database, in the form that answers need.
// It is read again when the database's versions say that something has changed.
type state struct {
	mu      sync.Mutex
	known   bool
	current snapshot
	buckets []flow.Bucket
	views   map[viewKey]*reach.View
	order   []viewKey
}

// snapshot is one state of the estate and the draft.
type snapshot struct {
	store.Versions
	estate   *estate.Estate
	head     store.Revision
	policy   *policy.Policy
	compiled *decide.Compiled
	from, to flow.Hour              // of all conversations
	findings func() []prove.Finding // found when first asked for
}

type viewKey struct {
	store.Versions
	asOf     estate.Instant
	from, to flow.Hour
}

const viewsKept = 6

// now is the instant that "until" is compared with: the current hour, so that
// what was compiled can be used for a while.
func now() estate.Instant { return estate.InstantOf(time.Now().Truncate(time.Hour)) }

// snapshot gives the current state.
func (s *Server) snapshot(ctx context.Context) (snapshot, error) {
	st := &s.state
	st.mu.Lock()
	defer st.mu.Unlock()
	return s.load(ctx)
}

// load brings the state up to date; the lock is held.
func (s *Server) load(ctx context.Context) (snapshot, error) {
	st := &s.state
	v, err := s.Store.Versions(ctx)
	if err != nil {
		return snapshot{}, unavailable(err)
	}
	asOf := now()
	if st.known && st.current.Versions == v && st.current.compiled.AsOf == asOf {
		return st.current, nil
	}
	next := st.current
	if !st.known || next.Workloads != v.Workloads {
		ws, err := s.Store.Workloads(ctx)
		if err != nil {
			return snapshot{}, unavailable(err)
		}
		var conflicts []estate.Conflict
		next.estate, conflicts = estate.New(ws)
		for _, c := range conflicts {
			s.Log.Error("the stored leases conflict", "conflict", c.Error())
		}
	}
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
	if !st.known || next.Conversations != v.Conversations {
		if st.buckets, err = s.Store.Buckets(ctx); err != nil {
			return snapshot{}, unavailable(err)
		}
		next.from, next.to = 0, 0
		if n := len(st.buckets); n > 0 {
			next.from, next.to = st.buckets[0].Hour, st.buckets[n-1].Hour+1
		}
	}
	next.Versions = v
	next.compiled = decide.Compile(next.estate, next.policy, asOf)
	compiled := next.compiled
	next.findings = sync.OnceValue(func() []prove.Finding { return prove.Findings(compiled) })
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
	key := viewKey{snap.Versions, snap.compiled.AsOf, from, to}
	if v := st.views[key]; v != nil {
		return v, snap, nil
	}
	v := reach.New(snap.compiled, st.buckets, from, to)
	if st.views == nil {
		st.views = map[viewKey]*reach.View{}
	}
	st.views[key] = v
	st.order = append(st.order, key)
	if len(st.order) > viewsKept {
		delete(st.views, st.order[0])
		st.order = slices.Delete(st.order, 0, 1)
	}
	return v, snap, nil
}

func unavailable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return huma.Error503ServiceUnavailable("the database cannot be used just now: "+err.Error()+"; nothing was changed, try again", err)
}
