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

// Reassign gives the leases of every workload that a listing changes. have has the
// leases of the workloads listed, and of all that claim one of their addresses.
//
// A lease that goes on stays as it is. One of this source that is no longer
// listed ends now. One without start and end is from always if nobody else has ever
// claimed the address, else from now. Who held the address before ends where the
// new lease begins. A lease that begins when another workload's does is left out,
// and is a conflict; so is one of an address that a source which outranks this
// one gives to another workload then. The same listing again changes nothing.
func Reassign(have map[string][]Lease, listing []Listed, source string, now Instant,
	outranks func(source string) bool) (changed map[string][]Lease, conflicts []Conflict) {
	claims := map[netip.Addr]map[string]bool{} // who has ever claimed an address
	claim := func(addr netip.Addr, id string) {
		if claims[addr] == nil {
			claims[addr] = map[string]bool{}
		}
		claims[addr][id] = true
	}
	before := map[netip.Addr]map[string]bool{} // those who claimed it before this listing
	for id, ls := range have {
		for _, l := range ls {
			claim(l.Addr, id)
		}
	}
	for addr, ids := range claims {
		before[addr] = maps.Clone(ids)
	}
	changed = map[string][]Lease{}
	leases := func(id string) []Lease {
		if ls, ok := changed[id]; ok {
			return ls
		}
		return have[id]
	}
	// own gives the leases of a workload in a slice that is not have's.
	own := func(id string) []Lease {
		if _, ok := changed[id]; !ok {
			changed[id] = slices.Clone(have[id])
		}
		return changed[id]
	}
	// byAddr finds the leases of a workload by their address, as places in leases.
	places := map[string]map[netip.Addr][]int{}
	at := func(id string, addr netip.Addr) []int {
		m, ok := places[id]
		if !ok {
			m = map[netip.Addr][]int{}
			for i, l := range leases(id) {
				m[l.Addr] = append(m[l.Addr], i)
			}
			places[id] = m
		}
		return m[addr]
	}
	// What ends, first: an address that goes from one to the other in the same
	// listing is free then.
	type start struct {
		id string
		Lease
	}
	var starts []start
	for _, w := range listing {
		was := leases(w.ID)
		is, kept := slices.Clone(was), make([]bool, len(was))
		byAddr := make(map[netip.Addr][]int, len(was))
		for i, l := range was {
			byAddr[l.Addr] = append(byAddr[l.Addr], i)
		}
		for _, g := range w.Leases {
			g.Source = source
			held := byAddr[g.Addr]
			k := slices.IndexFunc(held, func(i int) bool {
				return open(g) && was[i].Covers(now) || !open(g) &&
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
			if !kept[k] && is[k].Source == source && now.Before(is[k].Until) {
				is[k].Until = now
			}
		}
		is = slices.DeleteFunc(is, Lease.Empty)
		if !slices.Equal(is, was) {
			changed[w.ID] = is
		}
	}
	for _, s := range starts {
		if open(s.Lease) {
			for id := range before[s.Addr] {
				if id != s.id || len(at(id, s.Addr)) > 0 {
					s.From = now
				}
			}
		}
		if s.Empty() {
			continue
		}
		clash := false
		for other := range claims[s.Addr] {
			for _, i := range at(other, s.Addr) {
				l := leases(other)[i]
				if other == s.id || clash {
					continue
				}
				if l.From == s.From {
					clash = true
					conflicts = append(conflicts, Conflict{Addr: s.Addr, A: other, B: s.id, From: s.From})
				} else if l.Source != source && l.From.Before(s.Until) && s.From.Before(l.Until) &&
					outranks(l.Source) {
					clash = true
					conflicts = append(conflicts, Conflict{Addr: s.Addr, A: other, B: s.id, From: s.From,
						Source: l.Source})
				}
			}
		}
		if clash {
			continue
		}
		for other := range claims[s.Addr] {
			if other == s.id {
				continue
			}
			for _, i := range at(other, s.Addr) {
				if l := leases(other)[i]; l.From.Before(s.From) && s.From.Before(l.Until) {
					own(other)[i].Until = s.From
				}
			}
		}
		at(s.id, s.Addr)
		places[s.id][s.Addr] = append(places[s.id][s.Addr], len(leases(s.id)))
		changed[s.id] = append(own(s.id), s.Lease)
		claim(s.Addr, s.id)
	}
	slices.SortFunc(conflicts, func(a, b Conflict) int { return a.Addr.Compare(b.Addr) })
	return changed, conflicts
}

// open reports whether nothing is known of when the lease began and ends.
func open(l Lease) bool { return l.From == Beginning && l.Until == End }
