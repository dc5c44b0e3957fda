// Package estate holds what an installation knows of its machines: workloads,
// their tags with the source each came from, and the leases that say which
// workload held an address at an instant.
//
// It must not know of expressions, policies or flows. Start reading at Estate.
package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"time"
)

// Tag is key = value on a workload, with where it came from.
type Tag struct {
	Key, Value string
	Source     string    // the inventory source, or ByHand
	By         string    // who or what set it; may be empty
	At         time.Time // when it was set; may be zero
}

// ByHand is the source of a tag that a person set.
const ByHand = "by hand"

// Lease gives an address for the half-open span [From, Until).
type Lease struct {
	Addr        netip.Addr
	From, Until Instant
}

// Covers reports whether the lease holds at t.
func (l Lease) Covers(t Instant) bool { return !t.Before(l.From) && t.Before(l.Until) }

// Empty reports whether the lease's span has no instant: it claims nothing.
func (l Lease) Empty() bool { return !l.From.Before(l.Until) }

// Workload is a machine, virtual machine, container or appliance.
type Workload struct {
	ID, Name, OS, Kind string
	Tags               []Tag // one a key, sorted by key
	Leases             []Lease
}

// Tag gives the tag with the key. One with an empty value counts as missing.
func (w *Workload) Tag(key string) (Tag, bool) {
	i := sort.Search(len(w.Tags), func(i int) bool { return w.Tags[i].Key >= key })
	if i < len(w.Tags) && w.Tags[i].Key == key && w.Tags[i].Value != "" {
		return w.Tags[i], true
	}
	return Tag{}, false
}

// SetTag sets or, with an empty value, removes a tag. It copies the slice, so
// that workloads that share one are not changed.
func (w *Workload) SetTag(t Tag) {
	tags := make([]Tag, 0, len(w.Tags)+1)
	for _, have := range w.Tags {
		if have.Key != t.Key {
			tags = append(tags, have)
		}
	}
	if t.Value != "" {
		tags = append(tags, t)
	}
	SortTags(tags)
	w.Tags = tags
}

// SortTags puts tags in the order that Workload.Tags needs.
func SortTags(tags []Tag) {
	slices.SortFunc(tags, func(a, b Tag) int { return strings.Compare(a.Key, b.Key) })
}

// Label is what people call the workload: its name, or its id if it has none.
func (w *Workload) Label() string {
	if w.Name != "" {
		return w.Name
	}
	return w.ID
}

// Outside is the workload of an endpoint that has none.
const Outside int32 = -1

// Endpoint is an address together with the workload that held it, as an index
// into Estate.Workloads, or Outside.
type Endpoint struct {
	Addr     netip.Addr
	Workload int32
}

// Claim is a lease together with the workload it belongs to.
type Claim struct {
	Workload    int32
	From, Until Instant
}

// Estate is an immutable set of workloads with an index by id and by address.
// Addresses are IPv4 where they can be: New maps IPv4-mapped IPv6 to IPv4.
type Estate struct {
	Workloads []Workload
	byID      map[string]int32
	claims    map[netip.Addr][]Claim
}

// Conflict says that two workloads claim one address from the same instant.
type Conflict struct {
	Addr netip.Addr
	A, B string // ids
	From Instant
}

func (c Conflict) Error() string {
	since := "with no start"
	if c.From.IsBound() {
		since = "from " + c.From.String()
	}
	return fmt.Sprintf("workloads %q and %q both claim address %s %s; give one of the leases another start, or end it before", c.A, c.B, c.Addr, since)
}

// New builds the index. Ids must be distinct. Conflicting claims are returned,
// one for each address and start, in the order of addresses.
func New(workloads []Workload) (*Estate, []Conflict) {
	e := &Estate{
		Workloads: workloads,
		byID:      make(map[string]int32, len(workloads)),
		claims:    make(map[netip.Addr][]Claim, len(workloads)),
	}
	for i := range workloads {
		w := &workloads[i]
		e.byID[w.ID] = int32(i)
		for j := range w.Leases {
			l := &w.Leases[j]
			l.Addr = l.Addr.Unmap()
			if !l.Empty() {
				e.claims[l.Addr] = append(e.claims[l.Addr], Claim{int32(i), l.From, l.Until})
			}
		}
	}
	var conflicts []Conflict
	for addr, cs := range e.claims {
		if len(cs) == 1 {
			continue
		}
		slices.SortStableFunc(cs, func(a, b Claim) int {
			switch {
			case a.From.Before(b.From):
				return -1
			case b.From.Before(a.From):
				return 1
			}
			return 0
		})
		for k := 1; k < len(cs); k++ {
			if cs[k].From == cs[k-1].From && cs[k].Workload != cs[k-1].Workload {
				conflicts = append(conflicts, Conflict{addr, workloads[cs[k-1].Workload].ID, workloads[cs[k].Workload].ID, cs[k].From})
			}
		}
	}
	slices.SortFunc(conflicts, func(a, b Conflict) int { return a.Addr.Compare(b.Addr) })
	return e, conflicts
}

// ByID gives the index of a workload.
func (e *Estate) ByID(id string) (int32, bool) {
	i, ok := e.byID[id]
	return i, ok
}

// Claims gives all claims on an address, earliest start first. The slice must
// not be changed.
func (e *Estate) Claims(addr netip.Addr) []Claim { return e.claims[addr] }

// At resolves an address at an instant: of the leases that cover the instant,
// the one with the latest start wins.
func (e *Estate) At(addr netip.Addr, t Instant) Endpoint {
	addr = addr.Unmap()
	cs := e.claims[addr]
	for k := len(cs) - 1; k >= 0; k-- {
		if !t.Before(cs[k].From) && t.Before(cs[k].Until) {
			return Endpoint{addr, cs[k].Workload}
		}
	}
	return Endpoint{addr, Outside}
}

// Held calls f for each address that a workload holds at t, in the order of
// addresses.
func (e *Estate) Held(t Instant, f func(Endpoint)) {
	held := make([]Endpoint, 0, len(e.claims))
	for addr := range e.claims {
		if ep := e.At(addr, t); ep.Workload != Outside {
			held = append(held, ep)
		}
	}
	slices.SortFunc(held, func(a, b Endpoint) int { return a.Addr.Compare(b.Addr) })
	for _, ep := range held {
		f(ep)
	}
}
