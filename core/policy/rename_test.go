package policy_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

const used = `area yard = dock
group dock = app is dock  # the old name
group quay = member of dock and env is live
group other = any

layer l
permit dock, other -> dock on any within dock
apart dock, other
assert never other -> dock on any
`

func TestRenameGroup(t *testing.T) {
	after, err := policy.RenameGroup(used, "dock", "pier 1")
	require.Nil(t, err)
	require.Equal(t, strings.ReplaceAll(strings.ReplaceAll(used, "dock", `"pier 1"`), `app is "pier 1"`,
		"app is dock"), after)
	for to, want := range map[string]string{"other": "already", "": "empty name"} {
		_, err := policy.RenameGroup(used, "dock", to)
		require.ErrorContains(t, err, want)
	}
	_, err = policy.RenameGroup(used, "nobody", "x")
	require.ErrorContains(t, err, "no group nobody")
	rapid.Check(t, func(t *rapid.T) {
		p, errs := policy.Parse(sample.Policy(t))
		require.Empty(t, errs)
		name := rapid.SampledFrom(p.GroupOrder).Draw(t, "group").Name
		there, err := policy.RenameGroup(p.Format(), name, "a new name")
		require.Nil(t, err)
		back, err := policy.RenameGroup(there, "a new name", name)
		require.Nil(t, err)
		require.Equal(t, p.Format(), back)
	})
}

func TestDropGroup(t *testing.T) {
	for from, want := range map[string]string{"dock": "give it another group", "nobody": "no group nobody"} {
		_, _, _, err := policy.DropGroup(used, from)
		require.ErrorContains(t, err, want)
	}
	after, changed, removed, err := policy.DropGroup(used, "other")
	require.Nil(t, err)
	require.Equal(t, []int{7}, changed)
	require.Equal(t, []int{8, 9}, removed)
	require.NotContains(t, after, "other")
	require.Contains(t, after, "permit dock -> dock on any within dock")
	rapid.Check(t, func(t *rapid.T) {
		p, errs := policy.Parse(sample.Policy(t))
		require.Empty(t, errs)
		name := rapid.SampledFrom(p.GroupOrder).Draw(t, "group").Name
		after, _, _, bad := policy.DropGroup(p.Format(), name)
		if bad != nil {
			return
		}
		q, errs := policy.Parse(after)
		require.Empty(t, errs)
		require.Nil(t, q.Groups[name])
		for _, item := range q.Items {
			require.False(t, item.Statement != nil && policy.Names(item.Statement, name))
		}
	})
}
