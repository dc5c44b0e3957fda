package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/consequences"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/report"
	"lucidorchard/database"
	"lucidorchard/drafting"
	"lucidorchard/history"
	"lucidorchard/model"
	"lucidorchard/refuse"
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

// Tagged is an answer that says which version it is of: what replaces it sends
// that back as If-Match.
type Tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func etag(revision int) string { return fmt.Sprintf("%q", fmt.Sprint(revision)) }

// PolicyOut is the policy document.
type PolicyOut struct {
	Revision   int             `json:"revision"`
	Text       string          `json:"text"`
	Statements []StatementOut  `json:"statements"`
	Rules      int             `json:"rules"`
	Counts     CountsOut       `json:"counts" doc:"Conversations of the window by verdict"`
	Undo       *history.Change `json:"undo,omitempty"`
	Redo       *history.Change `json:"redo,omitempty"`
	Edits      int             `json:"edits" doc:"Revisions since the beginning"`
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
	Revision     int                        `json:"revision"`
	Words        string                     `json:"words"`
	Errors       []TextError                `json:"errors" doc:"Of a dry run; without one, errors are a problem"`
	Consequences *consequences.Consequences `json:"consequences,omitempty"`
}

// policyAPI answers about the policy document.
type policyAPI struct{ *base }

func (s *policyAPI) routes(r routes) {
	get(r, "read-policy", "/policy", "The policy document, with who wrote each line and what it decides", s.getPolicy)
	post(r, "edit-policy", "/policy/edits", "Add, change, remove, move or switch off a statement", s.editPolicy,
		stored, missing, whole)
	post(r, "fix-finding", "/policy/fix", "Do what a finding suggests", s.fix, stored, missing)
	put(r, "replace-policy", "/policy/text", "Replace the whole policy text", s.importPolicy, stored, whole, matched)
	post(r, "undo", "/policy/undo", "Take back the newest change", s.undo)
	post(r, "redo", "/policy/redo", "Do again what was taken back last", s.redo)
	get(r, "read-difference", "/policy/revisions/{no}/difference",
		"What the draft, or another revision, has and lacks beside one", s.difference, missing)
	post(r, "restore-revision", "/policy/revisions/{no}/restore",
		"Go back to a revision: its text becomes the newest",
		s.restoreRevision, stored, missing)
	get(r, "read-revision", "/policy/revisions/{no}", "One revision of the policy", s.oneRevision, missing)
	get(r, "list-revisions", "/policy/revisions", "The revisions of the policy, the newest first", s.revisions)
	get(r, "export-policy", "/policy.orchard", "The policy text", s.exportPolicy)
	get(r, "export-rules", "/rules.csv", "The rules as CSV", s.exportRules)
}

func (s *policyAPI) getPolicy(ctx context.Context, in *struct{ Window }) (*Tagged[PolicyOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	undo, redo, err := s.Store.Undoable(ctx)
	if err != nil {
		return nil, err
	}
	revisions, total, err := s.Store.Revisions(ctx, 0, 100_000)
	if err != nil {
		return nil, err
	}
	byNo := map[int]model.Revision{}
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
	out := PolicyOut{Revision: snap.Head.No, Text: snap.Head.Text, Statements: []StatementOut{},
		Rules: len(snap.Policy.Rules), Counts: countsOut(totals.Conversations), Undo: undo, Redo: redo, Edits: total}
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
	return &Tagged[PolicyOut]{etag(snap.Head.No), out}, nil
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
	out := &RuleOut{Action: r.Action.String(), Off: r.Off, Left: items(r.Left), Right: items(r.Right), On: []string{},
		Clauses: r.Clauses.String(), Sentence: bare.String()}
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

func (s *policyAPI) editPolicy(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   EditIn
}) (*Stored[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	edit := policy.Edit{Op: policy.Op(in.Body.Op), Text: in.Body.Text, Layer: in.Body.Layer}
	if edit.Line, err = s.Locate(ctx, snap, in.Body.Revision, in.Body.Line); err != nil {
		return nil, err
	}
	if edit.Before, err = s.Locate(ctx, snap, in.Body.Revision, in.Body.Before); err != nil {
		return nil, err
	}
	if err := drafting.Unchanged(snap, edit.Line, in.Body.Was); err != nil {
		return nil, err
	}
	text, words, bad := edit.Apply(snap.Head.Text)
	if bad != nil {
		return unedited(snap, bad, in.DryRun)
	}
	return s.edited(ctx, v, snap, text, words, in.DryRun)
}

// edited stores a text as the next revision, or says what that would do.
func (s *base) edited(ctx context.Context, v *reach.View, snap *model.Model, text, words string,
	dryRun bool, probes ...drafting.ProbeEdit) (*Stored[EditOut], error) {
	out := EditOut{Revision: snap.Head.No, Words: words, Errors: []TextError{}}
	if dryRun {
		c, err := consequences.Changing(ctx, v, snap, text)
		if err != nil {
			return nil, err
		}
		out.Consequences = c
		return &Stored[EditOut]{Status: http.StatusOK, Body: out}, nil
	}
	var err error
	if out.Revision, err = s.SaveText(ctx, snap, text, words, probes...); err != nil {
		return nil, err
	}
	if out.Revision == snap.Head.No {
		return &Stored[EditOut]{Status: http.StatusOK, Body: out}, nil
	}
	return &Stored[EditOut]{http.StatusCreated, revisionPath(out.Revision), out}, nil
}

// unedited says why an edit cannot be made: of a dry run, that is its answer.
func unedited(snap *model.Model, bad *policy.EditError, dryRun bool) (*Stored[EditOut], error) {
	if !dryRun {
		return nil, refusal(bad)
	}
	errs := textErrors(bad.Errors)
	if len(errs) == 0 {
		errs = []TextError{{1, 1, bad.Message}}
	}
	return &Stored[EditOut]{Status: http.StatusOK, Body: EditOut{Revision: snap.Head.No, Errors: errs}}, nil
}

func refusal(bad *policy.EditError) error {
	details := []error{}
	for _, e := range textErrors(bad.Errors) {
		details = append(details, &huma.ErrorDetail{Message: e.Message, Location: "text",
			Value: map[string]int{"line": e.Line, "column": e.Column}})
	}
	return huma.Error422UnprocessableEntity(bad.Message, details...)
}

func (s *policyAPI) importPolicy(ctx context.Context, in *struct {
	Window
	DryRun  bool   `query:"dryRun" doc:"Only check the text and say what it would do"`
	IfMatch string `header:"If-Match" doc:"The ETag of the policy that the text was made from; a dry run needs none"`
	Body    struct {
		Text  string `json:"text"`
		Words string `json:"words,omitempty" doc:"What was done, for the history"`
	}
}) (*Stored[EditOut], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, errs := policy.Parse(in.Body.Text)
	if len(errs) > 0 {
		return unedited(snap, &policy.EditError{Message: "the text has errors; nothing was changed", Errors: errs},
			in.DryRun)
	}
	switch {
	case in.DryRun || in.IfMatch == "*" || in.IfMatch == etag(snap.Head.No):
	case in.IfMatch == "":
		return nil, huma.NewError(http.StatusPreconditionRequired,
			"If-Match: found none, expected the ETag of the policy that the text was made from, such as "+etag(snap.Head.No)+"; nothing was changed")
	default:
		return nil, &Problem{Type: problemMoved, Title: http.StatusText(http.StatusPreconditionFailed),
			Status: http.StatusPreconditionFailed, Revision: snap.Head.No, Was: in.IfMatch, Now: etag(snap.Head.No),
			Detail: "the policy has changed since the text was taken from it; nothing was changed. Copy your text, " +
				"load the policy as it is now, and bring the two together"}
	}
	return s.edited(ctx, v, snap, p.Format(), cmp.Or(in.Body.Words, "Replace the text"), in.DryRun)
}

func (s *policyAPI) undo(ctx context.Context, _ *struct{}) (*Body[history.Change], error) {
	c, err := s.Store.Undo(ctx, s.Author)
	return s.turn(ctx, c, err)
}

func (s *policyAPI) redo(ctx context.Context, _ *struct{}) (*Body[history.Change], error) {
	c, err := s.Store.Redo(ctx, s.Author)
	return s.turn(ctx, c, err)
}

func (s *policyAPI) turn(ctx context.Context, c *history.Change, err error) (*Body[history.Change], error) {
	if errors.Is(err, history.ErrNothing) {
		return nil, huma.Error409Conflict("there is nothing left to undo or redo")
	}
	if err != nil {
		return nil, err
	}
	if c.Kind == "judging" { // no model holds refusals
		s.Events.Changed()
	}
	s.Known(ctx)
	return body(*c), nil
}

func (s *policyAPI) revisions(ctx context.Context, in *struct{ Page }) (*List[model.Revision], error) {
	rs, total, err := s.Store.Revisions(ctx, in.Offset, in.Limit)
	if err != nil {
		return nil, err
	}
	return listed(ctx, rs, total, in.Offset), nil
}

// RevisionOut is one revision of the policy with its text.
type RevisionOut struct {
	model.Revision
	Text string `json:"text"`
}

func (s *policyAPI) oneRevision(ctx context.Context, in *struct {
	No int `path:"no" minimum:"1"`
}) (*Tagged[RevisionOut], error) {
	r, err := s.revision(ctx, in.No)
	if err != nil {
		return nil, err
	}
	return &Tagged[RevisionOut]{etag(r.No), RevisionOut{r, r.Text}}, nil
}

// Difference is what one revision has and lacks beside another.
type Difference struct {
	Revision   int                `json:"revision"`
	Against    int                `json:"against"`
	Statements []report.Statement `json:"statements" doc:"removed: only the revision has it; added: only the other"`
}

func (s *policyAPI) revision(ctx context.Context, no int) (model.Revision, error) {
	r, err := s.Store.Revision(ctx, no)
	if errors.Is(err, database.ErrNone) {
		return r, refuse.Missing(fmt.Sprintf("there is no revision %d", no))
	}
	return r, err
}

func (s *policyAPI) difference(ctx context.Context, in *struct {
	No      int `path:"no" minimum:"1"`
	Against int `query:"against" minimum:"0" doc:"Another revision; 0: the draft"`
}) (*Body[Difference], error) {
	r, err := s.revision(ctx, in.No)
	if err != nil {
		return nil, err
	}
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	other := snap.Head
	if in.Against != 0 {
		if other, err = s.revision(ctx, in.Against); err != nil {
			return nil, err
		}
	}
	return body(Difference{r.No, other.No, report.Statements(r.Text, other.Text)}), nil
}

func (s *policyAPI) restoreRevision(ctx context.Context, in *struct {
	Window
	No     int  `path:"no" minimum:"1"`
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
}) (*Stored[EditOut], error) {
	r, err := s.revision(ctx, in.No)
	if err != nil {
		return nil, err
	}
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	return s.edited(ctx, v, snap, r.Text, fmt.Sprintf("Go back to revision %d, “%s”", r.No, r.Words), in.DryRun)
}

func (s *policyAPI) exportPolicy(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/plain; charset=utf-8")
		ctx.SetHeader("ETag", etag(snap.Head.No))
		ctx.SetHeader("Content-Disposition", `attachment; filename="policy.orchard"`)
		_, _ = ctx.BodyWriter().Write([]byte(snap.Head.Text))
	}}, nil
}
