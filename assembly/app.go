package assembly

import (
	"context"
	"log/slog"
	"os"
	"sync"

	"lucidorchard/auditing"
	"lucidorchard/collect"
	"lucidorchard/disk"
	"lucidorchard/drafting"
	"lucidorchard/events"
	"lucidorchard/grouping"
	"lucidorchard/inventory"
	"lucidorchard/jobs"
	"lucidorchard/ledger"
	"lucidorchard/model"
	"lucidorchard/notify"
	"lucidorchard/releasing"
	"lucidorchard/step"
	"lucidorchard/traffic"
	"lucidorchard/transfer"
	"lucidorchard/watching"
)

// Options are what an App needs.
type Options struct {
	Store  *Store
	Author string // who makes the changes; there are no accounts yet
	Log    *slog.Logger
	// Collector runs in the same process, if one does: it is told of changes.
	Collector *collect.Collector
	// Name distinguishes this server from others on the database, and is that of its earlier
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
	*ledger.Reader
	Drafting  *drafting.Service
	Inventory *inventory.Service
	Traffic   *traffic.Service
	Releasing *releasing.Service
	Watching  *watching.Service
	Auditing  *auditing.Service
	Grouping  *grouping.Service
	Transfer  *transfer.Service

	ctx   context.Context
	group sync.WaitGroup // of what runs in the background
}

// New makes an App; without a Store, one that only describes itself. What it runs
// ends with the context.
func New(ctx context.Context, o Options) *App {
	if o.Log == nil {
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	a := &App{Options: o, ctx: ctx}
	a.Models = model.NewKeeper(o.Store, o.Log, func(_, now *model.Model) { a.Events.Made(now.Versions) })
	var kept jobs.Store
	if o.Store != nil {
		kept = o.Store
	}
	a.Runner = jobs.NewRunner(ctx, jobs.Options{Store: kept, Log: o.Log, Name: o.Name, Changed: a.Events.Changed})
	base := &step.Base{Models: a.Models, Events: &a.Events, Author: o.Author, Log: o.Log, Runner: a.Runner}
	a.Drafting = drafting.New(base, o.Store)
	uses := releasing.Uses{SaveText: func(ctx context.Context, m *model.Model, text, words string) (int, error) {
		return a.Drafting.SaveText(ctx, m, text, words)
	}}
	var collector traffic.Collector
	if o.Collector != nil {
		collector, uses.Collect = o.Collector, o.Collector.Take
	}
	a.Releasing = releasing.New(ctx, base, o.Store, uses)
	a.Inventory = inventory.New(base, o.Store, a.Releasing.Known)
	a.Traffic = traffic.New(base, o.Store, collector)
	a.Auditing = auditing.New(base, o.Store)
	a.Grouping = &grouping.Service{Store: o.Store}
	a.Transfer = transfer.New(base, o.Store)
	a.Reader = &ledger.Reader{Aside: a.Drafting.AddAside, Rejected: a.Releasing.AddRejected}
	a.Watching = watching.New(watching.Options{Store: o.Store, Models: a.Models, Events: &a.Events, Author: o.Author,
		Log:     o.Log,
		Address: o.Address, Reach: o.Reach, QueryOf: a.QueryOf,
		Promises: func(ctx context.Context, m *model.Model) (watching.InForce, error) {
			release, c, asserts, err := a.Releasing.Promised(ctx, m)
			return watching.InForce{Release: release, Compiled: c, Asserts: asserts}, err
		}})
	if o.Store == nil {
		return a
	}
	go a.Models.Run(ctx)
	if o.Collector != nil {
		go a.followCollector(ctx)
	}
	a.group.Go(func() { a.Traffic.Run(ctx) })
	a.group.Go(func() { a.Releasing.Run(ctx) })
	a.group.Go(func() { a.Watching.Run(ctx) })
	a.group.Go(func() { a.Auditing.Run(ctx) })
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
				a.Watching.Came(s)
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
