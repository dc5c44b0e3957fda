package auditing

import "lucidorchard/step"

// Service makes evidence, when asked and by its schedules. It is safe for concurrent use.
type Service struct {
	*step.Base
	Store
}

// New returns a Service.
func New(base *step.Base, s Store) *Service { return &Service{Base: base, Store: s} }
