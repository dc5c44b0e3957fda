package model

import (
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

// View gives the conversations of a view after the change.
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

type afterText struct {
	text  string
	after func() (*After, error)
}

// After gives what the model becomes with another policy text. The text has no
// errors, or is taken as far as it can be. One that would take too long is refused
// (*decide.CostError).
func (m *Model) After(text string) (*After, error) {
	as := m.afters
	as.mu.Lock()
	i := slices.IndexFunc(as.all, func(x *afterText) bool { return x.text == text })
	var x *afterText
	if i >= 0 {
		x = as.all[i]
		as.all = append(slices.Delete(as.all, i, i+1), x)
	} else {
		compiled := m.Compiled
		x = &afterText{text, sync.OnceValues(func() (*After, error) {
			p, _ := policy.Parse(text)
			if err := decide.Affordable(compiled, p); err != nil {
				return nil, err
			}
			return NewAfter(compiled.WithPolicy(p, compiled.AsOf)), nil
		})}
		as.all = append(as.all, x)
		if len(as.all) > afterKept {
			as.all = slices.Delete(as.all, 0, 1)
		}
	}
	as.mu.Unlock()
	return x.after()
}

// known gives what was computed for a text; nil if nothing was.
func (as *afters) known(text string) *After {
	as.mu.Lock()
	defer as.mu.Unlock()
	for _, x := range as.all {
		if x.text == text {
			a, _ := x.after()
			return a
		}
	}
	return nil
}
