package rest

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/reach"
	"lucidorchard/server"
)

// EffectiveRule is a rule that can decide traffic of a workload.
type EffectiveRule struct {
	answers.RuleRef
	Number int `json:"number" doc:"Its place in deciding order, from 1"`
	Hits   int `json:"hits" doc:"Conversations of the workload in the window that it decides"`
}

// WorkloadRules is what may reach a workload, and what it may reach, in deciding
// order.
type WorkloadRules struct {
	In     []EffectiveRule   `json:"in" doc:"Rules that can match with the workload as server"`
	Out    []EffectiveRule   `json:"out" doc:"With the workload as client"`
	ToIt   answers.CountsOut `json:"toIt" doc:"Conversations of the window in which it is the server"`
	FromIt answers.CountsOut `json:"fromIt" doc:"In which it is the client"`
	Said   []SourceValue     `json:"said" doc:"Its tag values from every source"`
	Former []FormerValue     `json:"former" doc:"Earlier values"`
}

func (s *Workloads) workloadRules(ctx context.Context, in *struct {
	answers.Window
	ID      string `path:"id"`
	Release int    `query:"release" minimum:"0" doc:"The rules of this release; 0: those of the draft"`
}) (*server.Body[WorkloadRules], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	if in.Release != 0 {
		if v, err = s.Releasing.UnderRelease(ctx, v, snap, in.Release); err != nil {
			return nil, err
		}
	}
	i, ok := snap.Estate.ByID(in.ID)
	if !ok {
		return nil, huma.Error404NotFound("there is no workload with the id " + in.ID)
	}
	out := WorkloadRules{In: []EffectiveRule{}, Out: []EffectiveRule{}}
	said, err := s.ValuesOf(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	former, err := s.TagHistory(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out.Said, out.Former = server.Each(said, newSourceValue), server.Each(former, newFormerValue)
	hits := [2]map[int]int{{}, {}}
	for k, to := range []*answers.CountsOut{&out.ToIt, &out.FromIt} {
		var counts reach.Counts
		for _, c := range v.Select(reach.Query{Workload: &i, Turn: k == 1}) {
			conv := v.At(c)
			counts[conv.Verdict]++
			if conv.Rule != nil {
				hits[k][conv.Rule.Line]++
			}
		}
		*to = answers.NewCountsOut(counts)
	}
	c := v.Compiled
	ep := snap.Estate.Endpoints(i, c.AsOf)[0]
	if !ep.Addr.IsValid() {
		return server.OK(out), nil // it has no address: nothing can match
	}
	people := snap.People()
	if in.Release != 0 {
		people = c.Population(c.AsOf)
	}
	asClient, asServer := c.RulesOf(c.At(ep.Addr, c.AsOf), people)
	rule := func(r int32, hits map[int]int) EffectiveRule {
		ref := answers.NewRuleRef(c.Policy.Rules[r])
		return EffectiveRule{*ref, int(r) + 1, hits[ref.Line]}
	}
	for _, r := range asServer {
		out.In = append(out.In, rule(r, hits[0]))
	}
	for _, r := range asClient {
		out.Out = append(out.Out, rule(r, hits[1]))
	}
	return server.OK(out), nil
}
