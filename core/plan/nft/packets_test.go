package nft_test

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// land is three namespaces in a row: west and east, which hold the addresses of
// estates by turns, and a gate between them that forwards.
type land struct {
	t                testing.TB
	west, gate, east string
}

var lands atomic.Int32

func newLand(t testing.TB) *land {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	if os.Geteuid() != 0 {
		t.Skip("PACKETS ARE NOT TESTED: only root may make network namespaces")
	}
	if _, err := exec.LookPath("nft"); err != nil {
		t.Skip("PACKETS ARE NOT TESTED: nft is not installed")
	}
	id := fmt.Sprintf("%x%x", os.Getpid()&0xffff, lands.Add(1))
	l := &land{t, "lw" + id, "lg" + id, "le" + id}
	for _, ns := range []string{l.west, l.gate, l.east} {
		if out, err := exec.Command("ip", "netns", "add", ns).CombinedOutput(); err != nil {
			t.Skipf("PACKETS ARE NOT TESTED: the kernel refuses namespaces: %s", out)
		}
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns).Run() })
		l.run(ns, "ip", "link", "set", "lo", "up")
		for _, set := range []string{"net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1",
			"net.ipv4.icmp_ratelimit=0",
			"net.ipv6.icmp.ratelimit=0", "net.ipv4.conf.all.rp_filter=0", "net.ipv4.conf.default.rp_filter=0",
			"net.ipv4.icmp_msgs_per_sec=100000", "net.ipv4.icmp_msgs_burst=10000"} {
			_ = exec.Command("ip", "netns", "exec", ns, "sysctl", "-qw", set).Run() // not every kernel has all
		}
	}
	for i, ns := range []string{l.west, l.east} {
		end, near := fmt.Sprintf("v%d%s", i, id), fmt.Sprintf("g%d%s", i, id)
		l.run("", "ip", "link", "add", end, "netns", ns, "type", "veth", "peer", "name", near, "netns", l.gate)
		l.run(ns, "ip", "addr", "add", fmt.Sprintf("169.254.%d.2/24", i), "dev", end)
		l.run(l.gate, "ip", "addr", "add", fmt.Sprintf("169.254.%d.1/24", i), "dev", near)
		l.run(ns, "ip", "addr", "add", fmt.Sprintf("fd99:%d::2/64", i), "dev", end, "nodad")
		l.run(l.gate, "ip", "addr", "add", fmt.Sprintf("fd99:%d::1/64", i), "dev", near, "nodad")
		l.run(ns, "ip", "link", "set", end, "up")
		l.run(l.gate, "ip", "link", "set", near, "up")
		l.run(ns, "ip", "route", "add", "default", "via", fmt.Sprintf("169.254.%d.1", i))
		l.run(ns, "ip", "-6", "route", "add", "default", "via", fmt.Sprintf("fd99:%d::1", i))
		for _, a := range sample.Addresses {
			if l.at(a) != ns {
				continue
			}
			one := netip.PrefixFrom(a, a.BitLen()).String()
			add := []string{"ip", "addr", "add", one, "dev", "lo"}
			via := fmt.Sprintf("169.254.%d.2", i)
			if a.Is6() {
				add, via = append(add, "nodad"), fmt.Sprintf("fd99:%d::2", i)
			}
			l.run(ns, add...)
			l.run(l.gate, "ip", "route", "add", one, "via", via)
		}
	}
	return l
}

// at returns where an address is: by turns.
func (l *land) at(a netip.Addr) string {
	if slices.Index(sample.Addresses, a)%2 == 0 {
		return l.west
	}
	return l.east
}

func (l *land) run(ns string, args ...string) string {
	l.t.Helper()
	if ns != "" {
		args = append([]string{"ip", "netns", "exec", ns}, args...)
	}
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	require.NoError(l.t, err, "%s: %s", strings.Join(args, " "), out)
	return string(out)
}

// load puts a plan in force in a namespace.
func (l *land) load(ns string, p *plan.Plan, o nft.Options) {
	l.t.Helper()
	var b strings.Builder
	require.NoError(l.t, nft.Write(&b, p, o))
	l.script(ns, b.String())
}

// script loads a script of nft in a namespace.
func (l *land) script(ns, text string) {
	l.t.Helper()
	cmd := exec.Command("ip", "netns", "exec", ns, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	require.NoError(l.t, err, "%s\n%s", out, text)
}

func (l *land) unload(ns string) {
	_ = exec.Command("ip", "netns", "exec", ns, "nft", "delete", "table", "inet", nft.Table).Run()
}

// inside runs f on a thread of its own in a namespace.
func inside(ns string, f func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never given back: the thread ends with the goroutine
		fd, err := os.Open("/run/netns/" + ns)
		if err == nil {
			err = unix.Setns(int(fd.Fd()), unix.CLONE_NEWNET)
			_ = fd.Close()
		}
		if err == nil {
			err = f()
		}
		done <- err
	}()
	return <-done
}

var errNoAnswer = errors.New("no answer")

// passes reports whether the first packet of a conversation comes through: nobody
// listens, so what arrives is refused.
func (l *land) passes(a, b netip.Addr, pt service.Point, patience time.Duration) bool {
	err := inside(l.at(a), func() error {
		switch pt.Proto() {
		case service.TCP:
			d := net.Dialer{LocalAddr: &net.TCPAddr{IP: a.AsSlice()}, Timeout: patience}
			c, err := d.Dial("tcp", netip.AddrPortFrom(b, uint16(pt.Port())).String())
			if err == nil {
				return c.Close()
			}
			return err
		case service.UDP:
			c, err := net.DialUDP("udp", &net.UDPAddr{IP: a.AsSlice()},
				&net.UDPAddr{IP: b.AsSlice(), Port: int(pt.Port())})
			if err != nil {
				return err
			}
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(patience))
			if _, err = c.Write([]byte("who is there?")); err == nil {
				_, err = c.Read(make([]byte, 64))
			}
			return err
		}
		return ping(a, b, pt, patience)
	})
	if err == nil || errors.Is(err, syscall.ECONNREFUSED) {
		return true
	}
	var timeout net.Error
	if errors.Is(err, errNoAnswer) || errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, syscall.EPERM) {
		return false // a host that does not let its own packets out says so at once
	}
	require.NoError(l.t, err, "%s -> %s on %s", a, b, pt)
	return false
}

var echoes atomic.Uint32

// ping sends an echo request and waits for the reply.
func ping(a, b netip.Addr, pt service.Point, patience time.Duration) error {
	network, reply := "ip4:icmp", byte(0)
	if a.Is6() {
		network, reply = "ip6:ipv6-icmp", 129
	}
	c, err := net.ListenPacket(network, a.String())
	if err != nil {
		return err
	}
	defer c.Close()
	id := uint16(echoes.Add(1))
	m := []byte{byte(pt.Port() >> 8), byte(pt.Port()), 0, 0, byte(id >> 8), byte(id), 0, 1}
	sum := uint32(0)
	for i := 0; i < len(m); i += 2 {
		sum += uint32(binary.BigEndian.Uint16(m[i:]))
	}
	sum = sum&0xffff + sum>>16
	if !a.Is6() { // the kernel does it there
		binary.BigEndian.PutUint16(m[2:], ^uint16(sum))
	}
	if _, err := c.WriteTo(m, &net.IPAddr{IP: b.AsSlice()}); err != nil {
		return err
	}
	_ = c.SetDeadline(time.Now().Add(patience))
	for {
		in := make([]byte, 256)
		n, from, err := c.ReadFrom(in)
		if err != nil {
			return errNoAnswer
		}
		if n >= 8 && in[0] == reply && binary.BigEndian.Uint16(in[4:]) == id && from.String() == b.String() {
			return nil
		}
	}
}

// probe is a conversation with what should become of it.
type probe struct {
	a, b netip.Addr
	pt   service.Point
	want bool
}

// tried checks that each probe's fate is what it should be.
func (l *land) tried(what string, probes []probe) {
	l.t.Helper()
	wrong := make([]string, len(probes))
	var all sync.WaitGroup
	slots := make(chan struct{}, 24)
	for i, p := range probes {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			patience := 150 * time.Millisecond
			if p.want {
				patience = 5 * time.Second
			}
			if got := l.passes(p.a, p.b, p.pt, patience); got != p.want {
				wrong[i] = fmt.Sprintf("%s -> %s on %s: passes %v, should %v", p.a, p.b, p.pt, got, p.want)
			}
		}()
	}
	all.Wait()
	wrong = slices.DeleteFunc(wrong, func(s string) bool { return s == "" })
	require.Empty(l.t, wrong, what)
}

// points are those that a probe can ask.
var points = slices.DeleteFunc(slices.Clone(sample.Points), func(p service.Point) bool {
	proto := p.Proto()
	return p.Port() == 0 && proto != service.ICMP || service.IsICMP(proto) && p.Port()>>8 != 8 && p.Port()>>8 != 128 ||
		proto != service.TCP && proto != service.UDP && !service.IsICMP(proto)
})

// everyWay returns a probe for each pair of addresses across the gate, with what a
// plan's policy says of it; asked says which conversations the point polices.
func (l *land) everyWay(c *decide.Compiled, asked func(a, b estate.Endpoint) bool,
	keep func(n int) bool) (out []probe) {
	walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
	n := 0
	for _, a := range sample.Addresses {
		for _, b := range sample.Addresses {
			if l.at(a) == l.at(b) || a.BitLen() != b.BitLen() {
				continue
			}
			for _, pt := range points {
				if pt.Proto() == service.ICMP && !a.Is4() || pt.Proto() == service.ICMP6 && a.Is4() {
					continue
				}
				if n++; !keep(n) {
					continue
				}
				x, y := c.Estate.At(a, c.AsOf), c.Estate.At(b, c.AsOf)
				rejected := decide.VerdictOf(walk.Decide(x, y, pt)) == decide.Reject && asked(x, y)
				out = append(out, probe{a, b, pt, !rejected})
			}
		}
	}
	return out
}

// drawnCase is a random estate and policy that guards somebody.
func drawnCase(seed int) (*decide.Compiled, []int32) {
	for ; ; seed += 1000 {
		c := rapid.Custom(func(t *rapid.T) *decide.Compiled {
			e := sample.Estate(t)
			text := sample.Policy(t)
			if seed%2 == 1 { // so many rules that they are asked parcel by parcel
				text += "\nlayer many\n"
				for range 90 {
					text += fmt.Sprintf("%s %s -> any on %s\n", rapid.SampledFrom([]string{"permit", "reject"}).Draw(t,
						"verdict"),
						rapid.SampledFrom(sample.Addresses).Draw(t, "peer"),
						rapid.SampledFrom([]string{"tcp", "udp", "icmp, icmp6",
							"tcp/443", "udp/53, tcp/22", "any"}).Draw(t, "on"))
				}
			}
			if rapid.Bool().Draw(t, "closed") {
				text += "\nlayer last\nreject any -> any on any\n"
			}
			p, errs := policy.Parse(text)
			require.Empty(t, errs)
			return decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000 + 4*3600})
		}).Example(seed)
		var guards []int32
		for i := range c.Estate.All() {
			if (int(i)+seed)%3 != 0 {
				guards = append(guards, i)
			}
		}
		if p := plan.NewPlanner(c).Plan(guards, plan.Gate, plan.Both); len(p.Classes) > 1 && len(c.Policy.Rules) > 2 {
			return c, guards
		}
	}
}

// Real packets of tcp, udp and icmp, of both families: their fate at a gate, and at
// hosts, is what the policy says; in observe all pass.
func TestPacketsFareAsThePolicySays(t *testing.T) {
	l := newLand(t)
	dropped, carried, parcels := 0, 0, 0
	try := func(what string, probes []probe) {
		for _, p := range probes {
			if p.want {
				carried++
			} else {
				dropped++
			}
		}
		l.tried(what, probes)
	}
	for seed := range 8 {
		c, guards := drawnCase(seed)
		side := []plan.Side{plan.Both, plan.Server, plan.Client}[seed%3]
		guarded := func(ep estate.Endpoint) bool {
			return ep.Workload != estate.Outside && slices.Contains(guards, ep.Workload)
		}
		some := func(n int) bool { return n%5 == seed%5 }
		gate := plan.NewPlanner(c).Plan(guards, plan.Gate, side)
		asked := func(a, b estate.Endpoint) bool {
			return side != plan.Client && guarded(b) || side != plan.Server && guarded(a)
		}
		l.load(l.gate, gate, nft.Options{})
		l.load(l.gate, gate, nft.Options{}) // again and again
		parcels += strings.Count(l.run(l.gate, "nft", "list", "table", "inet", nft.Table), " jump ")
		try(fmt.Sprintf("gate, case %d", seed), l.everyWay(c, asked, some))
		l.load(l.gate, gate, nft.Options{Observe: true})
		nothing := func(a, b estate.Endpoint) bool { return false }
		l.tried(fmt.Sprintf("observing gate, case %d", seed), l.everyWay(c, nothing,
			func(n int) bool { return n%40 == 0 }))
		l.unload(l.gate)

		// The machine in the east is the host of what it holds.
		host := plan.NewPlanner(c).Plan(guards, plan.Host, plan.Both)
		l.load(l.east, host, nft.Options{})
		atEast := func(a, b estate.Endpoint) bool {
			return guarded(b) && l.at(b.Addr) == l.east || guarded(a) && l.at(a.Addr) == l.east
		}
		try(fmt.Sprintf("host, case %d", seed), l.everyWay(c, atEast, some))
		l.unload(l.east)
	}
	t.Logf("%d probes dropped, %d carried", dropped, carried)
	require.Greater(t, dropped, 100)
	require.Greater(t, carried, 100)
	require.Greater(t, parcels, 4)
}

// What a permission lets begin goes on and ends: answers and errors pass, also
// where nothing else does.
func TestAnswersPass(t *testing.T) {
	l := newLand(t)
	a, b := sample.Addresses[2], sample.Addresses[3]
	var ws []estate.Workload
	for i, addr := range []netip.Addr{a, b} {
		ws = append(ws, estate.Workload{ID: fmt.Sprint("w", i),
			Leases: []estate.Lease{{Addr: addr, From: estate.Beginning, Until: estate.End}}})
	}
	e, _ := estate.New(ws)
	p, errs := policy.Parse(
		"layer allowances\npermit workload w0 -> workload w1 on tcp/443\nreject any -> any on any\n")
	require.Empty(t, errs)
	c := decide.Compile(e, p, estate.Instant{})
	l.load(l.gate, plan.NewPlanner(c).Plan([]int32{0, 1}, plan.Gate, plan.Both), nft.Options{})
	var listener net.Listener
	require.NoError(t, inside(l.at(b), func() (err error) {
		listener, err = net.Listen("tcp", netip.AddrPortFrom(b, 443).String())
		return err
	}))
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Write([]byte(strings.Repeat("all of it ", 50_000)))
			_ = conn.Close()
		}
	}()
	require.NoError(t, inside(l.at(a), func() error {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: a.AsSlice()}, Timeout: 5 * time.Second}
		conn, err := d.Dial("tcp", netip.AddrPortFrom(b, 443).String())
		if err != nil {
			return err
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		n, err := io.Copy(io.Discard, conn)
		require.Equal(t, int64(500_000), n)
		return err
	}))
	l.tried("the way back is not open by itself", []probe{{b, a, service.PointOf(service.TCP, 443), false}})
	require.Contains(t, l.run(l.gate, "nft", "list", "table", "inet", nft.Table), "comment \"line 2 permit\"")
}
