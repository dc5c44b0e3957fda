package drafting

import "lucidorchard/step"

// Service edits the draft and derives proposals. It is safe for concurrent use.
type Service struct {
	*step.Base
	Store
	derivations derivations
}

// New returns a Service.
func New(base *step.Base, s Store) *Service { return &Service{Base: base, Store: s} }
