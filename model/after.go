package model

import (
	"context"
	"runtime/debug"
	"slices"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
)

// After is what a change makes of a model: of the decisions and, where somebody
// looks, of the conversations. What a preview has computed is there when the
// change is saved, and when the next model is made.
type After struct {
	*decide.Update
	mu    sync.Mutex
	views map[*reach.View]*reach.View
}

// NewAfter makes one of an update.
func NewAfter(u *decide.Update) *After {
	return &After{Update: u, views: map[*reach.View]*reach.View{}}
}

// View returns the conversations of a view after the change.
func (a *After) View(v *reach.View) *reach.View {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := a.views[v]
	if out == nil {
		out = v.With(a.Update)
		a.views[v] = out
	}
	return out
}

// afterKept is how many changes of the text a model remembers.
const afterKept = 4

// afters remembers what changes of the text would make of a model.
type afters struct {
	mu  sync.Mutex
	all []*afterText // the one that was used last at the end
}

// afterText is a change that is computed, or being computed. Those who wait for it share
// it; it ends early when the last of them has left.
type afterText struct {
	text    string
	waiting int
	leave   context.CancelFunc // ends the computation
	done    chan struct{}      // closed when after or err is there
	after   *After
	err     error
}

// After returns what the model becomes with another policy text. The text has no
// errors, or is taken as far as it can be. One that would take too long is refused
// (*decide.CostError). The computation ends when ctx does, unless others wait for it too.
func (m *Model) After(ctx context.Context, text string) (*After, error) {
	as := m.afters
	as.mu.Lock()
	i := slices.IndexFunc(as.all, func(x *afterText) bool { return x.text == text })
	var x *afterText
	if i >= 0 {
		x = as.all[i]
		as.all = append(slices.Delete(as.all, i, i+1), x)
	} else {
		within, leave := context.WithCancel(context.Background())
		x = &afterText{text: text, leave: leave, done: make(chan struct{})}
		as.all = append(as.all, x)
		if len(as.all) > afterKept {
			as.all = slices.Delete(as.all, 0, 1)
		}
		go as.compute(within, x, m.Compiled)
	}
	x.waiting++
	as.mu.Unlock()
	return as.wait(ctx, x)
}

func (as *afters) wait(ctx context.Context, x *afterText) (*After, error) {
	left := false
	select {
	case <-x.done:
	case <-ctx.Done():
		left = true
	}
	as.mu.Lock()
	defer as.mu.Unlock()
	x.waiting--
	if !left {
		return x.after, x.err
	}
	if x.waiting == 0 {
		x.leave()
		as.forget(x)
	}
	return nil, ctx.Err()
}

// forget removes a change; the lock is held.
func (as *afters) forget(x *afterText) {
	as.all = slices.DeleteFunc(as.all, func(y *afterText) bool { return y == x })
}

func (as *afters) compute(ctx context.Context, x *afterText, compiled *decide.Compiled) {
	defer close(x.done)
	defer x.leave()
	defer func() {
		if p := recover(); p != nil {
			x.err = &Fault{p, debug.Stack()}
			as.mu.Lock()
			as.forget(x)
			as.mu.Unlock()
		}
	}()
	p, _ := policy.Parse(x.text)
	if x.err = decide.Affordable(compiled, p); x.err != nil {
		return
	}
	u, err := compiled.WithPolicyUntil(ctx, p, compiled.AsOf)
	if err != nil {
		x.err = err
		return
	}
	x.after = NewAfter(u)
}

// known returns what was computed for a text; nil if nothing was.
func (as *afters) known(text string) *After {
	as.mu.Lock()
	i := slices.IndexFunc(as.all, func(x *afterText) bool { return x.text == text })
	if i < 0 {
		as.mu.Unlock()
		return nil
	}
	x := as.all[i]
	x.waiting++
	as.mu.Unlock()
	after, _ := as.wait(context.Background(), x)
	return after
}
