package policy_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

// Assertions that are appended are read behind all others; what is wrong with
// them is reported where it stands in their own text.
func TestAssertionsAreAppended(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := sample.Policy(t)
		if rapid.Bool().Draw(t, "without a last line break") {
			text = strings.TrimRight(text, "\n")
		}
		before, errs := policy.Parse(text)
		require.Empty(t, errs)
		line := sample.Assert(t)
		after, errs := policy.AppendAsserts(text, line)
		require.Empty(t, errs, line)
		p, errs := policy.Parse(after)
		require.Empty(t, errs)
		require.Len(t, p.Asserts, len(before.Asserts)+1)
		alone, _ := policy.ParseLoose(line)
		require.Equal(t, alone.Asserts[0].String(), p.Asserts[len(p.Asserts)-1].String())
		require.Len(t, p.Rules, len(before.Rules))
	})
	base := "group live = env is live\nlayer l\npermit live -> live on any\n"
	for text, want := range map[string]string{
		"assert never live -> nobody on any":     "1:22: found the unknown group nobody",
		"\nassert sometimes live -> live on any": "2:8:",
		"group g = any":                          "1:1: found a group, expected an assertion",
		"layer m":                                "1:1: found a layer, expected an assertion",
		"assert never live -> live on any\nservice s = tcp/80": "2:1: found a service, expected an assertion",
	} {
		_, errs := policy.AppendAsserts(base, text)
		require.NotEmpty(t, errs, text)
		require.Contains(t, errs[0].Error(), want, text)
	}
}

// What is added to the allowances decides there, and what stood in the text
// stands there still.
func TestAllowancesAreInserted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := sample.Policy(t)
		before, errs := policy.Parse(text)
		require.Empty(t, errs)
		rule := sample.Rule(t)
		after := policy.InsertAllowances(text, []string{rule})
		p, errs := policy.Parse(after)
		require.Empty(t, errs, after)
		require.Len(t, p.Rules, len(before.Rules)+1)
		added := 0
		for _, l := range p.Layers {
			if l.Name == policy.Allowances {
				added = l.Rules[len(l.Rules)-1].Line
			}
		}
		var rest []string
		for _, r := range p.Rules {
			if r.Line != added {
				rest = append(rest, r.String())
			}
		}
		var had []string
		for _, r := range before.Rules {
			had = append(had, r.String())
		}
		require.Equal(t, had, rest, "in the order in which they stood")
	})
}
