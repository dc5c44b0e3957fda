package releasing

import (
	"context"
	"sync"

	"lucidorchard/model"
	"lucidorchard/releasing/plans"
	"lucidorchard/step"
)

// Service releases drafts, tells points what to load, and takes what they report. It is
// safe for concurrent use.
type Service struct {
	*step.Base
	Store
	uses Uses

	ctx        context.Context
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
}

// Uses are what the Service needs of other steps.
type Uses struct {
	// SaveText makes a text the draft, and returns its revision.
	SaveText func(ctx context.Context, m *model.Model, text, words string) (int, error)
	// Collect takes what a point saw, as IPFIX messages one after the other; nil: this
	// process collects no traffic.
	Collect func(from string, messages []byte) error
}

// New returns a Service; what waits for points ends with the context.
func New(ctx context.Context, base *step.Base, s Store, uses Uses) *Service {
	a := &Service{Base: base, Store: s, ctx: ctx, uses: uses}
	a.teller.Policy = a.releasePolicy
	return a
}
