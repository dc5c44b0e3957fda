package rest

import (
	"context"
	"os"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/server"
	"lucidorchard/transfer"
)

// Transfers answers about whole estates.
type Transfers struct {
	*server.Kit
	*transfer.Service
}

func (s *Transfers) Routes(r server.Routes) {
	server.Get(r, "export-estate", "/estate.jsonl",
		"The whole estate but for its conversations, as JSON Lines; see docs/estate.md", s.exportEstate)
	server.Post(r, "restore-estate", "/estate", "Restore an export where there is nothing yet", s.restoreEstate,
		server.Starts,
		server.TakesFile("application/x-ndjson"))
	server.Get(r, "read-company", "/company", "The name of the estate, and whether it is the made-up company",
		s.company)
	server.Put(r, "rename-company", "/company", "Name the estate", s.rename)
	server.Post(r, "load-made-up-company", "/company/made-up", "Load a made-up company into an empty estate",
		s.loadMadeUp, server.Starts)
	server.Remove(r, "remove-made-up-company", "/company/made-up",
		"Delete the made-up company with all that was derived from it", s.removeMadeUp)
}

func (s *Transfers) exportEstate(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	// Into a file first: an error in the middle is no export that looks whole.
	f, err := os.CreateTemp("", "estate-*.jsonl")
	if err != nil {
		return nil, err
	}
	if err := s.Export(ctx, f); err != nil {
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
			s.Kit.Log.Error("an export cannot be read again", "error", err)
			return
		}
		if _, err := f.WriteTo(hc.BodyWriter()); err != nil && hc.Context().Err() == nil {
			s.Kit.Log.Error("an export broke off", "error", err)
		}
	}}, nil
}

func (s *Transfers) restoreEstate(ctx context.Context, in *struct{ server.Sent }) (*server.Begun, error) {
	if empty, err := s.Empty(ctx); err != nil {
		return nil, err
	} else if !empty {
		return nil, huma.Error409Conflict(transfer.ErrNotEmpty.Error())
	}
	file, err := s.Receive(ctx, &in.Sent, server.MostEstate)
	if err != nil {
		return nil, err
	}
	return server.Begin(s.RestoreFile(ctx, file))
}
