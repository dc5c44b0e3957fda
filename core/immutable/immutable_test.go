package immutable_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/immutable"
)

// Every version keeps saying what it said when it was made.
func TestVersionsStayAsTheyWere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		first := rapid.SliceOfN(rapid.Int(), 0, 400).Draw(t, "first")
		vectors, wants := []immutable.Vector[int]{immutable.VectorOf(slices.Clone(first))}, [][]int{first}
		table := map[int]int{}
		for i, x := range first {
			table[i] = x
		}
		tables, wantTables := []immutable.Map[int, int]{immutable.MapOf(maps.Clone(table))}, []map[int]int{table}
		for range rapid.IntRange(1, 12).Draw(t, "versions") {
			from := rapid.IntRange(0, len(vectors)-1).Draw(t, "made from")
			edit, want := vectors[from].Edit(), slices.Clone(wants[from])
			for range rapid.IntRange(0, 9).Draw(t, "edits") {
				x := rapid.Int().Draw(t, "value")
				if len(want) == 0 || rapid.IntRange(0, 3).Draw(t, "append") == 0 {
					require.Equal(t, len(want), edit.Append(x))
					want = append(want, x)
				} else {
					i := rapid.IntRange(0, len(want)-1).Draw(t, "index")
					edit.Set(i, x)
					want[i] = x
					require.Equal(t, x, *edit.At(i))
				}
			}
			vectors, wants = append(vectors, edit.Done()), append(wants, want)

			changes := rapid.MapOfN(rapid.IntRange(0, 500), rapid.Int(), 0, 60).Draw(t, "changes")
			wantTable := maps.Clone(wantTables[from])
			maps.Copy(wantTable, changes)
			tables, wantTables = append(tables, tables[from].With(changes)), append(wantTables, wantTable)
		}
		for i, v := range vectors {
			require.Equal(t, len(wants[i]), v.Len())
			other := rapid.IntRange(0, len(vectors)-1).Draw(t, "compared with")
			var differ []int
			for k := range max(len(wants[i]), len(wants[other])) {
				if k >= min(len(wants[i]), len(wants[other])) || wants[i][k] != wants[other][k] {
					differ = append(differ, k)
				}
			}
			require.Equal(t, differ, slices.Collect(immutable.Different(v, vectors[other])))
			for k, x := range wants[i] {
				require.Equal(t, x, *v.At(k))
			}
			require.Equal(t, wantTables[i], maps.Collect(tables[i].All()))
			for k, x := range wantTables[i] {
				got, ok := tables[i].Get(k)
				require.True(t, ok)
				require.Equal(t, x, got)
			}
			_, ok := tables[i].Get(-1)
			require.False(t, ok)
		}
	})
}
