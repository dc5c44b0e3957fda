package point_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lucidorchard/core/service"
)

// site is two networks with a gate between them, in which a real point runs: west has the
// clients, east the servers.
type site struct {
	t                testing.TB
	west, gate, east string
}

func newSite(t testing.TB) *site {
	name, _ := space(t)
	s := &site{t: t, gate: name, west: name + "w", east: name + "e"}
	for i, ns := range []string{s.west, s.east} {
		s.run("ip", "netns", "add", ns)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns).Run() })
		far, near := fmt.Sprintf("f%d%s", i, name), fmt.Sprintf("n%d%s", i, name)
		s.run("ip", "link", "add", far, "netns", ns, "type", "veth", "peer", "name", near, "netns", s.gate)
		net4, net6 := fmt.Sprintf("10.%d.0", i+1), fmt.Sprintf("fd0%d:", i+1)
		s.in(s.gate, "ip", "addr", "add", net4+".254/24", "dev", near)
		s.in(s.gate, "ip", "addr", "add", net6+":fe/64", "dev", near, "nodad")
		for k := 1; k <= ends; k++ {
			s.in(ns, "ip", "addr", "add", fmt.Sprintf("%s.%d/24", net4, k), "dev", far)
			s.in(ns, "ip", "addr", "add", fmt.Sprintf("%s:%x/64", net6, k), "dev", far, "nodad")
		}
		for _, x := range []string{ns, s.gate} {
			s.in(x, "ip", "link", "set", "lo", "up")
		}
		s.in(ns, "ip", "link", "set", far, "up")
		s.in(s.gate, "ip", "link", "set", near, "up")
		s.in(ns, "ip", "route", "add", "default", "via", net4+".254")
		s.in(ns, "ip", "-6", "route", "add", "default", "via", net6+":fe")
	}
	for _, set := range []string{"net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1"} {
		s.in(s.gate, "sysctl", "-qw", set)
	}
	return s
}

// ends is how many clients, and servers, there are.
const ends = 4

func (s *site) run(args ...string) {
	s.t.Helper()
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	require.NoError(s.t, err, "%s: %s", strings.Join(args, " "), out)
}

func (s *site) in(ns string, args ...string) {
	s.t.Helper()
	s.run(append([]string{"ip", "netns", "exec", ns}, args...)...)
}

// within runs f on a thread of its own in a namespace; sockets that it opens stay there.
func within(ns string, f func() error) error {
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

// translated is the address that the gate translates to the last server, and hidden the
// client whose address it translates.
var (
	translated = netip.MustParseAddr("10.9.9.9")
	hidden     = 3
)

// translate lets the gate translate addresses.
func (s *site) translate() {
	cmd := exec.Command("ip", "netns", "exec", s.gate, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(fmt.Sprintf(`table ip translation {
	chain to { type nat hook prerouting priority dstnat; ip daddr %s dnat to %s; }
	chain from { type nat hook postrouting priority srcnat; ip saddr %s masquerade; }
}`, translated, eastEnd(ends, false), westEnd(hidden, false)))
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s", out)
}

func westEnd(n int, six bool) netip.Addr { return end(1, n, six) }
func eastEnd(n int, six bool) netip.Addr { return end(2, n, six) }

func end(side, n int, six bool) netip.Addr {
	if six {
		return netip.MustParseAddr(fmt.Sprintf("fd0%d::%x", side, n))
	}
	return netip.AddrFrom4([4]byte{10, byte(side), 0, byte(n)})
}

// talk is a long-running conversation, and what came of it.
type talk struct {
	kind           string
	client, server netip.Addr // by the policy: the server's own address
	called         netip.Addr // by the client
	pt             service.Point
	last           atomic.Int64 // when something last arrived that had to pass the gate, nanoseconds
	everRejected   bool         // by a release that was enforced while it ran
	stop           func()
}

func (f *talk) String() string {
	return fmt.Sprintf("%s %s -> %s on %s", f.kind, f.client, f.called, f.pt)
}

// passed reports whether something arrived since a time.
func (f *talk) passed(since time.Time) bool { return f.last.Load() > since.UnixNano() }

func (f *talk) arrived() { f.last.Store(time.Now().UnixNano()) }

const every = 15 * time.Millisecond

// run begins the conversation. It goes on until the flow is stopped, whatever happens on
// the way.
func (f *talk) run(s *site) {
	ctx, cancel := context.WithCancel(context.Background())
	var open []interface{ Close() error }
	f.stop = func() {
		cancel()
		for _, c := range open {
			_ = c.Close()
		}
	}
	var err error
	switch {
	case f.kind == "ping":
		var c net.PacketConn
		err = within(s.west, func() (err error) {
			network := "ip4:icmp"
			if f.client.Is6() {
				network = "ip6:ipv6-icmp"
			}
			c, err = net.ListenPacket(network, f.client.String())
			return err
		})
		require.NoError(s.t, err)
		open = append(open, c)
		go f.ping(ctx, c)
	case f.pt.Proto() == service.UDP:
		open = append(open, f.runUDP(ctx, s)...)
	default:
		open = append(open, f.runTCP(ctx, s)...)
	}
}

func (f *talk) ping(ctx context.Context, c net.PacketConn) {
	id, kind, reply := uint16(rand.Uint32()), byte(8), byte(0)
	if f.client.Is6() {
		kind, reply = 128, 129
	}
	go func() {
		for in := make([]byte, 1500); ; {
			n, from, err := c.ReadFrom(in)
			if err != nil {
				return
			}
			if n >= 8 && in[0] == reply && binary.BigEndian.Uint16(in[4:]) == id && from.String() == f.called.String() {
				f.arrived()
			}
		}
	}()
	for seq := uint16(0); ctx.Err() == nil; seq++ {
		m := []byte{kind, 0, 0, 0, byte(id >> 8), byte(id), byte(seq >> 8), byte(seq)}
		sum := uint32(0)
		for i := 0; i < len(m); i += 2 {
			sum += uint32(binary.BigEndian.Uint16(m[i:]))
		}
		sum = sum&0xffff + sum>>16
		if !f.client.Is6() {
			binary.BigEndian.PutUint16(m[2:], ^uint16(sum))
		}
		_, _ = c.WriteTo(m, &net.IPAddr{IP: f.called.AsSlice()})
		pause(ctx, every)
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (f *talk) runUDP(ctx context.Context, s *site) []interface{ Close() error } {
	var at, from *net.UDPConn
	require.NoError(s.t, within(s.east, func() (err error) {
		at, err = net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(f.server, uint16(f.pt.Port()))))
		return err
	}))
	require.NoError(s.t, within(s.west, func() (err error) {
		from, err = net.DialUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(f.client, 0)),
			net.UDPAddrFromAddrPort(netip.AddrPortFrom(f.called, uint16(f.pt.Port()))))
		return err
	}))
	var peer atomic.Pointer[net.UDPAddr]
	go func() {
		for in := make([]byte, 64); ; {
			_, from, err := at.ReadFromUDP(in)
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err == nil {
				f.arrived()
				peer.Store(from)
				if f.kind == "udp both ways" {
					_, _ = at.WriteToUDP(in[:1], from)
				}
			}
		}
	}()
	go func() {
		for in := make([]byte, 64); ; {
			if _, err := from.Read(in); errors.Is(err, net.ErrClosed) {
				return
			} else if err == nil {
				f.arrived()
			}
		}
	}()
	go func() {
		for i := 0; ctx.Err() == nil; i++ {
			if f.kind == "udp both ways" || i%8 == 0 { // who only listens says so now and then
				_, _ = from.Write([]byte{1})
			}
			if to := peer.Load(); to != nil && f.kind == "udp from the server" {
				_, _ = at.WriteToUDP([]byte{2}, to)
			}
			pause(ctx, every)
		}
	}()
	return []interface{ Close() error }{at, from}
}

func (f *talk) runTCP(ctx context.Context, s *site) []interface{ Close() error } {
	var l net.Listener
	var c net.Conn
	at := netip.AddrPortFrom(f.server, uint16(f.pt.Port())).String()
	require.NoError(s.t, within(s.east, func() (err error) { l, err = net.Listen("tcp", at); return err }))
	accepted := make(chan net.Conn, 1)
	go func() {
		if x, err := l.Accept(); err == nil {
			accepted <- x
		}
	}()
	require.NoError(s.t, within(s.west, func() (err error) {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: f.client.AsSlice()}, Timeout: 5 * time.Second}
		c, err = d.Dial("tcp", netip.AddrPortFrom(f.called, uint16(f.pt.Port())).String())
		return err
	}), "%s", f)
	served := <-accepted
	reads := func(x net.Conn) {
		for in := make([]byte, 64<<10); ; {
			if _, err := x.Read(in); err != nil {
				return
			}
			f.arrived()
			if f.kind == "request and response" && x == served {
				_, _ = x.Write([]byte{1})
			}
		}
	}
	go reads(c)
	go reads(served)
	go func() {
		for i := 0; ctx.Err() == nil; i++ {
			switch f.kind {
			case "request and response":
				_, _ = c.Write([]byte{1})
			case "push":
				_, _ = served.Write([]byte{1})
			case "download":
				_, _ = served.Write(make([]byte, 4096))
			case "idle":
				if i%12 == 0 {
					_, _ = c.Write([]byte{1})
				}
			}
			pause(ctx, every)
		}
	}()
	return []interface{ Close() error }{l, c, served}
}

// opens reports whether a new connection passes: nobody listens, so what arrives is
// refused.
func (s *site) opens(from, to netip.Addr, port uint32, patience time.Duration) bool {
	err := within(s.west, func() error {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: from.AsSlice()}, Timeout: patience}
		c, err := d.Dial("tcp", netip.AddrPortFrom(to, uint16(port)).String())
		if err == nil {
			return c.Close()
		}
		return err
	})
	return err == nil || errors.Is(err, unix.ECONNREFUSED)
}
