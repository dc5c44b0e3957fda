package inventory

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/model"
)

// selecting makes a model of a random estate.
func selecting(t *rapid.T) *model.Model {
	p, errs := policy.Parse(sample.Policy(t))
	require.Empty(t, errs)
	return model.Of(sample.Estate(t), p, sample.Instant(t))
}

// A facet counts the workloads that agree with the filters of the other keys,
// whatever way it is counted.
func TestFacetsCountUnderTheOtherFilters(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snap := selecting(t)
		snap.Inapplicable, _ = decide.ParseInapplicable(map[string]string{"env": "site is northquay"})
		byKey := map[string][]string{}
		for range rapid.IntRange(0, 3).Draw(t, "filters") {
			key := rapid.SampledFrom([]string{"app", "env", "tier", "site"}).Draw(t, "key")
			byKey[key] = append(byKey[key],
				rapid.SampledFrom([]string{"booking", "live", "LIVE", "store", "northquay", Missing,
					NotApplicable}).Draw(t, "value"))
		}
		all, err := Select(snap, Filter{})
		require.NoError(t, err)
		keys := snap.TagKeys()
		slices.Sort(keys)
		got := CountFacets(snap, nil, keys, byKey)
		for i := range all { // in parts, as they are counted
			got.Add(CountFacets(snap, all[i:i+1], keys, byKey))
		}
		for k, key := range keys {
			others := Filter{}
			for other, values := range byKey {
				for _, v := range values {
					if other != key {
						others.Tags = append(others.Tags, other+"="+v)
					}
				}
			}
			selected, err := Select(snap, others)
			require.NoError(t, err)
			want, missing, needNot := map[string]int{}, 0, 0
			for _, i := range selected {
				w := snap.Estate.Workload(i)
				site, _ := w.Tag("site")
				if tag, ok := w.Tag(key); ok {
					want[tag.Value]++
				} else if key == "env" && strings.EqualFold(site.Value, "northquay") {
					needNot++
				} else {
					missing++
				}
			}
			require.Equal(t, want, got.Values[k], key)
			require.Equal(t, needNot, got.NeedNot[k], key)
			require.Equal(t, missing, got.Whole+got.Seen[k]-got.Has[k]-needNot, key)
		}
	})
}

// A filter selects what each workload says by itself.
func TestSelectionIsWhatEachWorkloadSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snap := selecting(t)
		f := Filter{Text: rapid.SampledFrom([]string{"", "be", "B W", "10.0", "fd00", "env is live",
			"lacks tier", "member of g1"}).Draw(t, "text")}
		if rapid.Bool().Draw(t, "of a group") {
			f.Group = "g2"
		}
		got, err := Select(snap, f)
		require.NoError(t, err)
		walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
		want := []int32{}
		for i, w := range snap.Estate.All() {
			ok := true
			switch f.Text {
			case "env is live":
				tag, _ := w.Tag("env")
				ok = strings.EqualFold(tag.Value, "live")
			case "lacks tier":
				_, has := w.Tag("tier")
				ok = !has
			case "member of g1":
				ok = inGroup(snap, walk, i, "g1")
			default:
				for _, word := range strings.Fields(strings.ToLower(f.Text)) {
					found := strings.Contains(strings.ToLower(w.ID+"\n"+w.Name), word)
					for _, l := range w.Leases {
						found = found || strings.HasPrefix(l.Addr.String(), word)
					}
					for _, tag := range w.Tags {
						found = found || strings.Contains(strings.ToLower(tag.Value), word)
					}
					ok = ok && found
				}
			}
			if ok && (f.Group == "" || inGroup(snap, walk, i, f.Group)) {
				want = append(want, i)
			}
		}
		require.Equal(t, want, got)
	})
}

func inGroup(snap *model.Model, walk *decide.Walk, i int32, group string) bool {
	return slices.ContainsFunc(snap.Estate.Endpoints(i, snap.Compiled.AsOf),
		func(ep estate.Endpoint) bool { return walk.Group(group, ep).String() == "yes" })
}

func TestNumbersInNamesSortBySize(t *testing.T) {
	names := []string{"be-2", "be-10", "be-010", "be-1", "be", "be-2-b", "be-2-a", "be-99999999999999999999999",
		"aé-3"}
	slices.SortStableFunc(names, func(a, b string) int { return strings.Compare(Naturally(a), Naturally(b)) })
	require.Equal(t, []string{"aé-3", "be", "be-1", "be-2", "be-2-a", "be-2-b", "be-10", "be-010",
		"be-99999999999999999999999"}, names)
	order := []int32{4, 2, 0, 1, 3}
	require.Equal(t, []int32{2, 1, 3}, InOrder([]int32{1, 2, 3}, order, false))
	require.Equal(t, []int32{3, 1, 2}, InOrder([]int32{1, 2, 3}, order, true))
	require.Empty(t, InOrder(nil, order, false))
}

func TestWordsAreFoundWhateverTheirCase(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.StringMatching(`[a-cA-CéÉ ]{0,12}`).Draw(t, "text")
		word := strings.ToLower(rapid.StringMatching(`[a-cA-CéÉ]{1,3}`).Draw(t, "word"))
		require.Equal(t, strings.Contains(strings.ToLower(s), word), containsFold(s, word),
			fmt.Sprintf("%q in %q", word, s))
	})
}

// What is kept for an estate is not given for another one.
func TestAnswersAreKeptForTheirEstate(t *testing.T) {
	var kept PerEstate[int]
	one, _ := estate.New(nil)
	two, _ := estate.New(nil)
	kept.Put(one, "a", 1)
	got, ok := kept.Get(one, "a")
	require.True(t, ok)
	require.Equal(t, 1, got)
	_, ok = kept.Get(two, "a")
	require.False(t, ok)
	kept.Put(two, "b", 2)
	_, ok = kept.Get(one, "a")
	require.False(t, ok)
}
