package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/store"
)

// ImportReport is what a file says and what taking it does.
type ImportReport struct {
	Rows       int               `json:"rows" doc:"Data rows of the file"`
	Bad        int               `json:"bad" doc:"Rows that cannot be used"`
	Errors     []ingest.RowError `json:"errors" doc:"The first of them"`
	Warnings   []string          `json:"warnings"`
	Added      int               `json:"added" doc:"New workloads, or conversation-hours"`
	Changed    int               `json:"changed" doc:"Workloads that change"`
	Same       int               `json:"same"`
	Kept       int               `json:"kept" doc:"Tag values that stay because they were set by hand, or a source that outranks this one gives them"`
	Examples   []ImportExample   `json:"examples" doc:"The first workloads that are new or change"`
	NewWords   []string          `json:"newWords" doc:"Tag values that nothing had before"`
	From       string            `json:"from,omitempty" doc:"Of flows: the span they cover"`
	To         string            `json:"to,omitempty"`
	Outside    int               `json:"outside" doc:"Of flows: those with an end that no workload holds"`
	Unsure     int               `json:"unsure" doc:"Of flows: records whose direction is not certain"`
	FileFormat string            `json:"fileFormat,omitempty" doc:"Of flows: what the file is written in"`
	Headings   []string          `json:"headings,omitempty" doc:"Of a CSV"`
	First      [][]string        `json:"first,omitempty" doc:"Its first rows"`
	Mapping    map[string]string `json:"mapping,omitempty" doc:"What each heading is read as; blank: left out"`
	Unusable   string            `json:"unusable,omitempty" doc:"Why nothing can be read with this mapping"`
	Confirm    int               `json:"confirm,omitempty" doc:"Of a complete list that lacks much: what confirm has to be, if it is whole all the same"`
	Missing    int               `json:"missing" doc:"Of a complete list: workloads that the source has listed and that are not in it"`
	Retired    []string          `json:"retired,omitempty" doc:"Of these, those that no other source lists: they were retired"`
	Already    string            `json:"already,omitempty" doc:"The same file was counted before: when"`
}

// ImportExample is a workload with what the import does to it.
type ImportExample struct {
	ID   string   `json:"id"`
	New  bool     `json:"new"`
	What []string `json:"what"`
}

const shownErrors, shownExamples = 200, 20

type importInput struct {
	Source     string `query:"source" default:"inventory" minLength:"1" maxLength:"100" doc:"Name of the inventory source"`
	Format     string `query:"format" enum:"csv,lines" default:"csv" doc:"Of workloads: CSV, or JSON Lines"`
	Mapping    string `query:"mapping" doc:"Of a CSV: what each heading is, as a JSON object; without it, what the source's files had before, or what the headings look like"`
	Complete   bool   `query:"complete" doc:"Of workloads: this is all that the source lists; what it listed before and is missing is retired"`
	Directions bool   `query:"directions" doc:"Of flows: each row is one direction, as an exporter sees it; the two are joined"`
	Name       string `query:"name" doc:"Of flows: of the file, for records that name no observer"`
	Preview    bool   `query:"preview" doc:"Only say what it would do"`
	Confirm    int    `query:"confirm" minimum:"0" doc:"Of a complete list that lacks more than a tenth of what its source listed before: how many it lacks, as the preview says"`
	rawBody
	file *upload
}

// ImportAnswer is a preview, or the job that imports.
type ImportAnswer struct {
	Preview *ImportReport `json:"preview,omitempty"`
	Job     *store.Job    `json:"job,omitempty"`
}

// imported: it starts an import, or only says what that would do.
func imported(o *huma.Operation) {
	begun(o)
	o.Responses["200"] = &huma.Response{Description: "A preview; nothing was stored"}
}

func importing(job store.Job, err error) (*Stored[ImportAnswer], error) {
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

// reading is a file of workloads compared with the estate.
type reading struct {
	file    *ingest.WorkloadFile
	mapping ingest.Mapping
	report  ImportReport
	listed  int // workloads that the source has listed before
}

// readWorkloads reads a file and says what taking it would do.
func (s *importsAPI) readWorkloads(ctx context.Context, snap *model.Model, in *importInput) (*reading, error) {
	r := &reading{report: ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{},
		NewWords: []string{}}}
	sources, err := s.Store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	f, err := in.file.open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if in.Format == "lines" {
		r.file, err = ingest.WorkloadLines(f, in.Source)
	} else {
		err = r.csv(in, f, sources)
	}
	if err != nil {
		var status huma.StatusError
		if errors.As(err, &status) {
			return nil, err
		}
		return nil, huma.Error422UnprocessableEntity("the file cannot be used: " + err.Error())
	}
	listed, err := s.Store.Listed(ctx, in.Source)
	if err != nil {
		return nil, err
	}
	spokenFor, err := s.Store.SpokenFor(ctx, in.Source)
	if err != nil {
		return nil, err
	}
	r.listed = len(listed)
	r.compare(snap, in, sources, listed, spokenFor)
	if lacks := (&store.LacksError{Listed: len(listed), Missing: r.report.Missing}); in.Complete && lacks.Much() {
		r.report.Confirm = lacks.Missing
		r.report.Warnings = append(r.report.Warnings, lacks.Error())
	}
	return r, nil
}

func (r *reading) csv(in *importInput, f *os.File, sources []store.Source) error {
	headings, first, err := ingest.Head(f, 4)
	if err != nil {
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	r.mapping = ingest.Guess(headings)
	for _, s := range sources {
		for h, to := range s.Mapping {
			if _, ok := r.mapping[h]; ok && s.Name == in.Source {
				r.mapping[h] = to
			}
		}
	}
	if in.Mapping != "" {
		if err := json.Unmarshal([]byte(in.Mapping), &r.mapping); err != nil {
			return huma.Error422UnprocessableEntity("mapping: found no JSON object of texts: " + err.Error())
		}
	}
	r.report.Headings, r.report.First, r.report.Mapping = headings, first, r.mapping
	r.file, err = ingest.MappedWorkloads(f, in.Source, r.mapping)
	if err != nil && in.Preview {
		// The headings are shown all the same, so that the mapping can be mended.
		r.file = &ingest.WorkloadFile{}
		r.report.Unusable = err.Error()
		return nil
	}
	return err
}

func (s *importsAPI) importWorkloads(ctx context.Context, in *importInput) (_ *Stored[ImportAnswer], err error) {
	if in.Source == estate.ByHand {
		return nil, huma.Error422UnprocessableEntity("source: “by hand” is for what people set; give the source " +
			"another name")
	}
	if in.file, err = s.receive(ctx, &in.rawBody, mostWorkloads); err != nil {
		return nil, err
	}
	defer in.file.close() // what is imported is in memory, compared
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.readWorkloads(ctx, snap, in)
	if err != nil {
		return nil, err
	}
	if in.Preview {
		return &Stored[ImportAnswer]{Status: http.StatusOK, Body: ImportAnswer{Preview: &r.report}}, nil
	}
	if r.report.Confirm != 0 && in.Confirm != r.report.Confirm {
		return nil, &store.LacksError{Listed: r.listed, Missing: r.report.Missing}
	}
	job, err := s.StartStoring(ctx, "import-workloads", "Import workloads from "+in.Source,
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			progress(0.3, fmt.Sprintf("storing %d workloads", len(r.file.Workloads)))
			taken, err := s.Store.Take(ctx, store.Listing{Source: in.Source, Keys: r.file.Keys,
				Workloads: r.file.Workloads, Complete: in.Complete, Confirm: in.Confirm, Mapping: r.mapping,
				Author: s.Author})
			if err != nil {
				return nil, err
			}
			r.report.Retired = taken.Retired
			s.Models.Nudge()
			return r.report, nil
		})
	return importing(job, err)
}
