package rest

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/derive"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/server"
)

// StarterList is what a policy can begin with.
type StarterList struct {
	Revision int              `json:"revision"`
	Total    int              `json:"total"`
	Starters []derive.Starter `json:"starters" doc:"Environments first, then groups, guardrails and assertions"`
}

// Starters answers about statements to begin a policy with.
type Starters struct {
	*answers.Desk
	*answers.Editor
}

func (s *Starters) Routes(r server.Routes) {
	server.Get(r, "list-starters", "/starters",
		"Groups, guardrails and assertions to start with that the policy lacks",
		s.list)
	server.Post(r, "take-starters", "/starters", "Add starters to the draft, with the groups that they need", s.take,
		server.MakesRevision)
}

func (s *Starters) list(ctx context.Context, in *struct {
	answers.Window
	server.All
}) (*server.Body[StarterList], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	all := derive.Starters(snap.Estate, snap.Policy)
	if err := judge(ctx, v, snap, all); err != nil {
		return nil, err
	}
	return server.OK(StarterList{snap.Head.No, len(all), server.Cut(ctx, all, in.All).Body}), nil
}

// judge returns for each guardrail and assertion which running traffic speaks against it, as
// the draft would be with all of them.
func judge(ctx context.Context, v *reach.View, m *model.Model, all []derive.Starter) error {
	var ids []string
	for _, x := range all {
		ids = append(ids, x.ID)
	}
	text, bad := derive.Begin(m.Head.Text, all, ids)
	if bad != nil {
		return nil // the draft cannot be read: nothing can be added to it now
	}
	p, errs := policy.Parse(text)
	if len(errs) > 0 {
		return nil
	}
	u, err := m.Compiled.WithPolicyUntil(ctx, p, m.Compiled.AsOf)
	if err != nil {
		return err
	}
	then := v.With(u)
	lines := map[string]int{}
	for _, item := range p.Items {
		if item.Statement != nil {
			lines[item.Statement.String()] = item.Statement.At()
		}
	}
	for i := range all {
		x := &all[i]
		if x.Kind != "guardrail" && x.Kind != "assertion" {
			continue
		}
		found := then.Contradictions(lines[x.Text])
		if len(found) == 0 {
			continue
		}
		c := then.At(found[0])
		x.Doubt = fmt.Sprintf("the window has %s against it, such as %s → %s on %s",
			plural.Of(len(found), "conversation", "conversations"), then.Name(c.Client), then.Name(c.Server), c.Point)
	}
	return nil
}

func (s *Starters) take(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision int      `json:"revision" doc:"The revision in which they were looked at"`
		IDs      []string `json:"ids" minItems:"1" maxItems:"10000"`
	}
}) (*server.Stored[answers.EditOut], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	if in.Body.Revision != snap.Head.No {
		return nil, huma.Error409Conflict(
			"somebody has changed the policy since; nothing was changed. Check what it lacks now")
	}
	text, bad := derive.Begin(snap.Head.Text, derive.Starters(snap.Estate, snap.Policy),
		in.Body.IDs)
	if bad != nil {
		return answers.Unedited(snap, bad, in.DryRun)
	}
	words := fmt.Sprintf("Begin with %s", plural.Of(len(in.Body.IDs), "statement", "statements"))
	return s.Edited(ctx, v, snap, text, words, in.DryRun)
}
