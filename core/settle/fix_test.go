package settle_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/sample"
	"lucidorchard/core/settle"
)

// A mend that is offered makes the assertion hold, and takes nothing away that
// stood in the policy.
func TestMendsMakeAssertionsHold(t *testing.T) {
	found, all := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		e, at := sample.Estate(t), sample.Instant(t)
		text := sample.Policy(t) + "\n" + sample.Assert(t)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		text = p.Format()
		p, _ = policy.Parse(text)
		c := decide.Compile(e, p, at)
		for i, r := range prove.Assertions(c) {
			m, ok := settle.FixAssertion(c, text, r)
			if r.Outcome == prove.Holds {
				require.False(t, ok)
				continue
			}
			all++
			if !ok {
				continue
			}
			found++
			q, errs := policy.Parse(m.Text)
			require.Empty(t, errs)
			require.Equal(t, prove.Holds, prove.Assertions(decide.Compile(e, q, at))[i].Outcome, "%s\n%s", r.Assert,
				m.Text)
			after, bad := settle.Apply(text, m.Lines, m.Before)
			require.Nil(t, bad)
			require.Equal(t, m.Text, after, "it is what adding the lines gives")
			have := map[string]int{}
			for _, l := range policy.Lines(m.Text) {
				have[l]++
			}
			for _, l := range policy.Lines(text) {
				have[l]--
				require.True(t, have[l] >= 0 || strings.TrimSpace(l) == "", "%q is gone", l)
			}
		}
	})
	require.Greater(t, found, all/2, "most can be mended")
}
