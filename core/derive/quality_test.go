package derive_test

import (
	"fmt"
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
	needed, neededUnseen, unwanted [2]int // permitted, and all; in conversations
	rules, truth                   int
}

func (q *quality) add(r quality) {
	for i := range 2 {
		q.needed[i] += r.needed[i]
		q.neededUnseen[i] += r.neededUnseen[i]
		q.unwanted[i] += r.unwanted[i]
	}
	q.rules, q.truth = q.rules+r.rules, q.truth+r.truth
}

func share(n [2]int) float64 { return 100 * float64(n[0]) / float64(max(1, n[1])) }

type triple struct {
	client, server estate.Endpoint
	point          service.Point
}

// conversations gives each conversation of a week once, with whether somebody
// needs it.
func conversations(e *estate.Estate, week []sample.Labelled) map[triple]bool {
	out := map[triple]bool{}
	for _, f := range week {
		k := triple{e.At(f.Client, f.Start), e.At(f.Server, f.Start), f.Point}
		out[k] = out[k] || f.Needed
	}
	return out
}

// judge measures what a decider permits in the second week.
func judge(e *estate.Estate, truth *sample.Truth, permits func(triple) bool) quality {
	first := conversations(e, truth.Weeks[0])
	q := quality{truth: truth.Rules}
	for k, needed := range conversations(e, truth.Weeks[1]) {
		ok := 0
		if permits(k) {
			ok = 1
		}
		if !needed {
			q.unwanted[0], q.unwanted[1] = q.unwanted[0]+1-ok, q.unwanted[1]+1 // here: not permitted
			continue
		}
		q.needed[0], q.needed[1] = q.needed[0]+ok, q.needed[1]+1
		if _, seen := first[k]; !seen {
			q.neededUnseen[0], q.neededUnseen[1] = q.neededUnseen[0]+ok, q.neededUnseen[1]+1
		}
	}
	return q
}

// derivedQuality derives from the first week on an empty policy.
func derivedQuality(t testing.TB, truth *sample.Truth, balance float64) (quality, *derive.Result) {
	e, conflicts := estate.New(truth.Workloads)
	require.Empty(t, conflicts)
	empty, _ := policy.Parse("")
	c := decide.Compile(e, empty, estate.Instant{})
	var g derive.Gather
	for _, f := range truth.Weeks[0] {
		g.Add(derive.Observed(c, f.Record))
	}
	result := derive.Derive(derive.Input{Compiled: c, Conversations: g.Conversations, Balance: balance})
	p, errs := policy.Parse(policy.InsertAllowances("", result.Lines()))
	require.Empty(t, errs)
	after := decide.Compile(e, p, estate.Instant{})
	q := judge(e, truth, func(k triple) bool {
		at := func(ep estate.Endpoint) decide.Placed { return after.At(ep.Addr, estate.Instant{}) }
		return decide.VerdictOf(after.Decide(at(k.client), at(k.server), k.point)) == decide.Permit
	})
	q.rules = len(result.Proposals)
	return q, result
}

// baselines are the two obvious ways: a rule for each pair that was seen, and
// one for each pair of environment, application and tier with all services seen.
func baselines(truth *sample.Truth) (pairs, tiers quality) {
	e, _ := estate.New(truth.Workloads)
	role := func(ep estate.Endpoint) string {
		if ep.Workload == estate.Outside {
			return "outside"
		}
		return fmt.Sprint(e.Workload(ep.Workload).Tags)
	}
	seen, services, both := map[triple]bool{}, map[string]bool{}, map[string]bool{}
	for k := range conversations(e, truth.Weeks[0]) {
		seen[k] = true
		services[role(k.client)+role(k.server)+k.point.String()] = true
		both[role(k.client)+role(k.server)] = true
	}
	pairs = judge(e, truth, func(k triple) bool { return seen[k] })
	pairs.rules = len(seen)
	tiers = judge(e, truth, func(k triple) bool { return services[role(k.client)+role(k.server)+k.point.String()] })
	tiers.rules = len(both)
	return pairs, tiers
}

// The true policy itself permits all that is needed: the estates are sound.
func TestTheTruthIsTrue(t *testing.T) {
	for _, shape := range sample.Shapes {
		if shape.Untagged > 0 {
			continue // rules cannot speak of tags that are missing
		}
		truth := sample.MakeTruth(shape, 7)
		e, _ := estate.New(truth.Workloads)
		p, errs := policy.Parse(truth.Policy)
		require.Empty(t, errs, truth.Policy)
		c := decide.Compile(e, p, estate.Instant{})
		for _, week := range truth.Weeks {
			for _, f := range week {
				if f.Needed {
					require.NotNil(t, c.Decide(c.At(f.Client, f.Start), c.At(f.Server, f.Start), f.Point),
						"%s -> %s %s", f.Client, f.Server, f.Point)
				}
			}
		}
	}
}

func BenchmarkQuality(b *testing.B) {
	for _, shape := range append([]sample.Shape{{Name: "all shapes"}}, sample.Shapes...) {
		b.Run(shape.Name, func(b *testing.B) {
			var ours, pairs, tiers quality
			for b.Loop() {
				ours, pairs, tiers = quality{}, quality{}, quality{}
				for _, s := range sample.Shapes {
					if shape.Apps > 0 && s.Name != shape.Name {
						continue
					}
					for seed := uint64(1); seed <= 4; seed++ {
						truth := sample.MakeTruth(s, seed)
						q, _ := derivedQuality(b, truth, derive.DefaultBalance)
						ours.add(q)
						p, t := baselines(truth)
						pairs.add(p)
						tiers.add(t)
					}
				}
			}
			for name, q := range map[string]quality{"": ours, "-by-pairs": pairs, "-by-tiers": tiers} {
				b.ReportMetric(share(q.needed), "%needed"+name)
				b.ReportMetric(share(q.neededUnseen), "%unseen"+name)
				b.ReportMetric(share(q.unwanted), "%kept-out"+name)
				b.ReportMetric(float64(q.rules)/float64(q.truth), "×rules"+name)
			}
		})
	}
}

// Rules that were made from one week hold in the next, on estates of several
// shapes: what is needed is permitted, also between pairs never seen; attacks and
// mistakes are not; in about as few rules as the truth has.
func TestDerivedRulesHoldInTheNextWeek(t *testing.T) {
	for _, shape := range sample.Shapes {
		t.Run(shape.Name, func(t *testing.T) {
			truth := sample.MakeTruth(shape, 11)
			q, _ := derivedQuality(t, truth, derive.DefaultBalance)
			t.Logf("needed %.2f %%, never seen %.2f %%, kept out %.2f %%, %d rules for %d", share(q.needed),
				share(q.neededUnseen), share(q.unwanted), q.rules, q.truth)
			require.GreaterOrEqual(t, share(q.needed), 99.0)
			require.GreaterOrEqual(t, share(q.neededUnseen), 95.0)
			require.GreaterOrEqual(t, share(q.unwanted), 98.0)
			require.LessOrEqual(t, float64(q.rules), 1.5*float64(q.truth))
			pairs, tiers := baselines(truth)
			require.Less(t, share(pairs.neededUnseen), 1.0, "who only remembers pairs knows nothing of others")
			require.Greater(t, tiers.rules, 3*q.rules)
		})
	}
}
