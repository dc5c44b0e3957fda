package decide_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/sample"
)

// One pass over columns counts what the rows say one by one.
func TestEvaluateCountsWhatEachRowSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, p := sample.Estate(t), parse(t, sample.Policy(t))
		at := sample.Instant(t)
		c, walk := decide.Compile(e, p, at), decide.NewWalk(e, p, at)
		var ends decide.Ends
		few := rapid.Bool().Draw(t, "few groups")
		for i, a := range sample.Addresses {
			ends.Class = append(ends.Class, c.At(a, at).Class)
			group := int32(i % 3)
			if !few {
				group += 2000 // too many for a table
			}
			ends.Group = append(ends.Group, group)
		}
		const bins = 5
		var cols decide.Columns
		cols.Starts = []int32{0}
		want := decide.Tally{Rules: make([]int, len(p.Rules)), Bins: make([]decide.Counts, bins),
			Pairs: map[[2]int32]decide.Counts{}}
		var rows []int32
		index := map[any]int32{}
		for i, r := range p.Rules {
			index[r] = int32(i)
		}
		n := len(sample.Addresses) - 1
		repeat := rapid.SampledFrom([]int{1, 1, 1, 20_000}).Draw(t, "repeat") // several stretches
		for range rapid.IntRange(0, 12).Draw(t, "rows") {
			a, b := int32(rapid.IntRange(0, n).Draw(t, "client")), int32(rapid.IntRange(0, n).Draw(t, "server"))
			pt := rapid.SampledFrom(sample.Points).Draw(t, "point")
			weight := rapid.Int64Range(1, 9).Draw(t, "connections")
			when := rapid.SliceOfNDistinct(rapid.Int32Range(0, bins-1), 1, 3, rapid.ID[int32]).Draw(t, "when")
			rule := walk.Decide(e.At(sample.Addresses[a], at), e.At(sample.Addresses[b], at), pt)
			v := decide.VerdictOf(rule)
			r := int32(-1)
			if rule != nil {
				r = index[rule]
			}
			for range repeat {
				cols.Client, cols.Server, cols.Point = append(cols.Client, a), append(cols.Server, b),
					append(cols.Point, pt)
				cols.Connections = append(cols.Connections, weight)
				cols.When = append(cols.When, when...)
				cols.Starts = append(cols.Starts, int32(len(cols.When)))
				want.Rows[v]++
				want.Connections[v] += weight
				if r >= 0 {
					want.Rules[r]++
				}
				for _, bin := range when {
					want.Bins[bin][v]++
				}
				k := [2]int32{ends.Group[a], ends.Group[b]}
				pair := want.Pairs[k]
				pair[v]++
				want.Pairs[k] = pair
				rows = append(rows, r)
			}
		}
		rules := make([]int32, len(rows))
		require.Equal(t, want, c.Evaluate(cols, ends, rules, bins))
		require.Equal(t, rows, append([]int32(nil), rules...))
	})
}

func FuzzDecide(f *testing.F) {
	f.Add([]byte("a policy, an estate and a flow are drawn from these bytes"))
	f.Fuzz(rapid.MakeFuzz(func(t *rapid.T) {
		e, p := sample.Estate(t), parse(t, sample.Policy(t))
		asOf, at := sample.Instant(t), sample.Instant(t)
		c, w := decide.Compile(e, p, asOf), decide.NewWalk(e, p, asOf)
		a, b := rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
			rapid.SampledFrom(sample.Addresses).Draw(t, "server")
		for _, pt := range sample.Points {
			require.Same(t, w.Decide(e.At(a, at), e.At(b, at), pt), c.Decide(c.At(a, at), c.At(b, at), pt))
		}
	}))
}
