package derive

import (
	"cmp"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Sorting digit by digit gives what sorting by comparing does, however many there are.
func TestSortByEnds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		machines := rapid.Uint64Range(1, 1<<23).Draw(t, "machines")
		seed := rapid.Uint64().Draw(t, "seed")
		all := make([]placed, rapid.IntRange(0, 3000).Draw(t, "n"))
		for i := range all {
			seed = seed*6364136223846793005 + 1442695040888963407 // any mixture will do
			all[i] = placed{seed>>40%machines<<32 | seed>>16%machines, int32(i)}
			if i > 0 && seed>>60 == 0 {
				all[i].ends = all[i-1].ends
			}
		}
		want := slices.Clone(all)
		slices.SortStableFunc(want, func(a, b placed) int { return cmp.Compare(a.ends, b.ends) })
		got, _ := sortByEnds(all, nil, machines)
		require.Equal(t, want, got)
	})
}
