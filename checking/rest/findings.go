package rest

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/ingest"
	"lucidorchard/server"
)

// FoundAt is a finding with the statement that it is about.
type FoundAt struct {
	answers.FindingOut
	Line  int    `json:"line" doc:"0 is the whole policy"`
	Text  string `json:"text" doc:"The statement"`
	Group string `json:"group,omitempty"`
}

// FindingList is all that was found of the draft.
type FindingList struct {
	Revision int       `json:"revision"`
	Total    int       `json:"total"`
	Findings []FoundAt `json:"findings"`
}

// findings lists what was found of rules and groups, over all points and from
// what was seen in the window; what can be mended comes first.
func (s *Checks) findings(ctx context.Context, in *struct {
	answers.Window
	server.All
}) (*server.Body[FindingList], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	lines := policy.Lines(snap.Head.Text)
	out := FindingList{Revision: snap.Head.No, Findings: []FoundAt{}}
	explained := map[int]bool{}
	add := func(f prove.Finding) {
		o := FoundAt{FindingOut: answers.NewFindingOut(f), Line: f.Line, Group: f.Group}
		if f.Line > 0 && f.Line <= len(lines) {
			o.Text = lines[f.Line-1]
		}
		out.Findings = append(out.Findings, o)
	}
	for _, f := range snap.Findings() {
		explained[f.Line] = true
		add(f)
	}
	evident := answers.EvidentAt(v)
	for _, r := range snap.Policy.Rules {
		for _, f := range evident[r.Line] {
			if f.Kind != prove.NeverHit || !explained[r.Line] {
				add(f)
			}
		}
	}
	slices.SortStableFunc(out.Findings, func(a, b FoundAt) int {
		mended := func(f FoundAt) int {
			if f.Fix != "" {
				return 0
			}
			return 1
		}
		return cmp.Or(mended(a)-mended(b), a.Line-b.Line)
	})
	out.Total = len(out.Findings)
	out.Findings = server.Cut(ctx, out.Findings, in.All).Body
	return server.OK(out), nil
}

func (s *Checks) exportFindings(ctx context.Context, in *struct{ answers.Window }) (*huma.StreamResponse, error) {
	all, err := s.findings(ctx, &struct {
		answers.Window
		server.All
	}{in.Window, server.All{Limit: math.MaxInt32}})
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("findings.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"line", "statement", "finding", "reason", "fix"})
		for _, f := range all.Body.Findings {
			_ = w.Write([]string{fmt.Sprint(f.Line), f.Text, f.Kind, f.Words, f.Fix})
		}
	}), nil
}
