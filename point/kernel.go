package point

import (
	"context"
	"net/netip"

	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
)

// Kernel holds plans.
type Kernel interface {
	// Hold replaces all that was held before, in one step, or changes nothing. Without a
	// plan nothing is held.
	Hold(p *plan.Plan, observe bool) error
	// Move lets addresses come and go, so that what is held of one plan becomes another
	// with the same rules: in one step, or it changes nothing.
	Move(from, to *plan.Plan) error
	// Read gives what there is now.
	Read() (Held, error)
	// End ends the conversations that run and that a plan rejects, and says how many.
	End(d *plan.Decider) (int, error)
	// Watch tells of changes of what is held, whoever made them, and of some of the
	// conversations that are rejected (dropped, as if it were enforced) or uncovered, until
	// the context ends.
	Watch(ctx context.Context, changed func(), saw func(flow.Observation)) error
}

// Held is what a kernel holds. Names are those of core/plan/nft.
type Held struct {
	Rules map[string]string                // a rule in its chain, without its counts → its comment
	Order map[string][]string              // chain → its rules
	Sets  map[string]plan.Addresses        // without those of conversations that are over
	Ways  map[string]map[netip.Addr]string // map → guarded address → chain
	Other map[string]string                // chains, and all else
	Lines []Line
}

func newHeld() Held {
	return Held{Rules: map[string]string{}, Order: map[string][]string{}, Sets: map[string]plan.Addresses{},
		Ways: map[string]map[netip.Addr]string{}, Other: map[string]string{}}
}

// nothing reports whether nothing is held.
func (h *Held) nothing() bool { return len(h.Rules)+len(h.Sets)+len(h.Ways)+len(h.Other) == 0 }
