package jobs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"log/slog"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/database"
	"lucidorchard/refuse"
)

// Options are what a Runner needs.
type Options struct {
	Store Store
	Log   *slog.Logger
	// Name distinguishes this server from others on the database, and is that of its earlier runs;
	// blank: it has none.
	Name string
	// Changed is called when a job has ended.
	Changed func()
}

// Store is where jobs are kept. Its methods are safe for concurrent use.
type Store interface {
	AddJob(ctx context.Context, kind, title, owner string) (Job, error)
	FinishJob(context.Context, Job) error
	Beat(ctx context.Context, owner string) error
	Owners(context.Context) (map[string]time.Time, error)
	FailAbandoned(ctx context.Context, owners []string) (int64, error)
}

// Runner runs long work in the background. How far it is lives here; that it runs, and how
// it ended, in the Store. It is safe for concurrent use.
type Runner struct {
	Options
	ctx    context.Context
	owner  string    // of the jobs that run here
	looked time.Time // when the jobs of all servers were last looked at

	mu      sync.Mutex
	running map[int64]*running
	group   sync.WaitGroup
}

// NewRunner starts one: it gives up the jobs of servers that have ended. Its jobs end with
// ctx; then Wait.
func NewRunner(ctx context.Context, o Options) *Runner {
	rs := &Runner{Options: o, ctx: ctx, owner: o.Name + "/" + rand.Text()[:8], running: map[int64]*running{}}
	if o.Store == nil {
		return rs
	}
	known := map[string]seenOwner{}
	soon, cancel := context.WithTimeout(ctx, 10*time.Second)
	if err := rs.look(soon, known); err != nil {
		o.Log.Warn("the jobs of an earlier run cannot be looked at yet", "error", err)
	}
	cancel()
	go rs.watch(ctx, known)
	return rs
}

// Wait returns when all jobs have ended and their results are stored. Cancel the context
// given to NewRunner first.
func (rs *Runner) Wait() { rs.group.Wait() }

type running struct {
	job    Job
	cancel context.CancelFunc
}

// Work is what a job does. It reports the share that is done, 0 to 1, and returns a result
// that can be written as JSON. It has to end soon after ctx has.
type Work func(ctx context.Context, progress func(done float64, message string)) (any, error)

// lookUp is how long a job tries to learn whether what it stored is stored, when
// the database goes away in that very moment.
const lookUp = 10 * time.Minute

// Start runs work as a job.
func (rs *Runner) Start(ctx context.Context, kind, title string, w Work) (Job, error) {
	return rs.run(ctx, kind, title, false, w)
}

// StartStoring is Start for work that stores all that it makes in one
// transaction: that it did is noted with it.
func (rs *Runner) StartStoring(ctx context.Context, kind, title string, w Work) (Job, error) {
	return rs.run(ctx, kind, title, true, w)
}

func (rs *Runner) run(ctx context.Context, kind, title string, stores bool, w Work) (Job, error) {
	job, err := rs.Store.AddJob(ctx, kind, title, rs.owner)
	if err != nil {
		return job, err
	}
	jobCtx, cancel := context.WithCancel(database.Patient(rs.ctx, lookUp))
	r := &running{job, cancel}
	rs.mu.Lock()
	rs.running[job.ID] = r
	rs.mu.Unlock()
	if stores {
		jobCtx = database.WithJob(jobCtx, job.ID)
	}
	rs.group.Go(func() {
		defer cancel()
		result, err := rs.Guarded(jobCtx, w, func(done float64, message string) {
			rs.mu.Lock()
			r.job.Done, r.job.Message = done, message
			rs.mu.Unlock()
		})
		rs.finish(jobCtx, r, result, err)
	})
	return job, nil
}

// Guarded runs work and turns a panic into an error (ErrFault), which it logs.
func (rs *Runner) Guarded(ctx context.Context, w Work, progress func(float64, string)) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			stack := debug.Stack()
			if f, ok := p.(*decide.Failure); ok {
				p, stack = f.Value, f.Stack
			}
			rs.Log.Error("a job has met a fault of the program", "panic", p, "stack", string(stack))
			err = errFault
		}
	}()
	return w(ctx, progress)
}

func (rs *Runner) finish(ctx context.Context, r *running, result any, err error) {
	rs.mu.Lock()
	job := r.job
	rs.mu.Unlock()
	job.State, job.Done = "done", 1
	var unknown *database.UnknownError
	switch {
	case err != nil && errors.As(err, &unknown):
		job.State, job.Message = "failed",
			"the database connection was lost during the commit, so it is unknown whether this was stored. Check, "+
				"and repeat it if not; a repeated file counts once"
	case err != nil && rs.ctx.Err() != nil:
		job.State, job.Message = "failed",
			"the server stopped while this was running; nothing was stored. Start it again"
	case err != nil && ctx.Err() != nil:
		job.State, job.Message = "cancelled", "cancelled; nothing was stored"
	case err != nil:
		rs.Log.Warn("a job failed", "job", job.ID, "kind", job.Kind, "error", err)
		job.State, job.Message = "failed", refuse.Words(err)
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
		err := rs.Store.FinishJob(keep, job)
		cancel()
		if err == nil {
			break
		}
		rs.Log.Error("the end of a job cannot be stored; it is tried again", "job", job.ID, "error", err)
		if rs.ctx.Err() != nil {
			break
		}
		select {
		case <-time.After(pause):
		case <-rs.ctx.Done():
		}
	}
	rs.mu.Lock()
	delete(rs.running, job.ID)
	rs.mu.Unlock()
	rs.Changed()
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

// watch records regularly that this server runs its jobs, and finds the jobs of servers
// that have ended.
func (rs *Runner) watch(ctx context.Context, known map[string]seenOwner) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(clockOfJobs):
		}
		if err := rs.look(ctx, known); err != nil && ctx.Err() == nil {
			rs.Log.Debug("jobs cannot be watched just now", "error", err)
		}
	}
}

func (rs *Runner) look(ctx context.Context, known map[string]seenOwner) error {
	if err := rs.Store.Beat(ctx, rs.owner); err != nil {
		return err
	}
	owners, err := rs.Store.Owners(ctx)
	if err != nil {
		return err
	}
	// While nobody could look, nobody could say anything either.
	if time.Since(rs.looked) > 2*clockOfJobs {
		clear(known)
	}
	rs.looked = time.Now()
	name, _, _ := strings.Cut(rs.owner, "/")
	var gone []string
	for owner, beat := range owners {
		was, ok := known[owner]
		if !ok || !was.beat.Equal(beat) {
			was = seenOwner{beat, time.Now()}
			known[owner] = was
		}
		before, _, _ := strings.Cut(owner, "/")
		mine := before == name && name != "" // an earlier run of this very server
		if owner != rs.owner && (mine || time.Since(was.at) > silent) {
			gone = append(gone, owner)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	n, err := rs.Store.FailAbandoned(ctx, gone)
	if n > 0 {
		rs.Log.Warn("jobs of servers that have ended were given up", "jobs", n)
		rs.Changed()
	}
	return err
}

// Live returns a job with its progress by now, if it runs here; else as it was given.
func (rs *Runner) Live(j Job) Job {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if r := rs.running[j.ID]; r != nil {
		j.Done, j.Message = r.job.Done, r.job.Message
	}
	return j
}

// Running returns how many jobs run here.
func (rs *Runner) Running() int {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	return len(rs.running)
}

// Cancel ends a job that runs here, as soon as it looks.
func (rs *Runner) Cancel(id int64) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if r := rs.running[id]; r != nil {
		r.cancel()
	}
}

// errFault is a fault of the program.
var errFault error = fault{}

type fault struct{}

func (fault) Error() string { return refuse.Fault }

// Words returns the error as it is.
func (fault) Words() string { return refuse.Fault }
