package api

// Deriving, and the proposals of the newest derivation as they stand.

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/expr"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/store"
)

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

// derived gives the newest derivation, and the result of the newest that is done.
func (s *proposalsAPI) derived(ctx context.Context) (newest *store.Job, d *Derived, err error) {
	newest, done, err := s.Store.NewestJobs(ctx, "derive")
	if err != nil {
		return nil, nil, err
	}
	if done == nil {
		return newest, nil, nil
	}
	d = &Derived{}
	if err := json.Unmarshal(*done.Result, d); err != nil {
		return nil, nil, fmt.Errorf("the result of derivation %d cannot be read: %w", done.ID, err)
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

func sortCallers(cs []CallerOut) {
	slices.SortStableFunc(cs, func(a, b CallerOut) int { return cmp.Compare(b.Connections, a.Connections) })
}
