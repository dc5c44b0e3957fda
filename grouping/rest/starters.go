package rest

import (
	"context"
	"fmt"
	"strings"

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
	all, err := starters(ctx, v, snap)
	if err != nil {
		return nil, err
	}
	return server.OK(StarterList{snap.Head.No, len(all), server.Cut(ctx, all, in.All).Body}), nil
}

// starters returns what the draft lacks, judged by the traffic of a view. If traffic speaks against
// keeping environments apart, what serves all of them is taken out.
func starters(ctx context.Context, v *reach.View, m *model.Model) ([]derive.Starter, error) {
	all := derive.Starters(m.Estate, m.Policy)
	across, err := judge(ctx, v, m, all)
	if err != nil || len(across) == 0 {
		return all, err
	}
	shared := derive.SharedServices(m.Estate, across)
	if len(shared) == 0 {
		return all, nil
	}
	all = derive.Starters(m.Estate, m.Policy, shared...)
	_, err = judge(ctx, v, m, all)
	return all, err
}

// judge sets the Doubt of each guardrail and assertion that running traffic speaks against, as
// the draft would be with all of them. It returns the clients and servers, indexes of workloads,
// of the traffic that speaks against keeping environments apart.
func judge(ctx context.Context, v *reach.View, m *model.Model, all []derive.Starter) (across [][2]int32, err error) {
	var ids []string
	for _, x := range all {
		ids = append(ids, x.ID)
	}
	text, bad := derive.Begin(m.Head.Text, all, ids)
	if bad != nil {
		return nil, nil // the draft cannot be read: nothing can be added to it now
	}
	p, errs := policy.Parse(text)
	if len(errs) > 0 {
		return nil, nil
	}
	u, err := m.Compiled.WithPolicyUntil(ctx, p, m.Compiled.AsOf)
	if err != nil {
		return nil, err
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
		if strings.HasPrefix(x.Text, "apart ") {
			for _, i := range found {
				across = append(across, [2]int32{then.Client(i).Workload, then.Server(i).Workload})
			}
		}
		c := then.At(found[0])
		x.Doubt = fmt.Sprintf("the window has %s against it, such as %s → %s on %s",
			plural.Of(len(found), "conversation", "conversations"), then.Name(c.Client), then.Name(c.Server), c.Point)
	}
	return across, nil
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
	all, err := starters(ctx, v, snap)
	if err != nil {
		return nil, err
	}
	text, bad := derive.Begin(snap.Head.Text, all, in.Body.IDs)
	if bad != nil {
		return answers.Unedited(snap, bad, in.DryRun)
	}
	words := fmt.Sprintf("Begin with %s", plural.Of(len(in.Body.IDs), "statement", "statements"))
	return s.Edited(ctx, v, snap, text, words, in.DryRun)
}
