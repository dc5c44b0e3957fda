package inventory

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/imports"
	"lucidorchard/ingest"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// reading is a file of workloads compared with the estate.
type reading struct {
	file   *ingest.WorkloadFile
	form   ingest.Form
	report imports.ImportReport
	listed int // workloads that the source has listed before
}

// readWorkloads reads a file and says what taking it would do.
func (a *Service) readWorkloads(ctx context.Context, snap *model.Model, file *imports.File, in imports.ImportOptions,
	preview bool) (*reading, error) {
	if in.Source == estate.ByHand {
		return nil, refuse.Invalid("source: the name “by hand” is reserved for values that people set; choose " +
			"another name")
	}
	r := &reading{report: imports.ImportReport{Errors: []ingest.RowError{}, Warnings: []string{},
		Examples: []imports.ImportExample{},
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
	look, err := imports.Beginning(file, in.Form)
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
	if lacks := (&LacksError{Listed: len(listed), Missing: r.report.Missing}); in.Complete && lacks.Much() {
		r.report.Confirm = lacks.Missing
		r.report.Warnings = append(r.report.Warnings, lacks.Error())
	}
	return r, nil
}

// table reads a list of workloads that is a table.
func (r *reading) table(in imports.ImportOptions, f *os.File, look *ingest.Look, sources []Source, preview bool) error {
	var before map[string]string
	for _, s := range sources {
		if s.Name == in.Source {
			before = s.Mapping
		}
	}
	imports.Columns(look, ingest.Guess, before)
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

// PreviewWorkloads reports what taking a list of workloads would do.
func (a *Service) PreviewWorkloads(ctx context.Context, m *model.Model, file *imports.File,
	o imports.ImportOptions) (imports.ImportReport,
	error) {
	r, err := a.readWorkloads(ctx, m, file, o, true)
	if err != nil {
		return imports.ImportReport{}, err
	}
	return r.report, nil
}

// ImportWorkloads starts taking a list of workloads.
func (a *Service) ImportWorkloads(ctx context.Context, m *model.Model, file *imports.File,
	o imports.ImportOptions) (jobs.Job, error) {
	r, err := a.readWorkloads(ctx, m, file, o, false)
	if err != nil {
		return jobs.Job{}, err
	}
	if r.report.Confirm != 0 && o.Confirm != r.report.Confirm {
		return jobs.Job{}, &LacksError{Listed: r.listed, Missing: r.report.Missing}
	}
	return a.StartStoring(ctx, "import-workloads", "Import workloads from "+o.Source,
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			progress(0.3, fmt.Sprintf("storing %d workloads", len(r.file.Workloads)))
			taken, err := a.Store.Take(ctx, Listing{Source: o.Source, Keys: r.file.Keys,
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

// compare computes what a listing does to the estate.
func (r *reading) compare(snap *model.Model, in imports.ImportOptions, sources []Source, listed []string,
	spokenFor map[string]bool) {
	out, file := &r.report, r.file
	rank := map[string]int{estate.ByHand: -1, in.Source: 1 << 30} // a source that is heard first comes last
	for _, s := range sources {
		rank[s.Name] = s.Rank
	}
	there := map[string]bool{}
	for i := range file.Workloads {
		there[file.Workloads[i].ID] = true
	}
	leases := r.reassign(snap, in.Source, rank)
	words := map[string]bool{}
	for _, w := range snap.Estate.All() {
		for _, t := range w.Tags {
			words[t.Key+" = "+t.Value] = true
		}
	}
	example := func(ex imports.ImportExample) {
		if len(out.Examples) < imports.ShownExamples {
			out.Examples = append(out.Examples, ex)
		}
	}
	for i := range file.Workloads {
		r.compareOne(snap, &file.Workloads[i], in.Source, rank, leases, spokenFor, words, example)
	}
	for id := range leases {
		if !there[id] { // it gives an address up
			out.Changed++
			i, _ := snap.Estate.ByID(id)
			example(imports.ImportExample{ID: id, What: leaseChanges(snap.Estate.Workload(i).Leases, leases, id)})
		}
	}
	if in.Complete {
		for _, id := range listed {
			if !there[id] {
				out.Missing++
				example(imports.ImportExample{ID: id, What: []string{"is no longer listed"}})
			}
		}
	}
}

// reassign returns the leases that change by the file, by workload, and reports those that
// it cannot have.
func (r *reading) reassign(snap *model.Model, from string, rank map[string]int) map[string][]estate.Lease {
	out, file := &r.report, r.file
	have := map[string][]estate.Lease{}
	keep := func(id string) {
		if i, ok := snap.Estate.ByID(id); ok {
			have[id] = snap.Estate.Workload(i).Leases
		}
	}
	var listing []estate.Listed
	for i := range file.Workloads {
		w := &file.Workloads[i]
		if len(w.Leases) == 0 {
			continue
		}
		listing = append(listing, estate.Listed{ID: w.ID, Leases: w.Leases})
		keep(w.ID)
		for _, l := range w.Leases {
			for _, c := range snap.Estate.Claims(l.Addr) {
				keep(snap.Estate.Workload(c.Workload).ID)
			}
		}
	}
	leases, conflicts := estate.Reassign(have, listing, from, estate.InstantOf(time.Now()),
		func(source string) bool {
			r, known := rank[source]
			return known && r < rank[from]
		})
	for _, c := range conflicts {
		file.Errors = append(file.Errors, ingest.RowError{Column: "addresses", Reason: c.Error()})
	}
	out.Rows, out.Bad, out.Warnings = file.Rows, len(file.Errors), append(out.Warnings, file.Warnings...)
	out.BadKinds = ingest.KindsOf(file.Errors)
	out.Errors = append(out.Errors, file.Errors[:min(imports.ShownErrors, len(file.Errors))]...)
	return leases
}

// compareOne adds to the report what the file does to one workload.
func (r *reading) compareOne(snap *model.Model, w *estate.Workload, from string, rank map[string]int,
	leases map[string][]estate.Lease, spokenFor, words map[string]bool, example func(imports.ImportExample)) {
	out := &r.report
	for _, t := range w.Tags {
		if word := t.Key + " = " + t.Value; !words[word] {
			words[word] = true
			out.NewWords = append(out.NewWords, word)
		}
	}
	k, ok := snap.Estate.ByID(w.ID)
	if !ok {
		ex := imports.ImportExample{ID: w.ID, New: true}
		for _, l := range w.Leases {
			ex.What = append(ex.What, l.Addr.String())
		}
		for _, t := range w.Tags {
			ex.What = append(ex.What, t.Key+" = "+t.Value)
		}
		out.Added++
		example(ex)
		return
	}
	ex := imports.ImportExample{ID: w.ID}
	now := snap.Estate.Workload(k)
	var kept int
	ex.What, kept = differences(now, w, from, r.file.Keys,
		func(source string) bool { return rank[source] < rank[from] }, spokenFor[w.ID])
	out.Kept += kept
	ex.What = append(ex.What, leaseChanges(now.Leases, leases, w.ID)...)
	if !now.Retired.IsZero() {
		ex.What = append(ex.What, "is back")
	}
	if len(ex.What) == 0 {
		out.Same++
		return
	}
	out.Changed++
	example(ex)
}
