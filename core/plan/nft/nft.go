// Package nft renders a plan as a script for nft -f: the one table inet
// lucid_orchard, which can be loaded again and again and replaces what was loaded
// before in one transaction. What is not in that table is not touched.
//
// A packet that begins a conversation is sent by the address that is guarded to a
// chain of its class, where the rules stand in their order; answers, and the errors
// that belong to conversations, pass before that.
package nft

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
)

// Table is the name of the only table that is written.
const Table = "lucid_orchard"

// Options say how a plan is held.
type Options struct {
	Observe bool   // what the plan rejects is counted and carried
	Group   uint16 // of the kernel's log that some of what is rejected or uncovered is given to; 0: none
	Ends    bool   // conversations in the sets of Ended are dropped
	Note    string // comment at the head; may have several lines
}

// Write renders a plan.
func Write(w io.Writer, p *plan.Plan, o Options) error {
	b := bufio.NewWriter(w)
	r := &renderer{b: b, p: p, o: o}
	r.script()
	return b.Flush()
}

type renderer struct {
	b *bufio.Writer
	p *plan.Plan
	o Options
}

func (r *renderer) say(depth int, format string, args ...any) {
	_, _ = r.b.WriteString(strings.Repeat("\t", depth))
	_, _ = fmt.Fprintf(r.b, format, args...)
	_ = r.b.WriteByte('\n')
}

func (r *renderer) script() {
	if r.o.Note != "" {
		for line := range strings.Lines(r.o.Note) {
			r.say(0, "# %s", strings.TrimSpace(line))
		}
	}
	// So the former table goes and the new one comes in one transaction, also where there was none.
	r.say(0, "table inet %s", Table)
	r.say(0, "delete table inet %s", Table)
	r.say(0, "table inet %s {", Table)
	for _, s := range setsOf(r.p) {
		r.set(s)
	}
	if r.o.Ends {
		r.ended()
	}
	if r.o.Group != 0 {
		r.notes()
	}
	for i := range r.p.Classes {
		c := &r.p.Classes[i]
		r.parcels("s_"+c.Name, parcelsOf(c.Server), c, "saddr")
		r.parcels("d_"+c.Name, parcelsOf(c.Client), c, "daddr")
		if r.p.Side != plan.Client {
			r.chain("s_"+c.Name, c, c.Server, "saddr")
		}
		if r.p.Side != plan.Server {
			r.chain("d_"+c.Name, c, c.Client, "daddr")
		}
	}
	server, client := r.p.Side != plan.Client, r.p.Side != plan.Server
	for _, w := range waysOf(r.p.Side) {
		r.ways(w.name, w.prefix)
	}
	if r.p.Kind == plan.Gate {
		r.hook("forward", server, client)
	} else {
		if server {
			r.hook("input", true, false)
		}
		if client {
			r.hook("output", false, true)
		}
	}
	r.say(0, "}")
}

var families = []struct {
	six         bool
	name, typed string
}{{false, "ip", "ipv4_addr"}, {true, "ip6", "ipv6_addr"}}

// set writes a set for each family that is guarded; that it is empty now is no reason
// to leave it out.
func (r *renderer) set(s *plan.Set) {
	for _, f := range families {
		if !guarded(r.p, f.six) || whole(r.p, s, f.six) {
			continue
		}
		have := s.Addresses.Family(f.six)
		r.say(1, "set %s {", setName(s, f.six))
		r.say(2, "# %s", printable(s.Words))
		r.say(2, "type %s", f.typed)
		r.say(2, "flags interval")
		if len(have) > 0 {
			r.say(2, "elements = {")
			_, _ = r.b.WriteString(s.Elements(f.six))
			_ = r.b.WriteByte('\n')
			r.say(2, "}")
		}
		r.say(1, "}")
	}
}

// guarded reports whether there is a guarded address of a family.
func guarded(p *plan.Plan, six bool) bool {
	return slices.ContainsFunc(p.Classes, func(c plan.Class) bool { return c.Has(six) })
}

// whole reports whether a rule asks for the family instead of a set. Those of parcels
// are asked for always: addresses come and go in them while the rules stay.
func whole(p *plan.Plan, s *plan.Set, six bool) bool {
	return s.Addresses.Whole(six) && !strings.HasPrefix(s.Name, parcelPrefix)
}

// Ended are the names of the sets of conversations that are over, for IPv4 and IPv6:
// source and destination address, protocol, source and destination port.
var Ended = [2]string{"ended_4", "ended_6"}

func (r *renderer) ended() {
	for i, f := range families {
		r.say(1, "set %s {", Ended[i])
		r.say(2, "type %s . %s . inet_proto . inet_service . inet_service", f.typed, f.typed)
		r.say(2, "flags timeout")
		r.say(1, "}")
	}
}

// notes writes the chains that give some of what is rejected, or uncovered, to the
// kernel's log.
func (r *renderer) notes() {
	note := func(what, do string) {
		r.say(1, "chain %s {", noteOf(what))
		r.say(2, "limit rate 500/second burst 1000 packets log prefix \"%s\" group %d snaplen 128", what, r.o.Group)
		r.say(2, "%s", do)
		r.say(1, "}")
	}
	note("uncovered", "accept")
	lines := map[int]bool{}
	for i := range r.p.Classes {
		for _, rules := range [][]plan.Rule{r.p.Classes[i].Server, r.p.Classes[i].Client} {
			for _, x := range rules {
				if x.Verdict == plan.Reject && !lines[x.Line] {
					lines[x.Line] = true
					note(fmt.Sprintf("line %d reject", x.Line), r.drop())
				}
			}
		}
	}
}

func noteOf(what string) string { return "n_" + strings.ReplaceAll(what, " ", "_") }

// drop is what becomes of what is rejected.
func (r *renderer) drop() string {
	if r.o.Observe {
		return "accept"
	}
	return "drop"
}

// Contents gives what is in the sets and maps of a plan, by their names in the kernel:
// addresses, and the chain that each guarded address leads to.
func Contents(p *plan.Plan) (sets map[string]plan.Addresses, ways map[string]map[netip.Addr]string) {
	sets = map[string]plan.Addresses{}
	for _, f := range families {
		if !guarded(p, f.six) {
			continue
		}
		for _, s := range setsOf(p) {
			if !whole(p, s, f.six) {
				sets[setName(s, f.six)] = s.Addresses.Family(f.six)
			}
		}
	}
	return sets, Ways(p)
}

// Ways gives what is in the maps of a plan.
func Ways(p *plan.Plan) map[string]map[netip.Addr]string {
	ways := map[string]map[netip.Addr]string{}
	for _, w := range waysOf(p.Side) {
		for _, f := range families {
			ways[w.name+f.name] = map[netip.Addr]string{}
		}
		for i := range p.Classes {
			for _, a := range p.Classes[i].Addresses {
				ways[w.name+familyOf(a)][a] = w.prefix + p.Classes[i].Name
			}
		}
	}
	return ways
}

type wayNames struct{ name, prefix string }

func waysOf(side plan.Side) (out []wayNames) {
	if side != plan.Client {
		out = append(out, wayNames{"servers_", "s_"})
	}
	if side != plan.Server {
		out = append(out, wayNames{"clients_", "d_"})
	}
	return out
}

func familyOf(a netip.Addr) string {
	if a.Is6() {
		return families[1].name
	}
	return families[0].name
}

func setName(s *plan.Set, six bool) string {
	if six {
		return s.Name + "_6"
	}
	return s.Name + "_4"
}

// printable keeps a comment on its line.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

// ways writes the maps from guarded addresses to chains.
func (r *renderer) ways(name, prefix string) {
	for _, f := range families {
		r.say(1, "map %s%s {", name, f.name)
		r.say(2, "type %s : verdict", f.typed)
		var elements []string
		for i := range r.p.Classes {
			for _, a := range r.p.Classes[i].Addresses {
				if a.Is6() == f.six {
					elements = append(elements, fmt.Sprintf("%s : goto %s%s", a, prefix, r.p.Classes[i].Name))
				}
			}
		}
		if len(elements) > 0 {
			r.say(2, "elements = {")
			r.say(3, "%s", strings.Join(elements, ",\n\t\t\t"))
			r.say(2, "}")
		}
		r.say(1, "}")
	}
}

// hook writes a chain that packets come to by themselves.
func (r *renderer) hook(name string, server, client bool) {
	r.say(1, "chain %s {", name)
	r.say(2, "type filter hook %s priority filter; policy accept;", name)
	switch name {
	case "input":
		r.say(2, `iif "lo" accept`)
	case "output":
		r.say(2, `oif "lo" accept`)
	}
	if r.o.Ends {
		for i, f := range families {
			r.say(2, `%s saddr . %s daddr . meta l4proto . th sport . th dport @%s drop comment "permitted no more"`, f.name,
				f.name, Ended[i])
		}
	}
	r.say(2, `ct state established,related accept comment "answers, and errors that belong to conversations"`)
	// How neighbours find each other is no conversation: without it no packet comes at all.
	r.say(2, "icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-solicit, nd-router-advert, nd-redirect }"+
		" ip6 hoplimit 255 accept")
	if server {
		r.say(2, "ip daddr vmap @servers_ip")
		r.say(2, "ip6 daddr vmap @servers_ip6")
	}
	if client {
		r.say(2, "ip saddr vmap @clients_ip")
		r.say(2, "ip6 saddr vmap @clients_ip6")
	}
	r.say(1, "}")
}

// chain writes the rules of a class on one side.
func (r *renderer) chain(name string, c *plan.Class, rules []plan.Rule, peer string) {
	r.say(1, "chain %s {", name)
	r.say(2, "# %s", printable(someOf(c.Workloads)))
	for _, x := range parcelsOf(rules) {
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

// until gives the condition that keeps a rule to its last day.
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

// peers gives the conditions on the other end, one for each family in which the
// class and the peers have addresses.
func (r *renderer) peers(x *plan.Rule, c *plan.Class, peer string) []string {
	if x.Peers == plan.Anybody {
		return []string{""}
	}
	s := &r.p.Sets[x.Peers]
	var out []string
	for _, f := range families {
		switch {
		case !c.Has(f.six):
		case s.Addresses.Whole(f.six):
			version := 4
			if f.six {
				version = 6
			}
			out = append(out, fmt.Sprintf("meta nfproto ipv%d ", version))
		default:
			out = append(out, fmt.Sprintf("%s %s @%s ", f.name, peer, setName(s, f.six)))
		}
	}
	return out
}

// noted gives what a rule does with a packet, after what the kernel's log is given.
func (r *renderer) noted(what, do string) string {
	if r.o.Group == 0 {
		return do
	}
	return "goto " + noteOf(what)
}

// verdict says what a rule does, under the line of its statement.
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

// Matches gives the conditions under which a packet is on some services, each
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

// icmp gives the conditions for types and codes from lo to hi: type × 256 + code.
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
