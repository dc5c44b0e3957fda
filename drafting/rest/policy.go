package rest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/report"
	"lucidorchard/database"
	"lucidorchard/drafting"
	"lucidorchard/history"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/server"
)

// fix makes the edits that settle a finding.
func (s *Policy) fix(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision that the finding was read in"`
		Line     int    `json:"line" doc:"Of the statement"`
		Kind     string `json:"kind" doc:"Of the finding"`
	}
}) (*server.Stored[answers.EditOut], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	line, err := s.Locate(ctx, snap, in.Body.Revision, in.Body.Line)
	if err != nil {
		return nil, err
	}
	for _, f := range append(slices.Clone(snap.Findings()), answers.EvidentAt(v)[line]...) {
		if f.Line != line || string(f.Kind) != in.Body.Kind || f.Fix == nil {
			continue
		}
		text, bad := policy.ApplyAll(snap.Head.Text, f.Fix.Edits)
		if bad != nil {
			return nil, answers.Refusal(bad)
		}
		words := fmt.Sprintf("%s, because it is %s: “%s”", f.Fix.Words, f.Kind, policy.Lines(snap.Head.Text)[line-1])
		return s.Edited(ctx, v, snap, text, words, in.DryRun)
	}
	return nil, huma.Error409Conflict("the finding no longer exists; nothing was changed")
}

// StatementOut is a line of the policy document.
type StatementOut struct {
	Line     int                  `json:"line"`
	Kind     string               `json:"kind" enum:"service,group,area,layer,rule,assertion,comment"`
	Text     string               `json:"text" doc:"The whole line"`
	Name     string               `json:"name,omitempty"`
	Note     string               `json:"note,omitempty"`
	Rule     *RuleOut             `json:"rule,omitempty"`
	Findings []answers.FindingOut `json:"findings,omitempty"`
	Author   string               `json:"author,omitempty"`
	At       string               `json:"at,omitempty"`
	Hits     int                  `json:"hits" doc:"Conversations of the window that the rule decides"`
	Pairs    int                  `json:"pairs" doc:"Pairs of a client and a server of these"`
	Last     string               `json:"last,omitempty" doc:"When the newest of them was last seen"`
	Spark    []int                `json:"spark,omitempty"`
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

// tagged is an answer that says which version it is of: what replaces it sends
// that back as If-Match.
type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func etag(revision int) string { return fmt.Sprintf("%q", fmt.Sprint(revision)) }

// PolicyOut is the policy document.
type PolicyOut struct {
	Revision   int               `json:"revision"`
	Text       string            `json:"text"`
	Statements []StatementOut    `json:"statements"`
	Rules      int               `json:"rules"`
	Counts     answers.CountsOut `json:"counts" doc:"Conversations of the window by verdict"`
	Undo       *answers.Change   `json:"undo,omitempty"`
	Redo       *answers.Change   `json:"redo,omitempty"`
	Edits      int               `json:"edits" doc:"Revisions since the beginning"`
}

// editIn is an edit of the document.
type editIn struct {
	Revision int    `json:"revision" doc:"The revision that the edit was made on"`
	Op       string `json:"op" enum:"add,change,remove,move,switch"`
	Line     int    `json:"line,omitempty" doc:"Of the statement, in that revision"`
	Text     string `json:"text,omitempty" doc:"The new statement; for add one or more, a line each"`
	Before   int    `json:"before,omitempty" doc:"add, move: the line to put it before; without it, at the end of the layer"`
	Layer    string `json:"layer,omitempty"`
	Was      string `json:"was,omitempty" doc:"change, remove: the statement as it was shown, or what stands after the = of a group. If something else stands there by now, nothing is changed"`
}

// Policy answers about the policy document.
type Policy struct {
	*answers.Desk
	*answers.Editor
	*drafting.Service
	Known func(context.Context)
}

func (s *Policy) Routes(r server.Routes) {
	server.Get(r, "read-policy", "/policy", "The policy document, with who wrote each line and what it decides",
		s.getPolicy)
	server.Post(r, "edit-policy", "/policy/edits", "Add, change, remove, move or switch off a statement", s.editPolicy,
		server.MakesRevision, server.CanBeMissing, server.TakesLargeText)
	server.Post(r, "fix-finding", "/policy/fix", "Apply the fix of a finding", s.fix, server.MakesRevision,
		server.CanBeMissing)
	server.Put(r, "replace-policy", "/policy/text", "Replace the whole policy text", s.importPolicy,
		server.MakesRevision, server.TakesLargeText, server.NeedsMatch)
	server.Post(r, "undo", "/policy/undo", "Undo the newest change", s.undo)
	server.Post(r, "redo", "/policy/redo", "Redo the change that was undone last", s.redo)
	server.Get(r, "read-difference", "/policy/revisions/{no}/difference",
		"Compare a revision with the draft or another revision", s.difference, server.CanBeMissing)
	server.Post(r, "restore-revision", "/policy/revisions/{no}/restore",
		"Return to a revision: its text becomes the newest",
		s.restoreRevision, server.MakesRevision, server.CanBeMissing)
	server.Get(r, "read-revision", "/policy/revisions/{no}", "One revision of the policy", s.oneRevision,
		server.CanBeMissing)
	server.Get(r, "list-revisions", "/policy/revisions", "The revisions of the policy, the newest first", s.revisions)
	server.Get(r, "export-policy", "/policy.orchard", "The policy text", s.exportPolicy)
	server.Get(r, "export-rules", "/rules.csv", "The rules as CSV", s.exportRules)
}

func (s *Policy) getPolicy(ctx context.Context, in *struct{ answers.Window }) (*tagged[PolicyOut], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	undo, redo, err := s.Undoable(ctx)
	if err != nil {
		return nil, err
	}
	revisions, total, err := s.Revisions(ctx, 0, 100_000)
	if err != nil {
		return nil, err
	}
	byNo := map[int]model.Revision{}
	for _, r := range revisions {
		byNo[r.No] = r
	}
	totals := v.Totals(reach.Query{Count: answers.LiveStore})
	uses := v.RuleUses()
	index := map[*policy.Rule]int{}
	for i, r := range snap.Policy.Rules {
		index[r] = i
	}
	evident := answers.EvidentAt(v)
	lines := policy.Lines(snap.Head.Text)
	out := PolicyOut{Revision: snap.Head.No, Text: snap.Head.Text, Statements: []StatementOut{},
		Rules: len(snap.Policy.Rules), Counts: answers.NewCountsOut(totals.Conversations),
		Undo: answers.NewChange(undo), Redo: answers.NewChange(redo), Edits: total}
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
			o.Findings = answers.RuleFindings(r, snap, evident)
		}
		out.Statements = append(out.Statements, o)
	}
	return &tagged[PolicyOut]{etag(snap.Head.No), out}, nil
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
	out := &RuleOut{Action: r.Action.String(), Off: r.Off, Left: answers.Items(r.Left), Right: answers.Items(r.Right),
		On:      []string{},
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

func (s *Policy) editPolicy(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   editIn
}) (*server.Stored[answers.EditOut], error) {
	v, snap, err := s.View(ctx, in.Window)
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
		return answers.Unedited(snap, bad, in.DryRun)
	}
	return s.Edited(ctx, v, snap, text, words, in.DryRun)
}

func (s *Policy) importPolicy(ctx context.Context, in *struct {
	answers.Window
	DryRun  bool   `query:"dryRun" doc:"Only check the text and return the consequences"`
	IfMatch string `header:"If-Match" doc:"The ETag of the policy that the text was made from; a dry run needs none"`
	Body    struct {
		Text  string `json:"text"`
		Words string `json:"words,omitempty" doc:"What was done, for the history"`
	}
}) (*server.Stored[answers.EditOut], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, errs := policy.Parse(in.Body.Text)
	if len(errs) > 0 {
		return answers.Unedited(snap, &policy.EditError{Message: "the text has errors; nothing was changed",
			Errors: errs},
			in.DryRun)
	}
	switch {
	case in.DryRun || in.IfMatch == "*" || in.IfMatch == etag(snap.Head.No):
	case in.IfMatch == "":
		return nil, huma.NewError(http.StatusPreconditionRequired,
			"If-Match: found none, expected the ETag of the policy that the text was made from, such as "+
				etag(snap.Head.No)+"; nothing was changed")
	default:
		return nil, &server.Problem{Type: server.ProblemMoved, Title: http.StatusText(http.StatusPreconditionFailed),
			Status: http.StatusPreconditionFailed, Revision: snap.Head.No, Was: in.IfMatch, Now: etag(snap.Head.No),
			Detail: "the policy has changed since the text was taken from it; nothing was changed. Copy your text, " +
				"load the current policy, and merge the two"}
	}
	return s.Edited(ctx, v, snap, p.Format(), cmp.Or(in.Body.Words, "Replace the text"), in.DryRun)
}

func (s *Policy) undo(ctx context.Context, _ *struct{}) (*server.Body[answers.Change], error) {
	c, err := s.Undo(ctx, s.Author)
	return s.turn(ctx, c, err)
}

func (s *Policy) redo(ctx context.Context, _ *struct{}) (*server.Body[answers.Change], error) {
	c, err := s.Redo(ctx, s.Author)
	return s.turn(ctx, c, err)
}

func (s *Policy) turn(ctx context.Context, c *history.Change, err error) (*server.Body[answers.Change], error) {
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
	return server.OK(*answers.NewChange(c)), nil
}

func (s *Policy) revisions(ctx context.Context, in *struct{ server.Page }) (*server.List[answers.Revision], error) {
	rs, total, err := s.Revisions(ctx, in.Offset, in.Limit)
	if err != nil {
		return nil, err
	}
	return server.Listed(ctx, server.Each(rs, answers.NewRevision), total, in.Offset), nil
}

// RevisionOut is one revision of the policy with its text.
type RevisionOut struct {
	answers.Revision
	Text string `json:"text"`
}

func (s *Policy) oneRevision(ctx context.Context, in *struct {
	No int `path:"no" minimum:"1"`
}) (*tagged[RevisionOut], error) {
	r, err := s.revision(ctx, in.No)
	if err != nil {
		return nil, err
	}
	return &tagged[RevisionOut]{etag(r.No), RevisionOut{answers.NewRevision(r), r.Text}}, nil
}

// Difference is what one revision has and lacks beside another.
type Difference struct {
	Revision   int                `json:"revision"`
	Against    int                `json:"against"`
	Statements []report.Statement `json:"statements" doc:"removed: only the revision has it; added: only the other"`
}

func (s *Policy) revision(ctx context.Context, no int) (model.Revision, error) {
	r, err := s.Revision(ctx, no)
	if errors.Is(err, database.ErrNone) {
		return r, refuse.Missing(fmt.Sprintf("there is no revision %d", no))
	}
	return r, err
}

func (s *Policy) difference(ctx context.Context, in *struct {
	No      int `path:"no" minimum:"1"`
	Against int `query:"against" minimum:"0" doc:"Another revision; 0: the draft"`
}) (*server.Body[Difference], error) {
	r, err := s.revision(ctx, in.No)
	if err != nil {
		return nil, err
	}
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	other := snap.Head
	if in.Against != 0 {
		if other, err = s.revision(ctx, in.Against); err != nil {
			return nil, err
		}
	}
	return server.OK(Difference{r.No, other.No, report.Statements(r.Text, other.Text)}), nil
}

func (s *Policy) restoreRevision(ctx context.Context, in *struct {
	answers.Window
	No     int  `path:"no" minimum:"1"`
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
}) (*server.Stored[answers.EditOut], error) {
	r, err := s.revision(ctx, in.No)
	if err != nil {
		return nil, err
	}
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	return s.Edited(ctx, v, snap, r.Text, fmt.Sprintf("Go back to revision %d, “%s”", r.No, r.Words), in.DryRun)
}

func (s *Policy) exportPolicy(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	snap, err := s.Snapshot(ctx)
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

func (s *Policy) exportRules(ctx context.Context, in *struct{ answers.Window }) (*huma.StreamResponse, error) {
	p, err := s.getPolicy(ctx, in)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("rules.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"line", "layer", "rule", "note", "author", "changed", "conversations", "last_hit",
			"findings"})
		for _, st := range p.Body.Statements {
			if st.Rule == nil {
				continue
			}
			var found []string
			for _, f := range st.Findings {
				found = append(found, f.Kind)
			}
			_ = w.Write([]string{fmt.Sprint(st.Line), st.Rule.Layer, st.Rule.Sentence, st.Note, st.Author, st.At,
				fmt.Sprint(st.Hits), st.Last, strings.Join(found, "; ")})
		}
	}), nil
}
