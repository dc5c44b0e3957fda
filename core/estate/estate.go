// Package estate holds what an installation knows of its machines: workloads,
// their tags with the source each came from, and the leases that say which
// workload held an address at an instant.
//
// It must not know of expressions, policies or flows. Start reading at Estate.
package estate

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"sync/atomic"
	"time"

	"lucidorchard/core/immutable"
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

// Lease assigns an address for the half-open span [From, Until).
type Lease struct {
	Addr        netip.Addr
	From, Until Instant
	Source      string // the inventory source that says so; may be empty
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
	Retired            time.Time // when no source listed it any more; zero: it is there
}

// Tag returns the tag with the key. One with an empty value counts as missing.
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
	Lease       int32 // index into Workload.Leases
	From, Until Instant
}

// Estate is an immutable set of workloads with an index by id and by address.
// Workloads have indexes from 0 up to Bound; that of one that was removed stays
// unused in the estates made from it. Addresses are IPv4 where they can be: New
// maps IPv4-mapped IPv6 to IPv4.
type Estate struct {
	workloads immutable.Vector[*Workload] // nil for one that was removed
	live      int
	byID      immutable.Map[string, int32] // Outside for one that was removed
	claims    claims
	heldAt    atomic.Pointer[heldAt]
}

// claims finds the claims on an address, earliest start first. IPv4 addresses
// have a table of their own: to find a number is several times as fast.
type claims struct {
	v4 immutable.Map[uint32, []Claim]
	v6 immutable.Map[netip.Addr, []Claim]
}

func number(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

func (c claims) get(a netip.Addr) []Claim {
	if a.Is4() {
		cs, _ := c.v4.Get(number(a))
		return cs
	}
	cs, _ := c.v6.Get(a)
	return cs
}

func (c claims) with(changes map[netip.Addr][]Claim) claims {
	v4, v6 := make(map[uint32][]Claim, len(changes)), map[netip.Addr][]Claim{}
	for a, cs := range changes {
		if a.Is4() {
			v4[number(a)] = cs
		} else {
			v6[a] = cs
		}
	}
	return claims{c.v4.With(v4), c.v6.With(v6)}
}

// addrs returns all addresses, in no order.
func (c claims) addrs() iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for n := range c.v4.All() {
			if !yield(netip.AddrFrom4([4]byte(binary.BigEndian.AppendUint32(nil, n)))) {
				return
			}
		}
		for a := range c.v6.All() {
			if !yield(a) {
				return
			}
		}
	}
}

// Conflict reports that two workloads claim one address from the same instant.
type Conflict struct {
	Addr netip.Addr
	A, B string // ids
	From Instant
	// Source is that of A's lease where it holds because the source outranks that
	// of B's; else blank.
	Source string
}

func (c Conflict) Error() string {
	if c.Source != "" {
		return fmt.Sprintf("workload %q holds address %s by %s, which outranks this source; it was not given to %q",
			c.A, c.Addr, c.Source, c.B)
	}
	since := "with no start"
	if c.From.IsBound() {
		since = "from " + c.From.String()
	}
	return fmt.Sprintf("workloads %q and %q both claim address %s %s; give one of the leases another start, or end "+
		"it before", c.A, c.B, c.Addr, since)
}

// New builds the index. Ids must be distinct. Conflicting claims are returned,
// one for each address and start, in the order of addresses.
func New(workloads []Workload) (*Estate, []Conflict) {
	all := make([]*Workload, len(workloads))
	byID := make(map[string]int32, len(workloads))
	byAddr := make(map[netip.Addr][]Claim, len(workloads))
	for i := range workloads {
		w := &workloads[i]
		all[i] = w
		byID[w.ID] = int32(i)
		for j := range w.Leases {
			l := &w.Leases[j]
			l.Addr = l.Addr.Unmap()
			if !l.Empty() {
				byAddr[l.Addr] = append(byAddr[l.Addr], Claim{int32(i), int32(j), l.From, l.Until})
			}
		}
	}
	e := &Estate{workloads: immutable.VectorOf(all), live: len(all), byID: immutable.MapOf(byID),
		claims: claims{}.with(byAddr)}
	var conflicts []Conflict
	for addr, cs := range byAddr {
		if len(cs) > 1 {
			slices.SortFunc(cs, inOrder)
			conflicts = e.conflicts(conflicts, addr, cs)
		}
	}
	slices.SortFunc(conflicts, func(a, b Conflict) int { return a.Addr.Compare(b.Addr) })
	return e, conflicts
}

// inOrder sorts claims by their start.
func inOrder(a, b Claim) int {
	switch {
	case a.From.Before(b.From):
		return -1
	case b.From.Before(a.From):
		return 1
	}
	return cmp.Or(cmp.Compare(a.Workload, b.Workload), cmp.Compare(a.Lease, b.Lease))
}

func (e *Estate) conflicts(out []Conflict, addr netip.Addr, cs []Claim) []Conflict {
	for k := 1; k < len(cs); k++ {
		if cs[k].From == cs[k-1].From && cs[k].Workload != cs[k-1].Workload {
			out = append(out, Conflict{Addr: addr, A: e.Workload(cs[k-1].Workload).ID,
				B: e.Workload(cs[k].Workload).ID, From: cs[k].From})
		}
	}
	return out
}

// With returns the estate with some workloads put in, in place of those with
// their ids or as new ones, and others removed; and the indexes of all of them.
// What it costs grows with them, not with the estate. Conflicts are those on the
// addresses that they hold. Ids that no workload has are not removed.
func (e *Estate) With(put []Workload, remove []string) (*Estate, []int32, []Conflict) {
	workloads := e.workloads.Edit()
	live := e.live
	ids, claims := map[string]int32{}, map[netip.Addr][]Claim{}
	var touched []int32
	of := func(addr netip.Addr) []Claim {
		if cs, ok := claims[addr]; ok {
			return cs
		}
		return slices.Clone(e.Claims(addr))
	}
	give := func(i int32, w *Workload) {
		for j, l := range w.Leases {
			if !l.Empty() {
				claims[l.Addr] = append(of(l.Addr), Claim{i, int32(j), l.From, l.Until})
			}
		}
	}
	take := func(i int32, w *Workload) {
		for _, l := range w.Leases {
			claims[l.Addr] = slices.DeleteFunc(of(l.Addr), func(c Claim) bool { return c.Workload == i })
		}
	}
	find := func(id string) int32 {
		if i, ok := ids[id]; ok {
			return i
		}
		if i, ok := e.ByID(id); ok {
			return i
		}
		return Outside
	}
	for _, id := range remove {
		if i := find(id); i != Outside {
			take(i, *workloads.At(int(i)))
			workloads.Set(int(i), nil)
			ids[id] = Outside
			touched = append(touched, i)
			live--
		}
	}
	for k := range put {
		w := &put[k]
		if slices.ContainsFunc(w.Leases, func(l Lease) bool { return l.Addr.Is4In6() }) {
			w.Leases = slices.Clone(w.Leases)
			for j := range w.Leases {
				w.Leases[j].Addr = w.Leases[j].Addr.Unmap()
			}
		}
		i := find(w.ID)
		if i == Outside {
			i = int32(workloads.Append(w))
			ids[w.ID] = i
			live++
			give(i, w)
		} else {
			if have := *workloads.At(int(i)); !slices.Equal(have.Leases, w.Leases) {
				take(i, have)
				give(i, w)
			}
			workloads.Set(int(i), w)
		}
		touched = append(touched, i)
	}
	for _, cs := range claims {
		slices.SortFunc(cs, inOrder)
	}
	out := &Estate{workloads: workloads.Done(), live: live, byID: e.byID.With(ids), claims: e.claims.with(claims)}
	var conflicts []Conflict
	for addr, cs := range claims {
		conflicts = out.conflicts(conflicts, addr, cs)
	}
	slices.SortFunc(conflicts, func(a, b Conflict) int { return a.Addr.Compare(b.Addr) })
	slices.Sort(touched)
	return out, slices.Compact(touched), conflicts
}

// Since returns the indexes of the workloads that are others in an estate before, or are
// not in both, at most so many; false if there are more. Estates that were made from each
// other by With are compared by what With touched.
func (e *Estate) Since(before *Estate, most int) (touched []int32, ok bool) {
	for i := range immutable.Different(before.workloads, e.workloads) {
		if len(touched) == most {
			return nil, false
		}
		touched = append(touched, int32(i))
	}
	return touched, true
}

// SameHolders reports whether every address is held by the same workload at all times as
// in an estate before; touched are the workloads that differ.
func (e *Estate) SameHolders(before *Estate, touched []int32) bool {
	return !slices.ContainsFunc(touched, func(i int32) bool {
		if int(i) >= min(e.Bound(), before.Bound()) {
			return true
		}
		was, is := before.Workload(i), e.Workload(i)
		return was == nil || is == nil || !slices.Equal(was.Leases, is.Leases)
	})
}

// Len returns how many workloads there are.
func (e *Estate) Len() int { return e.live }

// Bound is one more than the highest index that a workload may have.
func (e *Estate) Bound() int { return e.workloads.Len() }

// Workload returns the workload with an index, which must not be changed; nil if
// it was removed.
func (e *Estate) Workload(i int32) *Workload { return *e.workloads.At(int(i)) }

// All returns the workloads with their indexes, in order.
func (e *Estate) All() iter.Seq2[int32, *Workload] {
	return func(yield func(int32, *Workload) bool) {
		for i := range e.workloads.Len() {
			if w := *e.workloads.At(i); w != nil && !yield(int32(i), w) {
				return
			}
		}
	}
}

// Workloads copies the workloads, in order.
func (e *Estate) Workloads() []Workload {
	out := make([]Workload, 0, e.live)
	for _, w := range e.All() {
		out = append(out, *w)
	}
	return out
}

// ByID returns the index of a workload.
func (e *Estate) ByID(id string) (int32, bool) {
	i, ok := e.byID.Get(id)
	return i, ok && i != Outside
}

// Called returns what people call the workload with an id; the id itself, if there is none.
func (e *Estate) Called(id string) string {
	if i, ok := e.ByID(id); ok {
		return e.Workload(i).Label()
	}
	return id
}

// Claims returns all claims on an address, earliest start first. The slice must
// not be changed.
func (e *Estate) Claims(addr netip.Addr) []Claim {
	return e.claims.get(addr)
}

// Holder returns the claim that holds an address at an instant: of those that
// cover it, the one with the latest start; nil for none. addr is no
// IPv4-mapped IPv6 address.
func (e *Estate) Holder(addr netip.Addr, t Instant) *Claim {
	cs := e.claims.get(addr)
	for k := len(cs) - 1; k >= 0; k-- {
		if !t.Before(cs[k].From) && t.Before(cs[k].Until) {
			return &cs[k]
		}
	}
	return nil
}

// ChangedHands returns when a lease of an address last began or ended, at or
// before t.
func (e *Estate) ChangedHands(addr netip.Addr, t Instant) (last Instant, ok bool) {
	for _, c := range e.claims.get(addr) {
		for _, bound := range [2]Instant{c.From, c.Until} {
			if bound.IsBound() && !t.Before(bound) && (!ok || last.Before(bound)) {
				last, ok = bound, true
			}
		}
	}
	return last, ok
}

// At resolves an address at an instant.
func (e *Estate) At(addr netip.Addr, t Instant) Endpoint {
	addr = addr.Unmap()
	if c := e.Holder(addr, t); c != nil {
		return Endpoint{addr, c.Workload}
	}
	return Endpoint{addr, Outside}
}

// Endpoints returns a workload's endpoints at an instant; if it holds no address then,
// one without an address.
func (e *Estate) Endpoints(i int32, at Instant) []Endpoint {
	var out []Endpoint
	for _, l := range e.Workload(i).Leases {
		if ep := e.At(l.Addr, at); ep.Workload == i && !slices.Contains(out, ep) {
			out = append(out, ep)
		}
	}
	if out == nil {
		out = []Endpoint{{Workload: i}}
	}
	return out
}

// Held calls f for each address that a workload holds at t, in the order of
// addresses. What was asked for last is remembered.
func (e *Estate) Held(t Instant, f func(Endpoint)) {
	h := e.heldAt.Load()
	if h == nil || h.at != t {
		h = &heldAt{at: t, ends: make([]Endpoint, 0, e.live)}
		for addr := range e.claims.addrs() {
			if ep := e.At(addr, t); ep.Workload != Outside {
				h.ends = append(h.ends, ep)
			}
		}
		slices.SortFunc(h.ends, func(a, b Endpoint) int { return a.Addr.Compare(b.Addr) })
		e.heldAt.Store(h)
	}
	for _, ep := range h.ends {
		f(ep)
	}
}

// heldAt is who held which address at an instant, in the order of addresses.
type heldAt struct {
	at   Instant
	ends []Endpoint
}
