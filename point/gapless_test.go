package point_test

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/rollout"
	"lucidorchard/core/service"
	"lucidorchard/point"
	"lucidorchard/releasing"
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

// control is a server for one point, as far as the point sees it, with its orders.
type control struct {
	*httptest.Server
	t        testing.TB
	mu       sync.Mutex
	policies map[int]*policy.Policy
	teller   *releasing.Teller
	estate   *estate.Estate
	version  int64
	at       releasing.Point
	lineage  rollout.Lineage
	said     point.Said
	events   []string // that the point reported
	cut      bool
}

const canary, allowed = 4999, 4000

func newControl(t testing.TB, e *estate.Estate, at releasing.Point) *control {
	c := &control{t: t, policies: map[int]*policy.Policy{}, estate: e, at: at, lineage: rollout.Lineage{{Epoch: "first", Order: 1}}}
	c.teller = &releasing.Teller{Policy: func(no int) (*policy.Policy, error) { return c.policies[no], nil }}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.mu.Lock()
		defer c.mu.Unlock()
		switch {
		case c.cut:
			http.Error(w, "no", http.StatusServiceUnavailable)
		case strings.HasSuffix(r.URL.Path, "said"):
			c.said = point.Said{}
			_ = json.NewDecoder(r.Body).Decode(&c.said)
			for _, e := range c.said.Events {
				c.events = append(c.events, e.What+": "+e.Words)
			}
		case strings.HasSuffix(r.URL.Path, "told"):
			told, err := c.told(r.URL.Query().Get("have"))
			if err != nil {
				t.Error(err)
			}
			if told.ID == r.URL.Query().Get("have") {
				c.mu.Unlock()
				time.Sleep(10 * time.Millisecond)
				c.mu.Lock()
			}
			_ = json.NewEncoder(w).Encode(told)
		}
	}))
	t.Cleanup(c.Close)
	return c
}

// compiled gives a release for the estate as it is.
func (c *control) compiled(no int) *decide.Compiled {
	return decide.Compile(c.estate, c.policies[no], estate.Instant{Sec: time.Now().Unix()})
}

func (c *control) told(have string) (*point.Told, error) {
	s := releasing.StateOf(c.compiled(1), c.version, nil)
	told, err := c.teller.Told(s, c.at, have, []releasing.Point{c.at})
	if err == nil {
		told.Lineage = slices.Clone(c.lineage)
	}
	return told, err
}

// order gives an order, and returns what the point is to run by it.
func (c *control) order(do rollout.Verb, no int) rollout.Runs {
	c.mu.Lock()
	defer c.mu.Unlock()
	runs, err := c.at.Runs.After(rollout.Command{Do: do, Release: no})
	require.NoError(c.t, err)
	c.at.Runs = runs
	c.lineage[len(c.lineage)-1].Order++
	return runs
}

func (c *control) until(what string, f func(said point.Said) bool) {
	c.t.Helper()
	require.Eventually(c.t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return f(c.said)
	}, 20*time.Second, 5*time.Millisecond, "%s; %s", what, lately(func() string {
		c.mu.Lock()
		defer c.mu.Unlock()
		told, _ := c.told("")
		return fmt.Sprintf("it is told %s and says %s, %s: %s", told.ID, c.said.ID, c.said.State, c.said.Words)
	}))
}

// lately is text that is worked out when it is printed.
type lately func() string

func (l lately) String() string { return l() }

// loaded waits until the point reports that it has loaded what it is to run.
func (c *control) loaded(what string) {
	c.t.Helper()
	c.until(what, func(said point.Said) bool {
		told, err := c.told("")
		return err == nil && said.ID == told.ID && said.State == "holds"
	})
}

func (c *control) retag(id, tier string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	i, _ := c.estate.ByID(id)
	w := *c.estate.Workload(i)
	w.Tags = slices.Clone(w.Tags)
	w.SetTag(estate.Tag{Key: "tier", Value: tier})
	next, _, conflicts := c.estate.With([]estate.Workload{w}, nil)
	require.Empty(c.t, conflicts)
	c.estate = next
	c.version++
}

// company is the clients and servers of a site.
func company() *estate.Estate {
	var ws []estate.Workload
	for n := 1; n <= ends; n++ {
		for name, addr := range map[string]func(int, bool) netip.Addr{"client": westEnd, "server": eastEnd} {
			w := estate.Workload{ID: fmt.Sprint(name, n), Leases: []estate.Lease{
				{Addr: addr(n, false), From: estate.Beginning, Until: estate.End}, {Addr: addr(n, true), From: estate.Beginning, Until: estate.End}}}
			w.SetTag(estate.Tag{Key: "tier", Value: name})
			ws = append(ws, w)
		}
	}
	e, _ := estate.New(ws)
	return e
}

// drawPolicy draws what a release says of the flows' ports; of two ports all releases say
// the same.
func drawPolicy(r *rand.Rand, flows []*talk) string {
	text := "group clients = tier is client\ngroup servers = tier is server\nlayer allowances\n" +
		fmt.Sprintf("permit clients -> servers on tcp/%d\nreject any -> workload server2 on tcp/%d\n", allowed, canary)
	for _, f := range flows {
		spec := f.pt.String()
		if f.kind == "ping" {
			spec = "icmp, icmp6"
		}
		switch {
		case f.kind == "ping" && strings.Contains(text, "icmp"):
		case f.pt.Port() == allowed:
		default:
			if verb := []string{"permit", "reject", ""}[r.IntN(3)]; verb != "" {
				text += fmt.Sprintf("%s clients -> servers on %s\n", verb, spec)
			}
		}
	}
	if r.IntN(3) > 0 {
		text += "layer closing\nreject any -> any on any\n"
	}
	return text
}

// sequences is how many are tried: a few, or as many as ORCHARD_SEQUENCES says.
func sequences() int {
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_SEQUENCES")); err == nil {
		return n
	}
	return 2
}

// Whatever a roll-out goes through, with real packets: what the enforced release rejects
// does not pass, what every enforced release permitted is never cut, what was ended does
// not come back, and a connection that all releases reject does not open at any moment.
func TestNothingOpensAndNothingIsCutOnTheWay(t *testing.T) {
	steps, ended, kept := 0, 0, 0
	first := int(rand.Uint32() % 1_000_000)
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_SEED")); err == nil {
		first = n
	}
	for seed := first; seed < first+sequences(); seed++ {
		if !t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			x := newPassage(t, seed)
			x.go_on()
			steps, ended, kept = steps+x.steps, ended+x.ended, kept+x.kept
		}) {
			return
		}
	}
	t.Logf("%d sequences, %d steps; conversations: %d checks of one that is rejected, %d of one that was always permitted", sequences(), steps,
		ended, kept)
	require.Positive(t, ended)
	require.Positive(t, kept)
}

// passage is one sequence of orders and faults, with traffic running.
type passage struct {
	*site
	t     *testing.T
	r     *rand.Rand
	c     *control
	flows []*talk
	trail []string

	dir       string
	stopAgent func()
	steps     int
	ended     int
	kept      int

	closed  atomic.Bool  // something is enforced: the canary may not open
	escaped atomic.Int64 // how often it did
	lost    bool         // the server's database was restored: the point does not follow
	actual  rollout.Runs // that the point runs
}

func newPassage(t *testing.T, seed int) *passage {
	r := rand.New(rand.NewPCG(uint64(seed), 1))
	x := &passage{site: newSite(t), t: t, r: r, dir: t.TempDir()}
	if r.IntN(2) == 0 {
		x.translate()
	}
	guards := []string{"tier is server", "tier in (server, client)", "tier is client"}[r.IntN(3)]
	// A machine stays guarded when its tier changes.
	guards = map[string]string{"tier is server": `id matches "server.*"`, "tier is client": `id matches "client.*"`}[guards]
	if guards == "" {
		guards = "not outside"
	}
	x.c = newControl(t, company(), releasing.Point{Kind: plan.Gate, Side: plan.Both, Guards: guards})
	x.begin(r.IntN(2) == 0)
	for no := 1; no <= 4; no++ {
		text := drawPolicy(r, x.flows)
		p, errs := policy.Parse(text)
		require.Empty(t, errs, text)
		x.c.policies[no] = p
	}
	x.start()
	return x
}

// begin opens the conversations, of each kind one, before any table is loaded.
func (x *passage) begin(six bool) {
	kinds := []string{"push", "download", "request and response", "idle", "udp both ways", "udp from the server", "ping"}
	nat := exec.Command("ip", "netns", "exec", x.gate, "nft", "list", "table", "ip", "translation").Run() == nil
	for i, kind := range kinds {
		for k := range 2 {
			n, v6 := 1+x.r.IntN(2), k == 1 && six
			f := &talk{kind: kind, client: westEnd(n, v6), server: eastEnd(1+x.r.IntN(3), v6)}
			switch {
			case kind == "ping":
				f.pt = service.PointOf(service.ICMP, 8<<8)
				if v6 {
					f.pt = service.PointOf(service.ICMP6, 128<<8)
				}
			case strings.HasPrefix(kind, "udp"):
				f.pt = service.PointOf(service.UDP, uint32(5001+2*i+k))
			default:
				f.pt = service.PointOf(service.TCP, uint32(5001+2*i+k))
			}
			f.called = f.server
			if nat && k == 0 {
				if x.r.IntN(2) == 0 {
					f.server, f.called = eastEnd(ends, false), translated
				} else {
					f.client = westEnd(hidden, false)
				}
			}
			x.flows = append(x.flows, f)
		}
	}
	always := &talk{kind: "request and response", client: westEnd(1, false), server: eastEnd(1, false), called: eastEnd(1, false),
		pt: service.PointOf(service.TCP, allowed)}
	x.flows = append(x.flows, always)
	for _, f := range x.flows {
		f.run(x.site)
		x.t.Cleanup(f.stop)
	}
	require.Eventually(x.t, func() bool {
		return !slices.ContainsFunc(x.flows, func(f *talk) bool { return f.last.Load() == 0 })
	}, 10*time.Second, 10*time.Millisecond, "all run")
	ctx, stop := context.WithCancel(context.Background())
	var watch sync.WaitGroup
	watch.Go(func() {
		for ctx.Err() == nil {
			closed := x.closed.Load()
			if x.opens(westEnd(2, false), eastEnd(2, false), canary, 60*time.Millisecond) && closed && x.closed.Load() {
				x.escaped.Add(1)
			}
		}
	})
	x.t.Cleanup(func() { stop(); watch.Wait() })
}

// start runs an agent, which loads what it kept on its disk.
func (x *passage) start() {
	ctx, cancel := context.WithCancel(context.Background())
	a := &point.Agent{Server: x.c.URL, Token: "secret", State: x.dir, Kernel: &point.Nftables{Namespace: x.gate, Dir: x.dir},
		Log: slog.New(slog.DiscardHandler), WayBack: 1500 * time.Millisecond, Check: 300 * time.Millisecond, Beat: 100 * time.Millisecond}
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	x.stopAgent = sync.OnceFunc(func() {
		cancel()
		<-done
	})
	x.t.Cleanup(func() { x.stopAgent() })
}

func (x *passage) say(format string, args ...any) {
	x.trail = append(x.trail, fmt.Sprintf(format, args...))
}

// go_on takes steps, and looks after each.
func (x *passage) go_on() {
	for range 10 {
		x.step()
		x.steps++
		x.look()
	}
}

func (x *passage) step() {
	runs := x.c.at.Runs
	do := []string{"observe", "enforce", "enforce", "enforce", "back", "restart", "reload", "cut", "tag", "restore", "off"}[x.r.IntN(11)]
	if runs == (rollout.Runs{}) {
		do = "observe"
	}
	switch do {
	case "observe":
		x.order(rollout.ToObserve, 1+x.r.IntN(4))
	case "enforce":
		if runs.Observes == 0 {
			x.order(rollout.ToObserve, 1+(runs.Enforces+x.r.IntN(3))%4)
		}
		if x.c.at.Runs.Observes != 0 {
			x.order(rollout.ToEnforce, x.c.at.Runs.Observes)
		}
	case "back":
		x.order(rollout.ToRollBack, 1+x.r.IntN(4))
	case "off":
		x.closed.Store(false)
		x.order(rollout.ToOff, 0)
	case "restart":
		x.say("restart the agent")
		x.stopAgent()
		x.start()
		x.c.loaded("it is back")
	case "reload":
		x.say("load again")
		x.c.mu.Lock()
		x.c.at.Again++
		x.c.mu.Unlock()
		x.c.loaded("it loads again")
	case "cut":
		x.cutOff()
	case "tag":
		id := fmt.Sprint([]string{"client", "server"}[x.r.IntN(2)], 1+x.r.IntN(ends))
		tier := []string{"client", "server", "other"}[x.r.IntN(3)]
		x.say("%s becomes %s", id, tier)
		x.c.retag(id, tier)
		x.c.loaded("the tag arrives")
	case "restore":
		x.restore()
	}
	x.actual = x.c.at.Runs
	x.closed.Store(x.actual.Enforces != 0)
}

func (x *passage) order(do rollout.Verb, no int) {
	x.say("%s %d", do, no)
	runs := x.c.order(do, no)
	x.c.loaded(fmt.Sprintf("%v: it runs %v", x.trail, runs))
}

// cutOff takes the server away while a change of rules is on its way: the point returns to
// what it ran.
func (x *passage) cutOff() {
	was := x.c.at.Runs
	next := 1 + (was.Newest()+x.r.IntN(3))%4
	x.say("observe %d, and lose the server", next)
	x.c.mu.Lock()
	runs, _ := was.After(rollout.Command{Do: rollout.ToObserve, Release: next})
	x.c.at.Runs = runs
	x.c.lineage[len(x.c.lineage)-1].Order++
	x.c.mu.Unlock()
	time.Sleep(time.Duration(x.r.IntN(200)) * time.Millisecond)
	x.c.mu.Lock()
	x.c.cut = true
	x.c.mu.Unlock()
	time.Sleep(2 * time.Second)
	x.c.mu.Lock()
	x.c.cut = false
	x.c.at.Again++
	x.c.mu.Unlock()
	x.c.loaded("it comes back to it")
}

// restore puts an older state of the server in the place of the present one: the point
// keeps what it runs until a person decides.
func (x *passage) restore() {
	x.c.mu.Lock()
	now, lineage := x.c.at.Runs, slices.Clone(x.c.lineage)
	x.c.at.Runs = rollout.Runs{Observes: 1}
	x.c.lineage = rollout.Lineage{{Epoch: "first", Order: 1}, {Epoch: fmt.Sprint("restored ", len(x.trail)), Order: 1}}
	x.c.mu.Unlock()
	x.say("restore an older back-up")
	x.c.until("it keeps what it runs", func(said point.Said) bool { return said.State == "ahead" && said.Runs() == now })
	time.Sleep(150 * time.Millisecond)
	x.c.mu.Lock()
	x.c.at.Runs, x.c.lineage = now, lineage
	x.c.mu.Unlock()
	x.c.loaded("the right database is back")
}

// verdict gives what the enforced release says of a conversation, if the point polices it.
func (x *passage) verdict(f *talk) decide.Verdict {
	return x.says(f.client, f.server, f.pt)
}

func (x *passage) says(client, server netip.Addr, pt service.Point) decide.Verdict {
	if x.actual.Enforces == 0 {
		return decide.Uncovered
	}
	c := x.c.compiled(x.actual.Enforces)
	walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
	return decide.VerdictOf(walk.Decide(c.Estate.At(client, c.AsOf), c.Estate.At(server, c.AsOf), pt))
}

// look compares what passes with what should.
func (x *passage) look() {
	t := x.t
	for _, f := range x.flows {
		f.everRejected = f.everRejected || x.verdict(f) == decide.Reject
	}
	// Running conversations end within moments; then nothing of them passes.
	quiet := func(since time.Time) (still *talk) {
		for _, f := range x.flows {
			if x.verdict(f) == decide.Reject && f.passed(since) {
				return f
			}
		}
		return nil
	}
	require.Eventually(t, func() bool {
		since := time.Now()
		time.Sleep(120 * time.Millisecond)
		return quiet(since) == nil
	}, 4*time.Second, time.Millisecond, "%v: release %d rejects what passes: %s", x.trail, x.actual.Enforces, lately(func() string {
		x.c.mu.Lock()
		defer x.c.mu.Unlock()
		return fmt.Sprintf("%v; the point reports %q", quiet(time.Now().Add(-time.Second)), x.c.events)
	}))
	since := time.Now()
	time.Sleep(300 * time.Millisecond)
	if f := quiet(since); f != nil {
		t.Fatalf("%v: %s came back though release %d rejects it", x.trail, f, x.actual.Enforces)
	}
	for _, f := range x.flows {
		switch {
		case x.verdict(f) == decide.Reject:
			x.ended++
		case !f.everRejected:
			x.kept++
			require.Eventually(t, func() bool { return f.passed(since) }, 3*time.Second, 5*time.Millisecond,
				"%v: %s was cut though every release permits it", x.trail, f)
		}
	}
	require.Zero(t, x.escaped.Load(), "%v: a connection opened that every release rejects", x.trail)
	// New connections fare as the enforced release says.
	for range 3 {
		f := x.flows[x.r.IntN(len(x.flows))]
		from, to, port := f.client, f.server, f.pt.Port()
		if f.pt.Proto() != service.TCP || f.client == westEnd(hidden, false) {
			from, to, port = westEnd(1, false), eastEnd(2, false), allowed
		}
		reject := x.says(from, to, service.PointOf(service.TCP, port)) == decide.Reject
		patience := 2 * time.Second
		if reject {
			patience = 80 * time.Millisecond
		}
		require.Equal(t, !reject, x.opens(from, to, port, patience), "%v: a new connection %s -> %s on tcp/%d", x.trail, from, to, port)
	}
}
