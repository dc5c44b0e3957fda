package point_test

import (
	"net"
	"net/netip"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/point"
)

// planOf makes the plan of a gate before all machines of the company.
func planOf(t testing.TB, text string) *plan.Plan {
	p, errs := policy.Parse(text)
	require.Empty(t, errs, text)
	e := company()
	var guards []int32
	for i := range e.Len() {
		guards = append(guards, int32(i))
	}
	return plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan(guards, plan.Gate, plan.Both)
}

const flooded = 4998

// Both reject the datagrams to flooded, by sets of ranges, and permit connections to
// allowed.
const (
	oneRelease = "group clients = tier is client\ngroup servers = tier is server\nlayer allowances\n" +
		"permit clients -> servers on tcp/4000, tcp/4002\nreject clients -> servers on udp/4998, udp/4996\n"
	nextRelease = "group clients = tier is client\ngroup servers = tier is server\nlayer allowances\n" +
		"permit clients -> servers on tcp/4000, tcp/4001, tcp/4010-4020\nlayer closing\nreject any -> any on any\n"
)

// flood sends datagrams that are rejected without a pause until the test ends; it returns
// how many arrived.
func flood(t *testing.T, s *site) *atomic.Int64 {
	arrived, stop := new(atomic.Int64), make(chan struct{})
	var both sync.WaitGroup
	t.Cleanup(func() { close(stop); both.Wait() })
	var from, to net.PacketConn
	for ns, at := range map[string]struct {
		addr netip.Addr
		conn *net.PacketConn
	}{s.west: {westEnd(1, false), &from}, s.east: {eastEnd(2, false), &to}} {
		require.NoError(t, within(ns, func() (err error) {
			*at.conn, err = net.ListenPacket("udp4", netip.AddrPortFrom(at.addr, flooded).String())
			return err
		}))
		t.Cleanup(func() { _ = (*at.conn).Close() })
	}
	both.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				_, _ = from.WriteTo([]byte("x"), to.LocalAddr())
			}
		}
	})
	both.Go(func() {
		for {
			_ = to.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
			if _, _, err := to.ReadFrom(make([]byte, 8)); err == nil {
				arrived.Add(1)
			}
			select {
			case <-stop:
				return
			default:
			}
		}
	})
	return arrived
}

// While one plan takes the place of another, nothing passes that both reject, and nothing
// is refused that both permit: not for the microseconds in which a kernel that loads a
// table has its rules already, and not yet what is in its sets.
func TestReplacingAPlanLetsNothingThrough(t *testing.T) {
	s := newSite(t)
	k := &point.Nftables{Namespace: s.gate}
	one, next := planOf(t, oneRelease), planOf(t, nextRelease)
	require.NoError(t, k.Load(enforced(one), false))
	arrived := flood(t, s)
	refused, stop := new(atomic.Int64), make(chan struct{})
	var opening sync.WaitGroup
	opening.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			// A first packet that is lost comes again after a second.
			if !s.opens(westEnd(1, false), eastEnd(1, false), allowed, 900*time.Millisecond) {
				refused.Add(1)
			}
		}
	})
	for range 15 {
		for _, l := range []plan.Loaded{{Enforced: one, Observed: next}, {Enforced: next},
			{Enforced: next, Observed: one}, {Enforced: one}} {
			require.NoError(t, k.Load(l, false))
		}
	}
	close(stop)
	opening.Wait()
	require.Zero(t, arrived.Load(), "datagrams that every plan rejects")
	require.Zero(t, refused.Load(), "connections that every plan permits")
	loads(t, k, one)
}

// Wherever a replacement is killed, what decides then is a plan, and the next replacement
// opens nothing, and leaves nothing over.
func TestAReplacementIsKilled(t *testing.T) {
	one, next := planOf(t, oneRelease), planOf(t, nextRelease)
	scripts := nft.Replacement(plan.Loaded{Enforced: next}, nft.Options{}, nft.Standing{Decides: true})
	require.Equal(t, 5, len(scripts))
	for killed := range len(scripts) + 1 {
		s := newSite(t)
		k := &point.Nftables{Namespace: s.gate}
		require.NoError(t, k.Load(enforced(one), false))
		arrived := flood(t, s)
		for _, script := range scripts[:killed] {
			s.script(script)
		}
		time.Sleep(20 * time.Millisecond)
		again := &point.Nftables{Namespace: s.gate}
		require.NoError(t, again.Load(enforced(one), false))
		require.Zero(t, arrived.Load(), "killed after %d scripts", killed)
		loads(t, again, one)
		require.NotContains(t, s.tables(), nft.Scaffold, "killed after %d scripts", killed)
		require.NoError(t, again.Load(plan.Loaded{}, false))
		require.Empty(t, s.tables())
	}
}

// What the kernel refuses changes nothing, also where it refuses only the plan on trial,
// which comes last.
func TestARefusedReplacementLeavesNothing(t *testing.T) {
	s := newSite(t)
	k := &point.Nftables{Namespace: s.gate}
	one, next, bad := planOf(t, oneRelease), planOf(t, nextRelease), planOf(t, nextRelease)
	require.NoError(t, k.Load(enforced(one), false))
	arrived, before := flood(t, s), s.tables()
	bad.Classes[0].Name = "a name with blanks"
	for _, l := range []plan.Loaded{{Enforced: bad}, {Enforced: next, Observed: bad}} {
		require.Error(t, k.Load(l, false))
		loads(t, k, one)
		require.Equal(t, before, s.tables())
	}
	require.Zero(t, arrived.Load())
}

// script lets the gate load a script.
func (s *site) script(text string) {
	s.t.Helper()
	cmd := exec.Command("ip", "netns", "exec", s.gate, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s", out)
}

// tables lists the tables of the gate.
func (s *site) tables() string {
	out, err := exec.Command("ip", "netns", "exec", s.gate, "nft", "list", "tables").Output()
	require.NoError(s.t, err)
	return string(out)
}
