package rest

import (
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// nameless is what an expression that tests the field name does not see: lists show the id of
// a workload that has no name as its name.
type nameless struct {
	Count  int    `json:"count" doc:"Workloads without a name, which the tests leave undecided"`
	WithID string `json:"withId" doc:"The text with id in the place of name"`
}

// namelessIn returns nil where a group does not test the field name, or every workload has one.
func namelessIn(e *estate.Estate, g *policy.Group) *nameless {
	var tests []*expr.Expr
	g.Expr.Walk(func(x *expr.Expr) {
		if x.IsTest() && x.Key == (expr.Key{Field: true, Name: "name"}) {
			tests = append(tests, x)
		}
	})
	if len(tests) == 0 {
		return nil
	}
	out := &nameless{}
	for _, w := range e.All() {
		if w.Retired.IsZero() && w.Name == "" {
			out.Count++
		}
	}
	if out.Count == 0 {
		return nil
	}
	// The group was parsed for this question alone: it is put back as it was.
	for _, x := range tests {
		x.Key.Name = "id"
	}
	out.WithID = g.Body()
	for _, x := range tests {
		x.Key.Name = "name"
	}
	return out
}
