package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/policy"
	"lucidorchard/store"
)

// ProposalOut is a rule that derivation suggests, with its evidence.
type ProposalOut struct {
	ID            string           `json:"id" doc:"Tells apart proposals of one rule with other evidence, at another balance"`
	Key           string           `json:"key" doc:"The rule without its note: what a refusal is kept under"`
	Text          string           `json:"text" doc:"The groups it needs and the rule, a line each"`
	Rule          RuleOut          `json:"rule"`
	Groups        []string         `json:"groups" doc:"New groups, as statements"`
	Conversations int              `json:"conversations"`
	Pairs         int              `json:"pairs" doc:"Pairs times services that were seen"`
	Opened        int              `json:"opened" doc:"Pairs times services that it opens"`
	Fill          float64          `json:"fill"`
	Connections   int64            `json:"connections"`
	Days          int              `json:"days"`
	First         string           `json:"first"`
	Last          string           `json:"last"`
	Warnings      []string         `json:"warnings"`
	Callers       []CallerOut      `json:"callers" doc:"The busiest, at most 8"`
	CallerCount   int              `json:"callerCount"`
	Spark         []int            `json:"spark"`
	Refused       *store.Refusal   `json:"refused,omitempty"`
	Again         bool             `json:"again" doc:"It was refused, but there is much more behind it now"`
	Narrower      []AlternativeOut `json:"narrower" doc:"Rules that let fewer in; the most of the evidence first"`
	Wider         []AlternativeOut `json:"wider"`
}

// AlternativeOut is another rule that can be taken instead.
type AlternativeOut struct {
	Words         string `json:"words" doc:"In what it differs"`
	Sentence      string `json:"sentence"`
	Text          string `json:"text" doc:"The groups it needs and the rule, a line each"`
	Opened        int    `json:"opened"`
	Conversations int    `json:"conversations" doc:"Of the proposal's, those that it permits"`
}

// PathPointOut is the proposals at one balance.
type PathPointOut struct {
	derive.CurvePoint
	IDs []string `json:"ids" doc:"Of its proposals, in order"`
}

// GoneOut is a rule that nothing in the window needed.
type GoneOut struct {
	Line     int    `json:"line"`
	Sentence string `json:"sentence"`
	Note     string `json:"note,omitempty"`
}

// CallerOut is a client of a proposal.
type CallerOut struct {
	Name          string `json:"name"`
	Label         string `json:"label"`
	Conversations int    `json:"conversations"`
	Connections   int64  `json:"connections"`
	Days          int    `json:"days"`
}

// AsideOut is what was set aside for one reason.
type AsideOut struct {
	Reason        string            `json:"reason"`
	Words         string            `json:"words"`
	Conversations int               `json:"conversations"`
	Examples      []ConversationOut `json:"examples" doc:"At most 50"`
}

// Derived is the result of a derivation.
type Derived struct {
	Revision   int            `json:"revision"`
	Balance    float64        `json:"balance"`
	Considered int            `json:"considered"`
	Covered    int            `json:"covered"`
	Scope      string         `json:"scope,omitempty" doc:"What it was limited to: the group or area"`
	From       string         `json:"from"`
	To         string         `json:"to"`
	Proposals  []ProposalOut  `json:"proposals" doc:"Of all balances, each once"`
	Path       []PathPointOut `json:"path" doc:"The proposals of each balance"`
	Wide       []ProposalOut  `json:"wide" doc:"Rules that one should not take as they are, to be narrowed"`
	Gone       []GoneOut      `json:"gone" doc:"Rules of the draft that nothing in the window needed"`
	Aside      []AsideOut     `json:"aside"`
}

// Proposals is the newest derivation as far as it still stands.
type Proposals struct {
	Job     *store.Job      `json:"job,omitempty" doc:"The newest derivation"`
	Derived *Derived        `json:"derived,omitempty" doc:"Its result, without what the draft has taken"`
	Stale   bool            `json:"stale" doc:"The draft has changed since; deriving again proposes only the difference"`
	Refused []store.Refusal `json:"refused"`
}

// proposalsAPI answers about derivations and their proposals.
type proposalsAPI struct{ *base }

func (s *proposalsAPI) routes(a huma.API) {
	huma.Post(a, "/api/derive", answer(s.base, s.derive))
	huma.Get(a, "/api/proposals", answer(s.base, s.proposals))
	huma.Post(a, "/api/proposals/take", answer(s.base, s.take))
	huma.Post(a, "/api/proposals/refuse", answer(s.base, s.refuse))
	huma.Post(a, "/api/proposals/evidence", answer(s.base, s.evidence))
}

func (s *proposalsAPI) proposals(ctx context.Context, _ *struct{}) (*Body[Proposals], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := Proposals{}
	if out.Refused, err = s.Store.Refusals(ctx); err != nil {
		return nil, err
	}
	newest, d, err := s.derived(ctx)
	if err != nil {
		return nil, err
	}
	if newest != nil {
		live := s.Live(*newest)
		out.Job = &live
	}
	if d != nil {
		s.standing(d, snap, out.Refused)
		out.Derived, out.Stale = d, d.Revision != snap.Head.No
	}
	return body(out), nil
}

func (s *proposalsAPI) take(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun"`
	Body   struct {
		Texts []string `json:"texts" minItems:"1" doc:"Of proposals: the groups they need and the rule, a line each"`
	}
}) (*Body[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	_, derived, err := s.derived(ctx)
	if err != nil {
		return nil, err
	}
	barred := map[string]bool{} // what nobody should take as it is
	if derived != nil {
		for _, p := range derived.Wide {
			barred[p.Key] = true
		}
	}
	var lines []string
	rules := 0
	have := map[string]bool{}
	for _, text := range in.Body.Texts {
		p, errs := policy.ParseLoose("layer " + policy.Allowances + "\n" + text)
		if len(errs) > 0 {
			return nil, refusal(&policy.EditError{Message: "the proposal cannot be read: " + errs[0].Message, Errors: errs})
		}
		for _, item := range p.Items[1:] {
			switch st := item.Statement.(type) {
			case *policy.Group:
				if g := snap.Policy.Groups[st.Name]; g != nil && g.Body() != st.Body() {
					return nil, huma.Error409Conflict("the draft has a group " + st.Name + " that means something else than the proposal's; derive again, then take it")
				} else if g != nil || have[st.Name] {
					continue // taken with an earlier proposal
				}
				have[st.Name] = true
			case *policy.Rule:
				rules++
				if sentence := ruleOut(st).Sentence; barred[sentence] {
					return nil, huma.Error422UnprocessableEntity("the proposal “" + sentence + "” lets far more in than was seen and can only be narrowed; nothing was changed. Take one of its narrower rules")
				}
			}
			if item.Statement != nil {
				lines = append(lines, item.Statement.String())
			}
		}
	}
	if rules == 0 {
		return nil, huma.Error422UnprocessableEntity("texts: found no rule in them, expected the groups and the rule of a proposal, a line each; nothing was changed")
	}
	text := policy.InsertAllowances(snap.Head.Text, lines)
	p, errs := policy.Parse(text)
	if len(errs) > 0 {
		return nil, refusal(&policy.EditError{Message: "the policy would have an error: " + errs[0].Message, Errors: errs})
	}
	text = p.Format()
	words := "Take the proposal “" + lines[len(lines)-1] + "”"
	if last := p.Rules; rules == 1 && len(last) > 0 {
		for _, r := range p.Rules {
			if r.String() == lines[len(lines)-1] {
				words = "Take the proposal “" + ruleOut(r).Sentence + "”"
			}
		}
	}
	if rules > 1 {
		words = fmt.Sprintf("Take %d proposals", rules)
	}
	out := EditOut{Revision: snap.Head.No, Words: words, Errors: []TextError{}}
	c := app.ConsequencesOf(v, snap, snap.After(text))
	out.Consequences = &c
	if in.DryRun {
		return body(out), nil
	}
	out.Revision, err = s.SaveText(ctx, snap, text, words)
	return body(out), err
}

// evidence gives the conversations of the window that a proposal would newly
// permit, busiest first.
func (s *proposalsAPI) evidence(ctx context.Context, in *struct {
	Window
	Page
	Body struct {
		Text string `json:"text" minLength:"1" doc:"Of a proposal or an alternative: the groups it needs and the rule, a line each"`
	}
}) (*Body[ConversationPage], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, errs := policy.Parse(policy.InsertAllowances(snap.Head.Text, strings.Split(in.Body.Text, "\n")))
	if len(errs) > 0 {
		return nil, refusal(&policy.EditError{Message: "the proposal cannot be read: " + errs[0].Message, Errors: errs})
	}
	after := v.With(snap.Compiled.WithPolicy(p, snap.Compiled.AsOf))
	var found []int
	for i := range v.Len() {
		if after.Verdict(i) == decide.Permit && v.Verdict(i) != decide.Permit {
			found = append(found, i)
		}
	}
	slices.SortStableFunc(found, func(a, b int) int { return cmp.Compare(v.At(b).Connections, v.At(a).Connections) })
	out := ConversationPage{Total: len(found), Conversations: []ConversationOut{}}
	from, to := in.cut(len(found))
	for _, i := range found[from:to] {
		out.Conversations = append(out.Conversations, conversationOut(v, i))
	}
	return body(out), nil
}

func (s *proposalsAPI) refuse(ctx context.Context, in *struct {
	Body struct {
		Rule          string `json:"rule" minLength:"1" doc:"Key of the proposal"`
		Reason        string `json:"reason"`
		Conversations int    `json:"conversations,omitempty" minimum:"0" doc:"Behind the proposal"`
		Callers       int    `json:"callers,omitempty" minimum:"0"`
		Instead       string `json:"instead,omitempty" doc:"Sentence of the rule that was taken instead: the refusal holds while it stands in the draft"`
		Again         bool   `json:"again,omitempty" doc:"Take the refusal back"`
	}
}) (*Body[[]store.Refusal], error) {
	var err error
	if in.Body.Again {
		err = s.Store.AllowAgain(ctx, in.Body.Rule)
	} else {
		err = s.Store.Refuse(ctx, store.Refusal{Rule: in.Body.Rule, Reason: in.Body.Reason, Author: s.Author, Conversations: in.Body.Conversations, Callers: in.Body.Callers, Instead: in.Body.Instead})
	}
	if err != nil {
		return nil, err
	}
	s.Events.Changed()
	all, err := s.Store.Refusals(ctx)
	if err != nil {
		return nil, err
	}
	return body(all), nil
}
