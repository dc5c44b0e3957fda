package policy_test

import (
	"testing"

	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

func BenchmarkParse(b *testing.B) {
	_, text := sample.Large(1, 1000, 2000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, errs := policy.Parse(text); len(errs) > 0 {
			b.Fatal(errs[0])
		}
	}
}
