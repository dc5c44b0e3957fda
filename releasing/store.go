package releasing

import (
	"context"
	"encoding/json"
	"time"

	"lucidorchard/core/rollout"
	"lucidorchard/model"
)

// Store is where the step keeps what is its own, and reads what it needs of others. Its
// methods are safe for concurrent use.
type Store interface {
	// AddPoint keeps a point, with the hash of its token.
	AddPoint(ctx context.Context, p Point, token string) error
	// AddRelease puts a revision under the next number and orders points to run what start
	// says of it, in one transaction. It returns ErrMoved if the newest release is not the one
	// that r.No says, which becomes the new number.
	AddRelease(ctx context.Context, r Release, start func(no int, now Roll) ([]Target, error)) (Release, error)
	// Ahead notes that a point took an order of the present epoch that the database does not
	// have: it was restored from an older back-up. It begins a new epoch, at most one a minute,
	// and reports whether it did. No release gets a number up to highest.
	Ahead(ctx context.Context, at rollout.Mark, highest int) (begun bool, err error)
	// DropExemption lets points guard a workload again, and says whether it was exempt.
	DropExemption(ctx context.Context, workload string) (bool, error)
	// DropPoint forgets a point and its history, and says whether there was one.
	DropPoint(ctx context.Context, name string) (bool, error)
	// Exemptions returns all, those that end first at the head.
	Exemptions(ctx context.Context) ([]model.Exemption, error)
	// FormerPointOf returns the name of the deleted point that a token belongs to, and notes
	// that it was heard of; blank: there is none.
	FormerPointOf(ctx context.Context, token string) (name string, err error)
	// Heard keeps what a point says that it holds, and what happened to it since. If that is nothing
	// new, nobody waits until it is on the disk.
	Heard(ctx context.Context, point string, said json.RawMessage, events []PointEvent, news bool) error
	// Held returns who holds the roll-out; nil: nobody does.
	Held(ctx context.Context) (*Hold, error)
	// Lineage returns the epochs of the database, the present one last.
	Lineage(ctx context.Context) (rollout.Lineage, error)
	// LoadedSince returns since when a point has a release loaded without a break, by what it
	// reported; the zero time if it has not.
	LoadedSince(ctx context.Context, point string, release int) (since time.Time, err error)
	// Order returns points an order, in one transaction: decide sees the roll-out as it stands,
	// and returns what changes. Nothing is written if it fails.
	Order(ctx context.Context, decide func(Roll) ([]Target, error)) error
	// PointHistory returns what happened at a point, newest first.
	PointHistory(ctx context.Context, point string, limit int) ([]PointEvent, error)
	// PointOf finds the point of a token; nil if there is none. A token that replaced another
	// one ends that as soon as it is used.
	PointOf(ctx context.Context, token string) (*Point, error)
	// Points returns all enforcement points, by wave and name.
	Points(ctx context.Context) ([]Point, error)
	// PutExemption exempts a workload, or changes why and how long.
	PutExemption(ctx context.Context, e model.Exemption) error
	// PutHold holds the roll-out, or lets it go on.
	PutHold(ctx context.Context, h *Hold) error
	// PutWave keeps what has to be true before a wave enforces.
	PutWave(ctx context.Context, w Wave, author string) error
	// Releases returns all releases, newest first.
	Releases(ctx context.Context) ([]Release, error)
	// RotateToken sets another token for a point, and reports whether there is such a point. The
	// former token is valid until the new one is used.
	RotateToken(ctx context.Context, name, token string) (bool, error)
	// Run notes which run of an agent reports for a point, and from where. Two agents on one
	// token report by turns; one that moved reports from elsewhere after a restart: both leave
	// the other address with the point.
	Run(ctx context.Context, name, run, from string) error
	// TellAgain sends a point its instructions again, and reports whether there is such a point.
	TellAgain(ctx context.Context, name, words string) (found bool, err error)
	// Waves returns those of which somebody has said something.
	Waves(ctx context.Context) ([]Wave, error)
	// Yield lets a point that took an order which the server does not have follow the server,
	// and reports whether there is such a point.
	Yield(ctx context.Context, name string, at rollout.Mark, author string) (bool, error)
	// Revision returns one revision.
	Revision(ctx context.Context, no int) (model.Revision, error)
}
