package plural_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plural"
)

func TestOf(t *testing.T) {
	require.Equal(t, []string{"0 rows", "1 row", "2 rows", "1 batch", "3 batches"}, []string{plural.Of(0, "row"), plural.Of(1, "row"),
		plural.Of(2, "row"), plural.Of(1, "batch", "batches"), plural.Of(3, "batch", "batches")})
}
