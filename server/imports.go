package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/ingest"
	"lucidorchard/store"
)

// ImportReport is what a file says and what taking it does.
type ImportReport struct {
	Rows     int               `json:"rows" doc:"Data rows of the file"`
	Bad      int               `json:"bad" doc:"Rows that cannot be used"`
	Errors   []ingest.RowError `json:"errors" doc:"The first of them"`
	Warnings []string          `json:"warnings"`
	Added    int               `json:"added" doc:"New workloads, or conversation-hours"`
	Changed  int               `json:"changed" doc:"Workloads that change"`
	Same     int               `json:"same"`
	Kept     int               `json:"kept" doc:"Tag values that stay because they were set by hand"`
	Examples []ImportExample   `json:"examples" doc:"The first workloads that are new or change"`
	NewWords []string          `json:"newWords" doc:"Tag values that nothing had before"`
	From     string            `json:"from,omitempty" doc:"Of flows: the span they cover"`
	To       string            `json:"to,omitempty"`
	Outside  int               `json:"outside" doc:"Of flows: those with an end that no workload holds"`
	Already  string            `json:"already,omitempty" doc:"The same file was counted before: when"`
}

// ImportExample is a workload with what the import does to it.
type ImportExample struct {
	ID   string   `json:"id"`
	New  bool     `json:"new"`
	What []string `json:"what"`
}

const shownErrors, shownExamples = 200, 20

type importInput struct {
	Source  string `query:"source" default:"inventory" minLength:"1" maxLength:"100" doc:"Name of the inventory source"`
	Preview bool   `query:"preview" doc:"Only say what it would do"`
	RawBody []byte `contentType:"text/csv"`
}

// ImportAnswer is a preview, or the job that imports.
type ImportAnswer struct {
	Preview *ImportReport `json:"preview,omitempty"`
	Job     *store.Job    `json:"job,omitempty"`
}

func (s *Server) importRoutes() {
	for _, kind := range []struct {
		path, id, summary string
		f                 func(context.Context, *importInput) (*Body[ImportAnswer], error)
	}{
		{"/api/imports/workloads", "import-workloads", "Import workloads from CSV", s.importWorkloads},
		{"/api/imports/flows", "import-flows", "Import flows from CSV", s.importFlows},
	} {
		huma.Register(s.api, huma.Operation{OperationID: kind.id, Method: http.MethodPost, Path: kind.path, Summary: kind.summary, MaxBodyBytes: 4 << 30, BodyReadTimeout: 10 * time.Minute}, kind.f)
	}
}

// readWorkloadsFile reads a file and compares it with the estate.
func (snap snapshot) readWorkloadsFile(raw []byte, source string) (*ingest.WorkloadFile, []string, ImportReport, error) {
	out := ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{}, NewWords: []string{}}
	file, err := ingest.Workloads(bytes.NewReader(raw), source)
	if err != nil {
		return nil, nil, out, huma.Error422UnprocessableEntity("the file cannot be used: " + err.Error())
	}
	snap.dropConflicts(file)
	keys := headerKeys(raw)
	out.Rows, out.Bad, out.Warnings = file.Rows, len(file.Errors), append(out.Warnings, file.Warnings...)
	out.Errors = append(out.Errors, file.Errors[:min(shownErrors, len(file.Errors))]...)
	words := map[string]bool{}
	for _, w := range snap.estate.All() {
		for _, t := range w.Tags {
			words[t.Key+" = "+t.Value] = true
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
		ex := ImportExample{ID: w.ID}
		if k, ok := snap.estate.ByID(w.ID); ok {
			var kept int
			ex.What, kept = differences(snap.estate.Workload(k), w, keys)
			out.Kept += kept
			if len(ex.What) == 0 {
				out.Same++
				continue
			}
			out.Changed++
		} else {
			ex.New = true
			out.Added++
			for _, t := range w.Tags {
				ex.What = append(ex.What, t.Key+" = "+t.Value)
			}
		}
		if len(out.Examples) < shownExamples {
			out.Examples = append(out.Examples, ex)
		}
	}
	return file, keys, out, nil
}

// headerKeys gives the tag keys that the file has columns for.
func headerKeys(raw []byte) []string {
	head, _ := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(raw, []byte("\ufeff")))).Read()
	var out []string
	for _, name := range head {
		if k, ok := strings.CutPrefix(name, "tag:"); ok && k != "" {
			out = append(out, k)
		}
	}
	return out
}

// dropConflicts leaves out addresses that a workload of the estate, to which
// the file gives no others, claims from the same instant.
func (snap snapshot) dropConflicts(file *ingest.WorkloadFile) {
	replaced := map[string]bool{}
	for i := range file.Workloads {
		replaced[file.Workloads[i].ID] = len(file.Workloads[i].Leases) > 0
	}
	for i := range file.Workloads {
		w := &file.Workloads[i]
		w.Leases = slices.DeleteFunc(w.Leases, func(l estate.Lease) bool {
			if l.Empty() {
				return false
			}
			for _, c := range snap.estate.Claims(l.Addr) {
				other := snap.estate.Workload(c.Workload).ID
				if c.From == l.From && other != w.ID && !replaced[other] {
					file.Errors = append(file.Errors, ingest.RowError{Line: 0, Column: "addresses", Reason: estate.Conflict{Addr: l.Addr, A: other, B: w.ID, From: l.From}.Error()})
					return true
				}
			}
			return false
		})
	}
}

// differences says what a row changes about a workload, and how many tag
// values stay because a person set them.
func differences(have, row *estate.Workload, keys []string) (what []string, kept int) {
	for _, f := range [][3]string{{"name", have.Name, row.Name}, {"os", have.OS, row.OS}, {"kind", have.Kind, row.Kind}} {
		if f[1] != f[2] {
			what = append(what, fmt.Sprintf("%s: %s → %s", f[0], orMissing(f[1]), orMissing(f[2])))
		}
	}
	for _, k := range keys {
		was, _ := have.Tag(k)
		is, _ := row.Tag(k)
		switch {
		case was.Value == is.Value:
		case was.Source == estate.ByHand:
			kept++
		default:
			what = append(what, fmt.Sprintf("%s: %s → %s", k, orMissing(was.Value), orMissing(is.Value)))
		}
	}
	if len(row.Leases) > 0 {
		for _, l := range row.Leases {
			if !slices.Contains(have.Leases, l) {
				what = append(what, "address "+l.Addr.String())
			}
		}
		for _, l := range have.Leases {
			if !slices.Contains(row.Leases, l) {
				what = append(what, "no longer "+l.Addr.String())
			}
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

func (s *Server) importWorkloads(ctx context.Context, in *importInput) (*Body[ImportAnswer], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if in.Source == estate.ByHand {
		return nil, huma.Error422UnprocessableEntity("source: “by hand” is for what people set; give the source another name")
	}
	file, keys, report, err := snap.readWorkloadsFile(in.RawBody, in.Source)
	if err != nil {
		return nil, err
	}
	if in.Preview {
		return body(ImportAnswer{Preview: &report}), nil
	}
	job, err := s.start(ctx, "import-workloads", "Import workloads from "+in.Source, func(ctx context.Context, progress func(float64, string)) (any, error) {
		progress(0.3, fmt.Sprintf("storing %d workloads", len(file.Workloads)))
		if err := s.Store.ImportWorkloads(ctx, in.Source, keys, file.Workloads); err != nil {
			return nil, err
		}
		return report, nil
	})
	return body(ImportAnswer{Job: &job}), err
}

// readFlowsFile reads a file into buckets.
func readFlowsFile(ctx context.Context, snap snapshot, raw []byte, progress func(float64, string)) ([]flow.Bucket, ImportReport, error) {
	out := ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []ImportExample{}, NewWords: []string{}}
	reader := bytes.NewReader(raw)
	rows, err := ingest.NewFlows(reader)
	if err != nil {
		return nil, out, huma.Error422UnprocessableEntity("the file cannot be used: " + err.Error())
	}
	out.Warnings = append(out.Warnings, rows.Warnings...)
	var buckets flow.Buckets
	var first, last estate.Instant
	for {
		r, err := rows.Next()
		if err == io.EOF {
			break
		}
		var bad *ingest.RowError
		if errors.As(err, &bad) {
			if out.Bad++; len(out.Errors) < shownErrors {
				out.Errors = append(out.Errors, *bad)
			}
			continue
		}
		if err != nil {
			return nil, out, err
		}
		if n := rows.Row(); n%20_000 == 0 {
			if ctx.Err() != nil {
				return nil, out, ctx.Err()
			}
			progress(0.6*float64(len(raw)-reader.Len())/float64(len(raw)), fmt.Sprintf("%d rows read", n))
		}
		if out.Added == 0 || r.Start.Before(first) {
			first = r.Start
		}
		if out.Added == 0 || last.Before(r.Start) {
			last = r.Start
		}
		if snap.estate.At(r.Client, r.Start).Workload == estate.Outside || snap.estate.At(r.Server, r.Start).Workload == estate.Outside {
			out.Outside++
		}
		out.Added++
		buckets.Add(r)
	}
	out.Rows = rows.Row()
	if out.Added > 0 {
		out.From, out.To = first.String(), last.String()
	}
	all := buckets.All()
	out.Added = len(all)
	return all, out, nil
}

func (s *Server) importFlows(ctx context.Context, in *importInput) (*Body[ImportAnswer], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if in.Preview {
		_, report, err := readFlowsFile(ctx, snap, in.RawBody, func(float64, string) {})
		if err != nil {
			return nil, err
		}
		return body(ImportAnswer{Preview: &report}), nil
	}
	if _, err := ingest.NewFlows(bytes.NewReader(in.RawBody)); err != nil {
		return nil, huma.Error422UnprocessableEntity("the file cannot be used: " + err.Error())
	}
	job, err := s.start(ctx, "import-flows", "Import flows", func(ctx context.Context, progress func(float64, string)) (any, error) {
		buckets, report, err := readFlowsFile(ctx, snap, in.RawBody, progress)
		if err != nil {
			return nil, err
		}
		progress(0.7, fmt.Sprintf("storing %d conversation-hours", len(buckets)))
		sum := sha256.Sum256(in.RawBody)
		before, err := s.Store.AddBatch(ctx, "file "+hex.EncodeToString(sum[:]), buckets)
		if err != nil {
			return nil, err
		}
		if before != nil {
			report.Already, report.Added = before.UTC().Format(time.RFC3339), 0
		}
		return report, nil
	})
	return body(ImportAnswer{Job: &job}), err
}

func (s *Server) exportWorkloads(ctx context.Context, in *struct{ WorkloadFilter }) (*huma.StreamResponse, error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := snap.selected(in.WorkloadFilter)
	if err != nil {
		return nil, err
	}
	var ws []estate.Workload
	for _, i := range selected {
		ws = append(ws, *snap.estate.Workload(i))
	}
	return stream("workloads.csv", func(w *csv.Writer) { _ = ingest.WriteWorkloads(w, ws) }), nil
}
