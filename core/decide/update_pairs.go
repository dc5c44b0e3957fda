package decide

// What an update changes: who moved, and which pairs of classes decide otherwise.

import (
	"net/netip"
	"slices"
	"sort"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// moved compares addresses before and after, over all spans of their leases.
func (u *Update) moved(addrs []netip.Addr) {
	slices.SortFunc(addrs, netip.Addr.Compare)
	for _, addr := range slices.Compact(addrs) {
		cuts := []estate.Instant{estate.Beginning}
		for _, e := range []*estate.Estate{u.Before.Estate, u.After.Estate} {
			for _, c := range e.Claims(addr) {
				cuts = append(cuts, c.From, c.Until)
			}
		}
		sort.Slice(cuts, func(i, j int) bool { return cuts[i].Before(cuts[j]) })
		cuts = append(slices.Compact(cuts), estate.End)
		first := len(u.Moved)
		for i, from := range cuts[:len(cuts)-1] {
			if until := cuts[i+1]; from.Before(until) {
				before, after := u.Before.At(addr, from), u.After.At(addr, from)
				if before.Workload == after.Workload && u.stays(before.place(), after.place()) {
					continue
				}
				if n := len(u.Moved); n > first && u.Moved[n-1].Until == from && u.Moved[n-1].Before == before &&
					u.Moved[n-1].After == after {
					u.Moved[n-1].Until = until
					continue
				}
				u.Moved = append(u.Moved, Moved{Where: netip.PrefixFrom(addr, addr.BitLen()), From: from,
					Until: until, Before: before, After: after})
			}
		}
	}
}

// stays reports whether two places are alike.
func (u *Update) stays(was, is place) bool {
	if was.class != is.class {
		return false
	}
	if u.Before.membership == u.After.membership {
		return was.signature == is.signature
	}
	key := [2]int32{was.signature, is.signature}
	same, known := u.alike[key]
	if !known {
		same = u.sameGroups(was.signature, is.signature)
		if u.alike == nil {
			u.alike = map[[2]int32]bool{}
		}
		u.alike[key] = same
	}
	return same
}

// sameGroups reports whether two signatures say the same of every group.
func (u *Update) sameGroups(before, after int32) bool {
	a, b := u.Before.membership, u.After.membership
	x, y := a.truths.all()[before], b.truths.all()[after]
	for i, g := range b.order {
		was := expr.No
		if j, ok := a.index[g.Name]; ok {
			was = x[j]
		}
		if was != y[i] {
			return false
		}
	}
	for i, g := range a.order {
		if _, ok := b.index[g.Name]; !ok && x[i] != expr.No {
			return false
		}
	}
	return true
}

// outside compares the regions; fresh are those that are new.
func (u *Update) outside(fresh []int) {
	for i := range u.After.regions {
		r := &u.After.regions[i]
		addr, ok := divider{u.After}.firstIn(i, func(netip.Addr) bool { return true })
		if !ok {
			continue
		}
		of := func(c *Compiled) Placed {
			p := c.regions[divider{c}.regionOf(addr)].place
			return Placed{estate.Endpoint{Addr: addr, Workload: estate.Outside}, p.class, p.signature}
		}
		if before, after := of(u.Before), of(u.After); !u.stays(before.place(), after.place()) {
			u.Moved = append(u.Moved, Moved{Where: r.prefix, Outside: true, From: estate.Beginning, Until: estate.End,
				Before: before, After: after})
		}
	}
}

// follow finds the rules of before among those of after: the longest list of
// rules that match the same flows and stand in the same order.
func (u *Update) follow() {
	old, now := u.Before.rules, u.After.rules
	places := map[string][]int32{}
	name := func(r *policy.Rule) string {
		bare := *r
		bare.Note = ""
		return bare.Layer.Name + "\n" + bare.String()
	}
	for i, r := range u.Before.Policy.Rules {
		n := name(r)
		places[n] = append(places[n], int32(i))
	}
	u.Rules = make([]int32, len(old.rules))
	for i := range u.Rules {
		u.Rules[i] = -1
	}
	// Patience: the least end of a rising list of each length.
	type link struct{ old, now, back int }
	var links []link
	var ends []int
	for j, r := range u.After.Policy.Rules {
		n := name(r)
		if len(places[n]) == 0 {
			continue
		}
		i := int(places[n][0])
		places[n] = places[n][1:]
		if !old.rules[i].equal(&now.rules[j]) {
			continue
		}
		k := sort.Search(len(ends), func(k int) bool { return links[ends[k]].old > i })
		l := link{i, j, -1}
		if k > 0 {
			l.back = ends[k-1]
		}
		links = append(links, l)
		if k == len(ends) {
			ends = append(ends, 0)
		}
		ends[k] = len(links) - 1
	}
	kept := make([]bool, len(now.rules))
	if len(ends) > 0 {
		for k := ends[len(ends)-1]; k >= 0; k = links[k].back {
			u.Rules[links[k].old] = int32(links[k].now)
			kept[links[k].now] = true
		}
	}
	for j, k := range kept {
		if !k {
			u.fresh = append(u.fresh, int32(j))
		}
	}
}

// gone returns the rules before that are no rule afterwards.
func (u *Update) gone() []int32 {
	var out []int32
	for i, now := range u.Rules {
		if now < 0 {
			out = append(out, int32(i))
		}
	}
	return out
}

// Pairs returns the pairs of classes with endpoints for which some points get
// another answer. An endpoint whose class changed is in Moved: it gets the
// answers of its new class.
func (u *Update) Pairs() []PairChange {
	gone := u.gone()
	if len(gone) == 0 && len(u.fresh) == 0 {
		return nil
	}
	var classes []int32
	u.After.inUse().each(func(c int32) { classes = append(classes, c) })
	// For each client, the servers that a rule which changed can match with.
	wanted := map[int32]bitset{}
	for _, side := range []struct {
		rules *rules
		which []int32
	}{{u.Before.rules, gone}, {u.After.rules, u.fresh}} {
		for _, r := range side.which {
			servers := newBitset(u.After.Classes())
			for _, s := range classes {
				if side.rules.row(s).server.has(r) {
					servers.set(s)
				}
			}
			for _, c := range classes {
				if !side.rules.row(c).client.has(r) {
					continue
				}
				if wanted[c] == nil {
					wanted[c] = newBitset(u.After.Classes())
				}
				wanted[c].unite(servers)
			}
		}
	}
	type tables struct{ before, after *Table }
	type answer struct{ verdict, rule service.Set }
	known := map[tables]answer{}
	var out []PairChange
	for _, c := range classes {
		wanted[c].each(func(s int32) {
			if !u.Before.rules.touches(gone, c, s) && !u.After.rules.touches(u.fresh, c, s) {
				return
			}
			t := tables{u.Before.rules.table(c, s), u.After.rules.table(c, s)}
			a, ok := known[t]
			if !ok {
				a.verdict, a.rule = u.differ(t.before, t.after)
				known[t] = a
			}
			if len(a.rule) > 0 {
				out = append(out, PairChange{c, s, a.verdict, a.rule})
			}
		})
	}
	return out
}

// differ returns the points for which two tables have another verdict, and those
// for which they have another rule.
func (u *Update) differ(before, after *Table) (verdict, rule service.Set) {
	end := service.All[0].Hi
	i, j := 0, 0
	for i < len(before.from) && j < len(after.from) {
		lo := max(before.from[i], after.from[j])
		nextI, nextJ := end, end
		if i+1 < len(before.from) {
			nextI = before.from[i+1] - 1
		}
		if j+1 < len(after.from) {
			nextJ = after.from[j+1] - 1
		}
		hi := min(nextI, nextJ)
		was, is := before.rule[i], after.rule[j]
		if was >= 0 && (u.Rules[was] < 0 || u.Rules[was] != is) || was < 0 && is >= 0 {
			rule = join(rule, lo, hi)
			if u.Before.verdict(was) != u.After.verdict(is) {
				verdict = join(verdict, lo, hi)
			}
		}
		if nextI <= nextJ {
			i++
		}
		if nextJ <= nextI {
			j++
		}
	}
	return verdict, rule
}

func join(s service.Set, lo, hi service.Point) service.Set {
	if n := len(s); n > 0 && s[n-1].Hi+1 == lo {
		s[n-1].Hi = hi
		return s
	}
	return append(s, service.Range{Lo: lo, Hi: hi})
}

// verdict returns the verdict of a rule by its index, -1 for none.
func (c *Compiled) verdict(rule int32) Verdict {
	if rule < 0 {
		return Uncovered
	}
	return VerdictOf(c.Policy.Rules[rule])
}
