package plural_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plural"
)

func TestOf(t *testing.T) {
	for want, got := range map[string]string{
		"0 rows": plural.Of(0, "row"), "1 row": plural.Of(1, "row"), "2 rows": plural.Of(2, "row"),
		"1 batch": plural.Of(1, "batch", "batches"), "3 batches": plural.Of(3, "batch", "batches"),
		"999 rows": plural.Of(999, "row"), "1,000 rows": plural.Of(1000, "row"),
		"1,234,567 rows": plural.Of(1_234_567, "row"),
		"-100 rows":      plural.Of(-100, "row"), "-1,000 rows": plural.Of(-1000, "row"),
	} {
		require.Equal(t, want, got)
	}
}
