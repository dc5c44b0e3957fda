package point_test

import (
	"fmt"
	"net/netip"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/mdlayher/netlink"
	"github.com/stretchr/testify/require"
	"github.com/ti-mo/conntrack"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/point"
)

// crowd is a plan of a store that so many entries may reach, every second address.
func crowd(t testing.TB, entries int) *plan.Plan {
	ws := []estate.Workload{{ID: "store", Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End,
		Addr: netip.MustParseAddr("10.200.0.1")}}}}
	for i := range 30_000 {
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End,
			Addr: crowdAddr(i)}}}
		if i < entries {
			w.SetTag(estate.Tag{Key: "tier", Value: "entry"})
		}
		ws = append(ws, w)
	}
	e, conflicts := estate.New(ws)
	require.Empty(t, conflicts)
	p, errs := policy.Parse(
		"group entry = tier is entry\nlayer allowances\npermit entry -> workload store on tcp/5432\n" +
			"reject any -> workload store on any\n")
	require.Empty(t, errs)
	store, _ := e.ByID("store")
	return plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{store}, plan.Gate, plan.Both)
}

func crowdAddr(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(i >> 15), byte(i >> 7), byte(i << 1)})
}

// loads reads back what a kernel has, and compares it with plans.
func loads(t testing.TB, k *point.Nftables, p *plan.Plan) {
	t.Helper()
	held, err := k.Read()
	require.NoError(t, err)
	require.Empty(t, held.Odd)
	require.Zero(t, held.EndedMissing)
	require.Zero(t, held.EndedExtra)
	for i := range p.Sets {
		s := &p.Sets[i]
		require.True(t, slices.Equal(s.Addresses.Family(false), held.Sets[s.Name+"_4"]), "%s: %d spans, of %d", s.Words,
			len(held.Sets[s.Name+"_4"]), len(s.Addresses))
	}
}

// A batch of any size arrives whole: one attribute of a message has room for some 740
// elements, and used to lose the rest in silence.
func TestManyMembersMoveInOneStep(t *testing.T) {
	_, k := space(t)
	few, many := crowd(t, 10), crowd(t, 20_010)
	require.NoError(t, k.Load(enforced(few), false))
	require.NoError(t, k.Move(enforced(few), enforced(many)))
	loads(t, k, many)
	require.NoError(t, k.Move(enforced(many), enforced(few)))
	loads(t, k, few)
}

// track makes the kernel of a namespace track connections from a crowd to the store.
func track(t testing.TB, ns string, connections int) {
	err := within(ns, func() error {
		c, err := conntrack.Dial(&netlink.Config{})
		if err != nil {
			return err
		}
		defer c.Close()
		for i := range connections {
			f := conntrack.NewFlow(6, conntrack.StatusConfirmed|conntrack.StatusAssured|conntrack.StatusSeenReply,
				crowdAddr(i%30_000),
				netip.MustParseAddr("10.200.0.1"), uint16(20_000+i/30_000), 5432, 3600, 0)
			f.ProtoInfo.TCP = &conntrack.ProtoInfoTCP{State: 3}
			if err := c.Create(f); err != nil {
				return fmt.Errorf("connection %d: %w", i, err)
			}
		}
		return nil
	})
	require.NoError(t, err)
}

func tracked(t testing.TB, ns string) (n int) {
	require.NoError(t, within(ns, func() error {
		c, err := conntrack.Dial(&netlink.Config{})
		if err != nil {
			return err
		}
		defer c.Close()
		all, err := c.Dump(nil)
		n = len(all)
		return err
	}))
	return n
}

// As many connections as a busy gate has are ended, each: none that is rejected is left,
// none that is permitted is touched, and a plan that is loaded later sets none free.
func TestManyConnectionsEnd(t *testing.T) {
	name, k := space(t)
	k.Dir = t.TempDir()
	const connections, permitted = 36_000, 3_000
	_ = exec.Command("ip", "netns", "exec", name, "sysctl", "-qw", "net.netfilter.nf_conntrack_max=500000").Run()
	all, some := crowd(t, 30_000), crowd(t, permitted)
	require.NoError(t, k.Load(enforced(all), false))
	track(t, name, connections)
	n, err := k.End(all.Decider())
	require.NoError(t, err)
	require.Zero(t, n, "all are permitted")
	require.NoError(t, k.Load(enforced(some), false))
	n, err = k.End(some.Decider())
	require.NoError(t, err)
	kept := 2 * permitted // each of them has two connections, as far as there are so many
	require.Equal(t, connections-kept, n)
	require.Equal(t, kept, tracked(t, name))
	elements := func() (n int) {
		require.NoError(t, within(name, func() error {
			c, err := nftables.New()
			if err != nil {
				return err
			}
			all, err := c.GetSetElements(&nftables.Set{Name: "ended_4", Table: &nftables.Table{Name: nft.Table,
				Family: nftables.TableFamilyINet}})
			n = len(all)
			return err
		}))
		return n
	}
	require.Equal(t, 2*n, elements())
	loads(t, k, some)
	require.NoError(t, k.Load(enforced(some), false))
	require.Equal(t, 2*n, elements(), "they stay ended over a plan")
	loads(t, k, some)
	again := &point.Nftables{Namespace: name, Dir: k.Dir}
	require.NoError(t, again.Load(enforced(some), false))
	require.Equal(t, 2*n, elements(), "and over a restart of the agent")
	_, err = again.End(all.Decider())
	require.NoError(t, err)
	require.Zero(t, elements(), "permitted again, they may go on")
}

// BenchmarkEndingConnections measures what it takes to judge the connections that a busy gate
// tracks when one address moves, and to end as many.
func BenchmarkEndingConnections(b *testing.B) {
	name, k := space(b)
	_ = exec.Command("ip", "netns", "exec", name, "sysctl", "-qw", "net.netfilter.nf_conntrack_max=500000").Run()
	all, none := crowd(b, 30_000), crowd(b, 0)
	for b.Loop() {
		require.NoError(b, k.Load(enforced(all), false))
		track(b, name, 55_000)
		begun := time.Now()
		n, err := k.End(all.Decider())
		require.NoError(b, err)
		require.Zero(b, n)
		b.ReportMetric(float64(time.Since(begun).Milliseconds()), "ms-to-judge-55000")
		require.NoError(b, k.Load(enforced(none), false))
		begun = time.Now()
		n, err = k.End(none.Decider())
		require.NoError(b, err)
		require.Equal(b, 55_000, n)
		b.ReportMetric(float64(time.Since(begun).Milliseconds()), "ms-to-end-55000")
		require.NoError(b, k.Load(plan.Loaded{}, false))
	}
}
