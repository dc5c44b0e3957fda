package whatif_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/core/whatif"
)

// asked draws a side of a question over what the sample has.
func asked(t *rapid.T, e *estate.Estate, p *policy.Policy, label string) string {
	choices := []string{"any", "outside", "10.0.0.0/24", "10.0.0.0/8", "192.0.2.0/24", "fd00::/16",
		sample.Addresses[rapid.IntRange(0, len(sample.Addresses)-1).Draw(t, label+" address")].String()}
	for _, g := range p.GroupOrder {
		choices = append(choices, syntaxName(g.Name))
	}
	choices = append(choices, "(app is booking and not address in 10.0.0.4/30)", "("+sample.Expr(t, 2, 0)+")")
	for _, w := range e.All() {
		choices = append(choices, "workload "+quoted(w.ID))
	}
	return rapid.SampledFrom(choices).Draw(t, label)
}

func quoted(s string) string {
	return `"` + strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), `"`, `\"`) + `"`
}
func syntaxName(s string) string { return quoted(s) }

// What is answered of all members at once is what one gets by deciding every
// pair of addresses and every point on its own.
func TestAnswersAgreeWithDecidingEach(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, text, asOf := sample.Estate(t), sample.Policy(t), sample.Instant(t)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		c := decide.Compile(e, p, asOf)
		walk := decide.NewWalk(e, p, asOf)
		census := whatif.Count(c)
		client, server := asked(t, e, p, "client"), asked(t, e, p, "server")
		spec := rapid.SampledFrom([]string{"any", "tcp/443", "tcp/80-81", "tcp", "udp/53, tcp/22", "icmp",
			"proto/47"}).Draw(t, "service")
		line := fmt.Sprintf("%s -> %s %s", client, server, spec)
		qs, bad := census.Read(line)
		if len(bad) > 0 {
			require.Contains(t, bad[0].Message, "has no address now")
			return
		}
		q := &qs[0]
		again, bad := census.Read(q.Text)
		require.Empty(t, bad, q.Text)
		require.Equal(t, q.Text, again[0].Text)
		require.Equal(t, [2]int{len(q.Client.Ends), len(q.Server.Ends)},
			[2]int{len(again[0].Client.Ends), len(again[0].Server.Ends)})

		// Who is meant: every held address, and of the outside some in each prefix.
		ends := func(word string, side whatif.Side) []estate.Endpoint {
			var out []estate.Endpoint
			e.Held(asOf, func(ep estate.Endpoint) {
				in := false
				name := strings.Trim(strings.TrimPrefix(word, "workload "), `"`)
				if word == "any" {
					in = true
				} else if strings.HasPrefix(word, "workload ") {
					in = e.Workload(ep.Workload).ID == name
				} else if strings.HasPrefix(word, "(") {
					parsed, errs := expr.ParseText(word)
					require.Empty(t, errs)
					in = parsed.Eval(decide.Subject(e, ep),
						func(g string) expr.Truth { return walk.Group(g, ep) }) == expr.Yes
				} else if pre, ok, _ := expr.ReadPrefix(word); ok {
					in = pre.Contains(ep.Addr)
				} else if p.Groups[name] != nil {
					in = walk.Group(name, ep) == expr.Yes
				}
				if in {
					out = append(out, ep)
				}
			})
			held := 0
			for _, x := range side.Ends {
				if x.Workload != estate.Outside {
					held++
				} else {
					out = append(out, x.Endpoint)
					require.Nil(t, e.Holder(x.Addr, asOf))
				}
			}
			require.Equal(t, held, len(out)-(len(side.Ends)-held), "%s: %v", word, side.Ends)
			return out
		}
		for _, side := range []*whatif.Side{&q.Client, &q.Server} {
			for _, x := range side.Ends {
				require.True(t, side.Holds(x.Placed) || x.Prefix.IsValid(), side.Text)
			}
			for _, x := range side.Undecided {
				require.False(t, side.Holds(x.Placed), side.Text)
			}
		}
		clients, servers := ends(client, q.Client), ends(server, q.Server)
		var want whatif.Answer
		rules := map[*policy.Rule]int{}
		for _, a := range clients {
			for _, b := range servers {
				if a.Workload == b.Workload && a.Workload != estate.Outside {
					continue
				}
				want.Pairs++
				verdicts, by := map[decide.Verdict]bool{}, map[*policy.Rule]bool{}
				for _, pt := range points(p, q.Points) {
					r := walk.Decide(a, b, pt)
					verdicts[decide.VerdictOf(r)], by[r] = true, true
				}
				if len(verdicts) > 1 {
					want.Mixed++
				}
				for v := range verdicts {
					if len(verdicts) == 1 {
						want.Of[v]++
					}
				}
				for r := range by {
					rules[r]++
				}
			}
		}
		got := census.Answer(q)
		require.Equal(t, []any{want.Pairs, want.Of, want.Mixed}, []any{got.Pairs, got.Of, got.Mixed}, "%s\n%s", line,
			text)
		require.Len(t, got.Parts, len(rules))
		for _, part := range got.Parts {
			require.Equal(t, rules[part.Rule], part.Pairs)
			require.Same(t, part.Rule, walk.Decide(part.Client.Endpoint, part.Server.Endpoint, part.Point),
				"the example")
			require.True(t, part.Points.Contains(part.Point))
		}
	})
}

// points is one in each stretch that some rule could tell apart from the next.
func points(p *policy.Policy, set service.Set) []service.Point {
	bounds := map[service.Point]bool{}
	add := func(s service.Set) {
		for _, r := range s {
			bounds[r.Lo] = true
			if r.Hi+1 > r.Hi {
				bounds[r.Hi+1] = true
			}
		}
	}
	add(set)
	for _, r := range p.Rules {
		add(p.Points(r.On))
	}
	var out []service.Point
	for b := range bounds {
		if set.Contains(b) {
			out = append(out, b)
		}
	}
	return out
}

const company = `service web = tcp/80, tcp/443
group entry = app is booking and tier is entry
group store = app is booking and tier is store
group depots = address in 10.40.0.0/16
group live = env is live
layer guardrails
reject any -> store on tcp/22 "Only gangway"
layer allowances
permit entry -> store on tcp/5432 within live
permit depots -> entry on web
`

func workload(id, addr string, tags ...string) estate.Workload {
	w := estate.Workload{ID: id, Name: id,
		Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}}
	for i := 0; i < len(tags); i += 2 {
		w.SetTag(estate.Tag{Key: tags[i], Value: tags[i+1]})
	}
	return w
}

func census(t *testing.T) *whatif.Census {
	e, conflicts := estate.New([]estate.Workload{
		workload("bkg-entry-01", "10.1.0.1", "app", "booking", "tier", "entry", "env", "live"),
		workload("bkg-entry-02", "10.1.0.2", "app", "booking", "tier", "entry", "env", "live"),
		workload("bkg-entry-03", "10.1.0.3", "app", "booking", "tier", "entry"),
		workload("bkg-store-01", "10.1.1.1", "app", "booking", "tier", "store", "env", "live"),
		workload("stray", "10.1.1.9", "app", "booking"),
	})
	require.Empty(t, conflicts)
	p, errs := policy.Parse(company)
	require.Empty(t, errs)
	return whatif.Count(decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000}))
}

func TestAnAnswerNamesThoseThatDiffer(t *testing.T) {
	c := census(t)
	qs, errs := c.Read("entry -> bkg-store-01 tcp/5432 = permit\n\n# who serves the depots?\ndepots -> entry web = " +
		"permit\nentry -> store on tcp/22 = reject\n10.40.7.0/24 -> bkg-entry-01 tcp/8443 = uncovered\nentry -> " +
		"store tcp/22, tcp/5432 = permit")
	require.Empty(t, errs)
	require.Len(t, qs, 5)

	a := c.Answer(&qs[0])
	require.Equal(t, 3, a.Pairs)
	require.Equal(t, decide.Counts{decide.Permit: 2, decide.Uncovered: 1}, a.Of)
	require.False(t, qs[0].As(a))
	require.Equal(t, decide.Uncovered, a.Parts[0].Verdict)
	require.Len(t, a.Parts[0].Clients, 1)
	require.Equal(t, "10.1.0.3", a.Parts[0].Client.Addr.String())
	require.Equal(t, []string{"env"}, c.Lacks(a.Parts[0].Clients[0]))
	require.Equal(t, 1, len(qs[0].Client.Undecided), "stray lacks its tier")
	require.Equal(t, "permit entry -> store on tcp/5432 within live", a.Parts[1].Rule.String())

	require.Equal(t, "permit for 2 of 3; uncovered for 1 of 3: bkg-entry-03 (env missing); 1 more may be in entry: "+
		"stray (tier, env missing)", c.Words(&qs[0], a))
	outside := c.Answer(&qs[3])
	require.Equal(t, "uncovered", c.Words(&qs[3], outside))

	require.Equal(t, 4, qs[1].Line)
	for i, want := range map[int]bool{1: true, 2: true, 3: true, 4: false} {
		require.Equal(t, want, qs[i].As(c.Answer(&qs[i])), qs[i].Text)
	}
	both, errs := c.Read("bkg-entry-01, entry, (tier is store) -> outside, store any")
	require.Empty(t, errs)
	require.Len(t, both[0].Client.Ends, 4, "each counts once")
	require.Len(t, both[0].Client.Undecided, 1)
	require.Equal(t, "bkg-entry-01, entry, (tier is store) -> outside, store any", both[0].Text)

	mixed := c.Answer(&qs[4])
	require.Equal(t, 3, mixed.Mixed, "rejected on one port, permitted or uncovered on the other")
	require.Equal(t, "entry -> store tcp/22, tcp/5432 = permit", qs[4].Text)
}

func TestLinesThatCannotBeReadAreReportedAndTheOthersRead(t *testing.T) {
	qs, errs := census(t).Read(strings.Join([]string{
		"entry -> store",                     // no service
		"entry -> nowhere tcp/443",           // nobody
		"entry store tcp/443",                // no arrow
		"entry -> store tcp/443 = perhaps",   // no verdict
		"entry -> store tcp/443 permit",      // what is that?
		"10.0.0.5/8 -> store tcp/443",        // host bits
		"entry -> store tcp/99999",           // no port
		`"stray" -> workload nobody tcp/443`, // no id
		"stray -> store tcp/443",             // fine
	}, "\n"))
	require.Len(t, qs, 1)
	require.Equal(t, 9, qs[0].Line)
	var said []string
	for _, e := range errs {
		said = append(said, e.Error())
	}
	require.Len(t, said, 8)
	for i, want := range []string{
		"1:15: found the end of the statement, expected a service",
		"2:10: there is no group and no workload nowhere",
		"3:7: found store, expected ->",
		"4:26: found perhaps, expected permit, reject or uncovered",
		"5:24: found permit, expected = with the expected verdict",
		"6:1: found 10.0.0.5/8, whose host bits are set, expected the network address: 10.0.0.0/8",
		"7:16:",
		"8:21: there is no workload with the id nobody",
	} {
		require.Contains(t, said[i], want)
	}
}

// BenchmarkBench answers 200 lines over groups of an estate, as after an edit.
func BenchmarkBench(b *testing.B) {
	e, text := sample.Large(100_000, 1000, 2000)
	p, errs := policy.Parse(text)
	require.Empty(b, errs)
	c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
	var lines strings.Builder
	for i := range 200 {
		g, h := p.GroupOrder[i*5%len(p.GroupOrder)], p.GroupOrder[(i*7+3)%len(p.GroupOrder)]
		fmt.Fprintf(&lines, "%s -> %s tcp/443\n", syntaxName(g.Name), syntaxName(h.Name))
	}
	var census *whatif.Census
	b.Run("census", func(b *testing.B) {
		for range b.N {
			census = whatif.Count(c)
		}
	})
	b.Run("lines", func(b *testing.B) {
		for range b.N {
			qs, errs := census.Read(lines.String())
			require.Empty(b, errs)
			census.AnswerAll(qs)
		}
	})
}

func TestRenaming(t *testing.T) {
	for question, want := range map[string]string{
		"live -> trial tcp/443":                        "alive -> trial tcp/443",
		"trial, live -> live any":                      "trial, alive -> alive any",
		"(member of live and env is live) -> live any": "(member of alive and env is live) -> alive any",
		`"live" -> trial any`:                          "alive -> trial any",
		"workload live -> trial any":                   "",
		"trial -> depots any":                          "",
		"lively -> trial tcp/1":                        "",
		"(env in (live, trial)) -> trial any":          "",
		"10.0.0.1 -> live tcp/443, udp/53":             "10.0.0.1 -> alive tcp/443, udp/53",
	} {
		got, named := whatif.Rename(question, "live", "alive")
		require.Equal(t, want != "", named, question)
		if named {
			require.Equal(t, want, got)
		} else {
			require.Equal(t, question, got)
		}
	}
}
