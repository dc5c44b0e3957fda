package derive

// Which points are one service: ranges of ports that are used by turns.

import (
	"cmp"
	"slices"

	"lucidorchard/core/service"
)

// The port from which on systems take them by turns for one use each.
const firstDynamic = 49152

// servedBy is who serves ports to whom: machines that belong together.
type servedBy struct {
	client, server int32 // their tags
	outside        int32 // the outside machine that serves; -1: none
	proto          uint8
}

// findServices numbers the services. Many ports that one kind of machine serves to
// another, each to few, are one range.
func (d *deriver) findServices() {
	ports := map[servedBy]map[uint32]int{} // port → conversations
	key := func(k kind) servedBy { return servedBy{k.client, k.server, k.outside, k.point.Proto()} }
	ported := func(p service.Point) bool { return p.Proto() == service.TCP || p.Proto() == service.UDP }
	counts := make([]int, len(d.kinds)) // conversations
	for i := range d.ends {
		if !d.scanned[i] && d.in.Conversations[i].Connections > 0 {
			counts[d.kindOf[i]]++
		}
	}
	for n, x := range d.kinds {
		if counts[n] == 0 || !ported(x.point) || x.point.Port() < 1024 {
			continue
		}
		k := key(x)
		if ports[k] == nil {
			ports[k] = map[uint32]int{}
		}
		ports[k][x.point.Port()] += counts[n]
	}
	// What one kind of client shows of a server's range, all of its clients use; and
	// a client that uses a range with many kinds of servers shows it with all together.
	type end struct {
		tags    int32
		outside int32
		proto   uint8
		client  bool
	}
	pooled := map[end]map[uint32]int{}
	byEnd := map[end][]service.Range{}
	put := func(e end, proto uint8, rs [][2]uint32) {
		for _, r := range rs {
			byEnd[e] = append(byEnd[e], service.Range{Lo: service.PointOf(proto, r[0]),
				Hi: service.PointOf(proto, r[1])})
		}
	}
	for k, seen := range ports {
		put(end{k.server, k.outside, k.proto, false}, k.proto, rangesOf(seen))
		e := end{k.client, -1, k.proto, true}
		if pooled[e] == nil {
			pooled[e] = map[uint32]int{}
		}
		for p, n := range seen {
			pooled[e][p] += n
		}
	}
	for e, seen := range pooled {
		put(e, e.proto, densest(rangesOf(seen)))
	}
	for e, rs := range byEnd {
		byEnd[e] = merged(rs)
	}
	ranges := map[servedBy][]service.Range{}
	for k := range ports {
		ranges[k] = merged(slices.Concat(byEnd[end{k.server, k.outside, k.proto, false}],
			byEnd[end{k.client, -1, k.proto, true}]))
	}
	index := map[service.Range]int32{}
	of := make([]int32, len(d.kinds)) // the service of a kind: kinds are in the order in which they were seen
	for n, x := range d.kinds {
		p := x.point
		r := service.Range{Lo: p, Hi: p}
		if ported(p) && p.Port() >= 1024 {
			for _, x := range ranges[key(x)] {
				if x.Lo <= p && p <= x.Hi {
					r = x
					break
				}
			}
		}
		if of[n] = numbered(index, r); int(of[n]) == len(d.points) {
			d.points = append(d.points, r)
		}
	}
	for i, k := range d.kindOf {
		d.svcOf[i] = of[k]
	}
	d.kinds, d.kindOf = nil, nil // nobody asks for them from here on
}

// densest keeps the short ranges: over many servers, long ones come about by chance.
func densest(rs [][2]uint32) [][2]uint32 {
	return slices.DeleteFunc(rs, func(r [2]uint32) bool { return r[1]-r[0] > 31 })
}

// merged joins ranges that touch.
func merged(rs []service.Range) []service.Range {
	slices.SortFunc(rs, func(a, b service.Range) int { return cmp.Compare(a.Lo, b.Lo) })
	var out []service.Range
	for _, r := range rs {
		if n := len(out); n > 0 && r.Lo <= out[n-1].Hi+1 {
			out[n-1].Hi = max(out[n-1].Hi, r.Hi)
			continue
		}
		out = append(out, r)
	}
	return out
}

// rangesOf finds the ranges among ports with their number of conversations:
// first and last port, the edges rounded as people would.
func rangesOf(seen map[uint32]int) (out [][2]uint32) {
	var ports []uint32
	for p := range seen {
		ports = append(ports, p)
	}
	slices.Sort(ports)
	all := 0
	for _, n := range seen {
		all += n
	}
	// A port with a good part of the traffic is a service of its own.
	ports = slices.DeleteFunc(ports, func(p uint32) bool {
		return len(ports) > 3 && p < firstDynamic &&
			seen[p]*4 > all
	})
	// First what lies close together, then what is strewn over a long stretch.
	cut := func(ports []uint32, far uint32, take func(part []uint32) bool) (rest []uint32) {
		for from := 0; from < len(ports); {
			to := from + 1
			dynamic := ports[from] >= firstDynamic // these are one, however far apart
			for to < len(ports) && (dynamic || ports[to]-ports[to-1] <= far && ports[to] < firstDynamic) {
				to++
			}
			if part := ports[from:to]; !take(part) {
				rest = append(rest, part...)
			}
			from = to
		}
		return rest
	}
	once := func(part []uint32) bool {
		return !slices.ContainsFunc(part, func(p uint32) bool { return seen[p] > 2 })
	}
	rest := cut(ports, 12, func(part []uint32) bool {
		if len(part) < 4 {
			return false
		}
		out = append(out, rounded(part[0], part[len(part)-1]))
		return true
	})
	cut(rest, 4000, func(part []uint32) bool {
		switch lo := part[0]; {
		case lo >= firstDynamic && len(part) >= 2:
			out = append(out, [2]uint32{firstDynamic, 65535})
		case len(part) >= 8, len(part) >= 5 && part[len(part)-1]-lo <= 1000 && once(part):
			out = append(out, rounded(lo, part[len(part)-1]))
		}
		return true
	})
	return out
}

// rounded widens a range to edges that people would give it.
func rounded(lo, hi uint32) [2]uint32 {
	if lo >= firstDynamic {
		return [2]uint32{firstDynamic, 65535}
	}
	best := [2]uint32{lo, hi}
	for _, step := range []uint32{10, 100, 1000} {
		a, b := lo/step*step, (hi/step+1)*step-1
		if b > 65535 || b-a+1 > 5*(hi-lo+1)/2 || a < 1024 {
			break
		}
		best = [2]uint32{a, b}
	}
	return best
}
