// Package watch gathers what a view shows of how a policy holds: what got through
// although it is rejected, what was dropped although it is permitted, who was turned
// away, and who came for the first time to what is watched. Each such conversation is in
// exactly one matter, and there are few matters.
//
// It must not know of databases, screens or messages. Start reading at Gather.
package watch

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
)

// Version changes when the same view is gathered otherwise than before.
const Version = 6

// Kind is what is the matter.
type Kind string

// The kinds that conversations make.
const (
	Leak     Kind = "leak"     // rejected, and carried all the same
	Choke    Kind = "choke"    // permitted, and dropped all the same
	Held     Kind = "held"     // dropped, and not permitted
	Newcomer Kind = "newcomer" // a caller never seen before, of something watched
	traffic  Kind = "traffic"  // what somebody asks for, whatever became of it; see Asked
)

// Matter is everything of one kind by one who to one what.
type Matter struct {
	Kind Kind
	Who  Side
	What Side
	// Service is what it is on where that is one; else Services are several.
	Service  service.Point
	Services int
	Scan     bool // one client that tries many servers or services
	// Flood is whether there were so many matters at one point, or where none was, that they
	// are one; At is the point.
	Flood bool
	At    string

	Conversations []int32 // of the view, rising
	Clients       int     // endpoints
	Servers       int
	Connections   int64
	First, Last   estate.Instant
	Ruling        reach.Ruling // of the newest of them
}

// Side is one end of a matter: a group, a tag, a machine, or many.
type Side struct {
	Text string `json:"text"`
	Kind string `json:"kind" enum:"group,tags,workload,outside,many"`
	Lack string `json:"lack,omitempty" doc:"A structural tag that is missing"`
}

// Key is the same for what is the same matter at another time.
func (m *Matter) Key() string {
	parts := []string{string(m.Kind), m.Who.Kind, m.Who.Text, m.What.Kind, m.What.Text, m.Who.Lack, m.What.Lack}
	if m.onOne() {
		parts = append(parts, m.Service.String())
	}
	if m.Scan {
		parts = append(parts, "scan")
	}
	if m.Flood {
		parts = append(parts, "flood", m.At)
	}
	return strings.Join(parts, "\x1f")
}

// onOne reports whether a matter is of one service: what is held, or tried by many or at
// many, is of whatever it is tried on.
func (m *Matter) onOne() bool {
	return m.Kind != Held && m.Who.Kind != "many" && m.What.Kind != "many" && !m.Scan
}

// many is how many others, or how many services of them, make a side that is said one by
// one a side of many; and how many a client has to try to be called a scan.
const (
	many  = 5
	scans = 10
)

// floods is up to how many matters of a kind there are at one point: more have one cause,
// such as a point that holds nothing, and nobody reads them one by one.
const floods = 200

// Caller is somebody who reaches something that is watched.
type Caller struct {
	Who, What Side
	Service   service.Point
}

// Watched is the groups that are watched for newcomers, and who reached their members
// before the view.
type Watched struct {
	Groups []string
	Known  func(Caller) bool
}

// Gathered is the matters of a view, who reached what is watched, and how much of what
// there was in each hour.
type Gathered struct {
	Matters []Matter
	Callers map[Caller]estate.Instant // when first
	Hours   map[flow.Hour]*Hour
}

// Has reports whether a part of one of its conversations is what the matter is about: of
// one that leaked for a while, what was dropped at another time is none.
func (m *Matter) Has(p *reach.Portion) bool {
	switch m.Kind {
	case Leak:
		return p.Ruling.Fate == reach.Leak
	case Choke:
		return p.Ruling.Fate == reach.Choke
	case Held:
		return p.Ruling.Turned
	}
	return true
}

// Gather gathers the matters of a view.
func Gather(v *reach.View, watched Watched) Gathered {
	g := newGathering(v)
	out := g.sort(watched)
	g.scanning = g.scanners(slices.Concat(g.of[Leak], g.of[Held]))
	for _, kind := range []Kind{Leak, Choke, Held, Newcomer} {
		out.Matters = append(out.Matters, g.group(kind)...)
	}
	return out
}

func newGathering(v *reach.View) *gathering {
	return &gathering{v: v, of: map[Kind][]int32{}, rulings: map[int32]reach.Ruling{}}
}

// sort puts conversations that are in matters with their kinds, and counts all of them.
func (g *gathering) sort(watched Watched) Gathered {
	v := g.v
	out := Gathered{Callers: map[Caller]estate.Instant{}, Hours: map[flow.Hour]*Hour{}}
	is := g.watches(watched.Groups)
	for k := range v.Len() {
		i := int32(k)
		r := v.Ruling(k)
		g.count(out.Hours, k)
		server := v.Server(k)
		if is(server) {
			c := g.caller(i)
			at, known := out.Callers[c]
			if first := v.At(k).First; !known || first.Before(at) {
				out.Callers[c] = first
			}
		}
		switch {
		case r.Fate == reach.Leak:
			g.take(Leak, i, r)
		case r.Fate == reach.Choke:
			g.take(Choke, i, r)
		case r.Turned:
			g.take(Held, i, r)
		case is(server) && watched.Known != nil && !watched.Known(g.caller(i)):
			g.take(Newcomer, i, r)
		}
	}
	return out
}

// Asked gathers conversations of a view that somebody asks for, by who, to what, and on which
// service.
func Asked(v *reach.View, conversations []int) []Matter {
	g := newGathering(v)
	for _, i := range conversations {
		g.take(traffic, int32(i), v.Ruling(i))
	}
	return g.assemble(traffic, func(i int32) heading {
		c := g.caller(i)
		return heading{who: c.Who, what: c.What, point: c.Service}
	})
}

type gathering struct {
	v        *reach.View
	of       map[Kind][]int32
	rulings  map[int32]reach.Ruling
	scanning map[estate.Endpoint]bool // clients
}

func (g *gathering) take(kind Kind, i int32, r reach.Ruling) {
	g.of[kind] = append(g.of[kind], i)
	g.rulings[i] = r
}

// watches reports whether an endpoint is in one of some groups.
func (g *gathering) watches(groups []string) func(decide.Placed) bool {
	c := g.v.Compiled
	groups = slices.DeleteFunc(slices.Clone(groups), func(name string) bool { return c.Policy.Groups[name] == nil })
	known := map[int32]bool{}
	return func(p decide.Placed) bool {
		in, asked := known[p.Signature()]
		if !asked {
			in = slices.ContainsFunc(groups, func(name string) bool { return c.Group(name, p) == expr.Yes })
			known[p.Signature()] = in
		}
		return in
	}
}

func sideOf(l reach.Label) Side { return Side{l.Text, l.Kind, l.Lack} }

func (g *gathering) caller(i int32) Caller {
	a, b := g.v.Labels(int(i))
	return Caller{sideOf(a), sideOf(b), g.v.Point(int(i))}
}

// machine names an endpoint by itself.
func (g *gathering) machine(p decide.Placed) Side {
	kind := "workload"
	if p.Workload == estate.Outside {
		kind = "outside"
	}
	return Side{Text: g.v.Name(p), Kind: kind}
}

// heading is what conversations of one kind are gathered under.
type heading struct {
	who, what Side
	point     service.Point
	scan      bool
	flood     bool
	at        string // of a flood: the point
}

// group makes the matters of a kind.
func (g *gathering) group(kind Kind) []Matter {
	under := map[int32]heading{}
	for _, i := range g.of[kind] {
		under[i] = g.heading(kind, i)
	}
	// Whoever tries many, and what many try, is one.
	whats, whos := map[Side]map[heading]bool{}, map[Side]map[heading]bool{}
	note := func(m map[Side]map[heading]bool, of Side, other heading) {
		if m[of] == nil {
			m[of] = map[heading]bool{}
		}
		m[of][other] = true
	}
	for _, h := range under {
		if !h.scan {
			note(whats, h.who, heading{what: h.what, point: h.point})
		}
	}
	for i, h := range under {
		if !h.scan && len(whats[h.who]) >= many {
			h.what, h.point = Side{Kind: "many"}, 0
			under[i] = h
		} else if !h.scan {
			note(whos, h.what, heading{who: h.who})
		}
	}
	for i, h := range under {
		if !h.scan && h.what.Kind != "many" && len(whos[h.what]) >= many {
			h.who, h.point = Side{Kind: "many"}, 0
			under[i] = h
		}
	}
	// What comes from everywhere outside, and tries everything, is one.
	outside := map[Side]bool{}
	noise := func(h heading) bool { return !h.scan && h.who.Kind == "outside" && h.what.Kind == "many" }
	for _, h := range under {
		if noise(h) {
			outside[h.who] = true
		}
	}
	for i, h := range under {
		if noise(h) && len(outside) >= many {
			h.who = Side{Kind: "many"}
			under[i] = h
		}
	}
	g.fold(under)
	return g.assemble(kind, func(i int32) heading { return under[i] })
}

// fold puts what a flood would make at a point under one heading.
func (g *gathering) fold(under map[int32]heading) {
	if len(under) <= floods {
		return
	}
	at := map[string]map[heading]bool{}
	for i, h := range under {
		p := g.point(i)
		if at[p] == nil {
			at[p] = map[heading]bool{}
		}
		at[p][h] = true
	}
	for i, h := range under {
		if p := g.point(i); len(at[p]) > floods && !h.scan {
			under[i] = heading{who: Side{Kind: "many"}, what: Side{Kind: "many"}, flood: true, at: p}
		}
	}
}

// point names the point whose release judged a conversation; blank: none did.
func (g *gathering) point(i int32) string {
	if h := g.rulings[i].Holder; h != nil {
		return h.Name
	}
	return ""
}

// assemble makes the matters of a kind, by what each conversation is gathered under.
func (g *gathering) assemble(kind Kind, under func(i int32) heading) []Matter {
	at := map[heading]int{}
	var out []Matter
	ends := []counting{}
	for _, i := range g.of[kind] { // in their order
		h := under(i)
		n, known := at[h]
		if !known {
			n = len(out)
			at[h] = n
			out = append(out, Matter{Kind: kind, Who: h.who, What: h.what, Scan: h.scan, Flood: h.flood, At: h.at})
			ends = append(ends, counting{map[decide.Placed]bool{}, map[decide.Placed]bool{}, map[service.Point]bool{}})
		}
		g.add(&out[n], &ends[n], i)
	}
	for n := range out {
		m := &out[n]
		m.Clients, m.Servers, m.Services = len(ends[n].clients), len(ends[n].servers), len(ends[n].points)
		if m.Services == 1 {
			for m.Service = range ends[n].points {
			}
		}
	}
	slices.SortFunc(out, func(a, b Matter) int {
		return cmp.Or(b.Last.Compare(a.Last), strings.Compare(a.Key(), b.Key()))
	})
	return out
}

type counting struct {
	clients, servers map[decide.Placed]bool
	points           map[service.Point]bool
}

func (g *gathering) add(m *Matter, n *counting, i int32) {
	c := g.v.At(int(i))
	m.Conversations = append(m.Conversations, i)
	first, last := c.First, c.Last
	found := false // of what the matter is about: the rest of the conversation is no part of it
	g.v.EachPortion(int(i), func(p *reach.Portion) {
		if !m.Has(p) {
			return
		}
		m.Connections = flow.Sum(m.Connections, p.Connections)
		from, to := p.First.Instant(), p.Last.Instant()
		if !found || from.Before(first) {
			first = from
		}
		if !found || last.Before(to) {
			last = to
		}
		found = true
	})
	n.clients[c.Client], n.servers[c.Server], n.points[c.Point] = true, true, true
	if len(m.Conversations) == 1 || first.Before(m.First) {
		m.First = first
	}
	if len(m.Conversations) == 1 || m.Last.Before(last) {
		m.Last, m.Ruling = last, g.rulings[i]
	}
}

// heading reports what a conversation is gathered under, before many become one.
func (g *gathering) heading(kind Kind, i int32) heading {
	c := g.caller(i)
	client := g.v.Client(int(i))
	if (kind == Leak || kind == Held) && g.scanning[client.Endpoint] {
		return heading{who: g.machine(client), what: Side{Kind: "many"}, scan: true}
	}
	h := heading{who: c.Who, what: c.What, point: c.Service}
	if kind == Held {
		h.point = 0
		if a, b, ok := g.kept(i); ok {
			h.who, h.what = a, b
		}
	}
	return h
}

// kept returns the two groups that a separation, by which a conversation is rejected, keeps
// apart.
func (g *gathering) kept(i int32) (client, server Side, ok bool) {
	r := g.rulings[i].Rule
	if r == nil || r.Action != policy.Apart {
		return client, server, false
	}
	find := func(p decide.Placed) (Side, bool) {
		for _, ref := range r.Groups {
			if g.v.Compiled.Policy.Groups[ref.Name] != nil && g.v.Compiled.Group(ref.Name, p) == expr.Yes {
				return Side{Text: ref.Name, Kind: "group"}, true
			}
		}
		return Side{}, false
	}
	client, one := find(g.v.Client(int(i)))
	server, other := find(g.v.Server(int(i)))
	return client, server, one && other && client != server
}

// scanners returns the clients that try many servers, or many services.
func (g *gathering) scanners(conversations []int32) map[estate.Endpoint]bool {
	type target struct {
		server estate.Endpoint
		point  service.Point
	}
	tried := map[estate.Endpoint]map[target]bool{}
	for _, i := range conversations {
		client := g.v.Client(int(i)).Endpoint
		if tried[client] == nil {
			tried[client] = map[target]bool{}
		}
		tried[client][target{g.v.Server(int(i)).Endpoint, g.v.Point(int(i))}] = true
	}
	out := map[estate.Endpoint]bool{}
	for client, targets := range tried {
		out[client] = len(targets) >= scans
	}
	return out
}
