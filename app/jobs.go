package app

import (
	"context"
	"encoding/json"
	"errors"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/database"
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
func (a *App) Wait() { a.jobs.group.Wait() }

type running struct {
	job    store.Job
	cancel context.CancelFunc
}

// Work is what a job does. It tells how far it is and gives a result.
type Work func(ctx context.Context, progress func(done float64, message string)) (any, error)

// lookUp is how long a job tries to learn whether what it stored is stored, when
// the database goes away in that very moment.
const lookUp = 10 * time.Minute

// Start runs work as a job.
func (a *App) Start(ctx context.Context, kind, title string, w Work) (store.Job, error) {
	return a.run(ctx, kind, title, false, w)
}

// StartStoring is Start for work that stores all that it makes in one
// transaction: that it did is noted with it.
func (a *App) StartStoring(ctx context.Context, kind, title string, w Work) (store.Job, error) {
	return a.run(ctx, kind, title, true, w)
}

func (a *App) run(ctx context.Context, kind, title string, stores bool, w Work) (store.Job, error) {
	job, err := a.Store.AddJob(ctx, kind, title, a.owner)
	if err != nil {
		return job, err
	}
	jobCtx, cancel := context.WithCancel(database.Patient(a.ctx, lookUp))
	r := &running{job, cancel}
	a.jobs.mu.Lock()
	if a.jobs.running == nil {
		a.jobs.running = map[int64]*running{}
	}
	a.jobs.running[job.ID] = r
	a.jobs.mu.Unlock()
	if stores {
		jobCtx = database.WithJob(jobCtx, job.ID)
	}
	a.jobs.group.Go(func() {
		defer cancel()
		result, err := a.guarded(jobCtx, w, func(done float64, message string) {
			a.jobs.mu.Lock()
			r.job.Done, r.job.Message = done, message
			a.jobs.mu.Unlock()
		})
		a.finish(jobCtx, r, result, err)
	})
	return job, nil
}

// guarded turns a panic of one job into its failure.
func (a *App) guarded(ctx context.Context, w Work, progress func(float64, string)) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			stack := debug.Stack()
			if f, ok := p.(*decide.Failure); ok {
				p, stack = f.Value, f.Stack
			}
			a.Log.Error("a job has met a fault of the program", "panic", p, "stack", string(stack))
			err = errFault
		}
	}()
	return w(ctx, progress)
}

func (a *App) finish(ctx context.Context, r *running, result any, err error) {
	a.jobs.mu.Lock()
	job := r.job
	a.jobs.mu.Unlock()
	job.State, job.Done = "done", 1
	var unknown *database.UnknownError
	switch {
	case err != nil && errors.As(err, &unknown):
		job.State, job.Message = "failed",
			"the database went away in the very moment of storing: whether this was stored is not known. Look, "+
				"then do it again if it was not; the same file twice is counted once"
	case err != nil && a.ctx.Err() != nil:
		job.State, job.Message = "failed",
			"the server ended while this was running; nothing of it was stored: start it again"
	case err != nil && ctx.Err() != nil:
		job.State, job.Message = "cancelled", "cancelled; nothing was stored"
	case err != nil:
		a.Log.Warn("a job failed", "job", job.ID, "kind", job.Kind, "error", err)
		job.State, job.Message = "failed", a.Told(err)
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
		err := a.Store.FinishJob(keep, job)
		cancel()
		if err == nil {
			break
		}
		a.Log.Error("the end of a job cannot be stored; it is tried again", "job", job.ID, "error", err)
		if a.ctx.Err() != nil {
			break
		}
		select {
		case <-time.After(pause):
		case <-a.ctx.Done():
		}
	}
	a.jobs.mu.Lock()
	delete(a.jobs.running, job.ID)
	a.jobs.mu.Unlock()
	a.Events.Changed()
}

// clockOfJobs is how often servers say that they run their jobs.
const clockOfJobs = 3 * time.Second

// silent is for how long a server may say nothing of its jobs before another
// takes it to have ended.
const silent = 20 * time.Second

// seenOwner is when a server last said that it runs its jobs.
type seenOwner struct {
	beat time.Time
	at   time.Time // by the clock of this program, which only goes on
}

// watchJobs says that this server runs its jobs, and finds the jobs of servers
// that have ended.
func (a *App) watchJobs(ctx context.Context, known map[string]seenOwner) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(clockOfJobs):
		}
		if err := a.lookAtJobs(ctx, known); err != nil && ctx.Err() == nil {
			a.Log.Debug("jobs cannot be watched just now", "error", err)
		}
	}
}

func (a *App) lookAtJobs(ctx context.Context, known map[string]seenOwner) error {
	if err := a.Store.Beat(ctx, a.owner); err != nil {
		return err
	}
	owners, err := a.Store.Owners(ctx)
	if err != nil {
		return err
	}
	// While nobody could look, nobody could say anything either.
	if time.Since(a.looked) > 2*clockOfJobs {
		clear(known)
	}
	a.looked = time.Now()
	name, _, _ := strings.Cut(a.owner, "/")
	var gone []string
	for owner, beat := range owners {
		was, ok := known[owner]
		if !ok || !was.beat.Equal(beat) {
			was = seenOwner{beat, time.Now()}
			known[owner] = was
		}
		before, _, _ := strings.Cut(owner, "/")
		mine := before == name && name != "" // an earlier run of this very server
		if owner != a.owner && (mine || time.Since(was.at) > silent) {
			gone = append(gone, owner)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	n, err := a.Store.FailAbandoned(ctx, gone)
	if n > 0 {
		a.Log.Warn("jobs of servers that have ended were given up", "jobs", n)
		a.Events.Changed()
	}
	return err
}

// Live gives a job with how far it is by now, if it runs here.
func (a *App) Live(j store.Job) store.Job {
	a.jobs.mu.Lock()
	defer a.jobs.mu.Unlock()
	if r := a.jobs.running[j.ID]; r != nil {
		j.Done, j.Message = r.job.Done, r.job.Message
	}
	return j
}

// Running gives how many jobs run here.
func (a *App) Running() int {
	a.jobs.mu.Lock()
	defer a.jobs.mu.Unlock()
	return len(a.jobs.running)
}

// Cancel ends a job that runs here, as soon as it looks.
func (a *App) Cancel(id int64) {
	a.jobs.mu.Lock()
	defer a.jobs.mu.Unlock()
	if r := a.jobs.running[id]; r != nil {
		r.cancel()
	}
}
