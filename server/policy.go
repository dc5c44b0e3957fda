package server

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/store"
)

// StatementOut is a line of the policy document.
type StatementOut struct {
	Line     int          `json:"line"`
	Kind     string       `json:"kind" enum:"service,group,area,layer,rule,assertion,comment"`
	Text     string       `json:"text" doc:"The whole line"`
	Name     string       `json:"name,omitempty"`
	Note     string       `json:"note,omitempty"`
	Rule     *RuleOut     `json:"rule,omitempty"`
	Findings []FindingOut `json:"findings,omitempty"`
	Author   string       `json:"author,omitempty"`
	At       string       `json:"at,omitempty"`
	Hits     int          `json:"hits" doc:"Conversations of the window that the rule decides"`
	Last     string       `json:"last,omitempty" doc:"When the newest of them was last seen"`
	Spark    []int        `json:"spark,omitempty"`
}

// RuleOut is a rule cut into the parts of its sentence.
type RuleOut struct {
	Action   string   `json:"action" enum:"permit,reject,apart"`
	Off      bool     `json:"off"`
	Left     []string `json:"left" doc:"Of apart: the groups"`
	Right    []string `json:"right"`
	On       []string `json:"on"`
	Clauses  string   `json:"clauses"`
	Layer    string   `json:"layer"`
	Sentence string   `json:"sentence" doc:"Without the note"`
}

// PolicyOut is the policy document.
type PolicyOut struct {
	Revision   int            `json:"revision"`
	Text       string         `json:"text"`
	Statements []StatementOut `json:"statements"`
	Rules      int            `json:"rules"`
	Counts     CountsOut      `json:"counts" doc:"Conversations of the window by verdict"`
	Undo       *store.Change  `json:"undo,omitempty"`
	Redo       *store.Change  `json:"redo,omitempty"`
	Edits      int            `json:"edits" doc:"Revisions since the beginning"`
}

// EditIn is an edit of the document.
type EditIn struct {
	Revision int    `json:"revision" doc:"The revision that the edit was made on"`
	Op       string `json:"op" enum:"add,change,remove,move,switch"`
	Line     int    `json:"line,omitempty" doc:"Of the statement, in that revision"`
	Text     string `json:"text,omitempty" doc:"The new statement; for add one or more, a line each"`
	Before   int    `json:"before,omitempty" doc:"add, move: the line to put it before; without it, at the end of the layer"`
	Layer    string `json:"layer,omitempty"`
}

// EditOut is what an edit did, or would do.
type EditOut struct {
	Revision     int           `json:"revision"`
	Words        string        `json:"words"`
	Errors       []TextError   `json:"errors" doc:"Of a dry run; without one, errors are a problem"`
	Consequences *Consequences `json:"consequences,omitempty"`
}

func (s *Server) policyRoutes() {
	huma.Get(s.api, "/api/policy", s.getPolicy)
	huma.Post(s.api, "/api/policy/edits", s.editPolicy)
	huma.Post(s.api, "/api/policy/mend", s.mend)
	huma.Post(s.api, "/api/policy/text", s.importPolicy)
	huma.Post(s.api, "/api/policy/undo", s.undo)
	huma.Post(s.api, "/api/policy/redo", s.redo)
	huma.Get(s.api, "/api/policy/revisions", s.revisions)
	huma.Register(s.api, huma.Operation{OperationID: "export-policy", Method: http.MethodGet, Path: "/api/policy.orchard", Summary: "The policy text"}, s.exportPolicy)
}

func (s *Server) getPolicy(ctx context.Context, in *struct{ Window }) (*Body[PolicyOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	undo, redo, err := s.Store.Undoable(ctx)
	if err != nil {
		return nil, unavailable(err)
	}
	revisions, err := s.Store.Revisions(ctx, 100_000)
	if err != nil {
		return nil, unavailable(err)
	}
	byNo := map[int]store.Revision{}
	for _, r := range revisions {
		byNo[r.No] = r
	}
	totals := v.Totals()
	uses := v.RuleUses()
	index := map[*policy.Rule]int{}
	for i, r := range snap.policy.Rules {
		index[r] = i
	}
	evident := evidentAt(v)
	lines := policy.Lines(snap.head.Text)
	out := PolicyOut{Revision: snap.head.No, Text: snap.head.Text, Statements: []StatementOut{}, Rules: len(snap.policy.Rules), Counts: countsOut(totals.Conversations), Undo: undo, Redo: redo, Edits: len(revisions)}
	for _, item := range snap.policy.Items {
		o, ok := statementOut(item, lines)
		if !ok {
			continue
		}
		if k := item.First - 1; k < len(snap.head.Blame) {
			if r, ok := byNo[snap.head.Blame[k]]; ok {
				o.Author, o.At = r.Author, r.At.UTC().Format("2006-01-02T15:04:05Z")
			}
		}
		if r, ok := item.Statement.(*policy.Rule); ok {
			use := &uses[index[r]]
			if o.Hits = use.Conversations; o.Hits > 0 {
				o.Spark, o.Last = use.Spark[:], use.Last.String()
			}
			o.Findings = ruleFindings(r, snap, evident)
		}
		out.Statements = append(out.Statements, o)
	}
	return body(out), nil
}

func statementOut(item policy.Item, lines []string) (StatementOut, bool) {
	o := StatementOut{Line: item.First}
	if item.First <= len(lines) {
		o.Text = lines[item.First-1]
	}
	if item.Statement == nil {
		o.Kind = "comment"
		return o, item.Comment != ""
	}
	o.Kind = kindOf(item.Statement)
	switch st := item.Statement.(type) {
	case *policy.Service:
		o.Name, o.Note = st.Name, st.Note
	case *policy.Group:
		o.Name, o.Note = st.Name, st.Note
	case *policy.Area:
		o.Name, o.Note = st.Name, st.Note
	case *policy.Layer:
		o.Name, o.Note = st.Name, st.Note
	case *policy.Assert:
		o.Note = st.Note
	case *policy.Rule:
		o.Note, o.Rule = st.Note, ruleOut(st)
	}
	return o, true
}

func ruleOut(r *policy.Rule) *RuleOut {
	bare := *r
	bare.Note, bare.Off = "", false
	out := &RuleOut{Action: r.Action.String(), Off: r.Off, Left: items(r.Left), Right: items(r.Right), On: []string{}, Clauses: r.Clauses.String(), Sentence: bare.String()}
	if r.Layer != nil {
		out.Layer = r.Layer.Name
	}
	if r.Action == policy.Apart {
		for _, g := range r.Groups {
			out.Left = append(out.Left, g.Name)
		}
	}
	if r.On.Any {
		out.On = append(out.On, "any")
	}
	for _, sp := range r.On.Specs {
		out.On = append(out.On, policy.Services{Specs: []policy.Spec{sp}}.String())
	}
	return out
}

func items(l policy.List) []string {
	out := []string{}
	if l.Any {
		out = append(out, "any")
	}
	for _, o := range l.Items {
		out = append(out, o.String())
	}
	return out
}

// FindingOut is something that a reader should know of a statement.
type FindingOut struct {
	Kind  string `json:"kind"`
	Words string `json:"words" doc:"The reason"`
	Mend  string `json:"mend,omitempty" doc:"What would settle it with one action, in words"`
	Turns bool   `json:"turns,omitempty" doc:"The mend decides something differently: look at the consequences first"`
}

func findingOut(f prove.Finding) FindingOut {
	out := FindingOut{Kind: string(f.Kind), Words: f.Words}
	if f.Mend != nil {
		out.Mend, out.Turns = f.Mend.Words, f.Mend.Changes
	}
	return out
}

// findingsAt gives what was found of the statement on a line.
func (snap snapshot) findingsAt(line int) []FindingOut {
	out := []FindingOut{}
	for _, f := range snap.findings() {
		if f.Line == line {
			out = append(out, findingOut(f))
		}
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
func ruleFindings(r *policy.Rule, snap snapshot, evident map[int][]prove.Finding) []FindingOut {
	if r.Off {
		return []FindingOut{{Kind: "off", Words: "It is off: it matches nothing."}}
	}
	out := snap.findingsAt(r.Line)
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
	Findings []FoundAt `json:"findings"`
}

// findings lists what was found of rules and groups, over all points and from
// what was seen in the window; what can be mended comes first.
func (s *Server) findings(ctx context.Context, in *struct{ Window }) (*Body[FindingList], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	lines := policy.Lines(snap.head.Text)
	out := FindingList{Revision: snap.head.No, Findings: []FoundAt{}}
	explained := map[int]bool{}
	add := func(f prove.Finding) {
		o := FoundAt{FindingOut: findingOut(f), Line: f.Line, Group: f.Group}
		if f.Line > 0 && f.Line <= len(lines) {
			o.Text = lines[f.Line-1]
		}
		out.Findings = append(out.Findings, o)
	}
	for _, f := range snap.findings() {
		explained[f.Line] = true
		add(f)
	}
	evident := evidentAt(v)
	for _, r := range snap.policy.Rules {
		for _, f := range evident[r.Line] {
			if f.Kind != prove.NeverHit || !explained[r.Line] {
				add(f)
			}
		}
	}
	slices.SortStableFunc(out.Findings, func(a, b FoundAt) int {
		mended := func(f FoundAt) int {
			if f.Mend != "" {
				return 0
			}
			return 1
		}
		return cmp.Or(mended(a)-mended(b), a.Line-b.Line)
	})
	return body(out), nil
}

// mend makes the edits that settle a finding.
func (s *Server) mend(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision that the finding was read in"`
		Line     int    `json:"line" doc:"Of the statement"`
		Kind     string `json:"kind" doc:"Of the finding"`
	}
}) (*Body[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	line, err := s.locate(ctx, snap, in.Body.Revision, in.Body.Line)
	if err != nil {
		return nil, err
	}
	for _, f := range append(slices.Clone(snap.findings()), evidentAt(v)[line]...) {
		if f.Line != line || string(f.Kind) != in.Body.Kind || f.Mend == nil {
			continue
		}
		text, bad := policy.ApplyAll(snap.head.Text, f.Mend.Edits)
		if bad != nil {
			return nil, refusal(bad)
		}
		out := EditOut{Revision: snap.head.No, Words: fmt.Sprintf("%s, because it is %s: “%s”", f.Mend.Words, f.Kind, policy.Lines(snap.head.Text)[line-1]), Errors: []TextError{}}
		p, _ := policy.Parse(text)
		c := s.consequences(v, snap, snap.compiled.WithPolicy(p, snap.compiled.AsOf))
		out.Consequences = &c
		if !in.DryRun {
			out.Revision, err = s.saveText(ctx, snap, text, out.Words)
		}
		return body(out), err
	}
	return nil, huma.Error409Conflict("nothing of that kind is found there any more; nothing was changed")
}

// locate finds where a line of an older revision stands now. A line that has
// changed meanwhile is refused, with both versions.
func (s *Server) locate(ctx context.Context, snap snapshot, base, line int) (int, error) {
	if base == snap.head.No || line == 0 {
		return line, nil
	}
	old, err := s.Store.Revision(ctx, base)
	if err != nil {
		return 0, huma.Error422UnprocessableEntity("there is no revision with the number that the edit names")
	}
	before, after := policy.Lines(old.Text), policy.Lines(snap.head.Text)
	if line < 1 || line > len(before) {
		return 0, huma.Error422UnprocessableEntity("the revision has no such line")
	}
	where := policy.Follow(before, after)
	if to := where[line-1]; to > 0 {
		return to, nil
	}
	return 0, huma.Error409Conflict(fmt.Sprintf("somebody has changed this statement meanwhile. It was: %s. Now, in revision %d: %s. Nothing was changed; make the edit again on what stands there now",
		before[line-1], snap.head.No, inPlace(where, after, line)))
}

// inPlace says what stands where a line stood that is no longer as it was:
// the new line behind the nearest one above it that has stayed.
func inPlace(where []int, after []string, line int) string {
	behind := 0
	for k := line - 2; k >= 0 && behind == 0; k-- {
		behind = where[k]
	}
	if behind < len(after) && after[behind] != "" && !slices.Contains(where, behind+1) {
		return after[behind]
	}
	return "it is gone from its place"
}

func (s *Server) editPolicy(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   EditIn
}) (*Body[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	edit := policy.Edit{Op: policy.Op(in.Body.Op), Text: in.Body.Text, Layer: in.Body.Layer}
	if edit.Line, err = s.locate(ctx, snap, in.Body.Revision, in.Body.Line); err != nil {
		return nil, err
	}
	if edit.Before, err = s.locate(ctx, snap, in.Body.Revision, in.Body.Before); err != nil {
		return nil, err
	}
	text, words, bad := edit.Apply(snap.head.Text)
	if bad != nil {
		if in.DryRun {
			return body(EditOut{Revision: snap.head.No, Errors: orMessage(textErrors(bad.Errors), bad.Message)}), nil
		}
		return nil, refusal(bad)
	}
	out := EditOut{Revision: snap.head.No, Words: words, Errors: []TextError{}}
	if in.DryRun {
		p, _ := policy.Parse(text)
		c := s.consequences(v, snap, snap.compiled.WithPolicy(p, snap.compiled.AsOf))
		out.Consequences = &c
		return body(out), nil
	}
	out.Revision, err = s.saveText(ctx, snap, text, words)
	return body(out), err
}

func orMessage(errs []TextError, message string) []TextError {
	if len(errs) == 0 {
		return []TextError{{1, 1, message}}
	}
	return errs
}

func refusal(bad *policy.EditError) error {
	details := []error{}
	for _, e := range textErrors(bad.Errors) {
		details = append(details, &huma.ErrorDetail{Message: e.Message, Location: "text", Value: map[string]int{"line": e.Line, "column": e.Column}})
	}
	return huma.Error422UnprocessableEntity(bad.Message, details...)
}

// saveText stores a new revision.
func (s *Server) saveText(ctx context.Context, snap snapshot, text, words string) (int, error) {
	if text == snap.head.Text {
		return snap.head.No, nil
	}
	r := store.Revision{No: snap.head.No + 1, Text: text, Author: s.Author, Words: words, Blame: blame(snap.head, text)}
	err := s.Store.AddRevision(ctx, r)
	if errors.Is(err, store.ErrMoved) {
		return 0, huma.Error409Conflict("somebody else changed the policy in this very moment; nothing was changed, try again")
	}
	if err != nil {
		return 0, unavailable(err)
	}
	s.events.changed()
	return r.No, nil
}

// blame says for each line of the new text which revision wrote it.
func blame(before store.Revision, text string) store.Blame {
	lines := policy.Lines(text)
	out := make(store.Blame, len(lines))
	for i := range out {
		out[i] = before.No + 1
	}
	for i, to := range policy.Follow(policy.Lines(before.Text), lines) {
		if to > 0 && i < len(before.Blame) {
			out[to-1] = before.Blame[i]
		}
	}
	return out
}

func (s *Server) importPolicy(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only check the text and say what it would do"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision that the text was made from"`
		Text     string `json:"text"`
		Words    string `json:"words,omitempty" doc:"What was done, for the history"`
	}
}) (*Body[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, errs := policy.Parse(in.Body.Text)
	if len(errs) > 0 {
		if in.DryRun {
			return body(EditOut{Revision: snap.head.No, Errors: textErrors(errs)}), nil
		}
		return nil, refusal(&policy.EditError{Message: "the text has errors; nothing was changed", Errors: errs})
	}
	out := EditOut{Revision: snap.head.No, Words: "Replace the text", Errors: []TextError{}}
	if in.Body.Words != "" {
		out.Words = in.Body.Words
	}
	formatted := p.Format()
	if in.DryRun {
		again, _ := policy.Parse(formatted)
		c := s.consequences(v, snap, snap.compiled.WithPolicy(again, snap.compiled.AsOf))
		out.Consequences = &c
		return body(out), nil
	}
	if in.Body.Revision != snap.head.No {
		return nil, huma.Error409Conflict("the policy has changed since the text was taken from it; nothing was changed. Copy your text, load the policy as it is now, and bring the two together")
	}
	out.Revision, err = s.saveText(ctx, snap, formatted, out.Words)
	return body(out), err
}

func (s *Server) undo(ctx context.Context, _ *struct{}) (*Body[store.Change], error) {
	return s.turn(s.Store.Undo(ctx, s.Author))
}

func (s *Server) redo(ctx context.Context, _ *struct{}) (*Body[store.Change], error) {
	return s.turn(s.Store.Redo(ctx, s.Author))
}

func (s *Server) turn(c *store.Change, err error) (*Body[store.Change], error) {
	if errors.Is(err, store.ErrNothing) {
		return nil, huma.Error409Conflict("there is nothing left to undo or redo")
	}
	if err != nil {
		return nil, unavailable(err)
	}
	s.events.changed()
	return body(*c), nil
}

func (s *Server) revisions(ctx context.Context, in *struct {
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*Body[[]store.Revision], error) {
	rs, err := s.Store.Revisions(ctx, in.Limit)
	if err != nil {
		return nil, unavailable(err)
	}
	return body(rs), nil
}

func (s *Server) exportPolicy(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/plain; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="policy.orchard"`)
		_, _ = ctx.BodyWriter().Write([]byte(snap.head.Text))
	}}, nil
}

// AssertOut is an assertion with its result.
type AssertOut struct {
	Line     int          `json:"line"`
	Kind     string       `json:"kind" enum:"never,always,only"`
	Sentence string       `json:"sentence"`
	Note     string       `json:"note,omitempty"`
	Left     []string     `json:"left"`
	Right    []string     `json:"right"`
	On       string       `json:"on"`
	Clauses  string       `json:"clauses"`
	Result   string       `json:"result" enum:"holds,open,broken"`
	Client   *EndpointOut `json:"client,omitempty" doc:"The counterexample"`
	Server   *EndpointOut `json:"server,omitempty"`
	Service  string       `json:"service,omitempty"`
	Rule     *RuleRef     `json:"rule,omitempty"`
}

// CheckOut is what the draft would do with what was seen.
type CheckOut struct {
	Revision    int               `json:"revision"`
	Counts      CountsOut         `json:"counts"`
	Connections map[string]int64  `json:"connections" doc:"By verdict"`
	Bytes       map[string]int64  `json:"bytes"`
	Outcomes    map[string][3]int `json:"outcomes" doc:"By verdict: unknown, carried, dropped"`
	Leaks       int               `json:"leaks"`
	Chokes      int               `json:"chokes"`
	Rules       int               `json:"rules"`
	LiveStores  int               `json:"liveStores" doc:"Uncovered conversations that reach a store in live"`
	Difference  *DifferenceOut    `json:"difference,omitempty"`
	Carried     int               `json:"carriedRejects" doc:"Conversations that run today and that the draft would reject"`
}

// DifferenceOut compares the draft with another revision over the window.
type DifferenceOut struct {
	Revision store.Revision       `json:"revision"`
	Counts   map[string]CountsOut `json:"counts" doc:"By the verdict in that revision: conversations by the verdict now"`
	Changed  int                  `json:"changed"`
}

func (s *Server) checkRoutes() {
	huma.Get(s.api, "/api/check", s.check)
	huma.Get(s.api, "/api/assertions", s.assertions)
	huma.Get(s.api, "/api/findings", s.findings)
	huma.Register(s.api, huma.Operation{OperationID: "export-assertions", Method: http.MethodGet, Path: "/api/assertions.csv", Summary: "The assertions with their results as CSV"}, s.exportAssertions)
	huma.Register(s.api, huma.Operation{OperationID: "export-findings", Method: http.MethodGet, Path: "/api/findings.csv", Summary: "The findings as CSV"}, s.exportFindings)
}

func (s *Server) check(ctx context.Context, in *struct {
	Window
	Against int `query:"against" doc:"A revision of the policy to compare with"`
}) (*Body[CheckOut], error) {
	v, snap, err := s.viewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	t := v.Totals()
	out := CheckOut{Revision: snap.head.No, Counts: countsOut(t.Conversations), Connections: map[string]int64{}, Bytes: map[string]int64{}, Outcomes: map[string][3]int{}, Leaks: t.Leaks, Chokes: t.Chokes, Rules: len(snap.policy.Rules), Carried: t.Leaks}
	for _, verdict := range allVerdicts {
		out.Connections[verdict.String()], out.Bytes[verdict.String()], out.Outcomes[verdict.String()] = t.Connections[verdict], t.Bytes[verdict], t.Outcomes[verdict]
	}
	for i := range v.Len() {
		c := v.At(i)
		if c.Verdict != decide.Uncovered || c.Server.Workload < 0 {
			continue
		}
		w := snap.estate.Workload(c.Server.Workload)
		tier, _ := w.Tag("tier")
		env, _ := w.Tag("env")
		if tier.Value == "store" && env.Value == "live" {
			out.LiveStores++
		}
	}
	if in.Against != 0 {
		out.Difference = &DifferenceOut{Counts: map[string]CountsOut{}}
		if out.Difference.Revision, err = s.Store.Revision(ctx, in.Against); err != nil {
			return nil, unavailable(err)
		}
		d := v.Difference()
		for was, counts := range d {
			out.Difference.Counts[decide.Verdict(was).String()] = countsOut(counts)
			for is, n := range counts {
				if was != is {
					out.Difference.Changed += n
				}
			}
		}
	}
	return body(out), nil
}

func (s *Server) assertions(ctx context.Context, _ *struct{}) (*Body[[]AssertOut], error) {
	v, snap, err := s.view(ctx, Window{})
	if err != nil {
		return nil, err
	}
	out := []AssertOut{}
	for _, r := range snap.asserts() {
		a := r.Assert
		o := AssertOut{Line: a.Line, Kind: a.Kind.String(), Sentence: assertSentence(a), Note: a.Note, Left: items(a.Left), Right: items(a.Right), On: a.On.String(), Clauses: a.Clauses.String(), Result: r.Outcome.String()}
		if r.Outcome != prove.Holds {
			client, server := endpointOut(v, r.Client, reach.Label{}), endpointOut(v, r.Server, reach.Label{})
			o.Client, o.Server, o.Service, o.Rule = &client, &server, r.Point.String(), ruleRef(r.Rule)
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b AssertOut) int {
		rank := map[string]int{"broken": 0, "open": 1, "holds": 2}
		return rank[a.Result] - rank[b.Result]
	})
	return body(out), nil
}

func (s *Server) exportAssertions(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	all, err := s.assertions(ctx, nil)
	if err != nil {
		return nil, err
	}
	return stream("assertions.csv", func(w *csv.Writer) {
		_ = w.Write([]string{"line", "assertion", "note", "result", "client", "server", "service", "rule"})
		for _, a := range all.Body {
			row := []string{fmt.Sprint(a.Line), a.Sentence, a.Note, a.Result, "", "", "", ""}
			if a.Client != nil {
				row[4], row[5], row[6] = a.Client.Name, a.Server.Name, a.Service
			}
			if a.Rule != nil {
				row[7] = fmt.Sprint(a.Rule.Line)
			}
			_ = w.Write(row)
		}
	}), nil
}

func (s *Server) exportFindings(ctx context.Context, in *struct{ Window }) (*huma.StreamResponse, error) {
	all, err := s.findings(ctx, in)
	if err != nil {
		return nil, err
	}
	return stream("findings.csv", func(w *csv.Writer) {
		_ = w.Write([]string{"line", "statement", "finding", "reason", "mend"})
		for _, f := range all.Body.Findings {
			_ = w.Write([]string{fmt.Sprint(f.Line), f.Text, f.Kind, f.Words, f.Mend})
		}
	}), nil
}
