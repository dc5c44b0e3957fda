package rest

import (
	"context"

	"lucidorchard/answers"
	"lucidorchard/inventory"
	"lucidorchard/server"
)

// Imports takes files of workloads.
type Imports struct {
	*server.Kit
	*answers.Desk
	*inventory.Service
}

func (s *Imports) Routes(r server.Routes) {
	server.Post(r, "import-workloads", "/imports/workloads", "Import workloads from CSV", s.importWorkloads,
		answers.StartsImport, answers.TakesImport)
}

func (s *Imports) importWorkloads(ctx context.Context, in *answers.ImportInput) (*server.Stored[answers.ImportAnswer],
	error) {
	file, err := s.Receive(ctx, &in.Sent, server.MostWorkloads)
	if err != nil {
		return nil, err
	}
	defer file.Close() // what is imported is in memory, compared
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	o, err := in.Options()
	if err != nil {
		return nil, err
	}
	if in.Preview {
		return answers.ImportPreview(s.PreviewWorkloads(ctx, snap, file, o))
	}
	return answers.ImportStarted(s.ImportWorkloads(ctx, snap, file, o))
}
