package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
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
	Source string // of workloads: the inventory source
	// Form says how the file is written; what it leaves open is as it was before, or
	// as guessed.
	Form       ingest.Form
	Complete   bool     // of workloads: this is all that the source lists
	Confirm    int      // of a complete list that lacks much: how many it lacks, if it is whole all the same
	Directions bool     // of flows: each row is one direction; the two are joined
	Carriers   bool     // of a capture: what carries other packets counts as well as what it carries
	Name       string   // of flows: of the file, for records that name no observer
	Accept     []string // of flows: kinds of questions that somebody has said yes to
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
	Headings   []string          `json:"headings,omitempty" doc:"Of a table"`
	First      [][]string        `json:"first,omitempty" doc:"Its first rows"`
	Form       *ingest.Form      `json:"form,omitempty" doc:"How it is read, with what was guessed"`
	Words      []ingest.WordUse  `json:"words,omitempty" doc:"Of flows: its words for outcomes and protocols"`
	Questions  []ingest.Question `json:"questions,omitempty" doc:"Of flows: about rows that are left out until accept names their kind"`
	Held       int               `json:"held" doc:"Rows that are left out for a question"`
	Carried    bool              `json:"carried,omitempty" doc:"Of a capture: packets carry other packets (GRE, VXLAN and so on); carriers says whether both count"`
	BadKinds   []ingest.BadKind  `json:"badKinds" doc:"What is wrong, by what it is; that of most rows first"`
	Unusable   string            `json:"unusable,omitempty" doc:"Why nothing can be read in this way"`
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
	file   *ingest.WorkloadFile
	form   ingest.Form
	report ImportReport
	listed int // workloads that the source has listed before
}

// readWorkloads reads a file and says what taking it would do.
func (a *App) readWorkloads(ctx context.Context, snap *model.Model, file *File, in ImportOptions,
	preview bool) (*reading, error) {
	if in.Source == estate.ByHand {
		return nil, refuse.Invalid("source: “by hand” is for what people set; give the source another name")
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
	look, err := beginning(file, in.Form)
	if err == nil && look.JSON && look.Form.Pointer == "-" && in.Form.Pointer == "" && len(in.Form.Columns) == 0 &&
		ingest.OwnWorkloads(look.Headings) {
		r.file, err = ingest.WorkloadLines(f, in.Source)
	} else if err == nil {
		err = r.table(in, f, look, sources, preview)
	}
	if err != nil {
		var told *refuse.Problem
		if errors.As(err, &told) {
			return nil, err
		}
		return nil, refuse.Invalid("the file cannot be used: " + err.Error())
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
	if lacks := (&inventory.LacksError{Listed: len(listed), Missing: r.report.Missing}); in.Complete && lacks.Much() {
		r.report.Confirm = lacks.Missing
		r.report.Warnings = append(r.report.Warnings, lacks.Error())
	}
	return r, nil
}

// beginning looks at how a file is written.
func beginning(file *File, form ingest.Form) (*ingest.Look, error) {
	f, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, ingest.Looked)
	n, err := io.ReadFull(f, head)
	whole := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !whole {
		return nil, err
	}
	look, err := ingest.LookAt(head[:n], whole, form, shownRows)
	if err == nil && form.Encoding == "" && look.Form.Encoding == ingest.UTF8 && !whole && ingest.WesternBehind(f) {
		form.Encoding = ingest.Western
		look, err = ingest.LookAt(head[:n], whole, form, shownRows)
	}
	if err != nil {
		return nil, refuse.Invalid("the file cannot be used: " + err.Error())
	}
	return look, nil
}

const shownRows = 4

// columns completes what the columns of a look are: as said now, else as they
// were read before, else as they are usually called.
func columns(look *ingest.Look, guess func([]string) ingest.Mapping, before map[string]string) {
	said := look.Form.Columns
	look.Form.Columns = guess(look.Headings)
	for _, m := range []map[string]string{before, said} {
		for h, to := range m {
			if _, ok := look.Form.Columns[h]; ok {
				look.Form.Columns[h] = to
			}
		}
	}
	look.GuessDays()
}

// table reads a list of workloads that is a table.
func (r *reading) table(in ImportOptions, f *os.File, look *ingest.Look, sources []inventory.Source, preview bool) error {
	var before map[string]string
	for _, s := range sources {
		if s.Name == in.Source {
			before = s.Mapping
		}
	}
	columns(look, ingest.Guess, before)
	r.form = look.Form
	r.report.Headings, r.report.First, r.report.Form = look.Headings, look.First, &r.form
	var err error
	r.file, err = ingest.WorkloadsOf(f, in.Source, r.form)
	if err != nil && preview {
		// The headings are shown all the same, so that it can be read otherwise.
		r.file = &ingest.WorkloadFile{}
		r.report.Unusable = err.Error()
		return nil
	}
	return err
}

// PreviewWorkloads says what taking a list of workloads would do.
func (a *App) PreviewWorkloads(ctx context.Context, m *model.Model, file *File, o ImportOptions) (ImportReport,
	error) {
	r, err := a.readWorkloads(ctx, m, file, o, true)
	if err != nil {
		return ImportReport{}, err
	}
	return r.report, nil
}

// ImportWorkloads starts taking a list of workloads.
func (a *App) ImportWorkloads(ctx context.Context, m *model.Model, file *File, o ImportOptions) (jobs.Job, error) {
	r, err := a.readWorkloads(ctx, m, file, o, false)
	if err != nil {
		return jobs.Job{}, err
	}
	if r.report.Confirm != 0 && o.Confirm != r.report.Confirm {
		return jobs.Job{}, &inventory.LacksError{Listed: r.listed, Missing: r.report.Missing}
	}
	return a.StartStoring(ctx, "import-workloads", "Import workloads from "+o.Source,
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			progress(0.3, fmt.Sprintf("storing %d workloads", len(r.file.Workloads)))
			taken, err := a.Store.Take(ctx, inventory.Listing{Source: o.Source, Keys: r.file.Keys,
				Workloads: r.file.Workloads, Complete: o.Complete, Confirm: o.Confirm, Mapping: r.form.Columns,
				Author: a.Author, Words: "Import workloads from " + o.Source})
			if err != nil {
				return nil, err
			}
			r.report.Retired = taken.Retired
			a.Models.Nudge()
			return r.report, nil
		})
}
