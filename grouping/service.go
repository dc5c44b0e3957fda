// Package grouping answers who is in a group, who joined and left it, and why.
//
// It reads tags, leases and revisions, and stores nothing. A Service is safe for concurrent
// use. Start reading at Service.
package grouping

import (
	"context"
	"time"

	"lucidorchard/inventory"
	"lucidorchard/model"
)

// Service answers about groups.
type Service struct{ Store }

// Store is what a Service reads. Its methods are safe for concurrent use.
type Store interface {
	// ValuesSince returns what sources reported of tags since an instant, and before it, by
	// workload and time.
	ValuesSince(ctx context.Context, from time.Time) ([]inventory.ValueSpan, error)
	// RevisionsSince returns the revisions since an instant, and the one before, with
	// their texts, oldest first.
	RevisionsSince(ctx context.Context, from time.Time) ([]model.Revision, error)
}
