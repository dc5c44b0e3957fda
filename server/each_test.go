package server

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// A list of nothing is an empty list in JSON, never null.
func TestEachKeepsOrderAndIsNeverNil(t *testing.T) {
	require.Equal(t, []string{"3", "1", "2"}, Each([]int{3, 1, 2}, strconv.Itoa))
	require.NotNil(t, Each(nil, strconv.Itoa))
	require.Empty(t, Each(nil, strconv.Itoa))
}
