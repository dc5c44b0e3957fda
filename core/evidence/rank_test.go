package evidence

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// The worst outcome of what points run counts: broken before undefined, that before open.
func TestOutcomesFromTheBestToTheWorst(t *testing.T) {
	all := []string{"broken", "open", "holds", "undefined", ""}
	slices.SortFunc(all, func(a, b string) int { return rank(a) - rank(b) })
	require.Equal(t, []string{"", "holds", "open", "undefined", "broken"}, all)
}
