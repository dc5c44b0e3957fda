package point_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
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
func space(t testing.TB) (name string, k *point.Nftables) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	if os.Geteuid() != 0 {
		t.Skip("NFTABLES IS NOT TESTED: only root may make network namespaces")
	}
	name = fmt.Sprintf("op%x%d", os.Getpid(), spaces.Add(1))
	if out, err := exec.Command("ip", "netns", "add", name).CombinedOutput(); err != nil {
		t.Skipf("NFTABLES IS NOT TESTED: the kernel refuses namespaces: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
	k = &point.Nftables{Namespace: name}
	t.Cleanup(k.Close)
	return name, k
}

var spaces atomic.Int32

// storePlan is the plan of a store that entries may reach: of the machines, those
// that are entries now.
func storePlan(t testing.TB, entries ...int) *plan.Plan {
	var ws []estate.Workload
	for i := range 20 {
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{
			{From: estate.Beginning, Until: estate.End, Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(i)})},
			{From: estate.Beginning, Until: estate.End, Addr: netip.MustParseAddr(fmt.Sprintf("fd00::%x", i))}}}
		if slices.Contains(entries, i) {
			w.SetTag(estate.Tag{Key: "tier", Value: "entry"})
		}
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	text := "group entry = tier is entry\nlayer allowances\npermit entry -> workload w2 on tcp/5432\n" +
		"reject any -> workload w2 on any\nlayer more\n"
	for i := range 40 { // so many that what calls out is asked parcel by parcel
		text += fmt.Sprintf("permit workload w2 -> entry on tcp/%d\nreject workload w2 -> 10.1.%d.0/24 on tcp\n", 1000+
			i, i)
	}
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	return plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{2}, plan.Host, plan.Both)
}

// telling returns what a server tells for a plan that is to be enforced.
func telling(id string, release int, p *plan.Plan) point.Instructions {
	return point.Instructions{ID: id, Enforces: &point.Assignment{Release: release, ID: id, Rules: p.RulesHash(), Plan: p}}
}

// enforced is a plan that decides.
func enforced(p *plan.Plan) plan.Loaded { return plan.Loaded{Enforced: p} }

// Whatever comes and goes, a real kernel holds afterwards what the plan says.
func TestElementsMoveInARealKernel(t *testing.T) {
	_, k := space(t)
	r := rand.New(rand.NewPCG(7, 7))
	draw := func() (out []int) {
		for i := range 20 {
			if i != 2 && r.IntN(2) == 0 {
				out = append(out, i)
			}
		}
		return out
	}
	p := storePlan(t, 1, 19)
	require.NoError(t, k.Load(enforced(p), false))
	loaded, err := k.Read()
	require.NoError(t, err)
	for range 25 {
		next := storePlan(t, draw()...)
		require.NoError(t, k.Move(enforced(p), enforced(next)))
		p = next
		held, err := k.Read()
		require.NoError(t, err)
		sets, ways := nft.Contents(enforced(p))
		require.Greater(t, len(sets), len(p.Sets)*2)
		require.Equal(t, said(sets), said(held.Sets))
		require.Equal(t, ways, held.Ways)
		require.Equal(t, loaded.Order, held.Order)
	}
	// What somebody deleted cannot be moved: then nothing is.
	held, err := k.Read()
	require.NoError(t, err)
	none := storePlan(t)
	strange := storePlan(t, draw()...)
	strange.Sets[0].Addresses = append(plan.Addresses{{First: netip.MustParseAddr("10.7.7.7"),
		Last: netip.MustParseAddr("10.7.7.7")}}, strange.Sets[0].Addresses.Family(true)...)
	require.Error(t, k.Move(enforced(strange), enforced(none)))
	after, err := k.Read()
	require.NoError(t, err)
	require.Equal(t, said(held.Sets), said(after.Sets))
}

func said(sets map[string]plan.Addresses) map[string]string {
	out := map[string]string{}
	for name, a := range sets {
		out[name] = a.String()
	}
	return out
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
	require.Empty(t, none.Other)
	by("add", "table", "inet", "others") // which is never touched
	s, x := serve(t), telling("a", 1, storePlan(t, 0, 1))
	s.tell(x)
	start(t, s, k, "")
	s.until(t, "it holds it", func(x point.Status) bool { return x.ID == "a" && len(x.Lines) > 0 })

	listed := by("-a", "list", "table", "inet", nft.Table)
	rule := regexp.MustCompile(`chain (s_\S+)[^}]*?comment "line 4 reject" # handle (\d+)`).FindStringSubmatch(listed)
	require.NotNil(t, rule, listed)
	by("delete", "rule", "inet", nft.Table, rule[1], "handle", rule[2])
	s.until(t, "the rule is missed", func(x point.Status) bool { return x.Words == "a rule of line 4 is missing" })
	set := regexp.MustCompile(`set (p_entry\S+)`).FindStringSubmatch(listed)[1]
	by("add", "element", "inet", nft.Table, set, "{ 10.9.9.9 }")
	s.until(t, "and the address", func(x point.Status) bool {
		return strings.Contains(x.Words, "1 address too many in “entry”")
	})

	m, same := x.Enforces.Plan.Difference(storePlan(t, 0, 1, 7))
	require.True(t, same)
	s.tell(moving(x, "b", m))
	s.until(t, "a member comes, and what was changed by hand is still said", func(x point.Status) bool {
		return x.ID == "b" && strings.Contains(x.Words, "1 address too many") &&
			strings.Contains(x.Words, "line 4 is missing")
	})
	require.Contains(t, by("list", "set", "inet", nft.Table, set), "10.0.0.7")

	x = telling("c", 1, storePlan(t, 0, 1, 7))
	x.PutsBack = true
	s.tell(x)
	s.until(t, "told anew", func(x point.Status) bool { return x.ID == "c" && x.State == "holds" })
	by("flush", "table", "inet", nft.Table)
	require.Eventually(t, func() bool {
		return strings.Contains(by("list", "table", "inet", nft.Table), "line 4 reject")
	}, waitLong, waitShort)
	require.True(t, s.happened("put back"))

	broken := telling("d", 2, storePlan(t, 0, 1))
	broken.Enforces.Plan.Classes[0].Name = "no name at all"
	s.tell(broken)
	s.until(t, "a plan that is none is refused", func(x point.Status) bool {
		return x.State == "refused" &&
			x.Enforces == 1
	})
	require.Contains(t, by("list", "table", "inet", nft.Table), "line 4 reject")
	s.tell(point.Nothing)
	s.until(t, "off", func(x point.Status) bool { return x.Enforces == 0 && x.ID == "nothing" && x.State == "holds" })
	require.Equal(t, "table inet others\n", by("list", "tables"))
}

// BenchmarkAMoveInARealKernel measures how long it takes until an address is in a set of a
// real kernel, beside a set that holds many.
func BenchmarkAMoveInARealKernel(b *testing.B) {
	_, k := space(b)
	p := storePlan(b, 1)
	for i := range 50_000 {
		a := netip.AddrFrom4([4]byte{172, 16 + byte(i>>15), byte(i >> 7), byte(i << 1)})
		p.Sets[0].Addresses = append(p.Sets[0].Addresses, plan.Span{First: a, Last: a})
	}
	slices.SortFunc(p.Sets[0].Addresses, func(x, y plan.Span) int { return x.First.Compare(y.First) })
	fresh := func(a plan.Addresses) *plan.Plan {
		raw, err := json.Marshal(p)
		require.NoError(b, err)
		next := &plan.Plan{}
		require.NoError(b, json.Unmarshal(raw, next))
		next.Sets[0].Addresses = a
		return next
	}
	all := p.Sets[0].Addresses
	with, less := fresh(all), fresh(all[:len(all)-1])
	require.NoError(b, k.Load(enforced(with), false))
	for b.Loop() {
		require.NoError(b, k.Move(enforced(with), enforced(less)))
		with, less = less, with
	}
}
