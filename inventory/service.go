package inventory

import (
	"context"

	"lucidorchard/step"
)

// Service takes lists of workloads and sets tags. It is safe for concurrent use.
type Service struct {
	*step.Base
	Store
	suggester suggester
	reached   func(context.Context)
}

// New returns a Service. After a change of tags it calls reached, which waits until the
// points have been told of what was just stored.
func New(base *step.Base, s Store, reached func(context.Context)) *Service {
	return &Service{Base: base, Store: s, reached: reached}
}
