package rest

import (
	"context"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/ingest"
	"lucidorchard/server"
)

// UseOut is what was seen of something in the window.
type UseOut struct {
	Conversations int    `json:"conversations"`
	Pairs         int    `json:"pairs" doc:"Of a client and a server"`
	Connections   int64  `json:"connections"`
	Last          string `json:"last,omitempty" doc:"When the newest of them was last seen"`
	Spark         []int  `json:"spark" doc:"Connections over the window"`
}

// GroupUse is what members of a group were seen to reach, and what was seen to
// reach them.
type GroupUse struct {
	Reaches UseOut `json:"reaches"`
	Reached UseOut `json:"reached"`
}

// groupFigures are the figures of a group.
type groupFigures struct {
	Name string `json:"name"`
	GroupUse
}

// ruleFigures are the figures of a rule.
type ruleFigures struct {
	answers.RuleRef
	Off bool   `json:"off"`
	Use UseOut `json:"use"`
}

// Figures are what was seen of every rule, and of every group.
type Figures struct {
	Rules  []ruleFigures  `json:"rules" doc:"In deciding order"`
	Groups []groupFigures `json:"groups" doc:"In the order of the text"`
}

// Usage answers about figures of rules and groups.
type Usage struct {
	*answers.Desk
}

func (s *Usage) Routes(r server.Routes) {
	server.Get(r, "read-figures", "/figures", "What each rule and each group decides in the window", s.figures)
	server.Get(r, "read-group-use", "/groups/use", "Where a group is used, and by what traffic", s.groupUse,
		server.CanBeMissing)
	server.Get(r, "export-rule-figures", "/figures/rules.csv", "The figures of the rules as CSV", s.exportRuleFigures)
	server.Get(r, "export-group-figures", "/figures/groups.csv", "The figures of the groups as CSV",
		s.exportGroupFigures)
}

func useOut(u reach.Use) UseOut {
	out := UseOut{Conversations: u.Conversations, Pairs: u.Pairs, Connections: u.Connections, Spark: u.Spark[:]}
	if u.Conversations > 0 {
		out.Last = u.Last.String()
	}
	return out
}

func (s *Usage) groupUse(ctx context.Context, in *struct {
	answers.Window
	Name string `query:"name" required:"true"`
}) (*server.Body[GroupUse], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(snap.Policy.GroupOrder, func(g *policy.Group) bool { return g.Name == in.Name })
	if i < 0 {
		return nil, huma.Error404NotFound("there is no group " + in.Name)
	}
	u := v.GroupUses()[i]
	return server.OK(GroupUse{useOut(u.Reaches), useOut(u.Reached)}), nil
}

func (s *Usage) figures(ctx context.Context, in *struct{ answers.Window }) (*server.Body[Figures], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	out := Figures{Rules: []ruleFigures{}, Groups: []groupFigures{}}
	uses := v.RuleUses()
	for i, r := range snap.Policy.Rules {
		out.Rules = append(out.Rules, ruleFigures{*answers.NewRuleRef(r), r.Off, useOut(uses[i])})
	}
	groups := v.GroupUses()
	for i, g := range snap.Policy.GroupOrder {
		out.Groups = append(out.Groups, groupFigures{g.Name,
			GroupUse{useOut(groups[i].Reaches), useOut(groups[i].Reached)}})
	}
	lines := map[string]int{}
	for _, g := range snap.Policy.GroupOrder {
		lines[g.Name] = g.Line
	}
	slices.SortFunc(out.Groups, func(a, b groupFigures) int { return lines[a.Name] - lines[b.Name] })
	return server.OK(out), nil
}

func (s *Usage) exportRuleFigures(ctx context.Context, in *struct{ answers.Window }) (*huma.StreamResponse, error) {
	all, err := s.figures(ctx, in)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("rules.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"line", "layer", "rule", "note", "conversations", "pairs", "connections", "last"})
		for _, r := range all.Body.Rules {
			_ = w.Write(append([]string{strconv.Itoa(r.Line), r.Layer, r.Sentence, r.Note}, r.Use.cells()...))
		}
	}), nil
}

func (s *Usage) exportGroupFigures(ctx context.Context, in *struct{ answers.Window }) (*huma.StreamResponse, error) {
	all, err := s.figures(ctx, in)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("groups.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"group", "reached_conversations", "reached_pairs", "reached_connections", "reached_last",
			"reaches_conversations", "reaches_pairs", "reaches_connections", "reaches_last"})
		for _, g := range all.Body.Groups {
			_ = w.Write(slices.Concat([]string{g.Name}, g.Reached.cells(), g.Reaches.cells()))
		}
	}), nil
}

func (u UseOut) cells() []string {
	return []string{strconv.Itoa(u.Conversations), strconv.Itoa(u.Pairs), strconv.FormatInt(u.Connections, 10),
		u.Last}
}
