package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
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
	Pairs    int          `json:"pairs" doc:"Pairs of a client and a server of these"`
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
	Was      string `json:"was,omitempty" doc:"change, remove: the statement as it was shown, or what stands after the = of a group. If something else stands there by now, nothing is changed"`
}

// EditOut is what an edit did, or would do.
type EditOut struct {
	Revision     int           `json:"revision"`
	Words        string        `json:"words"`
	Errors       []TextError   `json:"errors" doc:"Of a dry run; without one, errors are a problem"`
	Consequences *Consequences `json:"consequences,omitempty"`
}

// wholeText lets a whole policy text in, with its quotes.
func wholeText(o *huma.Operation) { o.MaxBodyBytes = 2 * policy.MaxText }

func (s *Server) policyRoutes() {
	huma.Get(s.api, "/api/policy", s.getPolicy)
	huma.Post(s.api, "/api/policy/edits", s.editPolicy, wholeText)
	huma.Post(s.api, "/api/policy/mend", s.mend)
	huma.Post(s.api, "/api/policy/text", s.importPolicy, wholeText)
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
		return nil, s.failed(ctx, err)
	}
	revisions, err := s.Store.Revisions(ctx, 100_000)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	byNo := map[int]store.Revision{}
	for _, r := range revisions {
		byNo[r.No] = r
	}
	totals := v.Totals(reach.Query{Count: liveStore})
	uses := v.RuleUses()
	index := map[*policy.Rule]int{}
	for i, r := range snap.Policy.Rules {
		index[r] = i
	}
	evident := evidentAt(v)
	lines := policy.Lines(snap.Head.Text)
	out := PolicyOut{Revision: snap.Head.No, Text: snap.Head.Text, Statements: []StatementOut{}, Rules: len(snap.Policy.Rules), Counts: countsOut(totals.Conversations), Undo: undo, Redo: redo, Edits: len(revisions)}
	for _, item := range snap.Policy.Items {
		o, ok := statementOut(item, lines)
		if !ok {
			continue
		}
		if k := item.First - 1; k < len(snap.Head.Blame) {
			if r, ok := byNo[snap.Head.Blame[k]]; ok {
				o.Author, o.At = r.Author, r.At.UTC().Format("2006-01-02T15:04:05Z")
			}
		}
		if r, ok := item.Statement.(*policy.Rule); ok {
			use := &uses[index[r]]
			if o.Hits = use.Conversations; o.Hits > 0 {
				o.Spark, o.Last, o.Pairs = use.Spark[:], use.Last.String(), use.Pairs
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
	o.Kind = policy.KindOf(item.Statement)
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

// locate finds where a line of an older revision stands now. A line that has
// changed meanwhile is refused, with both versions.
func (s *Server) locate(ctx context.Context, snap *model.Model, base, line int) (int, error) {
	if base == snap.Head.No || line == 0 {
		return line, nil
	}
	old, err := s.Store.Revision(ctx, base)
	if errors.Is(err, store.ErrNone) {
		return 0, huma.Error422UnprocessableEntity("there is no revision with the number that the edit names")
	}
	if err != nil {
		return 0, s.failed(ctx, err)
	}
	before, after := policy.Lines(old.Text), policy.Lines(snap.Head.Text)
	if line < 1 || line > len(before) {
		return 0, huma.Error422UnprocessableEntity("the revision has no such line")
	}
	where := policy.Follow(before, after)
	if to := where[line-1]; to > 0 {
		return to, nil
	}
	return 0, problem(409, problemMoved, fmt.Sprintf("somebody has changed this statement meanwhile. It was: %s. Now, in revision %d: %s. Nothing was changed; make the edit again on what stands there now",
		before[line-1], snap.Head.No, inPlace(where, after, line)))
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
	if err := unchanged(snap, edit.Line, in.Body.Was); err != nil {
		return nil, err
	}
	text, words, bad := edit.Apply(snap.Head.Text)
	if bad != nil {
		if in.DryRun {
			return body(EditOut{Revision: snap.Head.No, Errors: orMessage(textErrors(bad.Errors), bad.Message)}), nil
		}
		return nil, refusal(bad)
	}
	out := EditOut{Revision: snap.Head.No, Words: words, Errors: []TextError{}}
	if in.DryRun {
		p, _ := policy.Parse(text)
		c := s.consequences(v, snap, snap.Compiled.WithPolicy(p, snap.Compiled.AsOf))
		out.Consequences = &c
		return body(out), nil
	}
	out.Revision, err = s.saveText(ctx, snap, text, words)
	return body(out), err
}

// unchanged refuses an edit of a statement that is not the one that was shown.
func unchanged(snap *model.Model, line int, was string) error {
	if was == "" {
		return nil
	}
	for _, item := range snap.Policy.Items {
		if item.Statement == nil || item.First != line {
			continue
		}
		is := item.Statement.String()
		if g, ok := item.Statement.(*policy.Group); ok && was == g.Body() || was == is {
			return nil
		}
		return problem(409, problemMoved, fmt.Sprintf("somebody has changed this statement meanwhile. It was: %s. Now, in revision %d: %s. Nothing was changed; make the edit again on what stands there now", was, snap.Head.No, is))
	}
	return nil
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
func (s *Server) saveText(ctx context.Context, snap *model.Model, text, words string) (int, error) {
	if text == snap.Head.Text {
		return snap.Head.No, nil
	}
	r := store.Revision{No: snap.Head.No + 1, Text: text, Author: s.Author, Words: words, Blame: blame(snap.Head, text)}
	err := s.Store.AddRevision(ctx, r)
	if errors.Is(err, store.ErrMoved) {
		return 0, huma.Error409Conflict("somebody else changed the policy in this very moment; nothing was changed, try again")
	}
	if err != nil {
		return 0, s.failed(ctx, err)
	}
	s.models.Nudge()
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
			return body(EditOut{Revision: snap.Head.No, Errors: textErrors(errs)}), nil
		}
		return nil, refusal(&policy.EditError{Message: "the text has errors; nothing was changed", Errors: errs})
	}
	out := EditOut{Revision: snap.Head.No, Words: "Replace the text", Errors: []TextError{}}
	if in.Body.Words != "" {
		out.Words = in.Body.Words
	}
	formatted := p.Format()
	if in.DryRun {
		again, _ := policy.Parse(formatted)
		c := s.consequences(v, snap, snap.Compiled.WithPolicy(again, snap.Compiled.AsOf))
		out.Consequences = &c
		return body(out), nil
	}
	if in.Body.Revision != snap.Head.No {
		return nil, huma.Error409Conflict("the policy has changed since the text was taken from it; nothing was changed. Copy your text, load the policy as it is now, and bring the two together")
	}
	out.Revision, err = s.saveText(ctx, snap, formatted, out.Words)
	return body(out), err
}

func (s *Server) undo(ctx context.Context, _ *struct{}) (*Body[store.Change], error) {
	c, err := s.Store.Undo(ctx, s.Author)
	return s.turn(ctx, c, err)
}

func (s *Server) redo(ctx context.Context, _ *struct{}) (*Body[store.Change], error) {
	c, err := s.Store.Redo(ctx, s.Author)
	return s.turn(ctx, c, err)
}

func (s *Server) turn(ctx context.Context, c *store.Change, err error) (*Body[store.Change], error) {
	if errors.Is(err, store.ErrNothing) {
		return nil, huma.Error409Conflict("there is nothing left to undo or redo")
	}
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	s.models.Nudge()
	return body(*c), nil
}

func (s *Server) revisions(ctx context.Context, in *struct {
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*Body[[]store.Revision], error) {
	rs, err := s.Store.Revisions(ctx, in.Limit)
	if err != nil {
		return nil, s.failed(ctx, err)
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
		_, _ = ctx.BodyWriter().Write([]byte(snap.Head.Text))
	}}, nil
}
