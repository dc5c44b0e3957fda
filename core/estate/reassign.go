package estate

import (
	"maps"
	"net/netip"
	"slices"
)

// Listed is what an inventory source says of the addresses of a workload. A
// lease from Beginning has no start that the source knows.
type Listed struct {
	ID     string
	Leases []Lease
}

// Reassign returns the leases of every workload that a listing changes. have has the
// leases of the workloads listed, and of all that claim one of their addresses.
//
// A lease that goes on stays as it is. One of this source that is no longer
// listed ends now. One without start and end is from always if nobody else has ever
// claimed the address, else from now. Who held the address before ends where the
// new lease begins. A lease that begins when another workload's does is left out,
// and is a conflict; so is one of an address that a source which outranks this
// one has assigned to another workload then. The same listing again changes nothing.
func Reassign(have map[string][]Lease, listing []Listed, source string, now Instant,
	outranks func(source string) bool) (changed map[string][]Lease, conflicts []Conflict) {
	r := &reassigning{have: have, source: source, now: now, outranks: outranks, changed: map[string][]Lease{},
		claims: map[netip.Addr]map[string]bool{}, places: map[string]map[netip.Addr][]int{}}
	for id, ls := range have {
		for _, l := range ls {
			r.claim(l.Addr, id)
		}
	}
	before := map[netip.Addr]map[string]bool{} // those who claimed it before this listing
	for addr, ids := range r.claims {
		before[addr] = maps.Clone(ids)
	}
	// What ends, first: an address that goes from one to the other in the same
	// listing is free then.
	for _, s := range r.end(listing) {
		if open(s.Lease) {
			for id := range before[s.Addr] {
				if id != s.id || len(r.at(id, s.Addr)) > 0 {
					s.From = now
				}
			}
		}
		if !s.Empty() && !r.clashes(s) {
			r.begin(s)
		}
	}
	slices.SortFunc(r.conflicts, func(a, b Conflict) int { return a.Addr.Compare(b.Addr) })
	return r.changed, r.conflicts
}

// reassigning is a listing that is being taken.
type reassigning struct {
	have      map[string][]Lease
	source    string
	now       Instant
	outranks  func(source string) bool
	changed   map[string][]Lease
	conflicts []Conflict
	claims    map[netip.Addr]map[string]bool  // who has ever claimed an address
	places    map[string]map[netip.Addr][]int // of leases, by workload and address
}

// start is a lease that begins.
type start struct {
	id string
	Lease
}

func (r *reassigning) claim(addr netip.Addr, id string) {
	if r.claims[addr] == nil {
		r.claims[addr] = map[string]bool{}
	}
	r.claims[addr][id] = true
}

func (r *reassigning) leases(id string) []Lease {
	if ls, ok := r.changed[id]; ok {
		return ls
	}
	return r.have[id]
}

// own returns the leases of a workload in a slice that is not have's.
func (r *reassigning) own(id string) []Lease {
	if _, ok := r.changed[id]; !ok {
		r.changed[id] = slices.Clone(r.have[id])
	}
	return r.changed[id]
}

// at finds the leases of a workload by their address, as places in leases.
func (r *reassigning) at(id string, addr netip.Addr) []int {
	m, ok := r.places[id]
	if !ok {
		m = map[netip.Addr][]int{}
		for i, l := range r.leases(id) {
			m[l.Addr] = append(m[l.Addr], i)
		}
		r.places[id] = m
	}
	return m[addr]
}

// end sets the ends of leases as the listing says, and returns those that begin with it.
func (r *reassigning) end(listing []Listed) (starts []start) {
	for _, w := range listing {
		was := r.leases(w.ID)
		is, kept := slices.Clone(was), make([]bool, len(was))
		byAddr := make(map[netip.Addr][]int, len(was))
		for i, l := range was {
			byAddr[l.Addr] = append(byAddr[l.Addr], i)
		}
		for _, g := range w.Leases {
			g.Source = r.source
			held := byAddr[g.Addr]
			k := slices.IndexFunc(held, func(i int) bool {
				return open(g) && was[i].Covers(r.now) || !open(g) &&
					was[i].From == g.From
			})
			if k < 0 {
				starts = append(starts, start{w.ID, g})
				continue
			}
			k = held[k]
			kept[k] = true
			if g.From == was[k].From || g.Until != End {
				is[k].Until = g.Until
			}
		}
		for k := range is {
			if !kept[k] && is[k].Source == r.source && r.now.Before(is[k].Until) {
				is[k].Until = r.now
			}
		}
		is = slices.DeleteFunc(is, Lease.Empty)
		if !slices.Equal(is, was) {
			r.changed[w.ID] = is
		}
	}
	return starts
}

// clashes reports whether a lease cannot begin, and notes why.
func (r *reassigning) clashes(s start) bool {
	clash := false
	for other := range r.claims[s.Addr] {
		for _, i := range r.at(other, s.Addr) {
			l := r.leases(other)[i]
			if other == s.id || clash {
				continue
			}
			if l.From == s.From {
				clash = true
				r.conflicts = append(r.conflicts, Conflict{Addr: s.Addr, A: other, B: s.id, From: s.From})
			} else if l.Source != r.source && l.From.Before(s.Until) && s.From.Before(l.Until) &&
				r.outranks(l.Source) {
				clash = true
				r.conflicts = append(r.conflicts, Conflict{Addr: s.Addr, A: other, B: s.id, From: s.From,
					Source: l.Source})
			}
		}
	}
	return clash
}

// begin adds a lease, and ends those of others that hold the address then.
func (r *reassigning) begin(s start) {
	for other := range r.claims[s.Addr] {
		if other == s.id {
			continue
		}
		for _, i := range r.at(other, s.Addr) {
			if l := r.leases(other)[i]; l.From.Before(s.From) && s.From.Before(l.Until) {
				r.own(other)[i].Until = s.From
			}
		}
	}
	r.at(s.id, s.Addr)
	r.places[s.id][s.Addr] = append(r.places[s.id][s.Addr], len(r.leases(s.id)))
	r.changed[s.id] = append(r.own(s.id), s.Lease)
	r.claim(s.Addr, s.id)
}

// open reports whether nothing is known of when the lease began and ends.
func open(l Lease) bool { return l.From == Beginning && l.Until == End }
