package api

// Flows from uploaded files.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/ingest"
	"lucidorchard/model"
)

// readFlows reads a file of traffic, of any format, and gives its records one by
// one.
func (s *importsAPI) readFlows(ctx context.Context, snap *model.Model, in *importInput,
	progress func(float64, string), emit func(*flow.Joined) error) (ImportReport, error) {
	out := ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{},
		NewWords: []string{}}
	unusable := func(err error) error {
		return app.Invalid("the file cannot be used: " + err.Error())
	}
	var first, last estate.Instant
	records := 0
	o := ingest.TrafficOptions{Directions: in.Directions, Name: in.Name,
		Progress: func(share float64, rows int) error {
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
			if snap.Estate.At(r.Client, r.Start).Workload == estate.Outside ||
				snap.Estate.At(r.Server, r.Start).Workload == estate.Outside {
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
	out.Rows, out.Bad, out.Errors, out.Warnings = file.Rows, file.Bad, file.Errors,
		append(out.Warnings, file.Warnings...)
	if records > 0 {
		out.From, out.To = first.String(), last.String()
	}
	return out, nil
}

func (s *importsAPI) importFlows(ctx context.Context, in *importInput) (_ *Stored[ImportAnswer], err error) {
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
			return nil, err
		}
		report.Added = hours.Count()
		if hours.Over {
			report.Warnings = append(report.Warnings,
				fmt.Sprintf("the file has more than %d conversation-hours; they are counted when it is imported",
					app.MostDistinct))
		}
		return &Stored[ImportAnswer]{Status: http.StatusOK, Body: ImportAnswer{Preview: &report}}, nil
	}
	if ingest.FormatOf(in.file.head) == ingest.TrafficCSV && in.Mapping == "" {
		f, err := in.file.open()
		if err != nil {
			return nil, err
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
	job, err := s.StartStoring(ctx, "import-flows", "Import flows",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			defer in.file.close()
			return s.storeFlows(ctx, snap, in, progress)
		})
	handed = err == nil
	return importing(job, err)
}

// storeFlows reads a file of traffic into parts on the disk, and stores them
// together.
func (s *importsAPI) storeFlows(ctx context.Context, snap *model.Model, in *importInput,
	progress func(float64, string)) (any, error) {
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
	added, err := s.Store.AddParts(ctx, "file "+in.file.sum,
		parts.Each(func(share float64) { progress(0.6+0.25*share, "storing") }))
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
