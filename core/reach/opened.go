package reach

import (
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/service"
)

// Opened is what a change of the policy permits that was not permitted. Pairs are pairs of
// addresses that two different workloads hold now, the client first.
type Opened struct {
	Pairs  int // that get permit on at least one point
	Unseen int // those of Pairs without a conversation in the window on such a point
}

// OpenedBy returns what an update of the policy permits that was not permitted, and how much of
// it was never seen in the window of the view, which is of the state before.
func OpenedBy(v *View, u *decide.Update) (out Opened) {
	x := opening{update: u, known: map[[2]*decide.Table]service.Set{}}
	held, own := x.held()
	opens := map[[2]passage]service.Set{}
	try := func(client, server passage) {
		if points := x.points(client, server); points != nil {
			opens[[2]passage{client, server}] = points
		}
	}
	for _, p := range u.Pairs() {
		if len(p.Verdict) > 0 {
			try(passage{p.Client, p.Client}, passage{p.Server, p.Server})
		}
	}
	for a := range held {
		if a.before == a.after {
			continue // pairs of addresses that stay in their classes are among those above
		}
		for b := range held {
			try(a, b)
			try(b, a)
		}
	}
	callers := map[int32]bool{} // classes before of the clients
	for pair := range opens {
		if n := held[pair[0]]*held[pair[1]] - own[pair]; n > 0 {
			out.Pairs += n
			callers[pair[0].before] = true
		}
	}
	if out.Pairs > 0 {
		out.Unseen = out.Pairs - x.seen(v, opens, callers)
	}
	return out
}

// seen counts the pairs of addresses that open and that have a conversation in the window on
// a point that opens.
func (x *opening) seen(v *View, opens map[[2]passage]service.Set, callers map[int32]bool) int {
	calls := make([]bool, len(v.places)) // most conversations are of places that nothing opens to
	for i, p := range v.places {
		calls[i] = callers[p.Class] && p.Workload != estate.Outside
	}
	seen := map[[2]netip.Addr]bool{}
	for i, place := range v.cols.Client {
		if !calls[place] {
			continue
		}
		client, server := v.Client(i), v.Server(i)
		if server.Workload == estate.Outside || client.Workload == server.Workload {
			continue
		}
		a, b := x.at(client.Addr), x.at(server.Addr)
		if a.holder == client.Workload && b.holder == server.Workload &&
			opens[[2]passage{a.passage, b.passage}].Contains(v.Point(i)) {
			seen[[2]netip.Addr{client.Addr, server.Addr}] = true
		}
	}
	return len(seen)
}

// passage is the classes of an address before and after an update.
type passage struct{ before, after int32 }

// opening works out what an update opens.
type opening struct {
	update *decide.Update
	known  map[[2]*decide.Table]service.Set
}

// at returns the passage of an address, and the workload that holds it now.
func (x *opening) at(addr netip.Addr) (out struct {
	passage
	holder int32
}) {
	before, after := x.update.Before, x.update.After
	now := after.At(addr, after.AsOf)
	out.passage, out.holder = passage{before.At(addr, before.AsOf).Class, now.Class}, now.Workload
	return out
}

// points returns the points that an update opens between two passages; nil: none.
func (x *opening) points(client, server passage) service.Set {
	was := x.update.Before.Table(client.before, server.before)
	is := x.update.After.Table(client.after, server.after)
	key := [2]*decide.Table{was, is}
	points, known := x.known[key]
	if !known {
		// Messages of unknown type are no points, but they are seen.
		points = permitted(x.update.After, is).Minus(permitted(x.update.Before, was))
		if len(points.Real()) == 0 {
			points = nil
		}
		x.known[key] = points
	}
	return points
}

func permitted(c *decide.Compiled, t *decide.Table) (out service.Set) {
	for _, piece := range c.Pieces(t, service.All) {
		if decide.VerdictOf(piece.Rule) == decide.Permit {
			out = out.Union(piece.Points)
		}
	}
	return out
}

// held counts the addresses that workloads hold now, by passage, and the pairs of them that
// one and the same workload holds.
func (x *opening) held() (held map[passage]int, own map[[2]passage]int) {
	held, own = map[passage]int{}, map[[2]passage]int{}
	for i, w := range x.update.After.Estate.All() {
		mine, counted := map[passage]int{}, map[netip.Addr]bool{}
		for _, l := range w.Leases {
			if counted[l.Addr] {
				continue
			}
			counted[l.Addr] = true
			if p := x.at(l.Addr); p.holder == int32(i) {
				mine[p.passage]++
				held[p.passage]++
			}
		}
		for a, n := range mine {
			for b, m := range mine {
				own[[2]passage{a, b}] += n * m
			}
		}
	}
	return held, own
}
