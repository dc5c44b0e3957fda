package inventory

import (
	"cmp"

	// Tags that workloads lack, suggested by what resembles them.
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"lucidorchard/consequences"
	"lucidorchard/core/estate"
	"lucidorchard/core/likeness"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// TagOf is a tag of a workload.
type TagOf struct {
	Workload string
	Key      string
	Value    string
}

// Named is a workload with its name.
type Named struct {
	ID   string
	Name string
}

// Suggestion is a tag that a workload lacks, suggested by what resembles it.
type Suggestion struct {
	Workload string
	Name     string
	Key      string
	Value    string
	Likeness float64
	Right    float64
	Tried    int
	Like     []Named
	Because  []string
}

// SuggestionList is all suggestions for what is missing now.
type SuggestionList struct {
	Suggestions []Suggestion
	Complete    bool
	Done        float64
	Lacking     int
	Refused     []RefusedSuggestion
}

// RefusedSuggestion is a suggestion that somebody said is wrong.
type RefusedSuggestion struct {
	RefusedTag
	Name string
}

// suggester keeps the suggestions for one state of the estate and what was seen.
// Over a large estate they take seconds to find: those of before are given
// meanwhile, or if there are none, those that are there already.
type suggester struct {
	mu     sync.Mutex
	estate *estate.Estate
	window *reach.Window
	found  []Suggestion
	done   chan struct{} // closed when what is being found is there; nil: nothing is
	share  float64       // of finding them that is done
}

// patience is how long an answer waits for suggestions that are being found.
const patience = 100 * time.Millisecond

// suggest returns the suggestions, and whether they are of this very state.
func (a *Service) suggest(v *reach.View, snap *model.Model) (found []Suggestion, share float64) {
	g := &a.suggester
	g.mu.Lock()
	if g.estate != snap.Estate || g.window != v.Window {
		if g.done == nil {
			done := make(chan struct{})
			g.done, g.share = done, 0
			first := g.found == nil
			go func() {
				found := findSuggestions(v, snap, func(share float64, some []Suggestion) {
					g.mu.Lock()
					g.share = share
					if first {
						g.found = some
					}
					g.mu.Unlock()
					a.Events.Changed()
				})
				g.mu.Lock()
				g.estate, g.window, g.found, g.done = snap.Estate, v.Window, found, nil
				g.mu.Unlock()
				close(done)
				a.Events.Changed()
			}()
		}
		done := g.done
		g.mu.Unlock()
		select {
		case <-done:
		case <-time.After(patience):
		}
		g.mu.Lock()
	}
	defer g.mu.Unlock()
	if g.estate == snap.Estate && g.window == v.Window {
		return g.found, 1
	}
	return g.found, g.share
}

func findSuggestions(v *reach.View, snap *model.Model, progress func(share float64, found []Suggestion)) []Suggestion {
	links := make([]likeness.Link, 0, v.Len())
	for i := range v.Len() {
		c := v.At(i)
		links = append(links, likeness.Link{Client: c.Client.Workload, Server: c.Server.Workload, Point: c.Point})
	}
	said := func(found []likeness.Suggestion) []Suggestion {
		out := []Suggestion{}
		for _, g := range found {
			w := snap.Estate.Workload(g.Workload)
			o := Suggestion{Workload: w.ID, Name: w.Label(), Key: g.Key, Value: g.Value, Likeness: g.Likeness,
				Right: g.Right, Tried: g.Tried, Like: []Named{}, Because: append([]string{}, g.Because...)}
			for _, i := range g.Like {
				l := snap.Estate.Workload(i)
				o.Like = append(o.Like, Named{ID: l.ID, Name: l.Label()})
			}
			out = append(out, o)
		}
		slices.SortStableFunc(out, func(a, b Suggestion) int {
			return cmp.Or(cmp.Compare(b.Right, a.Right), cmp.Compare(b.Likeness, a.Likeness))
		})
		return out
	}
	return said(likeness.Suggest(snap.Estate, links, snap.Structural,
		func(share float64, found []likeness.Suggestion) bool {
			progress(share, said(found))
			return true
		}))
}

// Suggestions returns the suggestions of what is known from a view, without those
// that were refused or set since they were found.
func (a *Service) Suggestions(ctx context.Context, v *reach.View, snap *model.Model) (SuggestionList, error) {
	out := SuggestionList{Suggestions: []Suggestion{}, Refused: []RefusedSuggestion{}}
	all, err := a.Store.RefusedTags(ctx)
	if err != nil {
		return out, err
	}
	refused := map[TagOf]bool{}
	for _, r := range all {
		refused[TagOf{r.Workload, r.Key, r.Value}] = true
		out.Refused = append(out.Refused, RefusedSuggestion{r, snap.Estate.Called(r.Workload)})
	}
	for i, w := range snap.Estate.All() {
		for _, k := range snap.Structural {
			if w.Retired.IsZero() && snap.Missing(i, k) {
				out.Lacking++
			}
		}
	}
	var found []Suggestion
	found, out.Done = a.suggest(v, snap)
	out.Complete = out.Done == 1
	for _, o := range found {
		i, there := snap.Estate.ByID(o.Workload)
		if !there || refused[TagOf{o.Workload, o.Key, o.Value}] {
			continue
		}
		if snap.Missing(i, o.Key) { // neither set nor declared not applicable since they were found
			out.Suggestions = append(out.Suggestions, o)
		}
	}
	return out, nil
}

// AcceptSuggestions sets suggested tags in one step, or says what that would do.
func (a *Service) AcceptSuggestions(ctx context.Context, v *reach.View, m *model.Model, tags []TagOf,
	dryRun bool) (consequences.Consequences, error) {
	var edits []TagEdit
	for _, t := range tags {
		was := "" // what a suggestion is made on, unless somebody has set the very same by now
		if i, ok := m.Estate.ByID(t.Workload); ok {
			if have, _ := m.Estate.Workload(i).Tag(t.Key); have.Value == t.Value {
				was = t.Value
			}
		}
		edits = append(edits, TagEdit{Workload: t.Workload, Key: t.Key, Value: &t.Value, Was: &was})
	}
	words := fmt.Sprintf("Accept the suggestion %s = %s for %s", edits[0].Key, *edits[0].Value,
		m.Estate.Called(edits[0].Workload))
	if len(edits) > 1 {
		words = fmt.Sprintf("Accept %d suggestions", len(edits))
	}
	return a.SetTags(ctx, v, m, edits, words, dryRun)
}
