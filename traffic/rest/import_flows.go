package rest

import (
	"context"

	"lucidorchard/answers"
	"lucidorchard/imports"
	"lucidorchard/server"
	"lucidorchard/traffic"
)

// Imports takes files of traffic.
type Imports struct {
	*server.Kit
	*answers.Desk
	*traffic.Service
}

func (s *Imports) Routes(r server.Routes) {
	server.Post(r, "import-flows", "/imports/flows",
		"Import flows from CSV, JSON Lines, an IPFIX file, or a packet capture",
		s.importFlows, answers.StartsImport, answers.TakesImport)
}

func (s *Imports) importFlows(ctx context.Context, in *answers.ImportInput) (*server.Stored[answers.ImportAnswer],
	error) {
	file, err := s.Receive(ctx, &in.Sent, server.MostFlows)
	if err != nil {
		return nil, err
	}
	snap, err := s.Snapshot(ctx)
	var o imports.ImportOptions
	if err == nil {
		o, err = in.Options()
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	if in.Preview {
		defer file.Close()
		return answers.ImportPreview(s.PreviewFlows(ctx, snap, file, o))
	}
	return answers.ImportStarted(s.ImportFlows(ctx, snap, file, o))
}
