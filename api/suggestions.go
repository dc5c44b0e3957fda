package api

// Suggested tags: found, accepted, refused.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/estate"
	"lucidorchard/core/likeness"
	"lucidorchard/core/reach"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/store"
)

// SuggestionOut is a tag that a workload lacks, suggested by what resembles it.
type SuggestionOut struct {
	Workload string   `json:"workload"`
	Name     string   `json:"name"`
	Key      string   `json:"key"`
	Value    string   `json:"value"`
	Likeness float64  `json:"likeness" doc:"Of those that it resembles, 0 to 1"`
	Agree    float64  `json:"agree" doc:"Share of those that it resembles that have the value"`
	Like     []Member `json:"like" doc:"Those that have it, the most alike first; at most 5"`
	Because  []string `json:"because" doc:"What it shares with them, the most telling first"`
}

// SuggestionList is all suggestions for what is missing now.
type SuggestionList struct {
	Total       int             `json:"total"`
	Suggestions []SuggestionOut `json:"suggestions"`
	Complete    bool            `json:"complete" doc:"Whether they are of what is known now; if not, they are being found, and an event says when"`
	Lacking     int             `json:"lacking" doc:"Structural tags that workloads lack"`
	Refused     []RefusedOut    `json:"refused" doc:"Those that somebody said are wrong"`
}

// RefusedOut is a suggestion that somebody said is wrong.
type RefusedOut struct {
	store.RefusedTag
	Name string `json:"name" doc:"Of the workload"`
}

// TagIn is a tag to accept or refuse.
type TagIn struct {
	Workload string `json:"workload"`
	Key      string `json:"key"`
	Value    string `json:"value"`
}

// suggester keeps the suggestions for one state of the estate and what was seen.
// Over a large estate they take seconds to find: those of before are given
// meanwhile.
type suggester struct {
	mu     sync.Mutex
	estate *estate.Estate
	window *reach.Window
	found  []SuggestionOut
	done   chan struct{} // closed when what is being found is there; nil: nothing is
}

// patience is how long an answer waits for suggestions that are being found.
const patience = 100 * time.Millisecond

// suggest gives the suggestions, and whether they are of this very state.
func (s *vocabularyAPI) suggest(v *reach.View, snap *model.Model) (found []SuggestionOut, complete bool) {
	g := &s.suggester
	g.mu.Lock()
	if g.estate != snap.Estate || g.window != v.Window {
		if g.done == nil {
			done := make(chan struct{})
			g.done = done
			go func() {
				found := findSuggestions(v, snap)
				g.mu.Lock()
				g.estate, g.window, g.found, g.done = snap.Estate, v.Window, found, nil
				g.mu.Unlock()
				close(done)
				s.Events.Changed()
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
	return g.found, g.estate == snap.Estate && g.window == v.Window
}

func findSuggestions(v *reach.View, snap *model.Model) []SuggestionOut {
	links := make([]likeness.Link, 0, v.Len())
	for i := range v.Len() {
		c := v.At(i)
		links = append(links, likeness.Link{Client: c.Client.Workload, Server: c.Server.Workload, Point: c.Point})
	}
	out := []SuggestionOut{}
	for _, g := range likeness.Suggest(snap.Estate, links, snap.Structural) {
		w := snap.Estate.Workload(g.Workload)
		o := SuggestionOut{Workload: w.ID, Name: w.Label(), Key: g.Key, Value: g.Value, Likeness: g.Likeness,
			Agree: g.Agree, Like: []Member{}, Because: append([]string{}, g.Because...)}
		for _, i := range g.Like {
			l := snap.Estate.Workload(i)
			o.Like = append(o.Like, Member{ID: l.ID, Name: l.Label()})
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a,
		b SuggestionOut) int {
		return cmp.Compare(b.Likeness*b.Agree, a.Likeness*a.Agree)
	})
	return out
}

func (s *vocabularyAPI) suggestionList(ctx context.Context) (SuggestionList, error) {
	out := SuggestionList{Suggestions: []SuggestionOut{}, Refused: []RefusedOut{}}
	v, snap, err := s.view(ctx, Window{})
	if err != nil {
		return out, err
	}
	all, err := s.Store.RefusedTags(ctx)
	if err != nil {
		return out, err
	}
	refused := map[TagIn]bool{}
	for _, r := range all {
		refused[TagIn{r.Workload, r.Key, r.Value}] = true
		o := RefusedOut{r, r.Workload}
		if i, ok := snap.Estate.ByID(r.Workload); ok {
			o.Name = snap.Estate.Workload(i).Label()
		}
		out.Refused = append(out.Refused, o)
	}
	for _, w := range snap.Estate.All() {
		for _, k := range snap.Structural {
			if _, has := w.Tag(k); !has && w.Retired.IsZero() {
				out.Lacking++
			}
		}
	}
	var found []SuggestionOut
	found, out.Complete = s.suggest(v, snap)
	for _, o := range found {
		i, there := snap.Estate.ByID(o.Workload)
		if !there || refused[TagIn{o.Workload, o.Key, o.Value}] {
			continue
		}
		if _, has := snap.Estate.Workload(i).Tag(o.Key); !has { // set since they were found
			out.Suggestions = append(out.Suggestions, o)
		}
	}
	return out, nil
}

func (s *vocabularyAPI) suggestions(ctx context.Context, in *struct{ All }) (*Body[SuggestionList], error) {
	out, err := s.suggestionList(ctx)
	if err != nil {
		return nil, err
	}
	out.Total = len(out.Suggestions)
	out.Suggestions = cut(ctx, out.Suggestions, in.All).Body
	return body(out), nil
}

func (s *vocabularyAPI) exportSuggestions(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	list, err := s.suggestionList(ctx)
	if err != nil {
		return nil, err
	}
	return stream("suggestions.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"id", "name", "key", "value", "likeness", "agree", "resembles", "because"})
		for _, g := range list.Suggestions {
			var like []string
			for _, l := range g.Like {
				like = append(like, l.ID)
			}
			_ = w.Write([]string{g.Workload, g.Name, g.Key, g.Value, fmt.Sprintf("%.2f", g.Likeness),
				fmt.Sprintf("%.2f", g.Agree), strings.Join(like, " "), strings.Join(g.Because, "; ")})
		}
	}), nil
}

func (s *vocabularyAPI) acceptSuggestions(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Tags []TagIn `json:"tags" minItems:"1"`
	}
}) (*Body[app.Consequences], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	var edits []store.TagEdit
	for _, t := range in.Body.Tags {
		was := "" // what a suggestion is made on, unless somebody has set the very same by now
		if i, ok := snap.Estate.ByID(t.Workload); ok {
			if have, _ := snap.Estate.Workload(i).Tag(t.Key); have.Value == t.Value {
				was = t.Value
			}
		}
		edits = append(edits, store.TagEdit{Workload: t.Workload, Key: t.Key, Value: &t.Value, Was: &was})
	}
	words := fmt.Sprintf("Accept the suggestion %s = %s for %s", edits[0].Key, *edits[0].Value, edits[0].Workload)
	if len(edits) > 1 {
		words = fmt.Sprintf("Accept %d suggestions", len(edits))
	}
	return s.applyTags(ctx, v, snap, edits, words, in.DryRun)
}

func (s *vocabularyAPI) refuseSuggestions(ctx context.Context, in *struct {
	Body struct {
		Tags  []TagIn `json:"tags" minItems:"1"`
		Again bool    `json:"again,omitempty" doc:"Take the refusals back"`
	}
}) (*Body[SuggestionList], error) {
	var all []store.RefusedTag
	for _, t := range in.Body.Tags {
		all = append(all, store.RefusedTag{Workload: t.Workload, Key: t.Key, Value: t.Value, Author: s.Author})
	}
	if err := s.Store.RefuseTags(ctx, all, in.Body.Again); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.suggestions(ctx, &struct{ All }{everything})
}
