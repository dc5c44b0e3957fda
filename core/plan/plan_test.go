package plan_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// drawn is a random estate, policy and instant.
func drawn(t *rapid.T) *decide.Compiled {
	e := sample.Estate(t)
	p, errs := policy.Parse(sample.Policy(t))
	require.Empty(t, errs)
	return decide.Compile(e, p, sample.Instant(t))
}

func someGuards(t *rapid.T, e *estate.Estate) (out []int32) {
	for i := range e.All() {
		if rapid.Bool().Draw(t, "guards") {
			out = append(out, i)
		}
	}
	return out
}

// For every conversation of which one end is guarded on the side that the point
// polices, the plan gives the verdict of the walk, and no word of any other.
func TestAPlanSaysTheSameAsThePolicy(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		guards := someGuards(t, c.Estate)
		side := rapid.SampledFrom([]plan.Side{plan.Server, plan.Client, plan.Both}).Draw(t, "side")
		p := plan.NewPlanner(c).Plan(guards, plan.Gate, side)
		d := p.Decider()
		walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
		guarded := func(ep estate.Endpoint) bool {
			return ep.Workload != estate.Outside && slices.Contains(guards, ep.Workload)
		}
		for range 60 {
			a := c.Estate.At(rapid.SampledFrom(sample.Addresses).Draw(t, "client"), c.AsOf)
			b := c.Estate.At(rapid.SampledFrom(sample.Addresses).Draw(t, "server"), c.AsOf)
			pt := rapid.SampledFrom(sample.Points).Draw(t, "point")
			fate := d.Decide(a.Addr, b.Addr, pt, c.AsOf.Sec)
			got, line, concerned := fate.Verdict, fate.Line, fate.Concerned
			require.Equal(t, side != plan.Client && guarded(b) || side != plan.Server && guarded(a), concerned)
			if !concerned {
				continue
			}
			want := walk.Decide(a, b, pt)
			require.Equal(t, decide.VerdictOf(want), got, "%s -> %s on %s", a.Addr, b.Addr, pt)
			if want != nil {
				require.Equal(t, want.Line, line)
			}
		}
	})
}

// Every address belongs to exactly one stretch, and the stretch says of it what
// the compilation says.
func TestStretchesAreTheWholeLine(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		line := c.Stretches(c.AsOf)
		require.Equal(t, netip.IPv4Unspecified(), line[0].First)
		for i, s := range line[1:] {
			before := line[i].Last
			if s.First == netip.IPv6Unspecified() {
				require.Equal(t, netip.MustParseAddr("255.255.255.255"), before)
				continue
			}
			require.Equal(t, before.Next(), s.First)
		}
		require.False(t, line[len(line)-1].Last.Next().IsValid())
		for _, a := range sample.Addresses {
			at := slices.IndexFunc(line, func(s decide.Stretch) bool {
				return s.First.Compare(a) <= 0 && a.Compare(s.Last) <= 0
			})
			ep := c.At(a, c.AsOf)
			require.Equal(t, ep.Class, line[at].Class, a)
			require.Equal(t, ep.Workload, line[at].Workload, a)
		}
	})
}

func TestPrefixesMakeUpTheSpan(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.Uint32().Draw(t, "a"), rapid.Uint32().Draw(t, "b")
		if rapid.Bool().Draw(t, "near") {
			b = a + b%64
		}
		if b < a {
			a, b = b, a
		}
		addr := func(n uint32) netip.Addr {
			return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
		}
		s := plan.Span{First: addr(a), Last: addr(b)}
		next, n := s.First, 0
		for p := range s.Prefixes {
			require.Equal(t, next, p.Addr())
			require.Equal(t, p, p.Masked())
			end := p.Addr().As4()
			last := uint32(end[0])<<24 | uint32(end[1])<<16 | uint32(end[2])<<8 | uint32(end[3])
			last += uint32(uint64(1)<<(32-p.Bits()) - 1)
			require.LessOrEqual(t, last, b)
			next, n = addr(last).Next(), n+1
		}
		require.Equal(t, s.Last.Next(), next)
		require.LessOrEqual(t, n, 62)
	})
}

// A host holds what concerns it: not more for a policy that is a hundred times as
// long, nor because an estate has more of others.
func TestAPlanIsBoundedByWhatConcernsThePoint(t *testing.T) {
	sizes := map[int]int{}
	for _, rules := range []int{20, 2000} {
		e, text := sample.Large(2000, 200, rules)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
		host := plan.NewPlanner(c).Plan([]int32{7}, plan.Host, plan.Both)
		require.Len(t, host.Classes, 1)
		relevant := 0
		walk := decide.NewWalk(e, p, c.AsOf)
		ep := e.At(sample.LargeAddr(7), c.AsOf)
		for _, r := range p.Rules {
			if r.Action == policy.Apart || walk.InList(r.Left, ep) || walk.InList(r.Right, ep) {
				relevant++
			}
		}
		sizes[rules] = len(host.Classes[0].Server) + len(host.Classes[0].Client)
		require.LessOrEqual(t, sizes[rules], 2*relevant)
	}
}

// Sets keep their names when members come and go, so that a change of a tag moves
// elements and nothing else.
func TestSetsKeepTheirNames(t *testing.T) {
	var ws []estate.Workload
	for i, tier := range []string{"entry", "entry", "store"} {
		w := estate.Workload{ID: "w" + string(rune('0'+i)), Leases: []estate.Lease{{From: estate.Beginning,
			Until: estate.End, Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)})}}}
		w.SetTag(estate.Tag{Key: "tier", Value: tier})
		ws = append(ws, w)
	}
	planOf := func() *plan.Plan {
		e, _ := estate.New(ws)
		p, errs := policy.Parse("group entry = tier is entry\ngroup store = tier is store\nlayer allowances\n" +
			"permit entry -> store on tcp/5432\nreject any -> store on any\n")
		require.Empty(t, errs)
		return plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{2}, plan.Host, plan.Server)
	}
	before := planOf()
	require.Equal(t, "10.0.0.1-10.0.0.2", before.Sets[0].Addresses.String())
	ws[1].SetTag(estate.Tag{Key: "tier", Value: "bus"})
	after := planOf()
	require.Equal(t, before.Sets[0].Name, after.Sets[0].Name)
	require.Equal(t, "10.0.0.1", after.Sets[0].Addresses.String())
	require.Equal(t, before.Classes, after.Classes)
	require.NotEqual(t, before.Hash(), after.Hash())
	require.Equal(t, []string{"tcp/5432"}, after.Classes[0].Server[0].On)
	require.True(t, strings.HasPrefix(after.Classes[0].Server[0].Words, "permit entry -> store"))
	concerned := after.Decider().Decide(netip.MustParseAddr("10.0.0.3"), netip.MustParseAddr("10.0.0.1"),
		service.PointOf(service.TCP, 1), 0).Concerned
	require.False(t, concerned)
}

// What a point holds does not hang on which other points were asked for before, nor on
// what else was compiled: else every server would tell it anew.
func TestAPlanIsTheSameWhoeverAsksFirst(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		guards := someGuards(t, c.Estate)
		alone := plan.NewPlanner(c).Plan(guards, plan.Gate, plan.Both)
		busy := plan.NewPlanner(c)
		for i := range c.Estate.All() {
			busy.Plan([]int32{i}, plan.Host, plan.Both)
		}
		other, errs := policy.Parse(sample.Policy(t))
		require.Empty(t, errs)
		back := c.WithPolicy(other, c.AsOf).After.WithPolicy(c.Policy, c.AsOf).After
		words := func(p *plan.Plan) (out []string) {
			for _, class := range p.Classes {
				for _, side := range [][]plan.Rule{class.Server, class.Client} {
					for _, r := range side {
						if !r.Anybody() {
							out = append(out, p.PeersOf(&r).String())
						}
					}
				}
			}
			return out
		}
		require.Equal(t, words(alone), words(busy.Plan(guards, plan.Gate, plan.Both)))
		require.Equal(t, alone.Hash(), busy.Plan(guards, plan.Gate, plan.Both).Hash())
		require.Equal(t, alone.RulesHash(), plan.NewPlanner(back).Plan(guards, plan.Gate, plan.Both).RulesHash())
		require.Equal(t, words(alone), words(plan.NewPlanner(back).Plan(guards, plan.Gate, plan.Both)))
	})
}

// Whatever the rules, a kernel has at most four times as many elements as the members of
// what they name.
func TestElementsAreBoundedByMembers(t *testing.T) {
	most := 0.0
	rapid.Check(t, func(t *rapid.T) {
		c := drawn(t)
		p := plan.NewPlanner(c).Plan(someGuards(t, c.Estate), plan.Gate, plan.Both)
		most = max(most, bounded(t, c, p))
	})
	t.Logf("at most %.2f times the members in a kernel", most)
}

// bounded checks a plan against the members of what a policy names, and returns how many
// times these its kernel has.
func bounded(t require.TestingT, c *decide.Compiled, p *plan.Plan) float64 {
	members := 0
	seen := map[string]bool{}
	for _, s := range p.Sets {
		require.False(t, seen[s.Name], "%s is there twice", s.Name)
		seen[s.Name] = true
	}
	for _, size := range membersOf(c) {
		members += size
	}
	named := 2*len(c.Policy.GroupOrder) + 1
	keys := map[string]bool{}
	for _, r := range c.Policy.Rules {
		named += len(r.Left.Items) + len(r.Right.Items)
		for _, k := range slices.Concat(r.Same, r.Across) {
			keys[k.String()] = true
		}
	}
	named += len(keys) * (1 + c.Estate.Len())
	named *= 1 + c.Estate.Len() // what values leave of each
	require.LessOrEqual(t, len(p.Sets), named, "a set for each thing that is named")
	sets, _ := nft.Contents(plan.Loaded{Enforced: p})
	held := 0
	for _, a := range sets {
		held += len(a)
	}
	require.LessOrEqual(t, held, 4*members)
	return float64(held) / float64(max(1, members))
}

// membersOf returns how many addresses, as ranges, each thing has that the rules of a policy
// name.
func membersOf(c *decide.Compiled) map[string]int {
	out := map[string]int{}
	ranges := func(is func(s decide.Stretch) bool) (n int) {
		before := false
		for _, s := range c.Stretches(c.AsOf) {
			in := is(s)
			if in && (!before || s.First == netip.IPv6Unspecified()) {
				n++
			}
			before = in
		}
		return n
	}
	for _, g := range c.Policy.GroupOrder {
		out["group "+g.Name] = ranges(func(s decide.Stretch) bool {
			return c.Group(g.Name,
				c.At(s.First, c.AsOf)) == expr.Yes
		})
	}
	for _, r := range c.Policy.Rules {
		for _, item := range slices.Concat(r.Left.Items, r.Right.Items) {
			switch item.Kind {
			case policy.IsOutside:
				out["outside"] = ranges(func(s decide.Stretch) bool { return s.Workload == estate.Outside })
			case policy.InPrefix:
				out[item.Prefix.String()] = 1
			case policy.IsWorkload:
				out["workload "+item.Name] = ranges(func(s decide.Stretch) bool {
					return s.Workload != estate.Outside && c.Estate.Workload(s.Workload).ID == item.Name
				})
			}
		}
		for _, k := range slices.Concat(r.Same, r.Across) { // its values, and all that have one
			out["key "+k.String()] = 2 * ranges(func(s decide.Stretch) bool {
				if s.Workload == estate.Outside {
					return false
				}
				_, has := k.Of(c.Estate.Workload(s.Workload))
				return has
			})
			for _, w := range c.Estate.All() { // neighbours with other values are ranges of their own
				if _, has := k.Of(w); has {
					out["key "+k.String()] += len(w.Leases)
				}
			}
		}
	}
	return out
}

// A policy of the size of a small company, drawn at random, over many workloads.
func TestARandomPolicyOfACompanyIsBounded(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	e, _ := sample.Large(3000, 40, 10)
	var text strings.Builder
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for i := range 150 {
		fmt.Fprintf(&text, "group g%d = %s is %s %s %s is %s\n", i, pick("app", "tier", "env", "site"),
			pick("app1", "app7", "entry", "store", "live",
				"northquay"), pick("or", "and", "and not"), pick("app", "tier", "env"),
			pick("app3", "logic", "trial", "live"))
	}
	text.WriteString("layer l\n")
	for range 600 {
		fmt.Fprintf(&text, "%s g%d, g%d -> g%d on tcp/%d %s\n", pick("permit", "reject"), r.IntN(150), r.IntN(150),
			r.IntN(150), 1+r.IntN(9000),
			pick("", "same env", "across env", "within g3", "same app, env", "same tier"))
	}
	p, errs := policy.Parse(text.String())
	require.Empty(t, errs)
	c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
	var guards []int32
	for i := range e.All() {
		if r.IntN(4) == 0 {
			guards = append(guards, i)
		}
	}
	made := plan.NewPlanner(c).Plan(guards, plan.Gate, plan.Both)
	t.Logf("%d classes, %d sets, %.2f times the members in a kernel", len(made.Classes), len(made.Sets),
		bounded(t, c, made))
	var b strings.Builder
	require.NoError(t, nft.Write(&b, made, nft.Options{}))
	t.Logf("%d KiB of script, %d rules", b.Len()>>10, strings.Count(b.String(), "counter "))
}

// Each clause, alone and with others, for every pair of workloads of a small estate: the
// plan of a point that guards some, or all, says what the walk says.
func TestClausesInAPlan(t *testing.T) {
	var ws []estate.Workload
	for i, tags := range []string{"app=booking env=live tier=entry", "app=booking env=live tier=store",
		"app=booking env=trial tier=entry",
		"app=fares env=live tier=store", "app=fares env=trial", "env=live tier=entry", "app=fares", "",
		"app=BOOKING env=Live tier=logic"} {
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End,
			Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(3 * i)})}}}
		for _, tag := range strings.Fields(tags) {
			key, value, _ := strings.Cut(tag, "=")
			w.SetTag(estate.Tag{Key: key, Value: value})
		}
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	rules := 0
	for _, clauses := range []string{"", "same env", "same app, env", "across env", "across app", "across app, env",
		"within live", "area fares", "area fares same env",
		"within live across app", "same app across tier", "within fares area booking",
		"across tier same env within live", "until 2020-01-01"} {
		for _, list := range []string{"any -> any", "entries -> stores", "entries, outside -> any",
			"any -> stores, workload w4", "10.0.0.0/29 -> any",
			"any -> outside, fares"} {
			for _, rule := range []string{"permit " + list + " on tcp/443 " + clauses, "reject " + list + " on tcp " +
				clauses,
				"apart live, fares, entries " + clauses} {
				text := "group live = env is live\ngroup fares = app is fares\ngroup booking = app is booking\ngroup entries = tier is entry\n" +
					"group stores = tier is store\narea fares = fares\narea booking = booking\nlayer l\n" + rule +
					"\nreject any -> entries on tcp/443\n"
				p, errs := policy.Parse(text)
				require.Empty(t, errs, rule)
				samePolicy(t, decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000}), rule)
				rules++
			}
		}
	}
	require.Greater(t, rules, 200)
}

// A rule that ends is followed by the next one, in the plan that was made before.
func TestARuleThatEndsLeavesTheNextOne(t *testing.T) {
	e, _ := estate.New([]estate.Workload{
		{ID: "a", Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End, Addr: netip.MustParseAddr("10.0.0.1")}}},
		{ID: "b", Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End, Addr: netip.MustParseAddr("10.0.0.2")}}},
	})
	p, errs := policy.Parse("layer l\npermit workload a -> workload b on tcp/443 until 2026-12-31\n" +
		"reject any -> workload b on tcp\n")
	require.Empty(t, errs)
	before, err := estate.ParseInstant("2026-12-01T00:00:00Z")
	require.NoError(t, err)
	last, err := estate.ParseInstant("2026-12-31T23:59:59Z")
	require.NoError(t, err)
	made := plan.NewPlanner(decide.Compile(e, p, before)).Plan([]int32{1}, plan.Gate, plan.Server)
	d := made.Decider()
	a, b := netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2")
	https := service.PointOf(service.TCP, 443)
	require.Equal(t, 2, d.Decide(a, b, https, before.Sec).Line)
	require.Equal(t, 2, d.Decide(a, b, https, last.Sec).Line, "the day itself counts")
	require.Equal(t, 3, d.Decide(a, b, https, last.Sec+1).Line)
	var until []int64
	for _, c := range made.Classes {
		for _, r := range append(c.Server, c.Client...) {
			if r.Line == 2 {
				until = append(until, r.Until)
			}
		}
	}
	require.Equal(t, []int64{last.Sec + 1}, until)
}

func samePolicy(t *testing.T, c *decide.Compiled, rule string) {
	walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
	var ends []netip.Addr
	for i := range 30 {
		ends = append(ends, netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}))
	}
	for _, guards := range [][]int32{{0, 1, 2, 3, 4, 5, 6, 7, 8}, {1, 4, 7}, {0}} {
		d := plan.NewPlanner(c).Plan(guards, plan.Gate, plan.Both).Decider()
		for _, a := range ends {
			for _, b := range ends {
				x, y := c.Estate.At(a, c.AsOf), c.Estate.At(b, c.AsOf)
				pt := service.PointOf(service.TCP, 443)
				fate := d.Decide(a, b, pt, c.AsOf.Sec)
				if want := decide.VerdictOf(walk.Decide(x, y, pt)); fate.Concerned && want != fate.Verdict {
					t.Fatalf("%s: %s -> %s is %s, and %s by the plan that guards %v", rule, a, b, want, fate.Verdict,
						guards)
				}
			}
		}
	}
}
