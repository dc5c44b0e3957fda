package rest

import (
	"context"

	"lucidorchard/server"
	"lucidorchard/transfer"
)

// company is the name of the estate.
type company struct {
	Name   string `json:"name" doc:"Blank: nobody has named the estate"`
	MadeUp bool   `json:"madeUp" doc:"The estate is the made-up company, which can be removed as a whole"`
	Added  string `json:"added" doc:"What users have added to the made-up company, as in 2 workloads; blank: nothing"`
}

func newCompany(c transfer.Company, added transfer.Added) company {
	return company{c.Name, c.MadeUp, added.Words()}
}

func (s *Transfers) company(ctx context.Context, _ *struct{}) (*server.Body[company], error) {
	c, err := s.Company(ctx)
	if err != nil {
		return nil, err
	}
	added, err := s.AddedToMadeUp(ctx)
	return &server.Body[company]{Body: newCompany(c, added)}, err
}

func (s *Transfers) rename(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" doc:"1 to 60 characters"`
	}
}) (*server.Body[company], error) {
	c, err := s.Rename(ctx, in.Body.Name)
	if err != nil {
		return nil, err
	}
	added, err := s.AddedToMadeUp(ctx)
	return &server.Body[company]{Body: newCompany(c, added)}, err
}

func (s *Transfers) loadMadeUp(ctx context.Context, _ *struct{}) (*server.Begun, error) {
	return server.Begin(s.LoadMadeUp(ctx))
}

func (s *Transfers) removeMadeUp(ctx context.Context, in *struct {
	Added bool `query:"added" doc:"Also delete what users have added to it"`
}) (*struct{}, error) {
	return nil, s.RemoveMadeUp(ctx, in.Added)
}
