package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/database"
	"lucidorchard/jobs"
)

// jobsAPI answers about jobs and live events.
type jobsAPI struct {
	*Kit
}

func (s *jobsAPI) Routes(r Routes) {
	Get(r, "list-jobs", "/jobs", "Long work, the newest first; without results", s.listJobs)
	Get(r, "read-job", "/jobs/{id}", "One piece of long work, with its result", s.oneJob, CanBeMissing)
	r.Stream("/events", s.serveEvents)
	Remove(r, "cancel-job", "/jobs/{id}", "Stop long work", s.cancelJob, CanBeMissing)
}

func (s *jobsAPI) listJobs(ctx context.Context, in *struct{ All }) (*List[Job], error) {
	all, err := s.Store.Jobs(ctx, 50)
	if err != nil {
		return nil, err
	}
	for i := range all {
		all[i] = s.Runner.Live(all[i])
		all[i].Result = nil
	}
	return Cut(ctx, Each(all, func(j jobs.Job) Job { return Job(j) }), in.All), nil
}

// JobPath is where a job can be asked about.
func JobPath(id int64) string { return fmt.Sprintf("%s/jobs/%d", Version, id) }

type jobID struct {
	ID int64 `path:"id"`
}

func (s *jobsAPI) oneJob(ctx context.Context, in *jobID) (*Body[Job], error) {
	j, err := s.Store.Job(ctx, in.ID)
	if errors.Is(err, database.ErrNone) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no job %d", in.ID))
	}
	if err != nil {
		return nil, err
	}
	return OK(Job(s.Runner.Live(j))), nil
}

func (s *jobsAPI) cancelJob(ctx context.Context, in *jobID) (*Body[Job], error) {
	s.Runner.Cancel(in.ID)
	return s.oneJob(ctx, in)
}

// Job is long work: it can be left and come back to, and its result stays.
type Job struct {
	ID       int64            `json:"id"`
	Kind     string           `json:"kind"`
	Title    string           `json:"title"`
	State    string           `json:"state" enum:"running,done,failed,cancelled"`
	Done     float64          `json:"done" doc:"Share that is done, 0 to 1"`
	Message  string           `json:"message"`
	Result   *json.RawMessage `json:"result,omitempty"`
	Started  time.Time        `json:"started"`
	Finished *time.Time       `json:"finished,omitempty"`
}
