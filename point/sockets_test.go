package point_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan"
	"lucidorchard/point"
)

// Connections to the kernel are kept, and not more and more of them; after an error, and
// for a namespace that took the place of another, there is a new one.
func TestConnectionsToTheKernel(t *testing.T) {
	name, k := space(t)
	few, many := plan.Loaded{Enforced: storePlan(t, 1)}, plan.Loaded{Enforced: storePlan(t, 1, 4)}
	moves := func() {
		for range 20 {
			require.NoError(t, k.Move(few, many))
			require.NoError(t, k.Move(many, few))
			_, err := k.End(few.Enforced.Decider())
			require.NoError(t, err)
		}
	}
	open := func() int {
		all, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(all)
	}
	require.NoError(t, k.Load(few, false))
	moves()
	before := open()
	moves()
	require.LessOrEqual(t, open(), before)

	require.NoError(t, k.Load(plan.Loaded{}, false))
	require.Error(t, k.Move(few, many), "there is no such set")
	require.NoError(t, k.Load(few, false))
	moves()

	require.NoError(t, exec.Command("ip", "netns", "del", name).Run())
	require.NoError(t, exec.Command("ip", "netns", "add", name).Run())
	held, err := k.Read()
	require.NoError(t, err)
	require.Empty(t, held.Rules, "it is the new one that is read")
	require.Error(t, k.Move(few, many))
	require.NoError(t, k.Load(few, false))
	moves()
	k.Close()
	moves()

	held, err = (&point.Nftables{Namespace: name}).Read()
	require.NoError(t, err)
	require.NotEmpty(t, held.Rules, "it is the new one that was written")
}
