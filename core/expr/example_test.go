package expr_test

import (
	"fmt"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// A workload without the tag is undecided, and is swept in by no "not".
func ExampleParseText() {
	e, errs := expr.ParseText("app is booking and not env is live")
	fmt.Println(e, len(errs))
	for _, env := range []string{"trial", "Live", ""} {
		w := &estate.Workload{ID: "w"}
		w.SetTag(estate.Tag{Key: "app", Value: "booking"})
		w.SetTag(estate.Tag{Key: "env", Value: env})
		fmt.Printf("%q %s\n", env, e.Eval(expr.Subject{Workload: w}, nil))
	}
	_, errs = expr.ParseText("app is booking and")
	fmt.Println(errs[0])
	// Output:
	// app is booking and not env is live 0
	// "trial" yes
	// "Live" no
	// "" undecided
	// 1:19: found the end of the statement, expected an expression: a key with a test, any, outside, has, lacks, address in, member of, not or (
}
