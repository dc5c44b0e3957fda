package rest

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/whatif"
	"lucidorchard/drafting"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/server"
)

// AnswerOut is what the draft does with all traffic that a question speaks of.
type AnswerOut struct {
	Line       int               `json:"line" doc:"Of the text that was asked"`
	Question   string            `json:"question" doc:"In the one layout, without the expected verdict"`
	Want       string            `json:"want,omitempty" enum:",permit,reject,uncovered" doc:"The verdict that is expected, if one is"`
	AsExpected bool              `json:"asExpected"`
	Verdict    string            `json:"verdict" enum:"permit,reject,uncovered,several,nothing" doc:"The one that all of it gets; several, or nothing if it speaks of no two endpoints"`
	Words      string            `json:"words" doc:"The answer in a sentence"`
	Pairs      int               `json:"pairs" doc:"Of a client and a server"`
	Counts     answers.CountsOut `json:"counts" doc:"Pairs all of whose points get the verdict"`
	Mixed      int               `json:"mixed" doc:"Pairs of which it depends on the port"`
	Parts      []answerPartOut   `json:"parts" doc:"By the rule that decides; uncovered first"`
	Undecided  []MaybeOut        `json:"undecided" doc:"Workloads that may be meant, because a tag is missing; at most 20"`
	MaybeCount int               `json:"maybeCount"`
}

// answerPartOut is the pairs, and their points, that one rule decides, or none.
type answerPartOut struct {
	Verdict     string              `json:"verdict" enum:"permit,reject,uncovered"`
	Rule        *answers.RuleRef    `json:"rule,omitempty"`
	Pairs       int                 `json:"pairs"`
	Service     string              `json:"service" doc:"The points"`
	Clients     []MaybeOut          `json:"clients" doc:"At most 5"`
	ClientCount int                 `json:"clientCount"`
	Servers     []MaybeOut          `json:"servers"`
	ServerCount int                 `json:"serverCount"`
	Client      answers.EndpointOut `json:"client" doc:"Of an example"`
	Server      answers.EndpointOut `json:"server"`
	Point       string              `json:"point"`
}

// MaybeOut is an end with the tags that it lacks and that groups wait for.
type MaybeOut struct {
	Name     string   `json:"name"`
	Workload string   `json:"workload,omitempty"`
	Lacks    []string `json:"lacks"`
}

// WhatIf is the answers to a text.
type WhatIf struct {
	Revision int                 `json:"revision"`
	Answers  []AnswerOut         `json:"answers"`
	Errors   []answers.TextError `json:"errors" doc:"Lines that cannot be read; the others are answered"`
}

// ProbeOut is a probe with what is answered now.
type ProbeOut struct {
	Probe
	Answer  *AnswerOut `json:"answer,omitempty"`
	Problem string     `json:"problem,omitempty" doc:"Why it cannot be asked any more"`
	Rightly int        `json:"rightly" doc:"Conversations of the window whose rejection it accepts"`
}

// WhatIfs answers about questions and probes.
type WhatIfs struct {
	*answers.Desk
	*drafting.Service
}

func (s *WhatIfs) Routes(r server.Routes) {
	server.Post(r, "answer-questions", "/whatif", "Answer many questions at once", s.whatIf)
	server.Get(r, "list-probes", "/probes", "The probes with what is answered now", s.listProbes)
	server.Post(r, "keep-probes", "/probes", "Save questions with the expected verdict", s.keepProbes)
	server.Post(r, "drop-probes", "/probes/drop", "Drop probes", s.dropProbes)
	server.Get(r, "export-probes", "/probes.txt", "The probes, a line each, as the bench reads them", s.exportProbes)
	server.Get(r, "export-probe-results", "/probes.csv", "The probes with their results as CSV", s.exportProbeResults)
}

func (s *WhatIfs) whatIf(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" maxLength:"1000000" doc:"Questions, one a line: client -> server service, and = with a verdict if one is expected"`
	}
}) (*server.Body[WhatIf], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	c := snap.Census()
	questions, errs := c.Read(strings.ReplaceAll(in.Body.Text, "→", "->"))
	out := WhatIf{Revision: snap.Head.No, Answers: []AnswerOut{}, Errors: answers.TextErrors(errs)}
	if len(questions) > maxQuestions {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("found %d questions, expected at most %d",
			len(questions), maxQuestions))
	}
	first := map[string]int{} // by its text: the number among those that are asked
	var asked []whatif.Question
	for _, q := range questions {
		if _, known := first[q.Text]; !known {
			first[q.Text] = len(asked)
			asked = append(asked, q)
		}
	}
	answers := make([]AnswerOut, len(asked))
	err = c.EachAnswer(ctx, asked, func(i int, a *whatif.Answer) { answers[i] = answerOut(c, &asked[i], a) })
	if err != nil {
		return nil, err
	}
	for _, q := range questions {
		answer := answers[first[q.Text]]
		answer.Line = q.Line
		out.Answers = append(out.Answers, answer)
	}
	return server.OK(out), nil
}

const maxQuestions = 2000

func answerOut(c *whatif.Census, q *whatif.Question, a *whatif.Answer) AnswerOut {
	out := AnswerOut{Line: q.Line, Question: bareQuestion(q), AsExpected: q.As(a), Verdict: a.Verdict(),
		Words: c.Words(q, a), Pairs: a.Pairs, Counts: answers.NewCountsOut(a.Of), Mixed: a.Mixed,
		Parts:     []answerPartOut{},
		Undecided: []MaybeOut{}}
	if q.Want != nil {
		out.Want = q.Want.String()
	}
	ends := func(list []whatif.End) []MaybeOut {
		all := []MaybeOut{}
		for _, e := range list[:min(5, len(list))] {
			all = append(all, maybeOut(c, e))
		}
		return all
	}
	for i := range a.Parts {
		p := &a.Parts[i]
		out.Parts = append(out.Parts, answerPartOut{
			Verdict: p.Verdict.String(), Rule: answers.NewRuleRef(p.Rule), Pairs: p.Pairs, Service: specsOf(p.Points),
			Clients: ends(p.Clients), ClientCount: len(p.Clients), Servers: ends(p.Servers),
			ServerCount: len(p.Servers),
			Client:      placedOut(c, p.Client), Server: placedOut(c, p.Server), Point: p.Point.String(),
		})
	}
	for _, side := range []*whatif.Side{&q.Client, &q.Server} {
		out.MaybeCount += len(side.Undecided)
		for _, e := range side.Undecided[:min(20-len(out.Undecided), len(side.Undecided))] {
			out.Undecided = append(out.Undecided, maybeOut(c, e))
		}
	}
	return out
}

func maybeOut(c *whatif.Census, e whatif.End) MaybeOut {
	out := MaybeOut{Name: c.Name(e), Lacks: append([]string{}, c.Lacks(e)...)}
	if e.Workload != estate.Outside {
		out.Workload = c.Compiled().Estate.Workload(e.Workload).ID
	}
	return out
}

func placedOut(c *whatif.Census, e whatif.End) answers.EndpointOut {
	out := answers.EndpointOut{Addr: e.Addr.String(), Name: c.Name(e)}
	if e.Workload != estate.Outside {
		out.Workload = c.Compiled().Estate.Workload(e.Workload).ID
	}
	return out
}

// bareQuestion is a question without the verdict that is expected.
func bareQuestion(q *whatif.Question) string {
	bare := *q
	bare.Want = nil
	return bare.String()
}

func (s *WhatIfs) listProbes(ctx context.Context, in *struct {
	answers.Window
	server.All
}) (*server.List[ProbeOut], error) {
	all, err := s.probes(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, all, in.All), nil
}

func (s *WhatIfs) probes(ctx context.Context, w answers.Window) ([]ProbeOut, error) {
	v, snap, err := s.View(ctx, w)
	if err != nil {
		return nil, err
	}
	return probesOut(v, snap), nil
}

func probesOut(v *reach.View, snap *model.Model) []ProbeOut {
	out := []ProbeOut{}
	all := snap.Probes()
	rightly := v.Rightly(snap.Acceptance())
	accepted := 0
	for i := range all {
		p := &all[i]
		o := ProbeOut{Probe: Probe(p.Probe)}
		if p.Err != nil {
			o.Problem = p.Err.Message
		} else {
			a := answerOut(snap.Census(), p.Question, p.Answer)
			o.Answer = &a
			if p.Want == "reject" {
				o.Rightly = rightly[accepted]
				accepted++
			}
		}
		out = append(out, o)
	}
	return out
}

func (s *WhatIfs) keepProbes(ctx context.Context, in *struct {
	answers.Window
	Body struct {
		Text   string `json:"text" minLength:"1" doc:"Questions, one a line; one without an expected verdict expects the one that it gets now"`
		Reason string `json:"reason"`
	}
}) (*server.List[ProbeOut], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	c := snap.Census()
	questions, errs := c.Read(strings.ReplaceAll(in.Body.Text, "→", "->"))
	if len(errs) > 0 {
		return nil, answers.Refusal(&policy.EditError{Message: fmt.Sprintf("line %d: %s; nothing was kept",
			errs[0].Line,
			errs[0].Message), Errors: errs})
	}
	var probes []model.Probe
	for i := range questions {
		q := &questions[i]
		p := model.Probe{Question: bareQuestion(q), Reason: strings.TrimSpace(in.Body.Reason), Author: s.Author}
		if q.Want != nil {
			p.Want = q.Want.String()
		} else if v, one := c.Answer(q).One(); one {
			p.Want = v.String()
		} else {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("line %d gets several verdicts now: write = "+
				"and the one that is expected; nothing was kept", q.Line))
		}
		probes = append(probes, p)
	}
	if err := s.KeepProbes(ctx, probes); err != nil {
		return nil, err
	}
	return s.listProbes(ctx, &struct {
		answers.Window
		server.All
	}{in.Window, server.Everything})
}

func (s *WhatIfs) dropProbes(ctx context.Context, in *struct {
	answers.Window
	Body struct {
		Questions []string `json:"questions" minItems:"1"`
	}
}) (*server.List[ProbeOut], error) {
	if err := s.DropProbes(ctx, in.Body.Questions); err != nil {
		return nil, err
	}
	return s.listProbes(ctx, &struct {
		answers.Window
		server.All
	}{in.Window, server.Everything})
}

func (s *WhatIfs) exportProbes(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	kept, err := s.Probes(ctx)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/plain; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="probes.txt"`)
		for _, p := range kept {
			line := p.Question + " = " + p.Want
			if p.Reason != "" {
				line += "  # " + strings.ReplaceAll(p.Reason, "\n", " ")
			}
			_, _ = fmt.Fprintln(ctx.BodyWriter(), line)
		}
	}}, nil
}

func (s *WhatIfs) exportProbeResults(ctx context.Context, in *struct{ answers.Window }) (*huma.StreamResponse, error) {
	all, err := s.probes(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("probes.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"question", "expected", "as_expected", "answer", "reason", "author"})
		for _, p := range all {
			row := []string{p.Question, p.Want, "no", p.Problem, p.Reason, p.Author}
			if p.Answer != nil {
				row[3] = p.Answer.Words
				if p.Answer.AsExpected {
					row[2] = "yes"
				}
			}
			_ = w.Write(row)
		}
	}), nil
}
