package derive_test

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// quality is what rules that were made from one week are worth in the next.
type quality struct {
	seen, fresh [2]int            // needed and permitted, and all that is needed: seen in the first week, or not
	out         map[string][2]int // attacks and mistakes not permitted, and all of them, by kind
	rules, need int
	widest      int
}

func (q *quality) add(r quality) {
	for i := range 2 {
		q.seen[i] += r.seen[i]
		q.fresh[i] += r.fresh[i]
	}
	if q.out == nil {
		q.out = map[string][2]int{}
	}
	for k, n := range r.out {
		q.out[k] = [2]int{q.out[k][0] + n[0], q.out[k][1] + n[1]}
	}
	q.rules, q.need, q.widest = q.rules+r.rules, q.need+r.need, max(q.widest, r.widest)
}

// kept is what of attacks, or of mistakes, is kept out.
func (q *quality) kept(mistakes bool) (n [2]int) {
	for k, x := range q.out {
		if (k == "mistake") == mistakes {
			n[0], n[1] = n[0]+x[0], n[1]+x[1]
		}
	}
	return n
}

func share(n [2]int) float64 { return 100 * float64(n[0]) / float64(max(1, n[1])) }

// triple is a conversation; ports that systems take by turns are one.
type triple struct {
	client, server estate.Endpoint
	point          service.Point
}

func tripleOf(e *estate.Estate, f sample.Labelled) triple {
	p := f.Point
	if p.Proto() == service.TCP && p.Port() >= 49152 {
		p = service.PointOf(service.TCP, 49152)
	}
	return triple{e.At(f.Client, f.Start), e.At(f.Server, f.Start), p}
}

// judge measures what a decider permits in the second week.
func judge(e *estate.Estate, grown *sample.Grown, permits func(sample.Labelled) bool) quality {
	first := map[triple]bool{}
	for _, f := range grown.Weeks[0] {
		first[tripleOf(e, f)] = true
	}
	q := quality{need: grown.Needs, out: map[string][2]int{}}
	done := map[triple]bool{}
	for _, f := range grown.Weeks[1] {
		k := tripleOf(e, f)
		if done[k] {
			continue
		}
		done[k] = true
		ok := 0
		if permits(f) {
			ok = 1
		}
		switch {
		case !f.Needed:
			q.out[f.Kind] = [2]int{q.out[f.Kind][0] + 1 - ok, q.out[f.Kind][1] + 1}
		case first[k]:
			q.seen[0], q.seen[1] = q.seen[0]+ok, q.seen[1]+1
		default:
			q.fresh[0], q.fresh[1] = q.fresh[0]+ok, q.fresh[1]+1
		}
	}
	return q
}

// field is a grown estate, ready to be derived from.
type field struct {
	grown    *sample.Grown
	estate   *estate.Estate
	compiled *decide.Compiled
	seen     []derive.Conversation
}

func fieldOf(t testing.TB, f sample.Family, seed uint64) *field {
	x := &field{grown: sample.Grow(f, seed)}
	var conflicts []estate.Conflict
	x.estate, conflicts = estate.New(x.grown.Workloads)
	require.Empty(t, conflicts)
	empty, _ := policy.Parse("")
	x.compiled = decide.Compile(x.estate, empty, estate.Instant{})
	var g derive.Gather
	for _, f := range x.grown.Weeks[0] {
		g.Add(derive.Observed(x.compiled, f.Record))
	}
	x.seen = g.Conversations
	return x
}

// derived is the quality of what is derived from the first week, on an empty
// policy.
func (x *field) derived(t testing.TB, balance float64) (quality, *derive.Result) {
	result := derive.Derive(derive.Input{Compiled: x.compiled, Conversations: x.seen, Balance: balance})
	p, errs := policy.Parse(policy.InsertAllowances("", result.Lines()))
	require.Empty(t, errs)
	after := decide.Compile(x.estate, p, estate.Instant{})
	q := judge(x.estate, x.grown, func(f sample.Labelled) bool {
		return decide.VerdictOf(after.Decide(after.At(f.Client, f.Start), after.At(f.Server, f.Start),
			f.Point)) == decide.Permit
	})
	q.rules = len(result.Proposals)
	for _, p := range result.Proposals {
		q.widest = max(q.widest, len(p.Rule.Left.Items), len(p.Rule.Right.Items))
	}
	return q, result
}

// less is a field with a tenth of its conversations removed at random.
func (x *field) less(seed uint64) *field {
	out := *x
	out.seen = nil
	rnd := rand.New(rand.NewPCG(seed, 4))
	for _, c := range x.seen {
		if rnd.IntN(10) > 0 {
			out.seen = append(out.seen, c)
		}
	}
	return &out
}

// role is an application, tier and environment, as the tags say.
func (x *field) role(ep estate.Endpoint) [3]string {
	if ep.Workload == estate.Outside {
		return [3]string{"outside", "", ""}
	}
	var out [3]string
	for i, key := range []string{"app", "tier", "env"} {
		t, _ := x.estate.Workload(ep.Workload).Tag(key)
		out[i] = t.Value
	}
	return out
}

// baselines are the obvious ways: a rule for each pair that was seen; one for each
// pair of environment, application and tier with the services seen; and a plain
// greedy covering.
func (x *field) baselines() map[string]quality {
	type edge struct {
		a, b [3]string
		p    service.Point
	}
	edgeOf := func(k triple) edge { return edge{x.role(k.client), x.role(k.server), k.point} }
	seen, services, both := map[triple]bool{}, map[edge]bool{}, map[[2][3]string]bool{}
	for _, f := range x.grown.Weeks[0] {
		k := tripleOf(x.estate, f)
		seen[k] = true
		services[edgeOf(k)] = true
		both[[2][3]string{x.role(k.client), x.role(k.server)}] = true
	}
	pairs := judge(x.estate, x.grown, func(f sample.Labelled) bool { return seen[tripleOf(x.estate, f)] })
	pairs.rules = len(seen)
	tiers := judge(x.estate, x.grown, func(f sample.Labelled) bool { return services[edgeOf(tripleOf(x.estate, f))] })
	tiers.rules = len(both)
	rules := x.greedy(seen)
	greedy := judge(x.estate, x.grown, func(f sample.Labelled) bool {
		k := tripleOf(x.estate, f)
		return slices.ContainsFunc(rules, func(r rectangle) bool { return r.holds(x, k) })
	})
	greedy.rules = len(rules)
	return map[string]quality{"pairs": pairs, "tiers": tiers, "greedy": greedy}
}

// rectangle is a rule of the greedy covering: blank tags are any.
type rectangle struct {
	a, b [3]string
	p    service.Point
}

func agrees(want, is [3]string) bool {
	for i := range want {
		if want[i] != "" && want[i] != is[i] {
			return false
		}
	}
	return true
}

func (r rectangle) holds(x *field, k triple) bool {
	return r.p == k.point && agrees(r.a, x.role(k.client)) && agrees(r.b, x.role(k.server))
}

// greedy covers what was seen by conjunctions of application, tier and
// environment on both sides: always that which covers most more pairs than a
// third of what it would open, as long as it covers three.
func (x *field) greedy(seen map[triple]bool) (out []rectangle) {
	sizes := map[[3]string]int{}
	for i, w := range x.estate.All() {
		r := x.role(x.estate.At(w.Leases[0].Addr, estate.Instant{}))
		_ = i
		for mask := range 8 {
			var s [3]string
			for k := range s {
				if mask&(1<<k) != 0 {
					s[k] = r[k]
				}
			}
			if slices.Contains(s[:], "") && mask == 7 {
				continue
			}
			sizes[s]++
		}
	}
	sizes[[3]string{"outside"}] = 50
	parts := func(r [3]string) (out [][3]string) {
		if r[0] == "outside" {
			return [][3]string{r}
		}
		for mask := range 8 {
			var s [3]string
			for k := range s {
				if mask&(1<<k) != 0 {
					s[k] = r[k]
				}
			}
			out = append(out, s)
		}
		return out
	}
	open := map[rectangle][]triple{}
	for k := range seen {
		for _, a := range parts(x.role(k.client)) {
			for _, b := range parts(x.role(k.server)) {
				r := rectangle{a, b, k.point}
				open[r] = append(open[r], k)
			}
		}
	}
	all := slices.SortedFunc(maps.Keys(open), func(a, b rectangle) int {
		return strings.Compare(fmt.Sprint(a),
			fmt.Sprint(b))
	})
	all = slices.DeleteFunc(all, func(r rectangle) bool { return len(open[r]) < 3 })
	left := maps.Clone(seen)
	gain := func(r rectangle) float64 {
		n := 0
		for _, k := range open[r] {
			if left[k] {
				n++
			}
		}
		if n < 3 {
			return 0
		}
		return float64(n) - float64(sizes[r.a]*sizes[r.b]-len(open[r]))/3
	}
	gains := make([]float64, len(all))
	for i, r := range all {
		gains[i] = gain(r)
	}
	for {
		best := slices.Index(gains, slices.MaxFunc(gains, cmp.Compare))
		if gains[best] <= 0 {
			return out
		}
		if g := gain(all[best]); g < gains[best] {
			gains[best] = g
			continue
		}
		out = append(out, all[best])
		for _, k := range open[all[best]] {
			delete(left, k)
		}
		gains[best] = 0
	}
}

// heldOut reports whether a seed is one that nothing is tuned on.
func heldOut(seed uint64) bool { return seed%3 == 0 }

func say(name string, q quality) string {
	return fmt.Sprintf("%-34s seen %5.1f  new %5.1f  attacks out %5.1f  mistakes out %5.1f  rules ×%.2f  widest %d",
		name,
		share(q.seen), share(q.fresh), share(q.kept(false)), share(q.kept(true)),
		float64(q.rules)/float64(max(1, q.need)),
		q.widest)
}

// BenchmarkQuality prints what derived rules are worth in the week after, for each
// family of estates, beside the baselines; and for estates that nothing is tuned on.
func BenchmarkQuality(b *testing.B) {
	for b.Loop() {
		for _, held := range []bool{false, true} {
			var total quality
			base := map[string]*quality{"pairs": {}, "tiers": {}, "greedy": {}}
			word := "tuned on"
			if held {
				word = "held out"
			}
			for _, f := range sample.Families {
				var ours, greedy quality
				for seed := uint64(1); seed <= 9; seed++ {
					if heldOut(seed) != held {
						continue
					}
					x := fieldOf(b, f, seed)
					q, _ := x.derived(b, derive.DefaultBalance)
					ours.add(q)
					for name, r := range x.baselines() {
						base[name].add(r)
						if name == "greedy" {
							greedy.add(r)
						}
					}
				}
				total.add(ours)
				fmt.Println(say(word+": "+f.Name, ours))
				fmt.Println(say("          greedy covering", greedy))
			}
			fmt.Println(say(word+": all", total))
			for _, name := range []string{"pairs", "tiers", "greedy"} {
				fmt.Println(say(word+": all by "+name, *base[name]))
			}
			for _, kind := range slices.Sorted(maps.Keys(total.out)) {
				fmt.Printf("%s: kept out of %q: %.1f %% of %d\n", word, kind, share(total.out[kind]),
					total.out[kind][1])
			}
			if held {
				b.ReportMetric(share(total.seen), "%seen")
				b.ReportMetric(share(total.fresh), "%new")
				b.ReportMetric(share(total.kept(false)), "%attacks-out")
				b.ReportMetric(share(total.kept(true)), "%mistakes-out")
				b.ReportMetric(float64(total.rules)/float64(total.need), "×rules")
			}
		}
	}
}

// BenchmarkStability prints how many of the rules stay the same to the letter if a tenth of the
// conversations is removed at random, for the estates that something is tuned on, and for the others.
func BenchmarkStability(b *testing.B) {
	for b.Loop() {
		for _, held := range []bool{false, true} {
			var total [2]int
			for _, f := range sample.Families {
				for seed := uint64(1); seed <= 9; seed++ {
					if heldOut(seed) != held {
						continue
					}
					x := fieldOf(b, f, seed)
					_, r := x.derived(b, derive.DefaultBalance)
					for removal := range uint64(3) {
						_, again := x.less(10*seed+removal).derived(b, derive.DefaultBalance)
						have := rules(again)
						for _, rule := range rules(r) {
							if total[1]++; slices.Contains(have, rule) {
								total[0]++
							}
						}
					}
				}
			}
			word := "%stay-tuned-on"
			if held {
				word = "%stay-held-out"
			}
			b.ReportMetric(share(total), word)
		}
	}
}
