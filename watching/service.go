package watching

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/events"
	"lucidorchard/ledger"
	"lucidorchard/model"
	"lucidorchard/notify"
	"lucidorchard/releasing"
	"lucidorchard/traffic"
)

// InForce is what is promised now: by the newest release that a point enforces, or by the
// draft as long as none is.
type InForce struct {
	Release  int // 0: the draft
	Compiled *decide.Compiled
	Asserts  []prove.Result
}

// Options are what a Service needs. Nothing of it changes later.
type Options struct {
	Store
	Models *model.Keeper
	Events *events.Events
	Author string // of what people say of matters
	Log    *slog.Logger
	// Address is where people reach this server, for links in messages; blank: it is not
	// known.
	Address string
	Reach   notify.Reach // where messages may go
	// Promises returns what is in force under a model.
	Promises func(context.Context, *model.Model) (InForce, error)
	// QueryOf reads the filter of a notice.
	QueryOf func(context.Context, *model.Model, ledger.Filter) (reach.Query, error)
}

// Service gathers matters from traffic and from the means of watching, keeps what people say
// of them, and tells of them. It is safe for concurrent use.
type Service struct {
	Options
	told     chan struct{} // something waits to be sent
	looking  looking       // of the goroutine that watches
	fresh    fresh
	gathered gathered
}

// New returns a Service that does nothing by itself yet: see Run.
func New(o Options) *Service {
	return &Service{Options: o, told: make(chan struct{}, 1),
		looking: looking{followed: map[time.Time]*dayFollowed{}, split: split{}},
		fresh:   fresh{came: make(chan struct{}, 1)}}
}

// Run gathers matters and sends messages until ctx ends.
func (a *Service) Run(ctx context.Context) {
	var group sync.WaitGroup
	group.Go(func() { a.watchTraffic(ctx) })
	group.Go(func() { outbox{a}.sendNotices(ctx) })
	group.Wait()
}

// Came takes conversations that a collector in this process has stored and that no model
// knows yet, so that they are judged at once.
func (a *Service) Came(s traffic.Stored) { a.fresh.put(s) }

// Store is where matters and notices are kept, and what is looked at beside traffic. Its
// methods are safe for concurrent use.
type Store interface {
	// Matters.
	PutWatchedDay(context.Context, WatchedDay) ([]Opening, error)
	WatchStamps(context.Context) (map[time.Time]string, error)
	OpenDue(context.Context) ([]Opening, error)
	KnownCallers(ctx context.Context, before time.Time) (Callers, error)
	Silences(ctx context.Context, today time.Time) ([]Silence, error)
	PutStanding(ctx context.Context, kinds []string, now []Matter, tell func(Matter) []Telling) (opened []Opening,
		changed bool, err error)
	Matter(ctx context.Context, id string) (m Matter, days []MatterDay, log []MatterWord, found bool, err error)
	MatterDays(ctx context.Context, since time.Time) (map[string][]MatterDay, error)
	Matters(ctx context.Context, since time.Time) ([]Matter, error)
	WatchHours(ctx context.Context, from, to flow.Hour) (map[flow.Hour]watch.Hour, error)
	PutMatterState(ctx context.Context, ids []string, s MatterState) (int, error)
	WatchedMembers(context.Context) (map[string]Members, error)
	PutMembers(ctx context.Context, now []Members, matters []Matter, tell func(Matter) []Telling) ([]Opening, error)
	Watched(context.Context) ([]string, error)
	PutWatched(ctx context.Context, groups []string, author string) error

	// Notices, destinations, and messages that wait.
	Notices(context.Context) ([]Notice, error)
	PutNotice(context.Context, Notice, map[time.Time][]Asked) (id int64, found bool, err error)
	DropNotice(ctx context.Context, id int64) (bool, error)
	Destinations(context.Context) ([]Destination, error)
	PutDestination(ctx context.Context, name string, settings notify.Settings, author string) error
	DropDestination(ctx context.Context, name string) (bool, error)
	HurryDestination(ctx context.Context, name string) error
	Tell(context.Context, []Telling) error
	Due(context.Context) ([]string, error)
	Claim(ctx context.Context, destination string, most int) ([]Waiting, error)
	Settle(ctx context.Context, destination string, all []Tried) error
	DropSent(ctx context.Context, most int) error

	// What is looked at.
	Points(context.Context) ([]releasing.Point, error)
	FormerPoints(ctx context.Context, since time.Time) ([]releasing.FormerPoint, error)
	Exemptions(context.Context) ([]model.Exemption, error)
	Exporters(context.Context) ([]traffic.ExporterState, error)
	Collectors(context.Context) ([]traffic.CollectorState, error)

	// Rebuild gathers an hour of conversations anew from the single records.
	Rebuild(ctx context.Context, hour flow.Hour, addrs []netip.Addr, turn func(*flow.Joined) bool,
		changes func(netip.Addr, estate.Instant) (estate.Instant, bool), mark []traffic.Cut) (traffic.Rebuilt, error)
}
