package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

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

// start runs work as a job.
func (s *Server) start(ctx context.Context, kind, title string, w work) (store.Job, error) {
	job, err := s.Store.AddJob(ctx, kind, title)
	if err != nil {
		return job, unavailable(err)
	}
	jobCtx, cancel := context.WithCancel(s.ctx)
	r := &running{job, cancel}
	s.jobs.mu.Lock()
	if s.jobs.running == nil {
		s.jobs.running = map[int64]*running{}
	}
	s.jobs.running[job.ID] = r
	s.jobs.mu.Unlock()
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
			s.Log.Error("a job panicked", "panic", p)
			err = fmt.Errorf("the program has a fault (%v); nothing of this was stored", p)
		}
	}()
	return w(ctx, progress)
}

func (s *Server) finish(ctx context.Context, r *running, result any, err error) {
	s.jobs.mu.Lock()
	job := r.job
	s.jobs.mu.Unlock()
	job.State, job.Done = "done", 1
	switch {
	case err != nil && s.ctx.Err() != nil:
		job.State, job.Message = "failed", "the server ended while this was running; nothing of it was stored: start it again"
	case err != nil && ctx.Err() != nil:
		job.State, job.Message = "cancelled", "cancelled; nothing was stored"
	case err != nil:
		job.State, job.Message = "failed", err.Error()
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
	keep, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := s.Store.FinishJob(keep, job); err != nil {
		s.Log.Error("the end of a job cannot be stored", "job", job.ID, "error", err)
	}
	s.jobs.mu.Lock()
	delete(s.jobs.running, job.ID)
	s.jobs.mu.Unlock()
	s.events.changed()
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
		return nil, unavailable(err)
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
	if err != nil {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no job %d", in.ID))
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

// events tells open pages that something has changed.
type events struct {
	mu   sync.Mutex
	wait chan struct{}
}

// next gives a channel that is closed at the next change.
func (e *events) next() <-chan struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.wait == nil {
		e.wait = make(chan struct{})
	}
	return e.wait
}

func (e *events) changed() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.wait != nil {
		close(e.wait)
		e.wait = nil
	}
}

// watch looks for changes that other servers on the same database have made.
func (s *Server) watch(ctx context.Context) {
	var last store.Versions
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		if v, err := s.Store.Versions(ctx); err == nil && v != last {
			last = v
			s.events.changed()
		}
	}
}

// serveEvents sends a line for each change (server-sent events, WHATWG HTML).
func (s *Server) serveEvents(w http.ResponseWriter, r *http.Request) {
	control := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	message := "event: changed\ndata: {}\n\n"
	for {
		next := s.events.next()
		if _, err := fmt.Fprint(w, message); err != nil {
			return
		}
		if err := control.Flush(); err != nil {
			return
		}
		message = "event: changed\ndata: {}\n\n"
		select {
		case <-next:
		case <-r.Context().Done():
			return
		case <-s.ctx.Done():
			return
		case <-time.After(25 * time.Second):
			message = ": nothing new\n\n"
		}
	}
}
