package decide_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// A stored text that a later version of the program no longer takes whole is
// still worked with.
func TestATextWithErrorsCanBeCompiled(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		lines := strings.Split(sample.Policy(t), "\n")
		for range 3 {
			k := rapid.IntRange(0, len(lines)-1).Draw(t, "line")
			if words := strings.Fields(lines[k]); len(words) > 0 {
				wrong := rapid.SampledFrom([]string{"(", "nothing-like-it", "=", "matches"}).Draw(t, "wrong")
				words[rapid.IntRange(0, len(words)-1).Draw(t, "word")] = wrong
				lines[k] = strings.Join(words, " ")
			}
		}
		p, _ := policy.Parse(strings.Join(lines, "\n"))
		c := decide.Compile(e, p, sample.Instant(t))
		c.GroupCounts(c.AsOf)
		prove.Findings(c)
		prove.Assertions(c)
		a := c.At(netip.MustParseAddr("10.0.0.1"), c.AsOf)
		c.Decide(a, a, service.PointOf(6, 443))
		decide.NewWalk(e, p, c.AsOf).Trace(a.Endpoint, a.Endpoint, service.PointOf(6, 443))
	})
}

func TestAPatternThatCannotBeUsedDecidesNothing(t *testing.T) {
	p, errs := policy.Parse("group g = name matches " + `"` + strings.Repeat("(a|b)*", 2000) + `"` +
		"\ngroup h = not member of g\n")
	require.Len(t, errs, 1)
	require.Equal(t, 1, errs[0].Line)
	e, _ := estate.New([]estate.Workload{{ID: "a", Name: "ab",
		Leases: []estate.Lease{{Addr: netip.MustParseAddr("10.0.0.1"), From: estate.Beginning, Until: estate.End}}}})
	c := decide.Compile(e, p, estate.Instant{})
	at := c.At(netip.MustParseAddr("10.0.0.1"), c.AsOf)
	require.Equal(t, expr.Undecided, c.Group("g", at))
	require.Equal(t, expr.Undecided, c.Group("h", at))
}
