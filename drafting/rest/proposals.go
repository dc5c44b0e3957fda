package rest

import (
	"cmp"
	"context"
	"net/http"
	"slices"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/drafting"
	"lucidorchard/server"
)

// Proposals is the newest derivation as far as it still stands.
type Proposals struct {
	Job     *server.Job `json:"job,omitempty" doc:"The newest derivation"`
	Derived *derivedOut `json:"derived,omitempty" doc:"The result of the newest that is done, without what the draft has taken"`
	Stale   bool        `json:"stale" doc:"The draft has changed since; deriving again proposes only the difference"`
	Refused []Refusal   `json:"refused"`
}

// Derivations answers about derivations and their proposals.
type Derivations struct {
	*answers.Desk
	*drafting.Service
}

func (s *Derivations) Routes(r server.Routes) {
	server.Post(r, "derive", "/derive", "Derive proposals from the conversations of the window", s.derive,
		server.Starts, server.CanBeMissing)
	server.Get(r, "list-proposals", "/proposals", "The proposals of the newest derivation as they stand", s.proposals)
	server.Post(r, "judge-proposals", "/proposals/judge", "Take and refuse proposals, all in one step", s.judge,
		server.MakesRevision,
		server.CanBeMissing)
	server.Get(r, "list-evidence", "/proposals/{id}/evidence",
		"The conversations of the window that a proposal would newly permit, the busiest first", s.evidence,
		server.CanBeMissing,
		server.CanBeOutdated)
}

func (s *Derivations) derive(ctx context.Context, in *struct {
	answers.Window
	Balance float64 `query:"balance" minimum:"0" maximum:"1" default:"0.5"`
	Group   string  `query:"group" doc:"Only proposals for traffic from or to members of this group"`
	Area    string  `query:"area" doc:"The same for the group of an area"`
}) (*server.Begun, error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	return server.Begin(s.Derive(ctx, v, snap, in.Balance, drafting.DeriveScope{Group: in.Group, Area: in.Area}))
}

func (s *Derivations) proposals(ctx context.Context, _ *struct{}) (*server.Body[Proposals], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := Proposals{}
	d, refused, err := s.Derived(ctx, snap)
	if err != nil {
		return nil, err
	}
	out.Refused = server.Each(refused, func(r drafting.Refusal) Refusal { return Refusal(r) })
	newest, err := s.NewestJob(ctx, "derive")
	if err != nil {
		return nil, err
	}
	if newest != nil {
		live := server.Job(s.Live(*newest))
		out.Job = &live
	}
	if d == nil {
		return server.OK(out), nil
	}
	out.Stale = d.Revision != snap.Head.No
	out.Derived = newDerived(d)
	return server.OK(out), nil
}

// ruleOf finds the rule in the text of a choice.
func ruleOf(text string) *policy.Rule {
	p, _ := policy.ParseLoose("layer " + policy.Allowances + "\n" + text)
	if p == nil || len(p.Rules) == 0 {
		return nil
	}
	return p.Rules[len(p.Rules)-1]
}

func (s *Derivations) judge(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision   int         `json:"revision" doc:"The revision that the proposals were judged on"`
		Judgements []Judgement `json:"judgements" minItems:"1" maxItems:"10000"`
		Together   bool        `json:"together,omitempty" doc:"Combine the taken proposals into one rule with a same clause"`
	}
}) (*server.Stored[answers.EditOut], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	done, err := s.Judge(ctx, v, snap, in.Body.Revision,
		server.Each(in.Body.Judgements, func(j Judgement) drafting.Judgement { return drafting.Judgement(j) }),
		in.Body.Together, in.DryRun)
	if err != nil {
		return nil, err
	}
	out := &server.Stored[answers.EditOut]{Status: http.StatusOK, Body: answers.EditOut{Revision: done.Revision,
		Words:  done.Words,
		Errors: []answers.TextError{}, Consequences: done.Consequences}}
	if done.Revision != snap.Head.No {
		out.Status, out.Location = http.StatusCreated, answers.RevisionPath(done.Revision)
	}
	return out, nil
}

func (s *Derivations) evidence(ctx context.Context, in *struct {
	answers.Window
	server.Page
	ID     int64 `path:"id"`
	Choice int   `query:"choice" minimum:"-1" default:"-1" doc:"Which of its choices; without it, the proposal itself"`
}) (*server.Body[answers.ConversationPage], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	var choice *int
	if in.Choice >= 0 {
		choice = &in.Choice
	}
	p, err := s.ProposalPolicy(ctx, snap, in.ID, choice)
	if err != nil {
		return nil, err
	}
	u, err := snap.Compiled.WithPolicyUntil(ctx, p, snap.Compiled.AsOf)
	if err != nil {
		return nil, err
	}
	after := v.With(u)
	var found []int
	for i := range v.Len() {
		if after.Verdict(i) == decide.Permit && v.Verdict(i) != decide.Permit {
			found = append(found, i)
		}
	}
	slices.SortStableFunc(found, func(a, b int) int { return cmp.Compare(v.At(b).Connections, v.At(a).Connections) })
	out := answers.ConversationPage{Total: len(found), Conversations: []answers.ConversationOut{}}
	from, to := in.Cut(len(found))
	for _, i := range found[from:to] {
		out.Conversations = append(out.Conversations, answers.NewConversationOut(v, i))
	}
	return server.OK(out), nil
}
