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

// Relet gives the leases of every workload that a listing changes. have has the
// leases of the workloads listed, and of all that claim one of their addresses.
//
// A lease that goes on stays as it is. One of this source that is no longer
// listed ends now. One without start and end is from always if nobody else has ever
// claimed the address, else from now. Who held the address before ends where the
// new lease begins. A lease that begins when another workload's does is left out,
// and is a conflict. The same listing again changes nothing.
func Relet(have map[string][]Lease, listing []Listed, source string, now Instant) (changed map[string][]Lease, conflicts []Conflict) {
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
		for _, g := range w.Leases {
			g.Source = source
			k := slices.IndexFunc(was, func(l Lease) bool {
				return l.Addr == g.Addr && (open(g) && l.Covers(now) || !open(g) && l.From == g.From)
			})
			if k < 0 {
				starts = append(starts, start{w.ID, g})
				continue
			}
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
		if open(s.Lease) && slices.ContainsFunc(slices.Collect(maps.Keys(before[s.Addr])), func(id string) bool { return id != s.id || len(leases(id)) > 0 && holds(leases(id), s.Addr) }) {
			s.From = now
		}
		if s.Empty() {
			continue
		}
		clash := false
		for other := range claims[s.Addr] {
			for _, l := range leases(other) {
				if other != s.id && l.Addr == s.Addr && l.From == s.From {
					clash = true
					conflicts = append(conflicts, Conflict{s.Addr, other, s.id, s.From})
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
			ls := slices.Clone(leases(other))
			for k := range ls {
				if l := &ls[k]; l.Addr == s.Addr && l.From.Before(s.From) && s.From.Before(l.Until) {
					l.Until = s.From
				}
			}
			if !slices.Equal(ls, leases(other)) {
				changed[other] = ls
			}
		}
		changed[s.id] = append(slices.Clone(leases(s.id)), s.Lease)
		claim(s.Addr, s.id)
	}
	slices.SortFunc(conflicts, func(a, b Conflict) int { return a.Addr.Compare(b.Addr) })
	return changed, conflicts
}

func holds(ls []Lease, addr netip.Addr) bool {
	return slices.ContainsFunc(ls, func(l Lease) bool { return l.Addr == addr })
}

// open reports whether nothing is known of when the lease began and ends.
func open(l Lease) bool { return l.From == Beginning && l.Until == End }
