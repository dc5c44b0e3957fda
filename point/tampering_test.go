package point_test

import (
	"context"
	"net"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
	"lucidorchard/point"
)

// Whatever somebody does to the table by hand, the point does not call it in order: what
// switches rules off, what goes into sets, and what ends the conversations of others.
func TestTamperingIsDrift(t *testing.T) {
	name, k := space(t)
	nftBy := func(args ...string) {
		out, err := exec.Command("ip", append([]string{"netns", "exec", name, "nft"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
	}
	s := serve(t)
	p := storePlan(t, 0, 1)
	s.tell(telling("0", 1, p))
	start(t, s, k, "")
	s.until(t, "it is loaded", func(x point.Status) bool { return x.ID == "0" && x.State == "holds" })
	set := p.Sets[0].Name + "_4"
	for i, x := range []struct {
		what  string
		by    []string
		words string
	}{
		{"a dormant table holds nothing", []string{"add table inet " + nft.Table + " { flags dormant ; }"},
			"other flags"},
		{"an element with a comment is read all the same", []string{"add element inet " + nft.Table + " " + set +
			` { 10.9.9.9 comment "mine" }`},
			"1 address too many"},
		{"a set of ended connections", []string{"add element inet " + nft.Table +
			" ended_4 { 10.0.0.1 . 10.0.0.2 . tcp . 1000 . 22 }"},
			"1 connection that nobody ended"},
		{"a chain that is empty", []string{"flush", "chain", "inet", nft.Table, "input"}, "of chain input is missing"},
		{"a policy of a base chain", []string{"chain inet " + nft.Table +
			" input { type filter hook input priority filter; policy drop; }"},
			"chain input says something else"},
		{"a chain that decides first", []string{"add chain inet " + nft.Table +
			" first { type filter hook input priority -10 ; }"},
			"chain first does not belong there"},
		{"the table is gone", []string{"delete", "table", "inet", nft.Table}, "the table is missing"},
	} {
		nftBy(x.by...)
		s.until(t, x.what, func(said point.Status) bool {
			return said.State == "drifted" &&
				strings.Contains(said.Words, x.words)
		})
		again := telling(string(rune('a'+i)), 1, p)
		again.Again = i + 1
		s.tell(again)
		s.until(t, "restored after: "+x.what, func(said point.Status) bool {
			return said.ID == again.ID &&
				said.State == "holds"
		})
	}
}

// On a host, datagrams to everybody meet its rules, and addresses that the inventory lacks
// are reported: no rule applies there.
func TestAHostIsNotOpenAside(t *testing.T) {
	x := newSite(t)
	e, _ := estate.New([]estate.Workload{{ID: "host", Leases: []estate.Lease{{Addr: eastEnd(1, false),
		From:  estate.Beginning,
		Until: estate.End}}}})
	p, errs := policy.Parse("layer closing\nreject any -> any on udp, tcp\n")
	require.Empty(t, errs)
	made := plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{0}, plan.Host, plan.Both)
	var at, from *net.UDPConn
	require.NoError(t, within(x.east, func() (err error) {
		at, err = net.ListenUDP("udp4", &net.UDPAddr{Port: 9999})
		return err
	}))
	defer at.Close()
	require.NoError(t, within(x.gate, func() (err error) {
		l := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) (err error) {
			_ = c.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1) })
			return err
		}}
		c, err := l.ListenPacket(context.Background(), "udp4", "10.2.0.254:0")
		if err == nil {
			from = c.(*net.UDPConn)
		}
		return err
	}))
	defer from.Close()
	arrives := func() bool {
		_, err := from.WriteTo([]byte("who is there?"), &net.UDPAddr{IP: net.IPv4(10, 2, 0, 255), Port: 9999})
		require.NoError(t, err)
		_ = at.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
		_, _, err = at.ReadFrom(make([]byte, 64))
		return err == nil
	}
	require.True(t, arrives())
	s, k := serve(t), &point.Nftables{Namespace: x.east}
	s.tell(telling("a", 1, made))
	start(t, s, k, "")
	s.until(t, "it reports addresses that are not guarded", func(said point.Status) bool {
		return said.ID == "a" &&
			len(said.Unlisted) > 0
	})
	s.mu.Lock()
	unlisted := s.said.Unlisted
	s.mu.Unlock()
	require.Contains(t, unlisted, eastEnd(2, false))
	require.NotContains(t, unlisted, eastEnd(1, false))
	require.False(t, arrives(), "what is sent to everybody meets the rules as well")
}

// With a pair, a gate that sees only the answers of a conversation lets them pass if the
// policy permits the conversation, of UDP too; others it drops.
func TestAPairLetsAnswersPass(t *testing.T) {
	x := newSite(t)
	e := company()
	p, errs := policy.Parse("group clients = tier is client\ngroup servers = tier is server\nlayer l\n" +
		"permit clients -> servers on udp/5001, tcp/5001\nreject any -> any on any\n")
	require.Empty(t, errs)
	var guards []int32
	for i := range e.All() {
		guards = append(guards, i)
	}
	made := plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan(guards, plan.Gate, plan.Both)
	k := &point.Nftables{Namespace: x.gate}
	// The other half of the path: what clients send reaches servers without the gate.
	answers := func(port int) bool {
		var from, at *net.UDPConn
		to := &net.UDPAddr{IP: westEnd(1, false).AsSlice(), Port: 40001}
		require.NoError(t, within(x.west, func() (err error) { at, err = net.ListenUDP("udp4", to); return err }))
		defer at.Close()
		require.NoError(t, within(x.east, func() (err error) {
			from, err = net.ListenUDP("udp4", &net.UDPAddr{IP: eastEnd(1, false).AsSlice(), Port: port})
			return err
		}))
		defer from.Close()
		_, err := from.WriteTo([]byte("the answer"), to)
		require.NoError(t, err)
		_ = at.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
		_, _, err = at.ReadFrom(make([]byte, 64))
		return err == nil
	}
	require.NoError(t, k.Load(enforced(made), true))
	require.True(t, answers(5001))
	require.False(t, answers(5002))
	require.NoError(t, k.Load(enforced(made), false))
	x.in(x.gate, "conntrack", "-F")
	require.False(t, answers(5001), "without a pair it is a call of the server")
	d := made.Decider()
	require.Equal(t, decide.Permit, d.Decide(westEnd(1, false), eastEnd(1, false), service.PointOf(service.UDP, 5001),
		0).Verdict)
}

// Two releases count for themselves in a real kernel: the one on trial sees every packet
// that opens a conversation, also those that the enforced one drops.
func TestBothReleasesCountInARealKernel(t *testing.T) {
	x := newSite(t)
	under := func(rules string) *plan.Plan {
		p, errs := policy.Parse("layer l\n" + rules)
		require.Empty(t, errs)
		e := company()
		var guards []int32
		for i := range e.All() {
			guards = append(guards, i)
		}
		return plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan(guards, plan.Gate, plan.Both)
	}
	k := &point.Nftables{Namespace: x.gate}
	require.NoError(t, k.Load(plan.Loaded{Enforced: under("reject any -> any on tcp/7\n"),
		Observed: under("permit any -> any on tcp/7\nreject any -> any on tcp/8\n")},
		false))
	require.False(t, x.opens(westEnd(1, false), eastEnd(1, false), 7, 80*time.Millisecond), "the enforced one decides")
	require.True(t, x.opens(westEnd(1, false), eastEnd(1, false), 8, 2*time.Second), "the one on trial drops nothing")
	held, err := k.Read()
	require.NoError(t, err)
	packets := func(lines []point.Line, line int, verdict string) int64 {
		for _, l := range lines {
			if l.Line == line && l.Verdict == verdict {
				return l.Packets
			}
		}
		return 0
	}
	require.Positive(t, packets(held.Lines, 2, "reject"))
	require.Positive(t, packets(held.Lines, 0, "uncovered"))
	require.Positive(t, packets(held.Trial, 2, "permit"), "what the enforced one drops is counted as well")
	require.Positive(t, packets(held.Trial, 3, "reject"))
}
