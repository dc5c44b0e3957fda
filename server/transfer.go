package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/store"
)

func (s *Server) transferRoutes() {
	huma.Register(s.api, huma.Operation{OperationID: "export-estate", Method: http.MethodGet, Path: "/api/estate.jsonl", Summary: "The whole estate but for its conversations, as JSON Lines; see docs/estate.md"}, s.exportEstate)
	huma.Register(s.api, huma.Operation{OperationID: "restore-estate", Method: http.MethodPost, Path: "/api/estate", Summary: "Restore an export where there is nothing yet", MaxBodyBytes: 8 << 30, BodyReadTimeout: 30 * time.Minute}, s.restoreEstate)
}

func (s *Server) exportEstate(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	// Into a file first: an error in the middle is no export that looks whole.
	f, err := os.CreateTemp("", "estate-*.jsonl")
	if err != nil {
		return nil, err
	}
	if err := s.Store.Export(ctx, f); err != nil {
		f.Close()
		os.Remove(f.Name())
		return nil, unavailable(err)
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

func (s *Server) restoreEstate(ctx context.Context, in *struct {
	RawBody []byte `contentType:"application/x-ndjson"`
}) (*Body[store.Job], error) {
	if empty, err := s.Store.Empty(ctx); err != nil {
		return nil, unavailable(err)
	} else if !empty {
		return nil, huma.Error409Conflict(store.ErrNotEmpty.Error())
	}
	job, err := s.start(ctx, "restore-estate", "Restore an export", func(ctx context.Context, progress func(float64, string)) (any, error) {
		lines, err := s.Store.Restore(ctx, bytes.NewReader(in.RawBody), func(n int) { progress(0.5, fmt.Sprintf("%d lines", n)) })
		var bad *store.LineError
		if errors.As(err, &bad) {
			return nil, fmt.Errorf("the export cannot be used, nothing was stored: %w", bad)
		}
		if err != nil {
			return nil, err
		}
		return Restored{lines}, nil
	})
	return body(job), err
}
