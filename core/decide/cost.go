package decide

import (
	"fmt"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
)

// Bounds of what the groups of a policy may take over an estate: some seconds each.
const (
	mostPatternTests = 150_000_000   // tests of starts, ends, contains and matches, each of every value there is
	mostEvaluations  = 1_000_000_000 // parts of expressions, each of every combination of values there is
)

// CostError reports that the groups of a policy would take too long over an estate.
type CostError struct{ Words string }

func (e *CostError) Error() string { return e.Words }

// Affordable refuses a policy that would take too long over an estate (*CostError), unless
// the one that is compiled does already: the estate may have grown since it was written, and
// it can still be edited.
func Affordable(c *Compiled, next *policy.Policy) error {
	err := Cost(c.Estate, next)
	if err != nil && Cost(c.Estate, c.Policy) != nil {
		return nil
	}
	return err
}

// Cost reports whether the groups of a policy would take too long over an estate; nil: they
// would not. It takes a moment itself: it counts values and tests.
func Cost(e *estate.Estate, p *policy.Policy) error {
	tests, patterns := map[expr.Key]int{}, map[expr.Key]int{}
	parts := 0
	for _, g := range p.GroupOrder {
		g.Expr.Asked(func(x *expr.Expr) {
			parts++
			if !x.IsTest() {
				return
			}
			tests[x.Key]++
			switch x.Op {
			case expr.Starts, expr.Ends, expr.Contains, expr.Matches:
				patterns[x.Key]++
			}
		})
	}
	combinations := 1.0
	for k, n := range tests {
		if n*e.Len() < 1000 {
			continue // whatever its values are
		}
		values := map[string]bool{}
		for _, w := range e.All() {
			if v, has := k.Of(w); has {
				values[v] = true
			}
		}
		if all := patterns[k] * len(values); all > mostPatternTests {
			return &CostError{fmt.Sprintf(
				"the groups apply %s patterns (starts, ends, contains, matches) to %s values of %s: "+
					"%d million tests, the limit is %d million. List the values with in (…), or use fewer patterns",
				plural.N(patterns[k]), plural.N(len(values)), k, all/1_000_000, mostPatternTests/1_000_000)}
		}
		combinations *= float64(min(len(values), 2*n) + 1)
	}
	combinations = min(combinations, float64(e.Len()))
	if all := float64(parts) * combinations; all > mostEvaluations {
		return &CostError{fmt.Sprintf(
			"the groups have %s parts and may tell %s workloads apart: %d million evaluations, the limit is %d million. "+
				"Use fewer groups, or shorter ones", plural.N(parts), plural.N(int(combinations)), int(all/1e6),
			int(mostEvaluations/1e6))}
	}
	return nil
}
