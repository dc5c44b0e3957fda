// Package sample draws random estates, policies and flows for property tests.
// They are small and crowded, so that names, addresses and services meet often.
package sample

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/service"
)

var (
	apps   = []string{"booking", "Booking", "fares", "tides"}
	tiers  = []string{"entry", "logic", "store", ""}
	envs   = []string{"live", "LIVE", "trial", "bench", ""}
	sites  = []string{"northquay", "southquay", ""}
	groups = []string{"g0", "g1", "g2", "g3", "g4", "10.0.0.1", "any"}
	prefix = []string{"10.0.0.0/24", "10.0.0.0/29", "10.0.0.4/30", "10.0.0.1", "0.0.0.0/0", "10.1.0.0/16",
		"fd00::/64", "fd00::1", "::/0", "::ffff:10.0.0.0/126", "192.0.2.0/25", "192.0.2.128/25", "192.0.2.0/24"}
	specs = []string{"tcp", "udp/53", "tcp/443", "tcp/0-1023", "tcp/1000-65535", "icmp", "icmp/8", "icmp/8.0",
		"icmp6/128", "proto/47", "proto/6", "sctp/09", "web", "mix"}
)

// Addresses are those that estates and flows use.
var Addresses = func() []netip.Addr {
	var out []netip.Addr
	for i := range 10 {
		out = append(out, netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}))
	}
	for _, s := range []string{"10.1.2.3", "192.0.2.5", "192.0.2.200", "198.51.100.7", "fd00::1", "fd00::2",
		"fd00:1::1", "2001:db8::9"} {
		out = append(out, netip.MustParseAddr(s))
	}
	return out
}()

// Points are services at the edges of those that policies mention.
var Points = []service.Point{
	service.PointOf(service.TCP, 0), service.PointOf(service.TCP, 443), service.PointOf(service.TCP, 999),
	service.PointOf(service.TCP, 1000),
	service.PointOf(service.TCP, 1023), service.PointOf(service.TCP, 1024), service.PointOf(service.TCP, 65535),
	service.PointOf(service.UDP, 52),
	service.PointOf(service.UDP, 53), service.PointOf(service.UDP, 54), service.PointOf(service.SCTP, 9),
	service.PointOf(service.ICMP, service.UnknownType),
	service.PointOf(service.ICMP, 8<<8), service.PointOf(service.ICMP, 8<<8|1), service.PointOf(service.ICMP, 9<<8),
	service.PointOf(service.ICMP6, 128<<8),
	service.PointOf(47, 0), service.PointOf(0, 0), service.PointOf(255, 0),
}

// Instant draws one of a few instants around which leases begin and end.
func Instant(t *rapid.T) estate.Instant {
	return estate.Instant{Sec: 1_795_000_000 + rapid.Int64Range(0, 9).Draw(t, "second")*3600}
}

func lease(t *rapid.T) estate.Lease {
	l := estate.Lease{Addr: rapid.SampledFrom(Addresses).Draw(t, "addr"), From: estate.Beginning, Until: estate.End}
	if rapid.Bool().Draw(t, "has from") {
		l.From = Instant(t)
	}
	if rapid.Bool().Draw(t, "has until") {
		l.Until = Instant(t)
	}
	return l
}

// Estate draws workloads without conflicting claims.
func Estate(t *rapid.T) *estate.Estate {
	n := rapid.IntRange(0, 7).Draw(t, "workloads")
	var ws []estate.Workload
	for i := range n {
		w := estate.Workload{ID: fmt.Sprintf("w%d", i),
			Name: rapid.SampledFrom([]string{"", "be-1", "BE-2", "canary-x"}).Draw(t, "name"),
			OS:   rapid.SampledFrom([]string{"", "linux"}).Draw(t, "os")}
		for k, key := range []string{"app", "env", "site", "tier"} {
			if v := rapid.SampledFrom([][]string{apps, envs, sites, tiers}[k]).Draw(t, key); v != "" {
				w.Tags = append(w.Tags, estate.Tag{Key: key, Value: v})
			}
		}
		for range rapid.IntRange(0, 3).Draw(t, "leases") {
			w.Leases = append(w.Leases, lease(t))
		}
		ws = append(ws, w)
	}
	for {
		e, conflicts := estate.New(ws)
		if len(conflicts) == 0 {
			return e
		}
		ids := conflicts[0]
		for i := range ws {
			if ws[i].ID == ids.A {
				ws[i].Leases = nil
			}
		}
	}
}

// Expr draws an expression; it names only groups after the one of the number.
func Expr(t *rapid.T, depth, group int) string {
	ops := 9
	if depth <= 0 {
		ops = 6
	}
	switch rapid.IntRange(0, ops).Draw(t, "op") {
	case 0:
		return rapid.SampledFrom([]string{"any", "outside", "has env", "lacks tier", "has os", "has tag:os",
			"name starts be", `name ends "2"`, `name matches "^BE"`, `app contains "OO"`}).Draw(t, "plain")
	case 1:
		return "address in " + strings.Join(rapid.SliceOfN(rapid.SampledFrom(prefix), 1, 2).Draw(t, "prefixes"), ", ")
	case 2:
		return "env " + rapid.SampledFrom([]string{"is live", "is not live", "in (live, trial)",
			"not in (trial, bench)", `is ""`}).Draw(t, "env test")
	case 3, 4:
		return "app " + rapid.SampledFrom([]string{"is booking", "is not FARES", "in (tides, fares)"}).Draw(t,
			"app test")
	case 5:
		return rapid.SampledFrom([]string{"tier is store", "tier is not entry", "tag:site is northquay",
			`"site" ends quay`, "id in (w1, w2)"}).Draw(t, "other test")
	case 6:
		if group+1 < len(groups) {
			return "member of " + groupName(rapid.SampledFrom(groups[group+1:]).Draw(t, "member"))
		}
		return "any"
	case 7:
		return "not (" + Expr(t, depth-1, group) + ")"
	case 8:
		return "(" + Expr(t, depth-1, group) + " or " + Expr(t, depth-1, group) + ")"
	}
	return "(" + Expr(t, depth-1, group) + " and (" + Expr(t, depth-1, group) + "))"
}

func groupName(s string) string {
	if s == "any" || s[0] == '1' {
		return `"` + s + `"`
	}
	return s
}

func list(t *rapid.T) string {
	if rapid.IntRange(0, 4).Draw(t, "any") == 0 {
		return "any"
	}
	var items []string
	for range rapid.IntRange(1, 3).Draw(t, "items") {
		switch rapid.IntRange(0, 5).Draw(t, "item") {
		case 0:
			items = append(items, "outside")
		case 1:
			items = append(items, rapid.SampledFrom(prefix).Draw(t, "prefix"))
		case 2:
			items = append(items, rapid.SampledFrom([]string{"workload w1", `workload "w2"`,
				"workload nobody"}).Draw(t, "workload"))
		default:
			items = append(items, groupName(rapid.SampledFrom(groups).Draw(t, "group")))
		}
	}
	return strings.Join(items, ", ")
}

func services(t *rapid.T) string {
	if rapid.IntRange(0, 3).Draw(t, "any service") == 0 {
		return "any"
	}
	return strings.Join(rapid.SliceOfN(rapid.SampledFrom(specs), 1, 3).Draw(t, "specs"), ", ")
}

func clauses(t *rapid.T, rule bool) string {
	var out []string
	choices := []string{"within g1", "same env", "same app, tag:site", "across env", "across app, env", ""}
	if rule {
		choices = append(choices, "area yard", "until 2026-11-19", "until 2026-11-18", "log")
	}
	seen := map[string]bool{}
	for range rapid.IntRange(0, 2).Draw(t, "clauses") {
		c := rapid.SampledFrom(choices).Draw(t, "clause")
		word, _, _ := strings.Cut(c, " ")
		if !seen[word] {
			out = append(out, c)
		}
		seen[word] = true
	}
	return " " + strings.Join(out, " ")
}

// Rule draws a line that is a rule.
func Rule(t *rapid.T) string {
	s := rapid.SampledFrom([]string{"", "", "", "off "}).Draw(t, "off")
	switch rapid.IntRange(0, 5).Draw(t, "action") {
	case 0:
		var gs []string
		for range rapid.IntRange(2, 3).Draw(t, "apart") {
			gs = append(gs, groupName(rapid.SampledFrom(groups).Draw(t, "group")))
		}
		s += "apart " + strings.Join(gs, ", ")
	case 1, 2:
		s += "reject " + list(t) + " -> " + list(t) + " on " + services(t)
	default:
		s += "permit " + list(t) + " -> " + list(t) + " on " + services(t)
	}
	return s + clauses(t, true) +
		rapid.SampledFrom([]string{"", ` "a note"`, ` "a \"note\""  # and a comment`}).Draw(t, "note")
}

// Assert draws a line that is an assertion.
func Assert(t *rapid.T) string {
	return "assert " + rapid.SampledFrom([]string{"never", "always", "only"}).Draw(t, "kind") + " " + list(t) +
		" -> " + list(t) + " on " + services(t) + clauses(t, false)
}

// Policy draws a policy text without errors, in a layout of its own.
func Policy(t *rapid.T) string {
	lines := []string{"service web = tcp/80, tcp/443", "service mix = web, icmp/0008, udp/053  # mixed",
		"area yard = g2 owner \"the crew\""}
	for i, g := range groups {
		line := "group  " + groupName(g) + " =  " + Expr(t, 2, i)
		if rapid.IntRange(0, 4).Draw(t, "include") == 0 {
			line += " include w0, nobody"
		}
		if rapid.IntRange(0, 4).Draw(t, "exclude") == 0 {
			line += " exclude \"w1\""
		}
		lines = append(lines, line)
	}
	lines = append(lines, "", "", "layer guardrails")
	for range rapid.IntRange(0, 6).Draw(t, "rules") {
		lines = append(lines, Rule(t))
	}
	lines = append(lines, "  layer closing \"the rest\"")
	for range rapid.IntRange(0, 2).Draw(t, "closing rules") {
		lines = append(lines, strings.Replace(Rule(t), " on ", " \\\n  on ", 1))
	}
	for range rapid.IntRange(0, 3).Draw(t, "assertions") {
		lines = append(lines, Assert(t))
	}
	return strings.Join(lines, rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "line end"))
}

// EditEstate draws an edit of an estate: a tag, a name, a lease, or a whole
// workload. It returns the estate after it and the workloads that it touched.
func EditEstate(t *rapid.T, e *estate.Estate) (*estate.Estate, []int32) {
	var ids []string
	for _, w := range e.All() {
		ids = append(ids, w.ID)
	}
	var put []estate.Workload
	var remove []string
	for range rapid.IntRange(1, 2).Draw(t, "workloads edited") {
		w := estate.Workload{ID: fmt.Sprintf("w%d", rapid.IntRange(0, 9).Draw(t, "new workload"))}
		if len(ids) > 0 {
			w.ID = rapid.SampledFrom(append(ids, w.ID)).Draw(t, "workload edited")
		}
		if i, ok := e.ByID(w.ID); ok {
			w = *e.Workload(i)
			w.Leases = slices.Clone(w.Leases)
		}
		switch rapid.IntRange(0, 6).Draw(t, "estate edit") {
		case 0:
			remove = append(remove, w.ID)
			continue
		case 1:
			w.Leases = append(w.Leases, lease(t))
		case 2:
			if n := len(w.Leases); n > 0 {
				w.Leases = slices.Delete(w.Leases, 0, 1)
			}
		case 3:
			w.Name = rapid.SampledFrom([]string{"", "be-1", "canary-x"}).Draw(t, "name")
		default:
			k := rapid.IntRange(0, 3).Draw(t, "key")
			w.SetTag(estate.Tag{Key: []string{"app", "env", "site", "tier"}[k],
				Value: rapid.SampledFrom([][]string{apps, envs, sites, tiers}[k]).Draw(t, "value")})
		}
		if !slices.ContainsFunc(put, func(have estate.Workload) bool { return have.ID == w.ID }) &&
			!slices.Contains(remove, w.ID) {
			put = append(put, w)
		}
	}
	next, touched, conflicts := e.With(put, remove)
	if len(conflicts) > 0 {
		return e, nil
	}
	return next, touched
}

// EditPolicy draws an edit of a policy text in canonical layout: of a group, of
// rules, or none at all.
func EditPolicy(t *rapid.T, text string) string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	var ruleLines, groupLines []int
	for i, l := range lines {
		word, _, _ := strings.Cut(l, " ")
		switch word {
		case "permit", "reject", "apart", "off":
			ruleLines = append(ruleLines, i)
		case "group":
			groupLines = append(groupLines, i)
		}
	}
	switch op := rapid.IntRange(0, 6).Draw(t, "policy edit"); {
	case op == 0:
		k := rapid.IntRange(0, len(groupLines)-1).Draw(t, "group edited")
		for i, g := range groups {
			if head := "group " + groupName(g) + " = "; strings.HasPrefix(lines[groupLines[k]], head) {
				lines[groupLines[k]] = head + Expr(t, 2, i)
			}
		}
	case len(ruleLines) == 0 || op == 1:
		lines = append(lines, Rule(t))
	default:
		i := rapid.SampledFrom(ruleLines).Draw(t, "rule edited")
		switch op {
		case 2:
			lines = slices.Delete(lines, i, i+1)
		case 3:
			lines = slices.Insert(lines, i, Rule(t))
		case 4:
			lines[i] = Rule(t)
		case 5:
			j := rapid.SampledFrom(ruleLines).Draw(t, "rule moved to")
			lines[i], lines[j] = lines[j], lines[i]
		case 6:
			if rest, off := strings.CutPrefix(lines[i], "off "); off {
				lines[i] = rest
			} else {
				lines[i] = "off " + lines[i]
			}
		}
	}
	return strings.Join(lines, "\n") + "\n"
}
