package api

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/consequences"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
)

// Suggested tags: found, accepted, refused.

func (s *vocabularyAPI) allSuggestions(ctx context.Context) (inventory.SuggestionList, error) {
	v, snap, err := s.view(ctx, Window{})
	if err != nil {
		return inventory.SuggestionList{}, err
	}
	return s.Suggestions(ctx, v, snap)
}

func (s *vocabularyAPI) suggestions(ctx context.Context, in *struct{ All }) (*Body[inventory.SuggestionList], error) {
	out, err := s.allSuggestions(ctx)
	if err != nil {
		return nil, err
	}
	out.Total = len(out.Suggestions)
	out.Suggestions = cut(ctx, out.Suggestions, in.All).Body
	return body(out), nil
}

func (s *vocabularyAPI) exportSuggestions(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	list, err := s.allSuggestions(ctx)
	if err != nil {
		return nil, err
	}
	return stream("suggestions.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"id", "name", "key", "value", "likeness", "right", "resembles", "because"})
		for _, g := range list.Suggestions {
			var like []string
			for _, l := range g.Like {
				like = append(like, l.ID)
			}
			_ = w.Write([]string{g.Workload, g.Name, g.Key, g.Value, fmt.Sprintf("%.2f", g.Likeness),
				fmt.Sprintf("%.2f", g.Right), strings.Join(like, " "), strings.Join(g.Because, "; ")})
		}
	}), nil
}

func (s *vocabularyAPI) acceptSuggestions(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Tags []inventory.TagOf `json:"tags" minItems:"1"`
	}
}) (*Body[consequences.Consequences], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	c, err := s.AcceptSuggestions(ctx, v, snap, in.Body.Tags, in.DryRun)
	return body(c), err
}

func (s *vocabularyAPI) refuseSuggestions(ctx context.Context, in *struct {
	Body struct {
		Tags  []inventory.TagOf `json:"tags" minItems:"1"`
		Again bool              `json:"again,omitempty" doc:"Take the refusals back"`
	}
}) (*Body[inventory.SuggestionList], error) {
	var all []inventory.RefusedTag
	for _, t := range in.Body.Tags {
		all = append(all, inventory.RefusedTag{Workload: t.Workload, Key: t.Key, Value: t.Value, Author: s.Author})
	}
	if err := s.Store.RefuseTags(ctx, all, in.Body.Again); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.suggestions(ctx, &struct{ All }{everything})
}
