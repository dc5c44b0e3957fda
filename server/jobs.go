package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/store"
)

// jobs runs long work in the background. How far it is lives here; that it
// runs, and how it ended, in the database.
type jobs struct {
	mu      sync.Mutex
	running map[int64]*running
	group   sync.WaitGroup
}

// Wait waits until all jobs have ended and how they ended is stored. Cancel
// the context given to New first.
func (s *Server) Wait() { s.jobs.group.Wait() }

type running struct {
	job    store.Job
	cancel context.CancelFunc
}

// work is what a job does. It tells how far it is and gives a result.
type work func(ctx context.Context, progress func(done float64, message string)) (any, error)

// lookUp is how long a job tries to learn whether what it stored is stored, when
// the database goes away in that very moment.
const lookUp = 10 * time.Minute

// start runs work as a job.
func (s *Server) start(ctx context.Context, kind, title string, w work) (store.Job, error) {
	return s.run(ctx, kind, title, false, w)
}

// startStoring is start for work that stores all that it makes in one
// transaction: that it did is noted with it.
func (s *Server) startStoring(ctx context.Context, kind, title string, w work) (store.Job, error) {
	return s.run(ctx, kind, title, true, w)
}

func (s *Server) run(ctx context.Context, kind, title string, stores bool, w work) (store.Job, error) {
	job, err := s.Store.AddJob(ctx, kind, title, s.owner)
	if err != nil {
		return job, s.failed(ctx, err)
	}
	jobCtx, cancel := context.WithCancel(store.Patient(s.ctx, lookUp))
	r := &running{job, cancel}
	s.jobs.mu.Lock()
	if s.jobs.running == nil {
		s.jobs.running = map[int64]*running{}
	}
	s.jobs.running[job.ID] = r
	s.jobs.mu.Unlock()
	if stores {
		jobCtx = store.WithJob(jobCtx, job.ID)
	}
	s.jobs.group.Go(func() {
		defer cancel()
		result, err := s.guarded(jobCtx, w, func(done float64, message string) {
			s.jobs.mu.Lock()
			r.job.Done, r.job.Message = done, message
			s.jobs.mu.Unlock()
		})
		s.finish(jobCtx, r, result, err)
	})
	return job, nil
}

// guarded turns a panic of one job into its failure.
func (s *Server) guarded(ctx context.Context, w work, progress func(float64, string)) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			stack := debug.Stack()
			if f, ok := p.(*decide.Failure); ok {
				p, stack = f.Value, f.Stack
			}
			s.Log.Error("a job has met a fault of the program", "panic", p, "stack", string(stack))
			err = errors.New("the program has a fault, which is in its log; nothing of this was stored")
		}
	}()
	return w(ctx, progress)
}

func (s *Server) finish(ctx context.Context, r *running, result any, err error) {
	s.jobs.mu.Lock()
	job := r.job
	s.jobs.mu.Unlock()
	job.State, job.Done = "done", 1
	var unknown *store.UnknownError
	switch {
	case err != nil && errors.As(err, &unknown):
		job.State, job.Message = "failed", "the database went away in the very moment of storing: whether this was stored is not known. Look, then do it again if it was not; the same file twice is counted once"
	case err != nil && s.ctx.Err() != nil:
		job.State, job.Message = "failed", "the server ended while this was running; nothing of it was stored: start it again"
	case err != nil && ctx.Err() != nil:
		job.State, job.Message = "cancelled", "cancelled; nothing was stored"
	case err != nil:
		s.Log.Warn("a job failed", "job", job.ID, "kind", job.Kind, "error", err)
		job.State, job.Message = "failed", s.failed(ctx, err).Error()
	}
	if err == nil && result != nil {
		text, bad := json.Marshal(result)
		if bad != nil {
			job.State, job.Message = "failed", bad.Error()
		} else {
			raw := json.RawMessage(text)
			job.Result = &raw
		}
	}
	// While the database is away the end is not stored: it is tried until it is, or
	// until the program ends; then the next start tells it.
	for pause := 200 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		keep, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		err := s.Store.FinishJob(keep, job)
		cancel()
		if err == nil {
			break
		}
		s.Log.Error("the end of a job cannot be stored; it is tried again", "job", job.ID, "error", err)
		if s.ctx.Err() != nil {
			break
		}
		select {
		case <-time.After(pause):
		case <-s.ctx.Done():
		}
	}
	s.jobs.mu.Lock()
	delete(s.jobs.running, job.ID)
	s.jobs.mu.Unlock()
	s.events.changed()
}

// silent is for how long a server may say nothing of its jobs before another
// takes it to have ended.
const silent = 20 * time.Second

// watchJobs says that this server runs its jobs, and finds the jobs of servers
// that have ended.
func (s *Server) watchJobs(ctx context.Context) {
	type seen struct {
		beat time.Time
		at   time.Time // by the clock of this program, which only goes on
	}
	known := map[string]seen{}
	name, _, _ := strings.Cut(s.owner, "/")
	for {
		err := s.Store.Beat(ctx, s.owner)
		var owners map[string]time.Time
		if err == nil {
			owners, err = s.Store.Owners(ctx)
		}
		if err == nil {
			var gone []string
			for owner, beat := range owners {
				was, ok := known[owner]
				if !ok || !was.beat.Equal(beat) {
					was = seen{beat, time.Now()}
					known[owner] = was
				}
				before, _, _ := strings.Cut(owner, "/")
				mine := before == name && name != "" // an earlier run of this very server
				if owner != s.owner && (mine || time.Since(was.at) > silent) {
					gone = append(gone, owner)
				}
			}
			if len(gone) > 0 {
				var n int64
				if n, err = s.Store.FailAbandoned(ctx, gone); n > 0 {
					s.Log.Warn("jobs of servers that have ended were given up", "jobs", n)
					s.events.changed()
				}
			}
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Debug("jobs cannot be watched just now", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second):
		}
	}
}

func (s *Server) jobRoutes() {
	huma.Get(s.api, "/api/jobs", s.listJobs)
	huma.Get(s.api, "/api/jobs/{id}", s.oneJob)
	huma.Delete(s.api, "/api/jobs/{id}", s.cancelJob)
}

func (s *Server) live(j store.Job) store.Job {
	s.jobs.mu.Lock()
	defer s.jobs.mu.Unlock()
	if r := s.jobs.running[j.ID]; r != nil {
		j.Done, j.Message = r.job.Done, r.job.Message
	}
	return j
}

func (s *Server) listJobs(ctx context.Context, _ *struct{}) (*Body[[]store.Job], error) {
	all, err := s.Store.Jobs(ctx, 50)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	for i := range all {
		all[i] = s.live(all[i])
		all[i].Result = nil
	}
	return body(all), nil
}

type jobID struct {
	ID int64 `path:"id"`
}

func (s *Server) oneJob(ctx context.Context, in *jobID) (*Body[store.Job], error) {
	j, err := s.Store.Job(ctx, in.ID)
	if errors.Is(err, store.ErrNone) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no job %d", in.ID))
	}
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	return body(s.live(j)), nil
}

func (s *Server) cancelJob(ctx context.Context, in *jobID) (*Body[store.Job], error) {
	s.jobs.mu.Lock()
	if r := s.jobs.running[in.ID]; r != nil {
		r.cancel()
	}
	s.jobs.mu.Unlock()
	return s.oneJob(ctx, in)
}
