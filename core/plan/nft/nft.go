// Package nft renders a plan as a script for nft -f: the one table inet
// lucid_orchard, which can be loaded again and again and replaces what was loaded
// before in one transaction. What is not in that table is not touched.
//
// One transaction is not one instant: Linux 6.18 was seen to find nothing, for up to a
// millisecond, in sets of ranges that came with a table, where their rules decided
// already. Replacement has scripts that leave no packet to such a table.
//
// A packet that opens a conversation goes, by the address that is guarded, to the chain
// of its class, where the rules stand in their order. Answers, and ICMP errors that
// belong to a conversation, are accepted before that.
//
// A table can carry two plans: one that decides and one on trial. The plan on trial has
// base chains of its own that run first and always accept, so it counts and logs what it
// would do and never affects a packet. All its names begin with "o_".
//
// A TCP packet that belongs to no tracked connection and does not open one (its
// connection began before the table was loaded, or takes another path the other way) is
// accepted if the policy permits a conversation in the other direction, and dropped if it
// rejects that and the ports say that the packet is an answer: until an opening packet is
// seen, nobody knows who is the client.
package nft

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
)

// Table is the name of the only table that is written.
const Table = "lucid_orchard"

// Scaffold is the name of the table that decides while Table is being replaced. It is
// there for moments, or after a machine that replaced it was killed.
const Scaffold = Table + "_next"

// Options control how plans are rendered.
type Options struct {
	Observe bool      // Write: count what the plan rejects, and accept it
	Group   uint16    // NFLOG group that receives samples of what is rejected or uncovered; 0: none
	Ended   []Element // connections that were ended: they stay dropped; nil with Ends false
	Ends    bool      // include the sets and rules that drop ended connections
	Paired  bool      // another point sees part of the packets: accept answers without a tracked request
	Note    string    // comment at the head; may have several lines
}

// trialPrefix begins the name of everything that belongs to the plan on trial.
const trialPrefix = "o_"

// Write renders one plan: enforced, or with Options.Observe counted only.
func Write(w io.Writer, p *plan.Plan, o Options) error {
	b := bufio.NewWriter(w)
	r := &renderer{b: b, o: o}
	r.open(Table)
	r.plan(p, o.Observe, "")
	r.body()
	r.hooks()
	r.say(0, "}")
	return b.Flush()
}

// WriteLoaded renders the plans that a point has loaded together: the enforced one
// decides, the observed one only counts. With neither, the table is removed.
func WriteLoaded(w io.Writer, l plan.Loaded, o Options) error {
	b := bufio.NewWriter(w)
	r := &renderer{b: b, o: o}
	if l.Nothing() {
		r.remove(Table)
		return b.Flush()
	}
	r.build(Table, l, true)
	return b.Flush()
}

// Standing is what a kernel has: whether Table has base chains that decide, and whether
// there is a Scaffold.
type Standing struct{ Decides, Scaffold bool }

// Replacement returns the scripts that replace what a kernel has by plans, if each is
// loaded after the one before. From the first moment to the last, every packet is judged
// by what decided before, by the new plan, or by both: the new one is built in Scaffold,
// then given packets; behind it Table is built anew, and gets packets again before
// Scaffold goes. If a script fails while Table decides, RemoveScaffold undoes those
// before it.
func Replacement(l plan.Loaded, o Options, now Standing) []string {
	var scripts []string
	add := func(o Options, write func(r *renderer)) {
		var text strings.Builder
		r := &renderer{b: bufio.NewWriter(&text), o: o}
		write(r)
		_ = r.b.Flush() // a strings.Builder takes all
		scripts = append(scripts, text.String())
	}
	replace := func(table string, l plan.Loaded, o Options) {
		add(o, func(r *renderer) { r.build(table, l, false) })
		add(o, func(r *renderer) {
			r.say(0, "table inet %s {", table)
			for _, x := range loadedOf(l) {
				r.plan(x.plan, x.prefix != "", x.prefix)
				r.hooks()
			}
			r.say(0, "}")
		})
	}
	remove := func(table string) { add(o, func(r *renderer) { r.remove(table) }) }
	cover := now.Decides && l.Enforced != nil
	if cover {
		silent := o // what it would count and log, Table does as soon as it decides
		silent.Group = 0
		replace(Scaffold, plan.Loaded{Enforced: l.Enforced}, silent)
	}
	if l.Nothing() {
		remove(Table)
	} else {
		replace(Table, l, o)
	}
	if cover || now.Scaffold {
		remove(Scaffold)
	}
	return scripts
}

// RemoveScaffold is the script that removes Scaffold, also where there is none.
const RemoveScaffold = "table inet " + Scaffold + "\ndelete table inet " + Scaffold + "\n"

// named is a plan with the prefix of its names.
type named struct {
	plan   *plan.Plan
	prefix string
}

// loadedOf returns the plans that are there, the one on trial first.
func loadedOf(l plan.Loaded) (out []named) {
	if l.Observed != nil {
		out = append(out, named{l.Observed, trialPrefix})
	}
	if l.Enforced != nil {
		out = append(out, named{l.Enforced, ""})
	}
	return out
}

// OfTrial reports whether a chain, set or map belongs to the plan on trial.
func OfTrial(name string) bool { return strings.HasPrefix(name, trialPrefix) }

type renderer struct {
	b       *bufio.Writer
	o       Options
	p       *plan.Plan
	cut     *parcels // of p
	observe bool     // p only counts
	prefix  string   // of p's names
}

func (r *renderer) say(depth int, format string, args ...any) {
	_, _ = r.b.WriteString(strings.Repeat("\t", depth))
	_, _ = fmt.Fprintf(r.b, format, args...)
	_ = r.b.WriteByte('\n')
}

// open begins the table. The former table goes and the new one comes in one
// transaction, also where there was none.
func (r *renderer) open(table string) {
	if r.o.Note != "" {
		for line := range strings.Lines(r.o.Note) {
			r.say(0, "# %s", strings.TrimSpace(line))
		}
	}
	r.remove(table)
	r.say(0, "table inet %s {", table)
}

// remove removes a table, also where there is none.
func (r *renderer) remove(table string) { r.say(0, "table inet %[1]s\ndelete table inet %[1]s", table) }

// build writes a table with plans; without hooks no packet comes to them.
func (r *renderer) build(table string, l plan.Loaded, hooks bool) {
	r.open(table)
	if r.o.Ends {
		r.ended()
	}
	for _, x := range loadedOf(l) {
		r.plan(x.plan, x.prefix != "", x.prefix)
		r.body()
		if hooks {
			r.hooks()
		}
	}
	r.say(0, "}")
}

// plan begins with a plan.
func (r *renderer) plan(p *plan.Plan, observe bool, prefix string) {
	r.p, r.observe, r.prefix = p, observe, prefix
}

// sides reports which sides the plan is for.
func (r *renderer) sides() (server, client bool) {
	return r.p.Side != plan.Client, r.p.Side != plan.Server
}

// body writes the sets, maps and chains of a plan that its base chains lead to.
func (r *renderer) body() {
	p := r.p
	r.cut = parcelsOf(p)
	for _, s := range setsOf(p) {
		r.set(s)
	}
	if r.o.Group != 0 {
		r.notes()
	}
	server, client := r.sides()
	for i := range p.Classes {
		c := &p.Classes[i]
		if server {
			r.inner("s_"+c.Name, r.cut.rules(c.Server), c, "saddr")
			r.chain("s_"+c.Name, c, c.Server, "saddr")
			r.answers("as_"+c.Name, c, c.Server, "daddr")
		}
		if client {
			r.inner("d_"+c.Name, r.cut.rules(c.Client), c, "daddr")
			r.chain("d_"+c.Name, c, c.Client, "daddr")
			r.answers("ad_"+c.Name, c, c.Client, "saddr")
		}
	}
	for _, w := range waysOf(p.Side) {
		r.ways(w.name, w.prefix)
	}
	r.middle(server, client)
}

// hooks writes the base chains of a plan: they give it packets.
func (r *renderer) hooks() {
	server, client := r.sides()
	if r.p.Kind == plan.Gate {
		r.hook("forward", server, client)
		return
	}
	if server {
		r.hook("input", true, false)
	}
	if client {
		r.hook("output", false, true)
	}
}

var families = []struct {
	six                bool
	name, typed, proto string
}{{false, "ip", "ipv4_addr", "ipv4"}, {true, "ip6", "ipv6_addr", "ipv6"}}

// set writes a set for each family that is guarded; that it is empty now is no reason
// to leave it out.
func (r *renderer) set(s *plan.Set) {
	for _, f := range families {
		if !guarded(r.p, f.six) || whole(r.p, s, f.six) {
			continue
		}
		have := s.Addresses.Family(f.six)
		r.say(1, "set %s {", r.prefix+setName(s, f.six))
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

// Ended are the names of the sets of ended connections, for IPv4 and IPv6: source and
// destination address, protocol, source and destination port.
var Ended = [2]string{"ended_4", "ended_6"}

// EndedFor is how long a connection that was ended stays dropped after its last packet:
// as long as the kernel remembers an idle TCP connection.
const EndedFor = 5 * 24 * time.Hour

// Element is one direction of an ended connection.
type Element struct {
	From, To netip.AddrPort
	Proto    uint8
}

// mostEnded is how many directions of ended connections a set has room for.
const mostEnded = 1 << 20

func (r *renderer) ended() {
	for i, f := range families {
		r.say(1, "set %s {", Ended[i])
		r.say(2, "type %s . %s . inet_proto . inet_service . inet_service", f.typed, f.typed)
		r.say(2, "flags dynamic,timeout")
		r.say(2, "size %d", mostEnded)
		r.say(2, "timeout %ds", int(EndedFor.Seconds()))
		sep := "elements = {"
		for _, e := range r.o.Ended {
			if e.From.Addr().Is6() == f.six {
				r.say(2, "%s %s . %s . %d . %d . %d", sep, e.From.Addr(), e.To.Addr(), e.Proto, e.From.Port(), e.To.Port())
				sep = ","
			}
		}
		if sep == "," {
			r.say(2, "}")
		}
		r.say(1, "}")
	}
}

// notes writes the chains that log a sample of what is rejected or uncovered. A TCP
// packet that does not open a connection is not logged: it is no conversation.
func (r *renderer) notes() {
	logged := ""
	if r.prefix != "" {
		logged = ObservedPrefix
	}
	note := func(what, do string) {
		r.say(1, "chain %s {", r.noteOf(what))
		r.say(2, "tcp flags & (syn | ack) != syn %s", do)
		r.say(2, "limit rate 500/second burst 1000 packets log prefix \"%s%s\" group %d snaplen 128", logged, what, r.o.Group)
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

// ObservedPrefix begins the log prefix of what a plan on trial says.
const ObservedPrefix = "observed "

func (r *renderer) noteOf(what string) string {
	return r.prefix + "n_" + strings.ReplaceAll(what, " ", "_")
}

// drop is what becomes of what is rejected.
func (r *renderer) drop() string {
	if r.observe {
		return "accept"
	}
	return "drop"
}

// Contents returns what the sets and maps of loaded plans contain, by their names in the
// kernel: addresses, and the chain that each guarded address leads to.
func Contents(l plan.Loaded) (sets map[string]plan.Addresses, ways map[string]map[netip.Addr]string) {
	sets = map[string]plan.Addresses{}
	for _, x := range loadedOf(l) {
		for _, f := range families {
			if !guarded(x.plan, f.six) {
				continue
			}
			for _, s := range setsOf(x.plan) {
				if !whole(x.plan, s, f.six) {
					sets[x.prefix+setName(s, f.six)] = s.Addresses.Family(f.six)
				}
			}
		}
	}
	return sets, Ways(l)
}

// Ways returns what the maps of loaded plans contain.
func Ways(l plan.Loaded) map[string]map[netip.Addr]string {
	ways := map[string]map[netip.Addr]string{}
	for _, x := range loadedOf(l) {
		for _, w := range waysOf(x.plan.Side) {
			for _, f := range families {
				ways[x.prefix+w.name+f.name] = map[netip.Addr]string{}
			}
			for i := range x.plan.Classes {
				for _, a := range x.plan.Classes[i].Addresses {
					ways[x.prefix+w.name+familyOf(a)][a] = x.prefix + w.prefix + x.plan.Classes[i].Name
				}
			}
		}
	}
	return ways
}

type wayNames struct{ name, prefix string }

func waysOf(side plan.Side) (out []wayNames) {
	if side != plan.Client {
		out = append(out, wayNames{"servers_", "s_"}, wayNames{"answering_", "as_"})
	}
	if side != plan.Server {
		out = append(out, wayNames{"clients_", "d_"}, wayNames{"answered_", "ad_"})
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
		r.say(1, "map %s%s%s {", r.prefix, name, f.name)
		r.say(2, "type %s : verdict", f.typed)
		var elements []string
		for i := range r.p.Classes {
			for _, a := range r.p.Classes[i].Addresses {
				if a.Is6() == f.six {
					elements = append(elements, fmt.Sprintf("%s : goto %s%s%s", a, r.prefix, prefix, r.p.Classes[i].Name))
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
			r.say(2, `%s @%s update @%s { %s timeout %ds } drop comment "permitted no more"`, tuple, Ended[i], Ended[i], tuple,
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
			r.say(2, "meta nfproto %s meta l4proto udp fib daddr type { broadcast, multicast } goto %ss_%s", f.proto, r.prefix,
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
		points, do := x.Points.Intersect(asked), []string{fmt.Sprintf("tcp sport < %[1]d tcp dport >= %[1]d %[2]s", plan.Ephemeral,
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

// peers gives the conditions on the other end: of each family that the class has, one for
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

// member gives the condition that the other end is in a set, or with not that it is not.
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

// noted gives what a rule does with a packet, after what the kernel's log is given.
func (r *renderer) noted(what, do string) string {
	if r.o.Group == 0 {
		return do
	}
	return "goto " + r.noteOf(what)
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
