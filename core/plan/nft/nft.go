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
	"strings"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
)

// Table is the name of the only table that is written.
const Table = "lucid_orchard"

// Options say how a plan is held.
type Options struct {
	Observe bool   // what the plan rejects is counted and carried
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
	for _, s := range r.p.Sets {
		r.set(&s)
	}
	for i := range r.p.Classes {
		c := &r.p.Classes[i]
		if r.p.Side != plan.Client {
			r.chain("s_"+c.Name, c, c.Server, "saddr")
		}
		if r.p.Side != plan.Server {
			r.chain("d_"+c.Name, c, c.Client, "daddr")
		}
	}
	server, client := r.p.Side != plan.Client, r.p.Side != plan.Server
	if server {
		r.ways("servers", "s_")
	}
	if client {
		r.ways("clients", "d_")
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

// set writes a set for each family of which it has some addresses and not all.
func (r *renderer) set(s *plan.Set) {
	for _, f := range families {
		have := s.Addresses.Family(f.six)
		if len(have) == 0 || s.Addresses.Whole(f.six) {
			continue
		}
		r.say(1, "set %s {", setName(s, f.six))
		r.say(2, "# %s", printable(s.Words))
		r.say(2, "type %s", f.typed)
		r.say(2, "flags interval")
		r.say(2, "elements = {")
		_, _ = r.b.WriteString(s.Elements(f.six))
		_ = r.b.WriteByte('\n')
		r.say(2, "}")
		r.say(1, "}")
	}
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
		r.say(1, "map %s_%s {", name, f.name)
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
	for i := range rules {
		x := &rules[i]
		for _, from := range r.peers(x, c, peer) {
			for _, on := range Matches(x.Points) {
				r.say(2, "%s%s%s%s", until(x), from, on, r.verdict(x))
			}
		}
	}
	r.say(2, `counter accept comment "uncovered"`)
	r.say(1, "}")
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
		if !has(c.Addresses, f.six) {
			continue
		}
		switch have := s.Addresses.Family(f.six); {
		case len(have) == 0:
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

func has(list []netip.Addr, six bool) bool {
	for _, a := range list {
		if a.Is6() == six {
			return true
		}
	}
	return false
}

// verdict says what a rule does, under the line of its statement.
func (r *renderer) verdict(x *plan.Rule) string {
	log := ""
	if x.Log {
		log = fmt.Sprintf("log prefix \"line %d %s \" ", x.Line, x.Verdict)
	}
	do := "accept"
	if x.Verdict == plan.Reject && !r.o.Observe {
		do = "drop"
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
