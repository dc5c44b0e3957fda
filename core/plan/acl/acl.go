// Package acl renders a plan as access control lists of RFC 8519, in the JSON of
// RFC 7951: one list for each address family, whose entries decide in their order.
package acl

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
)

// Document is what is rendered.
type Document struct {
	Lists lists `json:"ietf-access-control-list:acls"`
}

// lists is the container of all lists.
type lists struct {
	ACL []list `json:"acl"`
}

// list is one access control list.
type list struct {
	Name string `json:"name"`
	Type string `json:"type"`
	ACEs struct {
		ACE []Entry `json:"ace"`
	} `json:"aces"`
}

// Entry decides packets that no entry before it does.
type Entry struct {
	Name    string            `json:"name"`
	Matches map[string]match  `json:"matches"`
	Actions map[string]string `json:"actions"`
}

// match is the conditions on one header.
type match map[string]any

// Notes is what has to be known of every such list.
var Notes = []string{"the lists keep no state: the device has to let answers, and errors that belong to conversations, pass by itself"}

// Of renders a plan, and returns what this plan needs and such lists cannot say.
func Of(p *plan.Plan) (Document, []string) {
	var out Document
	warnings := []string{}
	cannot := map[int]string{} // by line
	for _, six := range []bool{false, true} {
		l := list{Name: "lucid-orchard-ipv4", Type: "ietf-access-control-list:ipv4-acl-type"}
		if six {
			l = list{Name: "lucid-orchard-ipv6", Type: "ietf-access-control-list:ipv6-acl-type"}
		}
		l.ACEs.ACE = []Entry{}
		// Where both ends are guarded the server's decide: its last entry lets nothing through to those of clients.
		if p.Side != plan.Client {
			for i := range p.Classes {
				l.side(p, &p.Classes[i], six, true, cannot)
			}
		}
		if p.Side != plan.Server {
			for i := range p.Classes {
				l.side(p, &p.Classes[i], six, false, cannot)
			}
		}
		l.add("others", match{}, nil, six, "accept", false)
		out.Lists.ACL = append(out.Lists.ACL, l)
	}
	for _, line := range slices.Sorted(maps.Keys(cannot)) {
		warnings = append(warnings, fmt.Sprintf("line %d %s", line, cannot[line]))
	}
	return out, warnings
}

func (l *list) side(p *plan.Plan, c *plan.Class, six, server bool, cannot map[int]string) {
	own := prefixes(c.Addresses, six)
	rules := c.Client
	if server {
		rules = c.Server
	}
	for i := range rules {
		r := &rules[i]
		ons, sctp := services(r.Points)
		if r.Until != 0 {
			cannot[r.Line] = "ends one day; the lists hold it until they are rendered again"
		}
		if sctp {
			cannot[r.Line] = "is on ports of sctp, for which the lists have no words: it is left out there"
		}
		peers := []netip.Prefix{{}}
		if !r.Anybody() {
			peers = nil
			for _, s := range p.PeersOf(r).Family(six) {
				s.Prefixes(func(x netip.Prefix) bool {
					peers = append(peers, x)
					return true
				})
			}
		}
		action := "accept"
		if r.Verdict == plan.Reject {
			action = "drop"
		}
		for _, peer := range peers {
			for _, a := range own {
				for _, on := range ons {
					l.add(fmt.Sprintf("line-%d", r.Line), ends(a, peer, six, server), on, six, action, r.Log)
				}
			}
		}
	}
	for _, a := range own {
		l.add("uncovered", ends(a, netip.Prefix{}, six, server), nil, six, "accept", false)
	}
}

// prefixes returns addresses of a family in their order as the fewest prefixes.
func prefixes(all []netip.Addr, six bool) (out []netip.Prefix) {
	var spans plan.Addresses
	for _, a := range all {
		if a.Is6() == six {
			spans = append(spans, plan.Span{First: a, Last: a})
		}
	}
	for _, s := range plan.Joined(spans) {
		out = slices.AppendSeq(out, s.Prefixes)
	}
	return out
}

// ends returns the conditions on the addresses; a peer that is not valid is anybody.
func ends(own netip.Prefix, peer netip.Prefix, six, server bool) match {
	version := "ipv4"
	if six {
		version = "ipv6"
	}
	source, destination := "source-"+version+"-network", "destination-"+version+"-network"
	if !server {
		source, destination = destination, source
	}
	m := match{destination: own.String()}
	if peer.IsValid() && peer.Bits() > 0 {
		m[source] = peer.String()
	}
	return m
}

func (l *list) add(name string, ends match, on map[string]match, six bool, action string, log bool) {
	header := "ipv4"
	if six {
		header = "ipv6"
	}
	e := Entry{Name: fmt.Sprintf("%s-%d", name, len(l.ACEs.ACE)+1), Matches: map[string]match{},
		Actions: map[string]string{"forwarding": "ietf-access-control-list:" + action}}
	if log {
		e.Actions["logging"] = "ietf-access-control-list:log-syslog"
	}
	m := match{}
	for k, v := range ends {
		m[k] = v
	}
	for k, v := range on {
		if k == "" {
			m["protocol"] = v["protocol"]
			continue
		}
		e.Matches[k] = v
	}
	if len(m) > 0 {
		e.Matches[header] = m
	}
	l.ACEs.ACE = append(l.ACEs.ACE, e)
}

// services returns the conditions under which a packet is on some services, one for
// each entry that it takes; under "" stands what belongs to the address's header.
func services(points service.Set) (out []map[string]match, sctp bool) {
	if points.Equal(service.All) {
		return []map[string]match{nil}, false
	}
	for _, r := range points {
		for proto := int(r.Lo.Proto()); proto <= int(r.Hi.Proto()); proto++ {
			all := service.Whole(uint8(proto))
			lo, hi := max(r.Lo, all.Lo), min(r.Hi, all.Hi)
			if lo > hi {
				continue
			}
			base := match{"protocol": proto}
			switch {
			case proto == service.SCTP && (lo != all.Lo || hi != all.Hi):
				sctp = true // the model has no header with its ports
			case lo == all.Lo && hi == all.Hi:
				out = append(out, map[string]match{"": base})
			case service.IsICMP(uint8(proto)):
				for p := lo.Port(); p <= min(hi.Port(), 65535); {
					if p&255 == 0 && p|255 <= hi.Port() {
						out = append(out, map[string]match{"": base, "icmp": {"type": p >> 8}})
						p += 256
						continue
					}
					out = append(out, map[string]match{"": base, "icmp": {"type": p >> 8, "code": p & 255}})
					p++
				}
			default:
				port := map[string]any{"operator": "eq", "port": lo.Port()}
				if lo != hi {
					port = map[string]any{"lower-port": lo.Port(), "upper-port": hi.Port()}
				}
				out = append(out, map[string]match{"": base,
					service.ProtoName(uint8(proto)): {"destination-port": port}})
			}
		}
	}
	return out, sctp
}

// Text returns the document as JSON.
func (d Document) Text() ([]byte, error) { return json.MarshalIndent(d, "", "  ") }
