package answers

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/consequences"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/syntax"
	"lucidorchard/drafting"
	"lucidorchard/model"
	"lucidorchard/server"
)

// Editor makes edits of the draft, or says what they would do.
type Editor struct{ Drafting *drafting.Service }

// EditOut is what an edit did, or would do.
type EditOut struct {
	Revision     int                        `json:"revision"`
	Words        string                     `json:"words"`
	Errors       []TextError                `json:"errors" doc:"Of a dry run; without one, errors are a problem"`
	Consequences *consequences.Consequences `json:"consequences,omitempty"`
}

// Edited stores a text as the next revision, or says what that would do.
func (s *Editor) Edited(ctx context.Context, v *reach.View, snap *model.Model, text, words string,
	dryRun bool, probes ...drafting.ProbeEdit) (*server.Stored[EditOut], error) {
	out := EditOut{Revision: snap.Head.No, Words: words, Errors: []TextError{}}
	if dryRun {
		c, err := consequences.Changing(ctx, v, snap, text)
		if err != nil {
			return nil, err
		}
		out.Consequences = c
		return &server.Stored[EditOut]{Status: http.StatusOK, Body: out}, nil
	}
	var err error
	if out.Revision, err = s.Drafting.SaveText(ctx, snap, text, words, probes...); err != nil {
		return nil, err
	}
	if out.Revision == snap.Head.No {
		return &server.Stored[EditOut]{Status: http.StatusOK, Body: out}, nil
	}
	return &server.Stored[EditOut]{Status: http.StatusCreated, Location: RevisionPath(out.Revision), Body: out}, nil
}

// Unedited returns why an edit cannot be made: of a dry run, that is its answer.
func Unedited(snap *model.Model, bad *policy.EditError, dryRun bool) (*server.Stored[EditOut], error) {
	if !dryRun {
		return nil, Refusal(bad)
	}
	errs := TextErrors(bad.Errors)
	if len(errs) == 0 {
		errs = []TextError{{1, 1, bad.Message}}
	}
	return &server.Stored[EditOut]{Status: http.StatusOK, Body: EditOut{Revision: snap.Head.No, Errors: errs}}, nil
}

func Refusal(bad *policy.EditError) error {
	details := []error{}
	for _, e := range TextErrors(bad.Errors) {
		details = append(details, &huma.ErrorDetail{Message: e.Message, Location: "text",
			Value: map[string]int{"line": e.Line, "column": e.Column}})
	}
	return huma.Error422UnprocessableEntity(bad.Message, details...)
}

func RevisionPath(no int) string { return fmt.Sprintf("%s/policy/revisions/%d", server.Version, no) }

// TextError is an error with its place.
type TextError struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

func TextErrors(errs []*syntax.Error) []TextError {
	out := []TextError{}
	for _, e := range errs[:min(len(errs), policy.MaxErrors)] {
		out = append(out, TextError{e.Line, e.Col, e.Message})
	}
	return out
}
