package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
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

func (s *proposalsAPI) derive(ctx context.Context, in *struct {
	Window
	Balance float64 `query:"balance" minimum:"0" maximum:"1" default:"0.5"`
	Group   string  `query:"group" doc:"Only what members of this group call, or are called for"`
	Area    string  `query:"area" doc:"The same for the group of an area"`
}) (*Body[store.Job], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	group, scope := in.Group, in.Group
	if in.Area != "" {
		a := snap.Policy.Areas[in.Area]
		if a == nil {
			return nil, huma.Error404NotFound("there is no area " + in.Area)
		}
		group, scope = a.Group.Name, "area "+in.Area
	}
	if group != "" && snap.Policy.Groups[group] == nil {
		return nil, huma.Error404NotFound("there is no group " + group)
	}
	job, err := s.Start(ctx, "derive", "Derive proposals", func(ctx context.Context, progress func(float64, string)) (any, error) {
		return deriveFrom(ctx, v, snap, in.Balance, group, scope, progress)
	})
	return body(job), err
}

func deriveFrom(ctx context.Context, v *reach.View, snap *model.Model, balance float64, group, scope string, progress func(float64, string)) (any, error) {
	convs := make([]derive.Conversation, v.Len())
	for i := range convs {
		c := v.At(i)
		convs[i] = derive.Conversation{Client: c.Client, Server: c.Server, Point: c.Point, Dropped: c.Dropped, Connections: c.Connections - c.Dropped, First: c.First, Last: c.Last}
		for _, b := range v.RowsOf(i) {
			convs[i].Days.Add(v.Table.Bucket(int(b)).First)
		}
	}
	input := derive.Input{Compiled: snap.Compiled, Conversations: convs, Balance: balance, Judged: true, Progress: func(done float64) bool {
		progress(done, fmt.Sprintf("looking at %d conversations", len(convs)))
		return ctx.Err() == nil
	}}
	if group != "" {
		in := func(p decide.Placed) bool { return snap.Compiled.Group(group, p) == expr.Yes }
		input.Scope = func(client, server decide.Placed) bool { return in(client) || in(server) }
	}
	result := derive.Derive(input)
	if result == nil {
		return nil, ctx.Err()
	}
	out := Derived{
		Revision: snap.Head.No, Balance: balance, Considered: result.Considered, Covered: result.Covered, Scope: scope, From: v.From.Start().String(), To: v.To.Start().String(),
		Proposals: []ProposalOut{}, Path: []PathPointOut{}, Wide: []ProposalOut{}, Gone: []GoneOut{}, Aside: []AsideOut{},
	}
	known := map[string]bool{}
	for _, at := range result.Path {
		point := PathPointOut{at.CurvePoint, []string{}}
		for i := range at.Proposals {
			p := proposalOut(v, convs, &at.Proposals[i])
			point.IDs = append(point.IDs, p.ID)
			if !known[p.ID] {
				known[p.ID] = true
				out.Proposals = append(out.Proposals, p)
			}
		}
		out.Path = append(out.Path, point)
	}
	for i := range result.Wide {
		out.Wide = append(out.Wide, proposalOut(v, convs, &result.Wide[i]))
	}
	if group == "" {
		for _, i := range derive.Gone(input) {
			r := snap.Policy.Rules[i]
			out.Gone = append(out.Gone, GoneOut{r.Line, ruleOut(r).Sentence, r.Note})
		}
	}
	for _, a := range result.Aside {
		o := AsideOut{Reason: string(a.Reason), Words: a.Reason.Words(), Conversations: len(a.Conversations), Examples: []ConversationOut{}}
		for _, i := range a.Conversations[:min(50, len(a.Conversations))] {
			o.Examples = append(o.Examples, conversationOut(v, i))
		}
		out.Aside = append(out.Aside, o)
	}
	return out, nil
}

func proposalOut(v *reach.View, convs []derive.Conversation, p *derive.Proposal) ProposalOut {
	bare := *p.Rule
	bare.Note = ""
	out := ProposalOut{
		Key: bare.String(), Rule: *ruleOut(p.Rule), Groups: []string{}, Conversations: len(p.Conversations), Pairs: p.Pairs, Opened: p.Opened, Fill: p.Fill(),
		Connections: p.Connections, Days: p.Days, First: p.First.String(), Last: p.Last.String(), Warnings: p.Warnings, Callers: []CallerOut{}, Spark: make([]int, 24),
	}
	if out.Warnings == nil {
		out.Warnings = []string{}
	}
	out.Narrower, out.Wider = alternativesOut(p.Narrower), alternativesOut(p.Wider)
	for _, g := range p.Groups {
		out.Groups = append(out.Groups, g.String())
		out.Text += g.String() + "\n"
	}
	out.Text += p.Rule.String()
	index := map[string]int{}
	days := map[string]*derive.Days{}
	for _, i := range p.Conversations {
		c := v.At(i)
		name := v.Name(c.Client)
		k, ok := index[name]
		if !ok {
			k = len(out.Callers)
			index[name] = k
			client, _ := v.Labels(i)
			out.Callers = append(out.Callers, CallerOut{Name: name, Label: client.Text})
			days[name] = new(derive.Days)
		}
		out.Callers[k].Conversations++
		out.Callers[k].Connections += convs[i].Connections
		*days[name] |= convs[i].Days
		out.Callers[k].Days = days[name].Count()
		v.Spread(i, out.Spark)
	}
	out.CallerCount = len(out.Callers)
	sortCallers(out.Callers)
	out.Callers = out.Callers[:min(8, len(out.Callers))]
	out.ID = fmt.Sprintf("%s #%d", out.Key, out.Conversations)
	return out
}

func alternativesOut(all []derive.Alternative) []AlternativeOut {
	out := []AlternativeOut{}
	for _, a := range all {
		o := AlternativeOut{Words: a.Words, Sentence: ruleOut(a.Rule).Sentence, Opened: a.Opened, Conversations: a.Conversations}
		for _, g := range a.Groups {
			o.Text += g.String() + "\n"
		}
		o.Text += a.Rule.String()
		out = append(out, o)
	}
	return out
}

func (s *proposalsAPI) proposals(ctx context.Context, _ *struct{}) (*Body[Proposals], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := Proposals{}
	if out.Refused, err = s.Store.Refusals(ctx); err != nil {
		return nil, s.failed(ctx, err)
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

// derived gives the newest derivation, and the result of the newest that is done.
func (s *proposalsAPI) derived(ctx context.Context) (newest *store.Job, d *Derived, err error) {
	newest, done, err := s.Store.NewestJobs(ctx, "derive")
	if err != nil {
		return nil, nil, s.failed(ctx, err)
	}
	if done == nil {
		return newest, nil, nil
	}
	d = &Derived{}
	if err := json.Unmarshal(*done.Result, d); err != nil {
		return nil, nil, s.failed(ctx, fmt.Errorf("the result of derivation %d cannot be read: %w", done.ID, err))
	}
	return newest, d, nil
}

// standing drops proposals whose rule is in the draft, and notes refusals.
func (s *proposalsAPI) standing(d *Derived, snap *model.Model, refused []store.Refusal) {
	have := map[string]bool{}
	for _, r := range snap.Policy.Rules {
		have[ruleOut(r).Sentence] = true
	}
	for _, list := range []*[]ProposalOut{&d.Proposals, &d.Wide} {
		kept := []ProposalOut{}
		for _, p := range *list {
			if have[p.Key] {
				continue
			}
			for i := range refused {
				if r := refused[i]; r.Rule == p.Key && (r.Instead == "" || have[r.Instead]) {
					p.Refused, p.Again = &refused[i], muchMore(refused[i], p)
				}
			}
			kept = append(kept, p)
		}
		*list = kept
	}
	d.Gone = slices.DeleteFunc(d.Gone, func(g GoneOut) bool { return !have[g.Sentence] })
	for i := range d.Gone { // lines move
		for _, r := range snap.Policy.Rules {
			if ruleOut(r).Sentence == d.Gone[i].Sentence {
				d.Gone[i].Line = r.Line
			}
		}
	}
}

// muchMore reports whether the evidence has changed so much since a refusal that
// a person should look again: twice the conversations or callers, and not just a
// few.
func muchMore(r store.Refusal, p ProposalOut) bool {
	return r.Conversations > 0 && (p.Conversations >= 2*r.Conversations+5 || p.CallerCount >= 2*r.Callers+3)
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
		return nil, s.failed(ctx, err)
	}
	s.Events.Changed()
	all, err := s.Store.Refusals(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	return body(all), nil
}

func sortCallers(cs []CallerOut) {
	slices.SortStableFunc(cs, func(a, b CallerOut) int { return cmp.Compare(b.Connections, a.Connections) })
}
