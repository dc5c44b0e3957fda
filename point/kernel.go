package point

import (
	"context"
	"net/netip"

	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
)

// Kernel loads plans. Load, Move, Read and End may be called by several goroutines.
type Kernel interface {
	// Load replaces all that was loaded before, or changes nothing. At every moment packets
	// are judged by what was enforced before, by what is enforced then, or by both. Without
	// plans nothing is loaded. Connections that were ended stay ended.
	Load(l plan.Loaded, paired bool) error
	// Move lets addresses come and go, so that what is loaded becomes other plans with the
	// same rules: in one step, or it changes nothing.
	Move(from, to plan.Loaded) error
	// Read returns what there is now. It fails if that cannot be told.
	Read() (Held, error)
	// End ends the running conversations that the enforced plan ends, and returns how many.
	End(d *plan.Decider) (int, error)
	// Watch reports changes of what is loaded, whoever made them, and some of the
	// conversations that are rejected (as dropped) or uncovered, until the context ends.
	Watch(ctx context.Context, changed func(), saw func(sight)) error
}

// sight is a conversation that a kernel logged.
type sight struct {
	flow.Observation
	Trial bool // the rules on trial say so
}

// Held is what a kernel has loaded. Names are those of core/plan/nft.
type Held struct {
	Rules map[string]string                // a rule in its chain, without its counts → its comment
	Order map[string][]string              // chain → its rules
	Sets  map[string]plan.Addresses        // without those of ended connections
	Ways  map[string]map[netip.Addr]string // map → guarded address → chain
	Other map[string]string                // the table, chains, and all else
	Odd   []string                         // elements that do not only name addresses, in words
	Lines []Line                           // counts of the enforced plan; without the release
	Trial []Line                           // counts of the plan on trial; without the release
	Own   []netip.Addr                     // addresses of the machine itself
	// Ended connections whose packets are not dropped, and connections that are dropped
	// though nobody ended them.
	EndedMissing, EndedExtra int
}

func newHeld() Held {
	return Held{Rules: map[string]string{}, Order: map[string][]string{}, Sets: map[string]plan.Addresses{},
		Ways: map[string]map[netip.Addr]string{}, Other: map[string]string{}}
}

// nothing reports whether nothing is loaded.
func (h *Held) nothing() bool { return len(h.Rules)+len(h.Sets)+len(h.Ways)+len(h.Other) == 0 }
