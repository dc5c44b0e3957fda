package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/traffic"
	"lucidorchard/transfer"
)

func (s *importsAPI) transferRoutes(r routes) {
	get(r, "export-estate", "/estate.jsonl",
		"The whole estate but for its conversations, as JSON Lines; see docs/estate.md", s.exportEstate)
	post(r, "restore-estate", "/estate", "Restore an export where there is nothing yet", s.restoreEstate, begun,
		filed("application/x-ndjson"))
}

func (s *importsAPI) exportEstate(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	// Into a file first: an error in the middle is no export that looks whole.
	f, err := os.CreateTemp("", "estate-*.jsonl")
	if err != nil {
		return nil, err
	}
	if err := s.Store.Export(ctx, f); err != nil {
		f.Close()
		os.Remove(f.Name())
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		defer os.Remove(f.Name())
		defer f.Close()
		hc.SetHeader("Content-Type", "application/x-ndjson")
		hc.SetHeader("Content-Disposition", `attachment; filename="estate.jsonl"`)
		if _, err := f.Seek(0, 0); err != nil {
			s.Log.Error("an export cannot be read again", "error", err)
			return
		}
		if _, err := f.WriteTo(hc.BodyWriter()); err != nil && hc.Context().Err() == nil {
			s.Log.Error("an export broke off", "error", err)
		}
	}}, nil
}

// Restored says how much was put back.
type Restored struct {
	Lines int `json:"lines"`
}

func (s *importsAPI) restoreEstate(ctx context.Context, in *struct{ rawBody }) (*Begun, error) {
	if empty, err := s.Store.Empty(ctx); err != nil {
		return nil, err
	} else if !empty {
		return nil, huma.Error409Conflict(transfer.ErrNotEmpty.Error())
	}
	file, err := s.receive(ctx, &in.rawBody, mostEstate)
	if err != nil {
		return nil, err
	}
	job, err := s.StartStoring(ctx, "restore-estate", "Restore an export",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			defer file.Close()
			lines, err := s.Store.Restore(ctx, func() (io.ReadCloser, error) { return file.Open() },
				func(n int) { progress(0.5, fmt.Sprintf("%d lines", n)) }, soundState)
			var bad *transfer.LineError
			if errors.As(err, &bad) {
				return nil, refuse.Invalid("the export cannot be used, nothing was stored: " + bad.Error())
			}
			if err != nil {
				return nil, err
			}
			s.Models.Nudge()
			return Restored{lines}, nil
		})
	if err != nil {
		file.Close()
	}
	return begin(job, err)
}

// soundState refuses a state that answers could not be made from.
func soundState(st *model.State, settings map[string]json.RawMessage) error {
	for name, to := range map[string]any{"structural": &[]string{}, "retention": &traffic.Retention{},
		"flow form": &ingest.Form{}} {
		if raw := settings[name]; raw != nil {
			if err := json.Unmarshal(raw, to); err != nil {
				return fmt.Errorf("what the file holds cannot be read again: the setting %s: %w", name, err)
			}
		}
	}
	if _, conflicts := estate.New(st.Workloads); len(conflicts) > 0 {
		return fmt.Errorf("found leases that conflict: %w", conflicts[0])
	}
	if st.Head == nil { // workloads alone
		return nil
	}
	if _, errs := policy.Parse(st.Head.Text); len(errs) > 0 {
		return fmt.Errorf("found a policy with an error, in its line %d: %s", errs[0].Line, errs[0].Message)
	}
	if n := len(policy.Lines(st.Head.Text)); n != len(st.Head.Blame) {
		return fmt.Errorf("found a policy of %d lines, and who wrote %d lines of it", n, len(st.Head.Blame))
	}
	return nil
}
