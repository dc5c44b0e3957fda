package traffic

import (
	"context"
	"iter"
	"net/netip"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
	"lucidorchard/traffic/rows"
)

// Store is where the step keeps what is its own, and reads what it needs of others. Its
// methods are safe for concurrent use.
type Store interface {
	// AddFile stores the traffic of a file that somebody imports, as one change that can be
	// undone. file is of NewFile, and that of each part. The parts may be asked for several
	// times, and need not be there yet when it begins; what they say of one conversation and
	// hour is added up. stored is told how far it is.
	AddFile(ctx context.Context, id string, file int, parts iter.Seq2[*rows.Part, error], stored func(Storing), words,
		author string) (out Added, err error)
	// AddServicePort keeps one.
	AddServicePort(ctx context.Context, p ServicePort) error
	// Collectors returns what collectors told, by name.
	Collectors(ctx context.Context) ([]CollectorState, error)
	// Cuts returns those that were made.
	Cuts(ctx context.Context) (map[Cut]bool, error)
	// Days returns what is kept, oldest first, records before conversations.
	Days(ctx context.Context) ([]Day, error)
	// Drop deletes days.
	Drop(ctx context.Context, days []Day) error
	// DropRefused forgets one.
	DropRefused(ctx context.Context, id string) (found bool, err error)
	// EndsOn returns the hours and addresses of the records whose client used a port:
	// those that a correction may turn. With turned, of those whose server has it
	// because a correction said so.
	EndsOn(ctx context.Context, proto uint8, port uint16, turned bool) (map[flow.Hour][]netip.Addr, error)
	// ExporterHabits returns all, by address.
	ExporterHabits(ctx context.Context) ([]ExporterHabit, error)
	// Exporters returns what collectors told, by address.
	Exporters(ctx context.Context) ([]ExporterState, error)
	// ForgetExporter removes one from the list; it comes back if it sends again.
	ForgetExporter(ctx context.Context, addr netip.Addr) error
	// ForgetFiles deletes the rows of files whose import was undone and can no
	// longer be done again.
	ForgetFiles(ctx context.Context) error
	// Hours returns the hours that have conversations, each with the version of the
	// conversations that last changed it.
	Hours(ctx context.Context) (map[flow.Hour]int64, error)
	// MarkCuts notes cuts that there was nothing to do for.
	MarkCuts(ctx context.Context, cuts []Cut) error
	// NewFile returns the number under which the rows of a file of traffic are kept.
	NewFile(ctx context.Context) (id int, err error)
	// Rebuild gathers the conversations of one hour anew from the single records,
	// where one of addrs is an end. turn is given each record and may change its
	// direction; it reports whether it did. changes is that of flow.Buckets. mark is
	// stored in the same transaction as cuts that were made.
	Rebuild(ctx context.Context, hour flow.Hour, addrs []netip.Addr, turn func(*flow.Joined) bool,
		changes func(netip.Addr, estate.Instant) (estate.Instant, bool), mark []Cut) (out Rebuilt, err error)
	// Records returns the newest records between two addresses on a service that
	// started in [from, to), at most limit, and how many there are.
	Records(ctx context.Context, client, server netip.Addr, point service.Point, from, to estate.Instant, offset,
		limit int) (out []flow.Joined, total int, err error)
	// RefusedBatches returns those that are kept, newest first.
	RefusedBatches(ctx context.Context) ([]RefusedBatch, error)
	// RefusedRecords returns the records of one as CSV; nil if it is not kept.
	RefusedRecords(ctx context.Context, id string) ([]byte, error)
	// RemoveServicePort forgets one; conversations that it turned stay as they are.
	RemoveServicePort(ctx context.Context, p ServicePort) (found bool, err error)
	// ServicePortApplied notes that what was stored before agrees with it.
	ServicePortApplied(ctx context.Context, p ServicePort) error
	// ServicePorts returns all, oldest first.
	ServicePorts(ctx context.Context) ([]ServicePort, error)
	// SetExporterHabit keeps what somebody says; with a blank ICMP, nothing is said any more.
	SetExporterHabit(ctx context.Context, h ExporterHabit) error
	// ForgetRequests drops the keys of requests that nobody sends again any more.
	ForgetRequests(ctx context.Context) error
	// Versions returns the current numbers.
	Versions(ctx context.Context) (database.Versions, error)
	// ForgetPointHistory drops the oldest events of points that have many: of a rule that
	// somebody deletes again and again, not of what points were told and held.
	ForgetPointHistory(ctx context.Context) error
	// Set keeps a setting. Servers read it again with the workloads.
	Set(ctx context.Context, name string, value any) error
	// Setting reads a setting into what to points to, which stays as it is if
	// nothing was set.
	Setting(ctx context.Context, name string, to any) error
}
