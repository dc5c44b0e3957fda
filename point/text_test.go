package point_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan/nft"
	"lucidorchard/point"
)

// What a device says in its own way of the same is the same: counts, handles, blanks,
// elements in other lines.
func TestATextIsComparedByWhatItSays(t *testing.T) {
	var b strings.Builder
	require.NoError(t, nft.Write(&b, storePlan(t, 0, 1, 5), nft.Options{}))
	want := b.String()
	own := strings.ReplaceAll(want, "counter ", "counter packets 12 bytes 720 ")
	own = strings.ReplaceAll(own, "\t", "    ")
	own = strings.ReplaceAll(own, "elements = {\n", "elements = { ")
	own = strings.ReplaceAll(own, "table inet lucid_orchard {", "table inet lucid_orchard { # handle 7")
	own = strings.Replace(own, " # handle 7", "", 1)
	missing, extra := point.CompareText(want, "# as listed\r\n"+strings.ReplaceAll(own, "\n", "\r\n"))
	require.Empty(t, missing)
	require.Empty(t, extra)

	gone := strings.Replace(own, "10.0.0.5", "10.9.9.9", 1)
	missing, extra = point.CompareText(want, gone)
	require.Len(t, missing, 1)
	require.Contains(t, missing[0], "10.0.0.5")
	require.Len(t, extra, 1)
	require.Contains(t, extra[0], "10.9.9.9")

	missing, extra = point.CompareText(want, "")
	require.NotEmpty(t, missing)
	require.Empty(t, extra)
	missing, extra = point.CompareText("a\nb\nb\n", "b\na\nc\n")
	require.Equal(t, []string{"b"}, missing, "each as often as it stands")
	require.Equal(t, []string{"c"}, extra)
}
