package api

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/store"
)

// jobsAPI answers about jobs and live events.
type jobsAPI struct{ *base }

func (s *jobsAPI) routes(a huma.API) {
	huma.Get(a, "/api/jobs", answer(s.base, s.listJobs))
	huma.Get(a, "/api/jobs/{id}", answer(s.base, s.oneJob))
	huma.Delete(a, "/api/jobs/{id}", answer(s.base, s.cancelJob))
}

func (s *jobsAPI) listJobs(ctx context.Context, _ *struct{}) (*Body[[]store.Job], error) {
	all, err := s.Store.Jobs(ctx, 50)
	if err != nil {
		return nil, err
	}
	for i := range all {
		all[i] = s.Live(all[i])
		all[i].Result = nil
	}
	return body(all), nil
}

type jobID struct {
	ID int64 `path:"id"`
}

func (s *jobsAPI) oneJob(ctx context.Context, in *jobID) (*Body[store.Job], error) {
	j, err := s.Store.Job(ctx, in.ID)
	if errors.Is(err, store.ErrNone) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no job %d", in.ID))
	}
	if err != nil {
		return nil, err
	}
	return body(s.Live(j)), nil
}

func (s *jobsAPI) cancelJob(ctx context.Context, in *jobID) (*Body[store.Job], error) {
	s.Cancel(in.ID)
	return s.oneJob(ctx, in)
}
