package rest

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/core/decide"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
	"lucidorchard/core/settle"
	"lucidorchard/drafting"
	"lucidorchard/ledger"
	"lucidorchard/model"
	"lucidorchard/server"
)

// SettleOut is the rules that would decide what somebody points at.
type SettleOut struct {
	Revision      int            `json:"revision"`
	Conversations int            `json:"conversations" doc:"That do not have the verdict yet"`
	Options       []settleOption `json:"options" doc:"The narrowest first"`
	Probe         string         `json:"probe" doc:"The same selection as a question, for a probe that expects reject"`
}

// settleOption is a rule at one width.
type settleOption struct {
	Width        string                    `json:"width" enum:"exact,groups,wider"`
	Words        string                    `json:"words" doc:"Of whom it speaks"`
	Lines        []string                  `json:"lines" doc:"The groups that it needs, and the rule; a statement each"`
	Before       int                       `json:"before" doc:"The line that it stands before; 0: last in the layer allowances"`
	Instead      *answers.RuleRef          `json:"instead,omitempty" doc:"The rule that it is an exception to"`
	Consequences consequences.Consequences `json:"consequences"`
}

// Settling answers about rules for a row that somebody points at.
type Settling struct {
	*answers.Desk
	*answers.Editor
	*drafting.Service
}

func (s *Settling) Routes(r server.Routes) {
	server.Get(r, "list-settle-choices", "/settle", "The ways to settle a kind of conversation", s.settle,
		server.CanBeMissing)
	server.Post(r, "settle-rows", "/settle/rows", "Settle several rows of the ledger in one step",
		s.settleRows, server.MakesRevision, server.CanBeMissing)
	server.Post(r, "settle", "/settle", "Settle a kind of conversation by a rule or a probe", s.takeSettled,
		server.MakesRevision, server.CanBeMissing)
}

func (s *Settling) settle(ctx context.Context, in *struct {
	answers.ConversationFilter
	As     string `query:"as" enum:"permit,reject" required:"true" doc:"The verdict that they are to get"`
	Client string `query:"client" doc:"Address: with server and service, only this conversation"`
	Server string `query:"server"`
	First  string `query:"first" doc:"When it was first seen"`
}) (*server.Body[SettleOut], error) {
	v, snap, chosen, err := s.SelectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	if in.Client != "" {
		chosen = slices.DeleteFunc(chosen, func(i int) bool {
			c := v.At(i)
			return c.Client.Addr.String() != in.Client || c.Server.Addr.String() != in.Server || in.First != "" &&
				c.First.String() != in.First
		})
	}
	action, want := policy.Permit, decide.Permit
	if in.As == "reject" {
		action, want = policy.Reject, decide.Reject
	}
	probe := ""
	if in.As == "reject" && len(chosen) > 0 {
		probe = settle.Question(v, chosen)
	}
	chosen = slices.DeleteFunc(chosen, func(i int) bool { return v.Verdict(i) == want })
	out := SettleOut{Revision: snap.Head.No, Conversations: len(chosen), Options: []settleOption{}, Probe: probe}
	for _, o := range settle.Rules(v, chosen, action, "") {
		after, bad := settle.Apply(snap.Head.Text, o.Lines, o.Before)
		if bad != nil {
			return nil, answers.Refusal(bad)
		}
		cons, err := consequences.Changing(ctx, v, snap, after)
		if err != nil {
			return nil, err
		}
		out.Options = append(out.Options, settleOption{
			Width: string(o.Width), Words: o.Words, Lines: o.Lines, Before: o.Before,
			Instead:      answers.NewRuleRef(o.Instead),
			Consequences: *cons,
		})
	}
	return server.OK(out), nil
}

// takeSettled adds the lines of an option, or says what that would do.
func (s *Settling) takeSettled(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision int      `json:"revision" doc:"The revision that the option was made on"`
		Lines    []string `json:"lines" minItems:"1"`
		Before   int      `json:"before"`
	}
}) (*server.Stored[answers.EditOut], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	before, err := s.Locate(ctx, snap, in.Body.Revision, in.Body.Before)
	if err != nil {
		return nil, err
	}
	text, bad := settle.Apply(snap.Head.Text, in.Body.Lines, before)
	if bad != nil {
		return answers.Unedited(snap, bad, in.DryRun)
	}
	return s.Edited(ctx, v, snap, text, "Add “"+in.Body.Lines[len(in.Body.Lines)-1]+"”", in.DryRun)
}

// specsOf writes points as specs.
func specsOf(points service.Set) string {
	if points.Equal(service.All) || points.Equal(service.All.Real()) {
		return "any"
	}
	var out []string
	for _, r := range points[:min(6, len(points))] {
		out = append(out, r.String())
	}
	if n := len(points) - 6; n > 0 {
		out = append(out, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(out, ", ")
}

// rowOf names a row of the ledger, as its list does.
type rowOf struct {
	Near    string `json:"near" minLength:"1"`
	Far     string `json:"far,omitempty"`
	Service string `json:"service" minLength:"1"`
}

// settleRows permits or rejects several rows, each by a rule at the width that is
// asked for; or it keeps that they are rightly rejected, as a probe of each.
func (s *Settling) settleRows(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision int     `json:"revision" doc:"The revision in which they were looked at"`
		As       string  `json:"as" enum:"permit,reject,rightly"`
		Width    string  `json:"width,omitempty" enum:"exact,groups,wider" doc:"Of the rules; a row that has none gets the narrowest"`
		Reason   string  `json:"reason,omitempty" maxLength:"2000" doc:"rightly: why"`
		Rows     []rowOf `json:"rows" minItems:"1" maxItems:"500"`
	}
}) (*server.Stored[answers.EditOut], error) {
	v, snap, q, err := s.Asked(ctx, in.Window, in.Filter)
	if err != nil {
		return nil, err
	}
	if in.Body.Revision != snap.Head.No {
		return nil, huma.Error409Conflict(
			"somebody has changed the policy since; nothing was changed. Check the current rows")
	}
	var rows [][]int
	var questions []string
	for i, row := range in.Body.Rows {
		q, err := answers.Below(q, row.Near, row.Far, row.Service)
		if err != nil {
			return nil, err
		}
		chosen := v.Select(q)
		if len(chosen) == 0 {
			return nil, huma.Error409Conflict(
				fmt.Sprintf("rows[%d]: nothing of the window agrees with these filters and "+
					"is in this row, on %s; nothing was changed. Take it out of the selection, or the filter away", i,
					row.Service))
		}
		rows, questions = append(rows, chosen), append(questions, settle.Question(v, chosen))
	}
	many := plural.Of(len(rows), "row", "rows")
	if in.Body.As == "rightly" {
		var probes []model.Probe
		for _, q := range questions {
			probes = append(probes, model.Probe{Question: q, Want: "reject", Reason: strings.TrimSpace(in.Body.Reason),
				Author: s.Author})
		}
		out := &server.Stored[answers.EditOut]{Status: http.StatusOK, Body: answers.EditOut{Revision: snap.Head.No,
			Errors: []answers.TextError{},
			Words:  "Mark " + many + " as rightly rejected"}}
		if in.DryRun || len(probes) == 0 {
			return out, nil
		}
		return out, s.KeepProbes(ctx, probes)
	}
	action, verb := policy.Permit, "Permit "
	if in.Body.As == "reject" {
		action, verb = policy.Reject, "Reject "
	}
	text, bad := settle.Many(v, snap.Head.Text, rows, action, settle.Width(cmp.Or(in.Body.Width, "groups")))
	if bad != nil {
		return answers.Unedited(snap, bad, in.DryRun)
	}
	return s.Edited(ctx, v, snap, text, verb+many, in.DryRun)
}
