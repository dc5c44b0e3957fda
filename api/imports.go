package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
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

// importsAPI answers about files that are sent here.
type importsAPI struct{ *base }

func (s *importsAPI) routes(a huma.API) {
	for _, kind := range []struct {
		path, id, summary string
		f                 func(context.Context, *importInput) (*Body[ImportAnswer], error)
	}{
		{"/api/imports/workloads", "import-workloads", "Import workloads from CSV", s.importWorkloads},
		{"/api/imports/flows", "import-flows", "Import flows from CSV, JSON Lines, an IPFIX file, or a packet capture", s.importFlows},
	} {
		huma.Register(a, huma.Operation{OperationID: kind.id, Method: http.MethodPost, Path: kind.path, Summary: kind.summary, RequestBody: anyBody("text/csv", "application/x-ndjson", "application/octet-stream")}, answer(s.base, kind.f))
	}
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
	r := &reading{report: ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{}, NewWords: []string{}}}
	sources, err := s.Store.Sources(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	f, err := in.file.open()
	if err != nil {
		return nil, s.failed(ctx, err)
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
		return nil, s.failed(ctx, err)
	}
	spokenFor, err := s.Store.SpokenFor(ctx, in.Source)
	if err != nil {
		return nil, s.failed(ctx, err)
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

// compare says what a listing does to the estate.
func (r *reading) compare(snap *model.Model, in *importInput, sources []store.Source, listed []string, spokenFor map[string]bool) {
	out, file := &r.report, r.file
	rank := map[string]int{estate.ByHand: -1, in.Source: 1 << 30} // a source that is heard first comes last
	for _, s := range sources {
		rank[s.Name] = s.Rank
	}
	have := map[string][]estate.Lease{}
	keep := func(id string) {
		if i, ok := snap.Estate.ByID(id); ok {
			have[id] = snap.Estate.Workload(i).Leases
		}
	}
	var listing []estate.Listed
	there := map[string]bool{}
	for i := range file.Workloads {
		w := &file.Workloads[i]
		there[w.ID] = true
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
	leases, conflicts := estate.Reassign(have, listing, in.Source, estate.InstantOf(time.Now()), func(source string) bool {
		r, known := rank[source]
		return known && r < rank[in.Source]
	})
	for _, c := range conflicts {
		file.Errors = append(file.Errors, ingest.RowError{Column: "addresses", Reason: c.Error()})
	}
	out.Rows, out.Bad, out.Warnings = file.Rows, len(file.Errors), append(out.Warnings, file.Warnings...)
	out.Errors = append(out.Errors, file.Errors[:min(shownErrors, len(file.Errors))]...)
	words := map[string]bool{}
	for _, w := range snap.Estate.All() {
		for _, t := range w.Tags {
			words[t.Key+" = "+t.Value] = true
		}
	}
	example := func(ex ImportExample) {
		if len(out.Examples) < shownExamples {
			out.Examples = append(out.Examples, ex)
		}
	}
	for i := range file.Workloads {
		w := &file.Workloads[i]
		for _, t := range w.Tags {
			if word := t.Key + " = " + t.Value; !words[word] {
				words[word] = true
				out.NewWords = append(out.NewWords, word)
			}
		}
		k, ok := snap.Estate.ByID(w.ID)
		if !ok {
			ex := ImportExample{ID: w.ID, New: true}
			for _, l := range w.Leases {
				ex.What = append(ex.What, l.Addr.String())
			}
			for _, t := range w.Tags {
				ex.What = append(ex.What, t.Key+" = "+t.Value)
			}
			out.Added++
			example(ex)
			continue
		}
		ex := ImportExample{ID: w.ID}
		now := snap.Estate.Workload(k)
		var kept int
		ex.What, kept = differences(now, w, in.Source, file.Keys, func(source string) bool { return rank[source] < rank[in.Source] }, spokenFor[w.ID])
		out.Kept += kept
		ex.What = append(ex.What, leaseChanges(now.Leases, leases, w.ID)...)
		if !now.Retired.IsZero() {
			ex.What = append(ex.What, "is there again")
		}
		if len(ex.What) == 0 {
			out.Same++
			continue
		}
		out.Changed++
		example(ex)
	}
	for id := range leases {
		if !there[id] { // it gives an address up
			out.Changed++
			i, _ := snap.Estate.ByID(id)
			example(ImportExample{ID: id, What: leaseChanges(snap.Estate.Workload(i).Leases, leases, id)})
		}
	}
	if in.Complete {
		for _, id := range listed {
			if !there[id] {
				out.Missing++
				example(ImportExample{ID: id, What: []string{"is no longer listed"}})
			}
		}
	}
}

func leaseChanges(was []estate.Lease, changed map[string][]estate.Lease, id string) (what []string) {
	is, ok := changed[id]
	if !ok {
		return nil
	}
	type span struct {
		addr        netip.Addr
		from, until estate.Instant
	}
	begins, spans := map[span]bool{}, map[span]bool{}
	for _, l := range was {
		begins[span{addr: l.Addr, from: l.From}] = true
	}
	for _, l := range is {
		spans[span{l.Addr, l.From, l.Until}] = true
		if !begins[span{addr: l.Addr, from: l.From}] {
			what = append(what, "address "+l.Addr.String())
		}
	}
	for _, l := range was {
		if !spans[span{l.Addr, l.From, l.Until}] {
			what = append(what, "no longer "+l.Addr.String())
		}
	}
	return what
}

// differences says what a row of a source changes about a workload, and how many
// tag values stay because what outranks the source says otherwise. keys are
// those that the source speaks of; nil: those of the row, and those that it has
// given before. better says that a source of a better rank speaks for its name,
// os and kind.
func differences(have, row *estate.Workload, source string, keys []string, outranks func(source string) bool, better bool) (what []string, kept int) {
	for _, f := range [][3]string{{"name", have.Name, row.Name}, {"os", have.OS, row.OS}, {"kind", have.Kind, row.Kind}} {
		if f[1] != f[2] && f[2] != "" && better {
			kept++
		} else if f[1] != f[2] && f[2] != "" {
			what = append(what, fmt.Sprintf("%s: %s → %s", f[0], orMissing(f[1]), f[2]))
		}
	}
	if keys == nil {
		for _, t := range slices.Concat(row.Tags, have.Tags) {
			if t.Source == source && !slices.Contains(keys, t.Key) {
				keys = append(keys, t.Key)
			}
		}
	}
	for _, k := range keys {
		was, _ := have.Tag(k)
		is, _ := row.Tag(k)
		switch {
		case was.Value == is.Value, is.Value == "" && was.Source != source:
		case outranks(was.Source) && was.Value != "":
			kept++
		default:
			what = append(what, fmt.Sprintf("%s: %s → %s", k, orMissing(was.Value), orMissing(is.Value)))
		}
	}
	return what, kept
}

func orMissing(s string) string {
	if s == "" {
		return "missing"
	}
	return s
}

func (s *importsAPI) importWorkloads(ctx context.Context, in *importInput) (_ *Body[ImportAnswer], err error) {
	if in.Source == estate.ByHand {
		return nil, huma.Error422UnprocessableEntity("source: “by hand” is for what people set; give the source another name")
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
		return body(ImportAnswer{Preview: &r.report}), nil
	}
	if r.report.Confirm != 0 && in.Confirm != r.report.Confirm {
		return nil, s.failed(ctx, &store.LacksError{Listed: r.listed, Missing: r.report.Missing})
	}
	job, err := s.StartStoring(ctx, "import-workloads", "Import workloads from "+in.Source, func(ctx context.Context, progress func(float64, string)) (any, error) {
		progress(0.3, fmt.Sprintf("storing %d workloads", len(r.file.Workloads)))
		taken, err := s.Store.Take(ctx, store.Listing{Source: in.Source, Keys: r.file.Keys, Workloads: r.file.Workloads, Complete: in.Complete, Confirm: in.Confirm, Mapping: r.mapping, Author: s.Author})
		if err != nil {
			return nil, err
		}
		r.report.Retired = taken.Retired
		s.Models.Nudge()
		return r.report, nil
	})
	return body(ImportAnswer{Job: &job}), err
}

// readFlows reads a file of traffic, of any format, and gives its records one by
// one.
func (s *importsAPI) readFlows(ctx context.Context, snap *model.Model, in *importInput, progress func(float64, string), emit func(*flow.Joined) error) (ImportReport, error) {
	out := ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{}, NewWords: []string{}}
	unusable := func(err error) error {
		return app.Invalid("the file cannot be used: " + err.Error())
	}
	var first, last estate.Instant
	records := 0
	o := ingest.TrafficOptions{Directions: in.Directions, Name: in.Name, Progress: func(share float64, rows int) error {
		progress(0.6*share, fmt.Sprintf("%d rows read", rows))
		return ctx.Err()
	}, Emit: func(r *flow.Joined) error {
		if records == 0 || r.Start.Before(first) {
			first = r.Start
		}
		if records == 0 || last.Before(r.Start) {
			last = r.Start
		}
		records++
		if snap.Estate.At(r.Client, r.Start).Workload == estate.Outside || snap.Estate.At(r.Server, r.Start).Workload == estate.Outside {
			out.Outside++
		}
		if r.Confidence < flow.Sure {
			out.Unsure++
		}
		return emit(r)
	}}
	f, err := in.file.open()
	if err != nil {
		return out, err
	}
	defer f.Close()
	out.FileFormat = string(ingest.FormatOf(in.file.head))
	if out.FileFormat == string(ingest.TrafficCSV) {
		headings, first, err := ingest.Head(f, 4)
		if err != nil {
			return out, unusable(err)
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return out, err
		}
		o.Mapping = ingest.GuessFlows(headings)
		remembered := map[string]string{}
		if err := s.Store.Setting(ctx, "flow headings", &remembered); err != nil {
			return out, err
		}
		for h, to := range remembered {
			if _, ok := o.Mapping[h]; ok {
				o.Mapping[h] = to
			}
		}
		if in.Mapping != "" {
			if err := json.Unmarshal([]byte(in.Mapping), &o.Mapping); err != nil {
				return out, app.Invalid("mapping: found no JSON object of texts: " + err.Error())
			}
		}
		out.Headings, out.First, out.Mapping = headings, first, o.Mapping
		for _, h := range headings {
			if o.Mapping[h] == "" {
				out.Warnings = append(out.Warnings, fmt.Sprintf("column %q is not known and was ignored", h))
			}
		}
	}
	file, err := ingest.ReadTraffic(f, in.file.size, o)
	switch {
	case err != nil && ctx.Err() != nil:
		return out, ctx.Err()
	case err != nil && in.Preview && out.Headings != nil:
		out.Unusable = err.Error()
		return out, nil
	case errors.Is(err, app.ErrSpill):
		return out, err
	case err != nil:
		return out, unusable(err)
	}
	out.Rows, out.Bad, out.Errors, out.Warnings = file.Rows, file.Bad, file.Errors, append(out.Warnings, file.Warnings...)
	if records > 0 {
		out.From, out.To = first.String(), last.String()
	}
	return out, nil
}

func (s *importsAPI) importFlows(ctx context.Context, in *importInput) (_ *Body[ImportAnswer], err error) {
	if in.file, err = s.receive(ctx, &in.rawBody, mostFlows); err != nil {
		return nil, err
	}
	handed := false
	defer func() {
		if !handed {
			in.file.close()
		}
	}()
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if in.file.size == 0 {
		return nil, huma.Error422UnprocessableEntity("the file cannot be used: it is empty")
	}
	if in.Preview {
		hours := app.NewDistinct(snap.Estate.ChangedHands)
		report, err := s.readFlows(ctx, snap, in, func(float64, string) {}, hours.Add)
		if err != nil {
			return nil, s.failed(ctx, err)
		}
		report.Added = hours.Count()
		if hours.Over {
			report.Warnings = append(report.Warnings, fmt.Sprintf("the file has more than %d conversation-hours; they are counted when it is imported", app.MostDistinct))
		}
		return body(ImportAnswer{Preview: &report}), nil
	}
	if ingest.FormatOf(in.file.head) == ingest.TrafficCSV && in.Mapping == "" {
		f, err := in.file.open()
		if err != nil {
			return nil, s.failed(ctx, err)
		}
		headings, _, err := ingest.Head(f, 0)
		f.Close()
		if err == nil {
			err = ingest.Usable(headings, ingest.GuessFlows(headings))
		}
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("the file cannot be used: " + err.Error())
		}
	}
	job, err := s.StartStoring(ctx, "import-flows", "Import flows", func(ctx context.Context, progress func(float64, string)) (any, error) {
		defer in.file.close()
		return s.storeFlows(ctx, snap, in, progress)
	})
	handed = err == nil
	return body(ImportAnswer{Job: &job}), err
}

// storeFlows reads a file of traffic into parts on the disk, and stores them
// together.
func (s *importsAPI) storeFlows(ctx context.Context, snap *model.Model, in *importInput, progress func(float64, string)) (any, error) {
	parts, err := app.NewSpill(s.Uploads, snap.Estate.ChangedHands)
	if err != nil {
		return nil, err
	}
	defer parts.Close()
	report, err := s.readFlows(ctx, snap, in, progress, parts.Add)
	if err == nil {
		err = parts.Flush()
	}
	if err != nil {
		return nil, err
	}
	progress(0.6, "storing")
	added, err := s.Store.AddParts(ctx, "file "+in.file.sum, parts.Each(func(share float64) { progress(0.6+0.25*share, "storing") }))
	if err != nil {
		return nil, err
	}
	report.Added = int(added.Hours)
	if in.Mapping != "" {
		if err := s.Store.Set(ctx, "flow headings", report.Mapping); err != nil {
			// The traffic is stored; only what its headings are has to be said again.
			report.Warnings = append(report.Warnings, "what the headings are could not be remembered: "+err.Error())
		}
	}
	if added.Before != nil {
		report.Already, report.Added = added.Before.UTC().Format(time.RFC3339), 0
	}
	s.Models.Hurry()
	return report, nil
}

func (s *workloadsAPI) exportWorkloads(ctx context.Context, in *struct{ WorkloadFilter }) (*huma.StreamResponse, error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := selectWorkloads(snap, in.WorkloadFilter)
	if err != nil {
		return nil, err
	}
	var ws []estate.Workload
	for _, i := range selected {
		ws = append(ws, *snap.Estate.Workload(i))
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="workloads.csv"`)
		w := csv.NewWriter(hc.BodyWriter())
		_ = ingest.WriteWorkloads(w, ws)
		w.Flush()
	}}, nil
}
