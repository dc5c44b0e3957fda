package nft

import (
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
)

// hook writes a base chain. That of a plan on trial runs before the one that decides.
func (r *renderer) hook(name string, server, client bool) {
	priority := "filter"
	if r.prefix != "" {
		priority = "filter - 1"
	}
	r.say(1, "chain %s%s {", r.prefix, name)
	r.say(2, "type filter hook %s priority %s; policy accept;", name, priority)
	switch name {
	case "input":
		r.say(2, `iif "lo" accept`)
	case "output":
		r.say(2, `oif "lo" accept`)
	}
	if r.o.Ends && r.prefix == "" {
		for i, f := range families { // each packet keeps the connection dropped for longer
			tuple := fmt.Sprintf("%[1]s saddr . %[1]s daddr . meta l4proto . th sport . th dport", f.name)
			r.say(2, `%s @%s update @%s { %s timeout %ds } drop comment "permitted no more"`, tuple, Ended[i],
				Ended[i], tuple,
				int(EndedFor.Seconds()))
		}
	}
	r.say(2, `ct state established,related accept comment "answers, and errors that belong to conversations"`)
	// Neighbour discovery and group membership are no conversations: without them no packet arrives at all.
	r.say(2, "icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-solicit, nd-router-advert, nd-redirect }"+
		" ip6 hoplimit 255 accept")
	r.say(2, "tcp flags & (syn | ack) != syn jump %smiddle", r.prefix)
	if r.o.Paired {
		r.say(2, "meta l4proto udp jump %smiddle", r.prefix)
		r.say(2, "icmp type { echo-reply, destination-unreachable, time-exceeded, parameter-problem } accept")
		r.say(2, "icmpv6 type { echo-reply, destination-unreachable, packet-too-big, time-exceeded, parameter-problem } accept")
	}
	if server {
		r.say(2, "ip daddr vmap @%sservers_ip", r.prefix)
		r.say(2, "ip6 daddr vmap @%sservers_ip6", r.prefix)
		if r.p.Kind == plan.Host {
			r.broadcast()
		}
	}
	if client {
		r.say(2, "ip saddr vmap @%sclients_ip", r.prefix)
		r.say(2, "ip6 saddr vmap @%sclients_ip6", r.prefix)
	}
	r.say(1, "}")
}

// broadcast sends datagrams to everybody to the rules of the host that receives them.
func (r *renderer) broadcast() {
	for _, f := range families {
		if i := slices.IndexFunc(r.p.Classes, func(c plan.Class) bool { return c.Has(f.six) }); i >= 0 {
			r.say(2, "meta nfproto %s meta l4proto udp fib daddr type { broadcast, multicast } goto %ss_%s", f.proto,
				r.prefix,
				r.p.Classes[i].Name)
		}
	}
}

// middle writes the chain for packets from the middle of a connection that is not
// tracked. A reset opens nothing and passes.
func (r *renderer) middle(server, client bool) {
	r.say(1, "chain %smiddle {", r.prefix)
	r.say(2, "tcp flags & rst == rst accept")
	if server {
		r.say(2, "ip saddr vmap @%sanswering_ip", r.prefix)
		r.say(2, "ip6 saddr vmap @%sanswering_ip6", r.prefix)
	}
	if client {
		r.say(2, "ip daddr vmap @%sanswered_ip", r.prefix)
		r.say(2, "ip6 daddr vmap @%sanswered_ip6", r.prefix)
	}
	r.say(1, "}")
}

// answers writes the chain that accepts the answers to what the rules of a class
// permit, and drops those to what they reject: the same rules, seen from the other end.
// Where no rule decides, the side with the lower port is taken for the server, as in
// plan.Running.
func (r *renderer) answers(name string, c *plan.Class, rules []plan.Rule, peer string) {
	r.say(1, "chain %s%s {", r.prefix, name)
	asked := service.NewSet(service.Whole(service.TCP))
	if r.o.Paired {
		asked = service.NewSet(service.Whole(service.TCP), service.Whole(service.UDP))
	}
	for i := range rules {
		x := &rules[i]
		points, do := x.Points.Intersect(asked), []string{fmt.Sprintf("tcp sport < %[1]d tcp dport >= %[1]d %[2]s",
			plan.Ephemeral,
			r.drop()), "return"}
		if len(points) == 0 {
			continue
		}
		if x.Verdict == plan.Permit {
			do = []string{"accept"}
		}
		matches := []string{""}
		if !points.Equal(asked) {
			matches = Matches(points)
		}
		for _, from := range r.peers(x, c, peer) {
			for _, on := range matches {
				for _, what := range do {
					r.say(2, "%s%s%s%s", until(x), from, strings.ReplaceAll(on, " dport ", " sport "), what)
				}
			}
		}
	}
	r.say(2, "tcp sport < %[1]d tcp dport >= %[1]d accept", plan.Ephemeral)
	r.say(1, "}")
}

// chain writes the rules of a class on one side.
func (r *renderer) chain(name string, c *plan.Class, rules []plan.Rule, peer string) {
	r.say(1, "chain %s%s {", r.prefix, name)
	r.say(2, "# %s", printable(someOf(c.Workloads)))
	for _, x := range r.cut.rules(rules) {
		r.lead(name, x, c, peer)
	}
	r.say(2, `counter %s comment "uncovered"`, r.noted("uncovered", "accept"))
	r.say(1, "}")
}

// rule writes a rule.
func (r *renderer) rule(x *plan.Rule, c *plan.Class, peer string) {
	for _, from := range r.peers(x, c, peer) {
		for _, on := range Matches(x.Points) {
			r.say(2, "%s%s%s%s", until(x), from, on, r.verdict(x))
		}
	}
}

// until returns the condition that keeps a rule to its last day.
func until(x *plan.Rule) string {
	if x.Until == 0 {
		return ""
	}
	return fmt.Sprintf("meta time < %d ", x.Until)
}

func someOf(ids []string) string {
	if len(ids) > 8 {
		return fmt.Sprintf("%s and %d more", strings.Join(ids[:8], " "), len(ids)-8)
	}
	return strings.Join(ids, " ")
}

// peers returns the conditions on the other end: of each family that the class has, one for
// each set of peers.
func (r *renderer) peers(x *plan.Rule, c *plan.Class, peer string) []string {
	if x.Anybody() {
		return []string{""}
	}
	var out []string
	for _, f := range families {
		if !c.Has(f.six) {
			continue
		}
		all := ""
		for _, set := range x.Within {
			all += r.member(set, f.six, peer, "")
		}
		for _, set := range x.Except {
			all += r.member(set, f.six, peer, "!= ")
		}
		if len(x.Peers) == 0 {
			out = append(out, all)
		}
		for _, set := range x.Peers {
			out = append(out, all+r.member(set, f.six, peer, ""))
		}
	}
	return out
}

// member returns the condition that the other end is in a set, or with not that it is not.
func (r *renderer) member(set int, six bool, peer, not string) string {
	s, f := &r.p.Sets[set], families[0]
	if six {
		f = families[1]
	}
	if s.Addresses.Whole(six) && not == "" {
		return "meta nfproto " + f.proto + " "
	}
	if s.Addresses.Whole(six) { // nothing is left: as a whole family has no set
		return "meta nfproto " + f.proto + " meta nfproto != " + f.proto + " "
	}
	return fmt.Sprintf("%s %s %s@%s%s ", f.name, peer, not, r.prefix, setName(s, six))
}

// noted returns what a rule does with a packet, after what the kernel's log is given.
func (r *renderer) noted(what, do string) string {
	if r.o.Group == 0 {
		return do
	}
	return "goto " + r.noteOf(what)
}

// verdict reports what a rule does, under the line of its statement.
func (r *renderer) verdict(x *plan.Rule) string {
	log := ""
	if x.Log {
		log = fmt.Sprintf("log prefix \"line %d %s \" ", x.Line, x.Verdict)
	}
	do := "accept"
	if x.Verdict == plan.Reject {
		do = r.noted(fmt.Sprintf("line %d reject", x.Line), r.drop())
	}
	return fmt.Sprintf("counter %s%s comment \"line %d %s\"", log, do, x.Line, x.Verdict)
}

// Matches returns the conditions under which a packet is on some services, each
// ending in a blank; one that is blank for all of them.
func Matches(points service.Set) []string {
	if points.Equal(service.All) {
		return []string{""}
	}
	var whole, out []string
	ports := map[uint8][]string{}
	var order []uint8
	for _, r := range points {
		for proto := int(r.Lo.Proto()); proto <= int(r.Hi.Proto()); proto++ {
			all := service.Whole(uint8(proto))
			lo, hi := max(r.Lo, all.Lo), min(r.Hi, all.Hi)
			switch {
			case lo > hi:
			case lo == all.Lo && hi == all.Hi:
				whole = append(whole, fmt.Sprint(proto))
			case service.IsICMP(uint8(proto)):
				out = append(out, icmp(uint8(proto), lo.Port(), hi.Port())...)
			default:
				if ports[uint8(proto)] == nil {
					order = append(order, uint8(proto))
				}
				p := fmt.Sprint(lo.Port())
				if lo != hi {
					p = fmt.Sprintf("%d-%d", lo.Port(), hi.Port())
				}
				ports[uint8(proto)] = append(ports[uint8(proto)], p)
			}
		}
	}
	if len(whole) > 0 {
		out = append(out, "meta l4proto "+oneOf(whole)+" ")
	}
	for _, proto := range order {
		out = append(out, fmt.Sprintf("%s dport %s ", service.ProtoName(proto), oneOf(ports[proto])))
	}
	return out
}

func oneOf(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return "{ " + strings.Join(list, ", ") + " }"
}

// icmp returns the conditions for types and codes from lo to hi: type × 256 + code.
// Messages of unknown type do not come in packets.
func icmp(proto uint8, lo, hi uint32) (out []string) {
	name := "icmp"
	if proto == service.ICMP6 {
		name = "icmpv6"
	}
	hi = min(hi, 65535)
	for lo <= hi {
		kind := lo >> 8
		end := min(hi, kind<<8|255)
		switch {
		case lo&255 == 0 && end&255 == 255 && hi>>8 > kind+1:
			to := hi >> 8 // whole types
			if hi&255 != 255 {
				to--
			}
			out = append(out, fmt.Sprintf("%s type %d-%d ", name, kind, to))
			end = to<<8 | 255
		case lo&255 == 0 && end&255 == 255:
			out = append(out, fmt.Sprintf("%s type %d ", name, kind))
		default:
			out = append(out, fmt.Sprintf("%s type %d %s code %d-%d ", name, kind, name, lo&255, end&255))
		}
		lo = end + 1
	}
	return out
}
