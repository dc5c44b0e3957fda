package rest

import (
	"context"

	// Suggested tags: found, accepted, refused.
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/server"
)

func (s *Vocabulary) allSuggestions(ctx context.Context) (inventory.SuggestionList, error) {
	v, snap, err := s.View(ctx, answers.Window{})
	if err != nil {
		return inventory.SuggestionList{}, err
	}
	return s.Suggestions(ctx, v, snap)
}

func (s *Vocabulary) suggestions(ctx context.Context, in *struct{ server.All }) (
	*server.Body[SuggestionList], error) {
	all, err := s.allSuggestions(ctx)
	if err != nil {
		return nil, err
	}
	out := newSuggestions(all)
	out.Suggestions = server.Cut(ctx, out.Suggestions, in.All).Body
	return server.OK(out), nil
}

func (s *Vocabulary) exportSuggestions(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	list, err := s.allSuggestions(ctx)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("suggestions.csv", func(w *ingest.CSV) {
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

func (s *Vocabulary) acceptSuggestions(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Tags []TagOf `json:"tags" minItems:"1"`
	}
}) (*server.Body[consequences.Consequences], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	c, err := s.AcceptSuggestions(ctx, v, snap, server.Each(in.Body.Tags, tagOf), in.DryRun)
	return server.OK(c), err
}

func (s *Vocabulary) refuseSuggestions(ctx context.Context, in *struct {
	Body struct {
		Tags  []TagOf `json:"tags" minItems:"1"`
		Again bool    `json:"again,omitempty" doc:"Take the refusals back"`
	}
}) (*server.Body[SuggestionList], error) {
	var all []inventory.RefusedTag
	for _, t := range in.Body.Tags {
		all = append(all, inventory.RefusedTag{Workload: t.Workload, Key: t.Key, Value: t.Value, Author: s.Author})
	}
	if err := s.RefuseTags(ctx, all, in.Body.Again); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.suggestions(ctx, &struct{ server.All }{server.Everything})
}
