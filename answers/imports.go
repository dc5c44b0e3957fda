package answers

import (
	"encoding/json"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/imports"
	"lucidorchard/jobs"
	"lucidorchard/refuse"
	"lucidorchard/server"
)

// ImportInput is a request that sends a file.
type ImportInput struct {
	Source     string   `query:"source" default:"inventory" minLength:"1" maxLength:"100" doc:"Name of the inventory source"`
	Form       string   `query:"form" doc:"The format of the file, as a JSON object; missing members are as before, or guessed"`
	Complete   bool     `query:"complete" doc:"Of workloads: the list is complete; workloads that the source listed before and that are missing are retired"`
	Directions bool     `query:"directions" doc:"Of flows: each row is one direction, as an exporter sees it; the two are joined"`
	Carriers   bool     `query:"carriers" doc:"Of a capture: count tunnels as well as the conversations inside them"`
	Name       string   `query:"name" doc:"Of flows: of the file, for records that name no observer"`
	Accept     []string `query:"accept" enum:"port,time" doc:"Of flows: kinds of rows that are taken although they can hardly be meant"`
	Preview    bool     `query:"preview" doc:"Only return the consequences; store nothing"`
	Confirm    int      `query:"confirm" minimum:"0" doc:"Required for a complete list that lacks more than a tenth of the workloads of its source: the number of missing workloads, as the preview reports it"`
	server.Sent
}

// Options returns how the file is to be read.
func (in *ImportInput) Options() (imports.ImportOptions, error) {
	o := imports.ImportOptions{Source: in.Source, Complete: in.Complete, Confirm: in.Confirm,
		Directions: in.Directions, Carriers: in.Carriers,
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
	Job     *server.Job           `json:"job,omitempty"`
}

// StartsImport marks an operation that starts an import, or only reports what it would do.
func StartsImport(o *huma.Operation) {
	server.Starts(o)
	o.Responses["200"] = &huma.Response{Description: "A preview; nothing was stored"}
}

// ImportStarted answers with the job that imports.
func ImportStarted(job jobs.Job, err error) (*server.Stored[ImportAnswer], error) {
	if err != nil {
		return nil, err
	}
	return &server.Stored[ImportAnswer]{Status: http.StatusAccepted, Location: server.JobPath(job.ID),
		Body: ImportAnswer{Job: (*server.Job)(&job)}}, nil
}

// TakesImport marks an operation that takes a file of workloads or traffic.
func TakesImport(o *huma.Operation) {
	server.TakesFile("text/csv", "application/x-ndjson", "application/octet-stream")(o)
}

// ImportPreview answers with what an import would do.
func ImportPreview(report imports.ImportReport, err error) (*server.Stored[ImportAnswer], error) {
	if err != nil {
		return nil, err
	}
	return &server.Stored[ImportAnswer]{Status: http.StatusOK, Body: ImportAnswer{Preview: &report}}, nil
}
