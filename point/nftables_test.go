package point_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/point"
)

// space is a network namespace with a kernel of its own in it.
func space(t *testing.T) (name string, k point.Nftables) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	if os.Geteuid() != 0 {
		t.Skip("NFTABLES IS NOT TESTED: only root may make network namespaces")
	}
	name = fmt.Sprintf("op%x", os.Getpid())
	if out, err := exec.Command("ip", "netns", "add", name).CombinedOutput(); err != nil {
		t.Skipf("NFTABLES IS NOT TESTED: the kernel refuses namespaces: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
	return name, point.Nftables{Command: []string{"ip", "netns", "exec", name, "nft"}}
}

// script is the plan of a store that entries may reach.
func script(t *testing.T) string {
	var ws []estate.Workload
	for i, tier := range []string{"entry", "entry", "store"} {
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End,
			Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(2*i + 1)})}}}
		w.SetTag(estate.Tag{Key: "tier", Value: tier})
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	p, errs := policy.Parse("group entry = tier is entry\nlayer allowances\npermit entry -> workload w2 on tcp/5432\n" +
		"reject any -> workload w2 on any\n")
	require.Empty(t, errs)
	var b strings.Builder
	made := plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{2}, plan.Host, plan.Both)
	require.NoError(t, nft.Write(&b, made, nft.Options{}))
	return b.String()
}

// What a real kernel holds is read back the same, and said in words when somebody
// changed it by hand.
func TestARealKernelIsReadBack(t *testing.T) {
	name, k := space(t)
	by := func(args ...string) string {
		out, err := exec.Command("ip", append([]string{"netns", "exec", name, "nft"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	none, err := k.Read()
	require.NoError(t, err)
	require.Empty(t, none.Parts)
	by("add", "table", "inet", "others") // which is never touched
	s, text := serve(t), script(t)
	s.tell(point.Told{ID: "a", Release: 1, Mode: "enforce", Rules: "r", Script: text})
	start(t, s, k, "")
	s.until(t, "it holds it", func(x point.Said) bool { return x.ID == "a" && len(x.Lines) > 0 })

	listed := by("-a", "list", "table", "inet", nft.Table)
	rule := regexp.MustCompile(`chain (s_\S+)[^}]*?comment "line 4 reject" # handle (\d+)`).FindStringSubmatch(listed)
	require.NotNil(t, rule, listed)
	by("delete", "rule", "inet", nft.Table, rule[1], "handle", rule[2])
	s.until(t, "the rule is missed", func(x point.Said) bool { return x.Words == "a rule of line 4 is missing" })
	set := regexp.MustCompile(`set (p_entry\S+)`).FindStringSubmatch(listed)[1]
	by("add", "element", "inet", nft.Table, set, "{ 10.9.9.9 }")
	s.until(t, "and the address", func(x point.Said) bool {
		return strings.Contains(x.Words, "1 address too many in "+set)
	})

	s.tell(point.Told{ID: "b", Release: 1, Mode: "enforce", Rules: "r", Script: text, PutsBack: true})
	s.until(t, "told anew", func(x point.Said) bool { return x.ID == "b" && x.State == "holds" })
	by("flush", "table", "inet", nft.Table)
	require.Eventually(t, func() bool {
		return strings.Contains(by("list", "table", "inet", nft.Table), "line 4 reject")
	}, waitLong, waitShort)
	require.True(t, s.happened("put back"))

	s.tell(point.Told{ID: "c", Release: 2, Mode: "enforce", Rules: "x", Script: strings.Replace(text, "tcp dport", "tcp deport", 1)})
	s.until(t, "a plan that is none is refused", func(x point.Said) bool { return x.State == "refused" && x.Release == 1 })
	require.Contains(t, by("list", "table", "inet", nft.Table), "line 4 reject")
	s.tell(point.Told{ID: "nothing", Mode: "off", Rules: "none",
		Script: "table inet " + nft.Table + "\ndelete table inet " + nft.Table + "\n"})
	s.until(t, "off", func(x point.Said) bool { return x.Mode == "off" && x.State == "holds" })
	require.Equal(t, "table inet others\n", by("list", "tables"))
}
