package model

import (
	"context"
	"errors"
	"log/slog"
	"reflect"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/database"
)

// Keeper makes models and holds the current one.
type Keeper struct {
	store   Store
	log     *slog.Logger
	changed func(before, now *Model) // before is nil at first

	current atomic.Pointer[Model]
	wake    chan struct{}
	lazy    atomic.Bool // traffic takes so long to read that it is read beside the answers
	urgent  atomic.Bool // the next answer must know all traffic: something was just imported
	read    chan *traffic

	mu       sync.Mutex
	ctx      context.Context // Run's
	begun    int64           // attempts to bring the model up to date
	ended    chan struct{}   // closed at the end of the attempt that goes on, or of the next
	failure  error           // of the last attempt
	since    time.Time       // when attempts began to fail
	failedAt int64           // its number
	reading  bool            // traffic is read beside the answers

	// Of the goroutine that Run is in.
	traffic traffic
}

// slow is from what cost on new traffic is read and resolved beside the answers,
// which are of the traffic before it meanwhile.
const slow = 300 * time.Millisecond

// look is how often changes of other servers are looked for.
const look = time.Second

// Store is where the state is read from. Its methods are safe for concurrent use.
type Store interface {
	// Versions returns the current numbers.
	Versions(context.Context) (database.Versions, error)
	// State reads what has changed since a version; since nil, all of it.
	State(ctx context.Context, since *database.Versions) (*State, error)
	// Revision returns one revision of the policy, or database.ErrNone; that of 0 is empty.
	Revision(ctx context.Context, no int) (Revision, error)
	// Hours returns the hours of which there are conversations, each with its version.
	Hours(context.Context) (map[flow.Hour]int64, error)
	// Chunks reads the conversations of some hours, with the versions that they are of.
	Chunks(ctx context.Context, hours []flow.Hour, dict *flow.Dictionary) ([]*flow.Chunk, map[flow.Hour]int64, error)
}

// NewKeeper makes one that has no model yet; Run makes it. changed is told of
// each new model, in Run's goroutine.
func NewKeeper(s Store, log *slog.Logger, changed func(before, now *Model)) *Keeper {
	return &Keeper{store: s, log: log, changed: changed, wake: make(chan struct{}, 1), read: make(chan *traffic, 1),
		ended: make(chan struct{})}
}

// Hurry makes the next answer wait for all traffic.
func (k *Keeper) Hurry() { k.urgent.Store(true) }

// Away reports whether the state cannot be read just now, and since when.
func (k *Keeper) Away() (since time.Time, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.since, k.failure
}

// Nudge makes the Keeper look at once whether something was written.
func (k *Keeper) Nudge() {
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

// Held returns the current model as it is, without asking the database; nil at
// first.
func (k *Keeper) Held() *Model { return k.current.Load() }

// Current returns a model that knows all that was written before it was asked for.
// It waits for it, if need be, until the context ends.
func (k *Keeper) Current(ctx context.Context) (*Model, error) {
	v, err := k.store.Versions(ctx)
	if err != nil {
		return nil, err
	}
	for asked := false; ; {
		k.mu.Lock()
		ended, begun, failure, failedAt := k.ended, k.begun, k.failure, k.failedAt
		k.mu.Unlock()
		m := k.current.Load()
		if m.knows(v) && (m.Versions.Conversations >= v.Conversations || k.lazy.Load() && !k.urgent.Load()) {
			return m, nil
		}
		if asked && failure != nil && failedAt == begun {
			return nil, failure
		}
		k.Nudge()
		select {
		case <-ended:
			asked = true // the next failure is of an attempt that began after this
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// knows reports whether the model knows versions, but for the conversations.
func (m *Model) knows(v database.Versions) bool {
	return m != nil && m.Versions.Workloads >= v.Workloads && m.Versions.Revision >= v.Revision &&
		m.Versions.Probes >= v.Probes && m.Versions.Points >= v.Points && !m.old()
}

// old reports whether "now" of the model is of the hour before: who holds an
// address, and which rules are over, is asked anew each hour.
func (m *Model) old() bool {
	return m.Compiled.AsOf.Before(estate.InstantOf(time.Now().Truncate(time.Hour)))
}

// Run makes models until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	k.mu.Lock()
	k.ctx = ctx
	k.mu.Unlock()
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		k.attempt(ctx)
		select {
		case <-ctx.Done():
			return
		case <-k.wake:
		case <-tick.C:
		case t := <-k.read:
			k.take(t)
		}
	}
}

// attempt brings the model up to date, once.
func (k *Keeper) attempt(ctx context.Context) {
	k.mu.Lock()
	k.begun++
	k.mu.Unlock()
	err := k.guarded(ctx)
	k.mu.Lock()
	again := k.failure != nil && err != nil && k.failure.Error() == err.Error()
	if err != nil && k.failure == nil {
		k.since = time.Now()
	}
	k.failure, k.failedAt = err, k.begun
	ended := k.ended
	k.ended = make(chan struct{})
	k.mu.Unlock()
	close(ended)
	if err != nil && !again && ctx.Err() == nil {
		var fault *Fault
		if errors.As(err, &fault) {
			k.log.Error("the state of the estate cannot be made", "panic", fault.Value, "stack", string(fault.Stack))
		} else {
			k.log.Warn("the state of the estate cannot be read", "error", err)
		}
	}
}

// guarded is update; a panic of what is computed is its error.
func (k *Keeper) guarded(ctx context.Context) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Fault{p, debug.Stack()}
		}
	}()
	return k.update(ctx)
}

func (k *Keeper) update(ctx context.Context) error {
	before := k.current.Load()
	v, err := k.store.Versions(ctx)
	if err != nil {
		return err
	}
	if before.knows(v) && k.traffic.version >= v.Conversations {
		return nil
	}
	if before.knows(v) && !k.dueTraffic(v.Conversations) {
		return nil
	}
	next, update, err := k.state(ctx, before)
	if err != nil {
		return err
	}
	if err := k.loadTraffic(ctx, next); err != nil {
		return err
	}
	next.Table, next.Versions.Conversations, next.Hours = k.traffic.table, k.traffic.version, k.traffic.hours
	next.From, next.To = next.Table.Span()
	next.Made = time.Now()
	next.derive(before)
	switch {
	case before == nil || next.Table != before.Table || next.guarding != before.guarding ||
		update == nil && next.Compiled != before.Compiled:
		next.views = &views{}
	case next.Compiled == before.Compiled:
		next.views = before.views
	default:
		next.views = update(before.views)
	}
	k.put(before, next)
	return nil
}

func (k *Keeper) put(before, next *Model) {
	k.current.Store(next)
	if k.changed != nil {
		k.changed(before, next)
	}
}

// state makes the next model but for its traffic. update brings views along; nil
// if they have to be made anew.
func (k *Keeper) state(ctx context.Context, before *Model) (next *Model, update func(*views) *views, err error) {
	var since *database.Versions
	if before != nil {
		since = &before.Versions
	}
	st, err := k.store.State(ctx, since)
	if err != nil {
		return nil, nil, err
	}
	next = &Model{}
	if before != nil {
		*next = *before
	}
	traffic := next.Versions.Conversations
	next.Versions, next.kept = st.Versions, st.Probes
	next.Versions.Conversations = traffic
	// else points only said something
	if st.Guarding != nil && (next.guarding == nil || !reflect.DeepEqual(next.guarding.Guarding, st.Guarding)) {
		next.guarding = guardingOf(st.Guarding)
	}
	k.takePolicy(next, st)
	structural := structuralOf(before, st)
	fresh := before == nil || st.Whole || !slices.Equal(structural, next.Structural)
	next.Structural = structural
	inapplicable, err := decide.ParseInapplicable(st.Inapplicable)
	if err != nil {
		k.log.Error("the stored tags that do not apply have errors", "first", err)
	}
	fresh = fresh || inapplicable.String() != next.Inapplicable.String()
	next.Inapplicable = inapplicable
	asOf := estate.InstantOf(time.Now())
	if before != nil && !before.old() && next.Versions.Workloads == before.Versions.Workloads &&
		next.Versions.Revision == before.Versions.Revision {
		return next, nil, nil
	}
	if st.Whole {
		var conflicts []estate.Conflict
		next.Estate, conflicts = estate.New(st.Workloads)
		k.logConflicts(conflicts)
		next.Compiled = decide.Compile(next.Estate, next.Policy, asOf)
		return next, nil, nil
	}
	var steps []*After
	if next.Versions.Workloads != before.Versions.Workloads {
		e, touched, conflicts := next.Estate.With(st.Workloads, st.Gone)
		k.logConflicts(conflicts)
		u := next.Compiled.WithEstate(e, touched)
		next.Estate, next.Compiled = e, u.After
		steps = append(steps, NewAfter(u))
	}
	var after *After
	if len(steps) == 0 && !before.old() && st.Head != nil { // it was looked at before it was saved
		after = before.afters.known(next.Head.Text)
	}
	if after == nil {
		after = NewAfter(next.Compiled.WithPolicy(next.Policy, asOf))
	}
	next.Compiled, next.Policy = after.Update.After, after.Update.After.Policy
	steps = append(steps, after)
	if next.Compiled.Worn() { // many edits, and previews of edits, have left something behind
		next.Compiled = decide.Compile(next.Estate, next.Policy, asOf)
		fresh = true
	}
	if fresh {
		return next, nil, nil
	}
	return next, func(vs *views) *views {
		for _, u := range steps {
			vs = vs.follow(u)
		}
		return vs
	}, nil
}

// takePolicy sets the policy of a model, if the state has a newer one.
func (k *Keeper) takePolicy(next *Model, st *State) {
	if st.Head == nil {
		return
	}
	next.Head = *st.Head
	next.Policy, next.Errors = policy.Parse(next.Head.Text)
	if len(next.Errors) > 0 {
		k.log.Error("the stored policy has errors", "revision", next.Head.No, "first", next.Errors[0].Error(),
			"errors", len(next.Errors))
	}
}

// structuralOf returns the keys that say where a workload belongs: those that were chosen, else
// the usual ones.
func structuralOf(before *Model, st *State) []string {
	if st.Structural != nil {
		return st.Structural
	}
	var known []string
	if before != nil {
		known = before.Structural
	}
	return usualKeys(known, st.Workloads)
}

// usualKeys returns the tag keys that say where a workload belongs, while nobody has
// chosen them. Those that not every estate has are left out until a workload has
// one: what nobody uses is not missing.
func usualKeys(known []string, changed []estate.Workload) []string {
	var out []string
	for i, key := range reach.Structural {
		if i < reach.Naming || slices.Contains(known, key) || slices.ContainsFunc(changed,
			func(w estate.Workload) bool {
				_, ok := w.Tag(key)
				return ok
			}) {
			out = append(out, key)
		}
	}
	return out
}

func (k *Keeper) logConflicts(conflicts []estate.Conflict) {
	for _, c := range conflicts[:min(20, len(conflicts))] {
		k.log.Error("the stored leases conflict", "conflict", c.Error(), "of", len(conflicts))
	}
}
