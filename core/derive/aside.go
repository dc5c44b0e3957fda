package derive

// What a person should not be asked to bless.

import (
	"cmp"
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/service"
)

// clean sets aside what should not be proposed and gathers the rest in patterns.
func (d *deriver) clean() []Aside {
	scans := d.scans()
	aside := map[Reason][]int{}
	byPair := make([]*pattern, d.pairs)
	var order []int32
	for _, i := range d.open {
		c := &d.in.Conversations[i]
		if scans[i] {
			aside[Scan] = append(aside[Scan], i)
			continue
		}
		client, server := d.ends[i][0], d.ends[i][1]
		k := d.pairOf[i]
		p := byPair[k]
		if p == nil {
			p = &pattern{client: client, server: server, points: service.Range{Lo: c.Point, Hi: c.Point}}
			byPair[k] = p
			order = append(order, k)
		}
		p.conversations = append(p.conversations, i)
		p.connections += c.Connections
		p.days |= c.Days
		p.members[0], p.members[1] = append(p.members[0], d.member(c.Client)),
			append(p.members[1], d.member(c.Server))
	}
	for _, k := range order {
		d.patterns = append(d.patterns, byPair[k])
	}
	const together = 64
	decide.Parallel(4, (len(d.patterns)+together-1)/together, func(_, part int) {
		for _, p := range d.patterns[part*together : min(len(d.patterns), (part+1)*together)] {
			p.clients, p.servers = tally(p.members[0]), tally(p.members[1])
			p.members = [2][]int32{}
		}
	})
	d.dynamicPorts()
	d.patterns = slices.DeleteFunc(d.patterns, func(p *pattern) bool {
		why := d.doubt(p)
		if why != "" {
			aside[why] = append(aside[why], p.conversations...)
			if why == Admin {
				d.doubtful = append(d.doubtful, p)
			}
		}
		return why != ""
	})
	slices.SortFunc(d.patterns, func(a, b *pattern) int {
		return cmp.Or(cmp.Compare(a.server.key, b.server.key), cmp.Compare(a.client.key, b.client.key),
			cmp.Compare(a.points.Lo, b.points.Lo))
	})
	var out []Aside
	for _, why := range []Reason{Scan, OneOff, Crossing, Unplaced, Admin} {
		if is := aside[why]; len(is) > 0 {
			slices.Sort(is)
			out = append(out, Aside{why, is})
		}
	}
	return out
}

// tally counts how often each number occurs.
func tally(all []int32) map[int32]int {
	slices.Sort(all)
	distinct := 0
	for i := range all {
		if i == 0 || all[i] != all[i-1] {
			distinct++
		}
	}
	out := make(map[int32]int, distinct)
	for from := 0; from < len(all); {
		to := from
		for to < len(all) && all[to] == all[from] {
			to++
		}
		out[all[from]] = to - from
		from = to
	}
	return out
}

// scans finds conversations of clients that try far more servers, once or
// twice each, than other clients of their role do.
func (d *deriver) scans() map[int]bool {
	type attempt struct {
		tries   int // conversations: server and service
		servers map[netip.Addr]bool
	}
	// Two clients of a role that do the same are enough to call it usual.
	type firstTwo struct {
		known, two bool
		client     int32
	}
	others := make([]firstTwo, d.pairs)
	for i := range d.in.Conversations {
		m := d.member(d.in.Conversations[i].Client)
		if have := &others[d.pairOf[i]]; !have.known {
			have.known, have.client = true, m
		} else if have.client != m {
			have.two = true
		}
	}
	stray := func(i int) bool {
		c := &d.in.Conversations[i]
		return c.Connections+c.Dropped <= 2 && c.Days.Count() <= 1 && !others[d.pairOf[i]].two
	}
	clients := map[int32]*attempt{}
	for i := range d.in.Conversations {
		if !stray(i) {
			continue
		}
		m := d.member(d.in.Conversations[i].Client)
		a := clients[m]
		if a == nil {
			a = &attempt{servers: map[netip.Addr]bool{}}
			clients[m] = a
		}
		a.servers[d.in.Conversations[i].Server.Addr] = true
		a.tries++
	}
	out := map[int]bool{}
	for _, i := range d.open {
		if a := clients[d.member(d.in.Conversations[i].Client)]; a != nil &&
			(len(a.servers) >= 12 || a.tries >= 20) && stray(i) {
			out[i] = true
		}
	}
	return out
}

// doubt gives the reason for which a pattern is not proposed, or "".
func (d *deriver) doubt(p *pattern) Reason {
	if p.connections <= 2 {
		return OneOff
	}
	if d.days >= 5 && p.days.Count() == 1 && len(p.conversations) == 1 && p.connections <= 5 {
		return OneOff
	}
	point := p.points.Lo
	sharedClient, sharedServer := d.shared(p.client, true, point), d.shared(p.server, false, point)
	if d.environments > 1 && (!p.client.outside && p.client.env == "" || !p.server.outside && p.server.env == "") &&
		!sharedClient && !sharedServer {
		return Unplaced
	}
	if p.client.env != "" && p.server.env != "" && p.client.env != p.server.env && !sharedClient && !sharedServer {
		return Crossing
	}
	if service.Administration.Contains(point) && !d.administers(p.client, point) {
		return Admin
	}
	return ""
}

// administers reports whether a role is one from which others are administered:
// it reaches three other applications on the service, and hardly anybody
// reaches it in turn.
func (d *deriver) administers(r *role, p service.Point) bool {
	return d.shared(r, true, p) && len(d.usual[usualKey{r.id, false, p}]) <= 1
}

// dynamicPorts joins the many high ports that one role serves to another into
// one range.
func (d *deriver) dynamicPorts() {
	type key struct {
		client, server string
		proto          uint8
	}
	const many, high = 12, 1024
	byPair := map[key][]*pattern{}
	for _, p := range d.patterns {
		if proto := p.points.Lo.Proto(); (proto == service.TCP || proto == service.UDP) &&
			p.points.Lo.Port() >= high {
			k := key{p.client.key, p.server.key, proto}
			byPair[k] = append(byPair[k], p)
		}
	}
	gone := map[*pattern]bool{}
	for _, ps := range byPair {
		if len(ps) < many {
			continue
		}
		first := ps[0]
		for _, p := range ps[1:] {
			gone[p] = true
			first.points.Lo, first.points.Hi = min(first.points.Lo, p.points.Lo), max(first.points.Hi, p.points.Hi)
			first.conversations = append(first.conversations, p.conversations...)
			first.connections += p.connections
			first.days |= p.days
			for m, n := range p.clients {
				first.clients[m] += n
			}
			for m, n := range p.servers {
				first.servers[m] += n
			}
		}
		slices.Sort(first.conversations)
	}
	d.patterns = slices.DeleteFunc(d.patterns, func(p *pattern) bool { return gone[p] })
}
