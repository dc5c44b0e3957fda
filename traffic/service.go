package traffic

import "lucidorchard/step"

// Service imports traffic, and keeps what is stored up with the estate. It is safe for
// concurrent use.
type Service struct {
	*step.Base
	Store
	collector Collector
}

// Collector receives traffic in this process.
type Collector interface {
	// SetHooks sets what it may ask of the estate from now on.
	SetHooks(Hooks)
}

// New returns a Service; collector is nil where this process collects no traffic.
func New(base *step.Base, s Store, collector Collector) *Service {
	return &Service{Base: base, Store: s, collector: collector}
}
