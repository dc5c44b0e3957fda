package api

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/derive"
	"lucidorchard/core/plural"
)

// StarterList is what a policy can begin with.
type StarterList struct {
	Revision int              `json:"revision"`
	Total    int              `json:"total"`
	Starters []derive.Starter `json:"starters" doc:"Environments first, then groups, guardrails and assertions"`
}

// startersAPI answers about statements to begin a policy with.
type startersAPI struct{ *base }

func (s *startersAPI) routes(r routes) {
	get(r, "list-starters", "/starters",
		"Groups, guardrails and assertions that a policy can begin with, and does not have",
		s.list)
	post(r, "take-starters", "/starters", "Add starters to the draft, with the groups that they need", s.take, stored)
}

func (s *startersAPI) list(ctx context.Context, in *struct{ All }) (*Body[StarterList], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	all := derive.Starters(snap.Estate, snap.Policy)
	return body(StarterList{snap.Head.No, len(all), cut(ctx, all, in.All).Body}), nil
}

func (s *startersAPI) take(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Revision int      `json:"revision" doc:"The revision in which they were looked at"`
		IDs      []string `json:"ids" minItems:"1" maxItems:"10000"`
	}
}) (*Stored[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	if in.Body.Revision != snap.Head.No {
		return nil, huma.Error409Conflict("somebody has changed the policy since; nothing was changed. Look at what it " +
			"lacks now")
	}
	text, bad := derive.Begin(snap.Head.Text, derive.Starters(snap.Estate, snap.Policy),
		in.Body.IDs)
	if bad != nil {
		return unedited(snap, bad, in.DryRun)
	}
	words := fmt.Sprintf("Begin with %s", plural.Of(len(in.Body.IDs), "statement", "statements"))
	return s.edited(ctx, v, snap, text, words, in.DryRun)
}
