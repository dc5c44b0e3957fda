package rest

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/reach"
	"lucidorchard/core/report"
	"lucidorchard/drafting"
	"lucidorchard/model"
	"lucidorchard/server"
)

// reportQuery selects a report.
type reportQuery struct {
	answers.Window
	Against int    `query:"against" doc:"The revision before; without it, the first"`
	By      string `query:"by" default:"app" doc:"What parts of the estate are: a tag, ~area or ~owner"`
	For     string `query:"for" doc:"Only this part: area:NAME, owner:NAME or KEY:VALUE"`
}

// Reports answers about the report for owners.
type Reports struct {
	*answers.Desk
	*drafting.Service
	Company Company
}

func (s *Reports) Routes(r server.Routes) {
	server.Get(r, "read-report", "/report", "The policy in plain words, for somebody who owns applications", s.report,
		server.CanBeMissing)
	server.Get(r, "export-report", "/report.md", "The report as Markdown", s.exportReport, server.CanBeMissing)
}

func (s *Reports) report(ctx context.Context, in *reportQuery) (*server.Body[report.Report], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if in.Against == 0 {
		in.Against = min(1, snap.Head.No)
	}
	v, snap, err := s.ViewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	o := report.Options{By: in.By, Draft: snap.Head.Text, Asserts: snap.Asserts(),
		Query: reach.Query{Filter: reach.Filter{Acceptance: snap.Acceptance()}}}
	if in.For != "" {
		part, ok := reach.ReadPart(in.For)
		if !ok {
			return nil, huma.Error422UnprocessableEntity("for: found " + in.For +
				", expected area:NAME, owner:NAME or KEY:VALUE")
		}
		o.Query.Part = &part
	}
	before := model.Revision{}
	if in.Against > 0 {
		if before, err = s.Revision(ctx, in.Against); err != nil {
			return nil, err
		}
	}
	o.Before = before.Text
	all := snap.Probes()
	o.Accepted = func(i int) string {
		c := v.At(i)
		for k := range all {
			if p := &all[k]; p.Want == decide.Reject.String() && p.Question != nil &&
				p.Question.Client.Holds(c.Client) && p.Question.Server.Holds(c.Server) &&
				p.Question.Points.Contains(c.Point) {
				return p.Reason
			}
		}
		return ""
	}
	out := report.New(v, o)
	out.Draft, out.Before = versionOut(snap.Head), versionOut(before)
	for i := range all {
		p := &all[i]
		r := report.Probe{Question: p.Probe.Question, Want: p.Want, AsExpected: p.AsExpected(), Reason: p.Reason}
		if p.Err != nil {
			r.Words = p.Err.Message
		} else {
			r.Words = snap.Census().Words(p.Question, p.Answer)
		}
		out.Probes = append(out.Probes, r)
	}
	owners := v.Owners(in.By)
	for i := range out.Parts {
		out.Parts[i].Owner = owners[out.Parts[i].Name]
	}
	if in.For != "" { // its own part only: what others have with it stands there too
		kept := out.Parts[:0]
		for _, p := range out.Parts {
			if answers.PartKey(in.By, p.Name) == in.For {
				kept = append(kept, p)
			}
		}
		if len(kept) > 0 {
			out.Parts = kept
		}
	}
	return server.OK(out), nil
}

func versionOut(r model.Revision) report.Version {
	out := report.Version{No: r.No, Author: r.Author, Words: r.Words}
	if !r.At.IsZero() {
		out.At = r.At.UTC().Format(time.RFC3339)
	}
	return out
}

func (s *Reports) exportReport(ctx context.Context, in *reportQuery) (*huma.StreamResponse, error) {
	r, err := s.report(ctx, in)
	if err != nil {
		return nil, err
	}
	estate, _, err := s.Company(ctx)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/markdown; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="draft.md"`)
		_, _ = ctx.BodyWriter().Write([]byte(r.Body.Markdown(estate)))
	}}, nil
}
