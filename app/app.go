// Package app is what people do with an estate: the use cases, each of them one
// question to a model or one transaction. It runs jobs, tells of changes, and
// keeps traffic up with the estate.
//
// It must not know of HTTP or SQL. App is safe for concurrent use. Start reading
// at New.
package app

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"

	"lucidorchard/collect"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/disk"
	"lucidorchard/events"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/notify"
	"lucidorchard/refuse"
	"lucidorchard/releasing/plans"
	"lucidorchard/store"
	"lucidorchard/watching"
)

// Options are what an App needs.
type Options struct {
	Store  *store.Store
	Author string // who makes the changes; there are no accounts yet
	Log    *slog.Logger
	// Collector runs in the same process, if one does: it is told of changes.
	Collector *collect.Collector
	// Name tells this server from others on the database, and is that of its earlier
	// runs; blank: it has none.
	Name string
	// Address is where people reach this server, for links in messages; blank: it is not
	// known.
	Address string
	// Here is where this server is reached from its own machine; blank: it is not known.
	Here  string
	Reach notify.Reach // where messages may go
	Disk  *disk.Watch  // who says whether there is room; nil: there is
}

// App answers and changes. Stop it by cancelling New's context, then Wait.
type App struct {
	Options
	Models *model.Keeper
	Events events.Events

	*jobs.Runner
	*watching.Service

	ctx        context.Context
	group      sync.WaitGroup // of what runs in the background
	suggester  suggester
	teller     plans.Teller
	hub        hub
	agents     agents // that report
	known      known  // orders and releases that reports are checked against
	releases   releases
	rejections rejections
	proved     struct {
		sync.Mutex
		of map[int]*proofs
	}
	derivations derivations
}

// New makes an App; without a Store, one that only describes itself. What it runs
// ends with the context.
func New(ctx context.Context, o Options) *App {
	if o.Log == nil {
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	a := &App{Options: o, ctx: ctx}
	a.teller.Policy = a.releasePolicy
	a.Models = model.NewKeeper(o.Store, o.Log, func(_, now *model.Model) { a.Events.Made(now.Versions) })
	var kept jobs.Store
	if o.Store != nil {
		kept = o.Store
	}
	a.Runner = jobs.NewRunner(ctx, jobs.Options{Store: kept, Log: o.Log, Name: o.Name, Words: a.Told, Changed: a.Events.Changed})
	a.Service = watching.New(watching.Options{Store: o.Store, Models: a.Models, Events: &a.Events, Author: o.Author, Log: o.Log,
		Address: o.Address, Reach: o.Reach, Promises: a.promises, QueryOf: a.QueryOf})
	if o.Store == nil {
		return a
	}
	go a.Models.Run(ctx)
	if o.Collector != nil {
		go a.followCollector(ctx)
	}
	a.group.Go(func() { a.keepUp(ctx) })
	a.group.Go(func() { a.goOn(ctx) })
	a.group.Go(func() { a.Service.Run(ctx) })
	a.group.Go(func() { a.keepSchedules(ctx) })
	return a
}

// followCollector makes the state know at once what the collector has stored.
func (a *App) followCollector(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case s := <-a.Collector.Stored:
			a.Models.Nudge()
			if len(s.Fresh) > 0 {
				a.Came(s)
			}
		}
	}
}

// Wait waits until all that runs in the background has ended and how it ended is stored.
// Cancel the context given to New first.
func (a *App) Wait() {
	a.Runner.Wait()
	a.group.Wait()
}

// Done is closed when the App ends.
func (a *App) Done() <-chan struct{} { return a.ctx.Done() }

// Model gives the state of the estate that a question is answered from: one that
// knows all that was written before it was asked for.
func (a *App) Model(ctx context.Context) (*model.Model, error) { return a.Models.Current(ctx) }

// View gives the conversations of the hours [from, to) under the draft, compared
// with another revision of the policy over the same window and estate; 0 is none.
func (a *App) View(ctx context.Context, m *model.Model, from, to flow.Hour, against int) (*reach.View, error) {
	v, err := m.View(ctx, from, to)
	if err != nil || against == 0 {
		return v, err
	}
	p, err := a.RevisionPolicy(ctx, against)
	if err != nil {
		return nil, err
	}
	return m.Against(ctx, v, against, p)
}

// RevisionPolicy gives the policy of a revision.
func (a *App) RevisionPolicy(ctx context.Context, revision int) (*policy.Policy, error) {
	r, err := a.Store.Revision(ctx, revision)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	if r.No == 0 {
		return nil, refuse.Missing(fmt.Sprintf("there is no revision %d to compare with", revision))
	}
	p, _ := policy.Parse(r.Text)
	return p, nil
}
