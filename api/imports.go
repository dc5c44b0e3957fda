package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/imports"
	"lucidorchard/jobs"
	"lucidorchard/refuse"
)

type importInput struct {
	Source     string   `query:"source" default:"inventory" minLength:"1" maxLength:"100" doc:"Name of the inventory source"`
	Form       string   `query:"form" doc:"How the file is written, as a JSON object; what it leaves open is as it was before, or as guessed"`
	Complete   bool     `query:"complete" doc:"Of workloads: this is all that the source lists; what it listed before and is missing is retired"`
	Directions bool     `query:"directions" doc:"Of flows: each row is one direction, as an exporter sees it; the two are joined"`
	Carriers   bool     `query:"carriers" doc:"Of a capture: of a packet that carries another one, what carries it counts as well as what it carries"`
	Name       string   `query:"name" doc:"Of flows: of the file, for records that name no observer"`
	Accept     []string `query:"accept" enum:"port,time" doc:"Of flows: kinds of rows that are taken although they can hardly be meant"`
	Preview    bool     `query:"preview" doc:"Only say what it would do"`
	Confirm    int      `query:"confirm" minimum:"0" doc:"Of a complete list that lacks more than a tenth of what its source listed before: how many it lacks, as the preview says"`
	rawBody
}

func (in *importInput) options() (imports.ImportOptions, error) {
	o := imports.ImportOptions{Source: in.Source, Complete: in.Complete, Confirm: in.Confirm, Directions: in.Directions, Carriers: in.Carriers,
		Name: in.Name, Accept: in.Accept}
	if in.Form == "" {
		return o, nil
	}
	d := json.NewDecoder(strings.NewReader(in.Form))
	d.DisallowUnknownFields()
	if err := d.Decode(&o.Form); err != nil {
		return o, refuse.Invalid("form: found no form of a file: " + strings.TrimPrefix(err.Error(), "json: "))
	}
	return o, nil
}

// ImportAnswer is a preview, or the job that imports.
type ImportAnswer struct {
	Preview *imports.ImportReport `json:"preview,omitempty"`
	Job     *jobs.Job             `json:"job,omitempty"`
}

// imported: it starts an import, or only says what that would do.
func imported(o *huma.Operation) {
	begun(o)
	o.Responses["200"] = &huma.Response{Description: "A preview; nothing was stored"}
}

func importing(job jobs.Job, err error) (*Stored[ImportAnswer], error) {
	if err != nil {
		return nil, err
	}
	return &Stored[ImportAnswer]{http.StatusAccepted, jobPath(job.ID), ImportAnswer{Job: &job}}, nil
}

// importsAPI answers about files that are sent here.
type importsAPI struct{ *base }

func (s *importsAPI) routes(r routes) {
	file := filed("text/csv", "application/x-ndjson", "application/octet-stream")
	post(r, "import-workloads", "/imports/workloads", "Import workloads from CSV", s.importWorkloads, imported, file)
	post(r, "import-flows", "/imports/flows", "Import flows from CSV, JSON Lines, an IPFIX file, or a packet capture",
		s.importFlows, imported, file)
}

// preview answers with what an import would do.
func preview(report imports.ImportReport, err error) (*Stored[ImportAnswer], error) {
	if err != nil {
		return nil, err
	}
	return &Stored[ImportAnswer]{Status: http.StatusOK, Body: ImportAnswer{Preview: &report}}, nil
}

func (s *importsAPI) importWorkloads(ctx context.Context, in *importInput) (*Stored[ImportAnswer], error) {
	file, err := s.receive(ctx, &in.rawBody, mostWorkloads)
	if err != nil {
		return nil, err
	}
	defer file.Close() // what is imported is in memory, compared
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	o, err := in.options()
	if err != nil {
		return nil, err
	}
	if in.Preview {
		return preview(s.PreviewWorkloads(ctx, snap, file, o))
	}
	return importing(s.ImportWorkloads(ctx, snap, file, o))
}

func (s *importsAPI) importFlows(ctx context.Context, in *importInput) (*Stored[ImportAnswer], error) {
	file, err := s.receive(ctx, &in.rawBody, mostFlows)
	if err != nil {
		return nil, err
	}
	snap, err := s.snapshot(ctx)
	var o imports.ImportOptions
	if err == nil {
		o, err = in.options()
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	if in.Preview {
		defer file.Close()
		return preview(s.PreviewFlows(ctx, snap, file, o))
	}
	return importing(s.ImportFlows(ctx, snap, file, o))
}
