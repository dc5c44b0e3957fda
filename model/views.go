package model

import (
	"context"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"

	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/refuse"
)

// At most so many views are kept, and follow an edit.
const (
	viewsKept     = 6
	viewsFollowed = 2
)

// views remembers the views of one model. One that several ask for is made once,
// and goes on being made when one of them leaves.
type views struct {
	mu  sync.Mutex
	all []*keptView // the one that was used last at the end
}

type viewKey struct {
	from, to flow.Hour
	against  int // revision; 0: none
}

type keptView struct {
	viewKey
	done chan struct{} // closed when it is there
	view *reach.View
	err  error
}

// made is a view that is there.
func made(key viewKey, v *reach.View) *keptView {
	k := &keptView{viewKey: key, done: make(chan struct{}), view: v}
	close(k.done)
	return k
}

func (vs *views) get(ctx context.Context, key viewKey, build func() *reach.View) (*reach.View, error) {
	vs.mu.Lock()
	i := slices.IndexFunc(vs.all, func(k *keptView) bool { return k.viewKey == key })
	var k *keptView
	if i >= 0 {
		k = vs.all[i]
		vs.all = append(slices.Delete(vs.all, i, i+1), k)
	} else {
		k = &keptView{viewKey: key, done: make(chan struct{})}
		vs.all = append(vs.all, k)
		if len(vs.all) > viewsKept {
			vs.all = slices.Delete(vs.all, 0, 1)
		}
		go vs.make(k, build)
	}
	vs.mu.Unlock()
	select {
	case <-k.done:
		return k.view, k.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (vs *views) make(k *keptView, build func() *reach.View) {
	defer close(k.done)
	defer func() {
		if p := recover(); p != nil {
			k.err = &Fault{p, debug.Stack()}
			vs.mu.Lock()
			vs.all = slices.DeleteFunc(vs.all, func(x *keptView) bool { return x == k })
			vs.mu.Unlock()
		}
	}()
	k.view = build()
}

// last returns the views that are there and that were used last, the last one at
// the end.
func (vs *views) last(n int) (out []*keptView) {
	vs.mu.Lock()
	defer vs.mu.Unlock()
	for _, k := range slices.Backward(vs.all) {
		select {
		case <-k.done:
			if k.view != nil && k.against == 0 && len(out) < n {
				out = append(out, k)
			}
		default:
		}
	}
	slices.Reverse(out)
	return out
}

// follow returns views that an update brings along.
func (vs *views) follow(u *After) *views {
	out := &views{}
	for _, k := range vs.last(viewsFollowed) {
		if k.view.Compiled == u.Before {
			out.all = append(out.all, made(k.viewKey, u.View(k.view)))
		}
	}
	return out
}

// Fault is a fault of the program that was met while a model or a view was made.
type Fault struct {
	Value any
	Stack []byte
}

func (f *Fault) Error() string { return fmt.Sprintf("the program has a fault: %v", f.Value) }

// Words reports that the program went wrong, without what is only for its log.
func (f *Fault) Words() string { return refuse.Fault }
