package api

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/ingest"
	"lucidorchard/model"
)

// FindingOut is something that a reader should know of a statement.
type FindingOut struct {
	Kind  string `json:"kind"`
	Words string `json:"words" doc:"The reason"`
	Fix   string `json:"fix,omitempty" doc:"What would settle it with one action, in words"`
	Turns bool   `json:"turns,omitempty" doc:"The fix decides something differently: look at the consequences first"`
}

func findingOut(f prove.Finding) FindingOut {
	out := FindingOut{Kind: string(f.Kind), Words: f.Words}
	if f.Fix != nil {
		out.Fix, out.Turns = f.Fix.Words, f.Fix.Changes
	}
	return out
}

// findingsAt gives what was found of the statement on a line.
func findingsAt(snap *model.Model, line int) []FindingOut {
	out := []FindingOut{}
	for _, f := range snap.FindingsAt(line) {
		out = append(out, findingOut(f))
	}
	return out
}

// evidentAt gives what the window says of the rules, by their lines.
func evidentAt(v *reach.View) map[int][]prove.Finding {
	out := map[int][]prove.Finding{}
	if v.Len() == 0 {
		return out
	}
	for _, f := range prove.Evident(v.Compiled, v.Evidence()) {
		out[f.Line] = append(out[f.Line], f)
	}
	return out
}

// ruleFindings adds to what is found over all points what the window says. That
// nothing hits a rule is no news where something else explains it.
func ruleFindings(r *policy.Rule, snap *model.Model, evident map[int][]prove.Finding) []FindingOut {
	if r.Off {
		return []FindingOut{{Kind: "off", Words: "It is off: it matches nothing."}}
	}
	out := findingsAt(snap, r.Line)
	for _, f := range evident[r.Line] {
		if f.Kind != prove.NeverHit || len(out) == 0 {
			out = append(out, findingOut(f))
		}
	}
	return out
}

// FoundAt is a finding with the statement that it is about.
type FoundAt struct {
	FindingOut
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
func (s *checkAPI) findings(ctx context.Context, in *struct {
	Window
	All
}) (*Body[FindingList], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	lines := policy.Lines(snap.Head.Text)
	out := FindingList{Revision: snap.Head.No, Findings: []FoundAt{}}
	explained := map[int]bool{}
	add := func(f prove.Finding) {
		o := FoundAt{FindingOut: findingOut(f), Line: f.Line, Group: f.Group}
		if f.Line > 0 && f.Line <= len(lines) {
			o.Text = lines[f.Line-1]
		}
		out.Findings = append(out.Findings, o)
	}
	for _, f := range snap.Findings() {
		explained[f.Line] = true
		add(f)
	}
	evident := evidentAt(v)
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
	out.Findings = cut(ctx, out.Findings, in.All).Body
	return body(out), nil
}

// fix makes the edits that settle a finding.
func (s *policyAPI) fix(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision that the finding was read in"`
		Line     int    `json:"line" doc:"Of the statement"`
		Kind     string `json:"kind" doc:"Of the finding"`
	}
}) (*Stored[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	line, err := s.Locate(ctx, snap, in.Body.Revision, in.Body.Line)
	if err != nil {
		return nil, err
	}
	for _, f := range append(slices.Clone(snap.Findings()), evidentAt(v)[line]...) {
		if f.Line != line || string(f.Kind) != in.Body.Kind || f.Fix == nil {
			continue
		}
		text, bad := policy.ApplyAll(snap.Head.Text, f.Fix.Edits)
		if bad != nil {
			return nil, refusal(bad)
		}
		words := fmt.Sprintf("%s, because it is %s: “%s”", f.Fix.Words, f.Kind, policy.Lines(snap.Head.Text)[line-1])
		return s.edited(ctx, v, snap, text, words, in.DryRun)
	}
	return nil, huma.Error409Conflict("nothing of that kind is found there any more; nothing was changed")
}

func (s *checkAPI) exportFindings(ctx context.Context, in *struct{ Window }) (*huma.StreamResponse, error) {
	all, err := s.findings(ctx, &struct {
		Window
		All
	}{in.Window, All{Limit: math.MaxInt32}})
	if err != nil {
		return nil, err
	}
	return stream("findings.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"line", "statement", "finding", "reason", "fix"})
		for _, f := range all.Body.Findings {
			_ = w.Write([]string{fmt.Sprint(f.Line), f.Text, f.Kind, f.Words, f.Fix})
		}
	}), nil
}
