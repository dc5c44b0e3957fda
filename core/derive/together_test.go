package derive_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
)

func together(t *testing.T, text string) (string, error) {
	p, errs := policy.ParseLoose(text)
	require.Empty(t, errs)
	groups, rule, err := derive.Together(p.Rules, func(name string) *policy.Group { return p.Groups[name] })
	if err != nil {
		return "", err
	}
	out := ""
	for _, g := range groups {
		out += g.Name + " = " + g.Expr.String() + "\n"
	}
	return out + rule.Sentence(), nil
}

const shape = `
group fares-logic-live = app is fares and tier is logic and env is live
group fares-store-live = app is fares and tier is store and env is live
group crew-logic-live = app is crew and tier is logic and env is live
group crew-store-live = app is crew and tier is store and env is live
group crew-store-trial = app is crew and tier is store and env is trial
group crew-logic-trial = app is crew and tier is logic and env is trial
group loose = app is crew and (tier is logic or tier is entry)
group logic-live = kind is vm
layer allowances
`

func TestRulesOfOneShapeBecomeOne(t *testing.T) {
	got, err := together(t, shape+"permit fares-logic-live -> fares-store-live on tcp/5432\n"+
		"permit crew-logic-live -> crew-store-live on tcp/5432\n")
	require.NoError(t, err)
	require.Equal(t, "logic-live-2 = tier is logic and env is live\nstore-live = tier is store and env is live\n"+
		"permit logic-live-2 -> store-live on tcp/5432 same app", got, "a name that means another thing is not taken")

	got, err = together(t, shape+"permit fares-logic-live -> fares-store-live on tcp/5432\n"+
		"permit crew-logic-trial -> crew-store-trial on tcp/5432\n")
	require.NoError(t, err)
	require.Contains(t, got, "permit logic -> store on tcp/5432 same app, env")
}

func TestRulesOfDifferentShapesStayAsTheyAre(t *testing.T) {
	for rules, why := range map[string]string{
		"permit fares-logic-live -> fares-store-live on tcp/5432\n": "two at least",
		"permit fares-logic-live -> fares-store-live on tcp/5432\n" +
			"permit crew-logic-live -> crew-store-live on tcp/80\n": "differ in more than their groups",
		"permit fares-logic-live -> fares-store-live on tcp/5432\n" +
			"permit loose -> crew-store-live on tcp/5432\n": "the group loose is not a list of tags",
		"permit fares-logic-live -> fares-store-live on tcp/5432\n" +
			"permit any -> crew-store-live on tcp/5432\n": "is not one group",
		"permit fares-logic-live -> fares-store-live on tcp/5432\n" +
			"permit fares-logic-live -> crew-store-live on tcp/5432\n": "app differs between the rules",
		"permit fares-logic-live -> fares-store-live on tcp/5432\n" +
			"permit logic-live -> crew-store-live on tcp/5432\n": "test different tags",
	} {
		_, err := together(t, shape+rules)
		require.ErrorContains(t, err, why, rules)
	}
}

// One rule in the place of several permits all that they do, and of other
// applications only what is within one.
func TestOneRuleForAllOfAShapePermitsWhatTheyDo(t *testing.T) {
	c, seen, r := company(t, nil)
	shapes := map[string][]derive.Proposal{}
	for _, p := range r.Proposals {
		if p.Shape != "" {
			shapes[p.Shape] = append(shapes[p.Shape], p)
		}
	}
	looked := 0
	for name, list := range shapes {
		if len(list) < 2 {
			continue
		}
		looked++
		groups := map[string]*policy.Group{}
		var rules []*policy.Rule
		for _, p := range list {
			for _, g := range p.Groups {
				groups[g.Name] = g
			}
			rules = append(rules, p.Rule)
		}
		used, rule, err := derive.Together(rules, func(name string) *policy.Group {
			if g := c.Policy.Groups[name]; g != nil {
				return g
			}
			return groups[name]
		})
		require.NoError(t, err, name)
		var more []*policy.Group
		for _, g := range used {
			if c.Policy.Groups[g.Name] == nil {
				more = append(more, g)
			}
		}
		after := with(t, c, rule, more)
		for _, p := range list {
			for _, i := range p.Conversations {
				require.True(t, permitted(after, &seen[i]), name)
			}
		}
		for i := range seen {
			v := &seen[i]
			a, b := v.Client.Workload, v.Server.Workload
			if permitted(after, v) && !permitted(c, v) {
				require.NotEqual(t, estate.Outside, a)
				require.NotEqual(t, estate.Outside, b)
				x, _ := c.Estate.Workload(a).Tag("app")
				y, _ := c.Estate.Workload(b).Tag("app")
				require.Equal(t, x.Value, y.Value)
			}
		}
	}
	require.Positive(t, looked)
}
