package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/store"
)

// File is a file that was sent here, whole. It belongs to who closes it.
type File struct {
	Path string
	Size int64
	Sum  string // SHA-256, hexadecimal
	Head []byte // its first octets
}

// Open opens the file to be read from its beginning.
func (f *File) Open() (*os.File, error) { return os.Open(f.Path) }

// Close removes the file.
func (f *File) Close() { _ = os.Remove(f.Path) }

// ImportOptions say how a file is read, and what it is.
type ImportOptions struct {
	Source     string // of workloads: the inventory source
	Lines      bool   // of workloads: JSON Lines, not CSV
	Mapping    string // of a CSV: what each heading is, as a JSON object; blank: as before, or as guessed
	Complete   bool   // of workloads: this is all that the source lists
	Confirm    int    // of a complete list that lacks much: how many it lacks, if it is whole all the same
	Directions bool   // of flows: each row is one direction; the two are joined
	Name       string // of flows: of the file, for records that name no observer
}

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

// ShownErrors is how many bad rows a report names.
const ShownErrors = 200

const shownExamples = 20

// reading is a file of workloads compared with the estate.
type reading struct {
	file    *ingest.WorkloadFile
	mapping ingest.Mapping
	report  ImportReport
	listed  int // workloads that the source has listed before
}

// readWorkloads reads a file and says what taking it would do.
func (a *App) readWorkloads(ctx context.Context, snap *model.Model, file *File, in ImportOptions,
	preview bool) (*reading, error) {
	if in.Source == estate.ByHand {
		return nil, Invalid("source: “by hand” is for what people set; give the source another name")
	}
	r := &reading{report: ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{},
		NewWords: []string{}}}
	sources, err := a.Store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	f, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if in.Lines {
		r.file, err = ingest.WorkloadLines(f, in.Source)
	} else {
		err = r.csv(in, f, sources, preview)
	}
	if err != nil {
		var told *Problem
		if errors.As(err, &told) {
			return nil, err
		}
		return nil, Invalid("the file cannot be used: " + err.Error())
	}
	listed, err := a.Store.Listed(ctx, in.Source)
	if err != nil {
		return nil, err
	}
	spokenFor, err := a.Store.SpokenFor(ctx, in.Source)
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

func (r *reading) csv(in ImportOptions, f *os.File, sources []store.Source, preview bool) error {
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
			return Invalid("mapping: found no JSON object of texts: " + err.Error())
		}
	}
	r.report.Headings, r.report.First, r.report.Mapping = headings, first, r.mapping
	r.file, err = ingest.MappedWorkloads(f, in.Source, r.mapping)
	if err != nil && preview {
		// The headings are shown all the same, so that the mapping can be mended.
		r.file = &ingest.WorkloadFile{}
		r.report.Unusable = err.Error()
		return nil
	}
	return err
}

// PreviewWorkloads says what taking a list of workloads would do.
func (a *App) PreviewWorkloads(ctx context.Context, m *model.Model, file *File, o ImportOptions) (ImportReport, error) {
	r, err := a.readWorkloads(ctx, m, file, o, true)
	if err != nil {
		return ImportReport{}, err
	}
	return r.report, nil
}

// ImportWorkloads starts taking a list of workloads.
func (a *App) ImportWorkloads(ctx context.Context, m *model.Model, file *File, o ImportOptions) (store.Job, error) {
	r, err := a.readWorkloads(ctx, m, file, o, false)
	if err != nil {
		return store.Job{}, err
	}
	if r.report.Confirm != 0 && o.Confirm != r.report.Confirm {
		return store.Job{}, &store.LacksError{Listed: r.listed, Missing: r.report.Missing}
	}
	return a.StartStoring(ctx, "import-workloads", "Import workloads from "+o.Source,
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			progress(0.3, fmt.Sprintf("storing %d workloads", len(r.file.Workloads)))
			taken, err := a.Store.Take(ctx, store.Listing{Source: o.Source, Keys: r.file.Keys,
				Workloads: r.file.Workloads, Complete: o.Complete, Confirm: o.Confirm, Mapping: r.mapping,
				Author: a.Author})
			if err != nil {
				return nil, err
			}
			r.report.Retired = taken.Retired
			a.Models.Nudge()
			return r.report, nil
		})
}
