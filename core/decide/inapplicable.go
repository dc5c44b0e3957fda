package decide

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// Inapplicable has, by tag key, an expression for the workloads that the tag does not apply
// to: desks have no environment. The tag is not missing there. What groups say is the same
// with or without it: a test of a tag that a workload does not have is undecided.
//
// It is safe for concurrent use as long as nobody changes it.
type Inapplicable map[string]*expr.Expr

// ParseInapplicable reads expressions by tag key. It refuses tests of groups, so that which
// tags are missing does not depend on the policy.
func ParseInapplicable(texts map[string]string) (Inapplicable, error) {
	out := Inapplicable{}
	for _, key := range slices.Sorted(maps.Keys(texts)) {
		e, errs := expr.ParseText(texts[key])
		if len(errs) > 0 {
			return nil, fmt.Errorf("%s: character %d: %s", key, errs[0].Col, errs[0].Message)
		}
		group := ""
		e.Walk(func(e *expr.Expr) {
			if e.Op == expr.MemberOf {
				group = e.Group
			}
		})
		if group != "" {
			return nil, fmt.Errorf("%s: found member of %s, expected tests of tags, names or addresses", key, group)
		}
		out[key] = e
	}
	return out, nil
}

// To reports whether a tag does not apply to a workload: whether the expression of its key
// says yes of one of its endpoints.
func (in Inapplicable) To(e *estate.Estate, i int32, key string, at estate.Instant) bool {
	test := in[key]
	if test == nil {
		return false
	}
	return slices.ContainsFunc(e.Endpoints(i, at), func(ep estate.Endpoint) bool {
		return test.Eval(Subject(e, ep), nil) == expr.Yes
	})
}

// Missing reports whether a workload lacks a tag that applies to it.
func (in Inapplicable) Missing(e *estate.Estate, i int32, key string, at estate.Instant) bool {
	_, has := e.Workload(i).Tag(key)
	return !has && !in.To(e, i, key, at)
}

// String returns the expressions in one line, by key. Two that are alike have one text.
func (in Inapplicable) String() string {
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(in)) {
		fmt.Fprintf(&b, "%s: %s; ", key, in[key])
	}
	return b.String()
}
