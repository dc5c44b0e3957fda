package policy_test

import (
	"fmt"

	"lucidorchard/core/policy"
)

// An edit is made on a text and gives the text after it, and itself in words.
func ExampleEdit_Apply() {
	text := "group live = env is live\nlayer allowances\npermit live -> live on tcp/8443\n"
	after, words, err := policy.Edit{Op: policy.Add, Layer: "allowances",
		Text: `permit outside -> live on tcp/443 "Tickets"`}.Apply(text)
	fmt.Print(after)
	fmt.Println(words, err == nil)
	_, _, err = policy.Edit{Op: policy.Change, Line: 3, Text: "permit live -> lives on tcp/8443"}.Apply(text)
	fmt.Println(err)
	// Output:
	// group live = env is live
	// layer allowances
	// permit live -> live on tcp/8443
	// permit outside -> live on tcp/443 "Tickets"
	// Add “permit outside -> live on tcp/443” true
	// the policy would have 1 error: found the unknown group lives, expected a group that a line of this policy defines; the nearest name is live
}
