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
	"strings"

	"lucidorchard/core/plan"
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
		r.say(2, "limit rate 500/second burst 1000 packets log prefix \"%s%s\" group %d snaplen 128", logged, what,
			r.o.Group)
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

// printable keeps a comment on its line.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}
