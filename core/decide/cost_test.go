package decide_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
)

// What groups may take goes by how many values and workloads there are to tell apart, not
// by how long the text is.
func TestWhatWouldTakeTooLongIsRefused(t *testing.T) {
	estateOf := func(n int) *estate.Estate {
		ws := make([]estate.Workload, n)
		for i := range ws {
			ws[i] = estate.Workload{ID: fmt.Sprint("w", i), Name: fmt.Sprint("n", i)}
			ws[i].SetTag(estate.Tag{Key: "env", Value: []string{"live", "trial"}[i%2]})
		}
		e, conflicts := estate.New(ws)
		require.Empty(t, conflicts)
		return e
	}
	many := func(test string, n int, word string) string {
		parts := make([]string, n)
		for i := range parts {
			parts[i] = fmt.Sprintf(test, i)
		}
		return "group g = " + strings.Join(parts, " "+word+" ") + "\nlayer l\nreject g -> any on any\n"
	}
	cost := func(e *estate.Estate, text string) error {
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		return decide.Cost(e, p)
	}
	small, large := estateOf(200), estateOf(20_000)
	for _, text := range []string{many("name starts x%d", 20_000, "or"), many("name matches \"x%d$\"", 20_000, "or")} {
		require.NoError(t, cost(small, text))
		require.ErrorContains(t, cost(large, text), "400 million tests, the limit is 150 million")
	}
	require.NoError(t, cost(large, many("name is x%d", 40_000, "or")), "they are looked up")
	require.NoError(t, cost(large, many("name is not x%d", 40_000, "and")))
	require.NoError(t, cost(large, many("env starts x%d", 20_000, "or")), "there are two values")
	heavy, errs := policy.Parse(many("name starts x%d", 20_000, "or"))
	require.Empty(t, errs)
	light, errs := policy.Parse(many("name is x%d", 3, "or"))
	require.Empty(t, errs)
	require.Error(t, decide.Affordable(&decide.Compiled{Estate: large, Policy: light}, heavy))
	require.NoError(t, decide.Affordable(&decide.Compiled{Estate: large, Policy: heavy}, light))
	require.NoError(t, decide.Affordable(&decide.Compiled{Estate: large, Policy: heavy}, heavy),
		"the estate grew: it can still be edited")
	var chain strings.Builder
	for i := range 30_000 {
		fmt.Fprintf(&chain, "group c%d = member of c%d or name is n%d\n", i, i+1, i)
	}
	text := chain.String() + "group c30000 = name is n1\nlayer l\nreject c0 -> any on any\n"
	require.NoError(t, cost(small, text))
	var refused *decide.CostError
	require.ErrorAs(t, cost(large, text), &refused)
	require.Contains(t, refused.Words, "Use fewer groups")
	require.NoError(t, cost(large, strings.ReplaceAll(text, "name is", "env is")), "few workloads differ")
}
