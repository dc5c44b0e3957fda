package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/demo"
)

// rack is a network namespace in which the demo company's machines of some addresses
// talk, behind a gate with a real point in it.
type rack struct {
	name, guards string
	holds        netip.Prefix
	wave         int
}

var racks = []rack{
	{"trial", "env is trial", netip.MustParsePrefix("10.60.0.0/15"), 1},
	{"south", "env is live and site is southquay", netip.MustParsePrefix("10.21.0.0/16"), 2},
	{"north", "env is live and site is northquay", netip.MustParsePrefix("10.20.0.0/16"), 3},
}

// packets is the demo with real packets: racks, their gates, and a core between them,
// each a network namespace of this machine.
type packets struct {
	data     string
	port     int
	prefix   string // of the names of namespaces
	program  string
	children []*exec.Cmd
}

// The address at which the core's namespace reaches this machine, and its own.
const packetsHere, packetsCore = "10.97.0.1", "10.97.0.2"

func packetsCommand() *cobra.Command {
	p := packets{prefix: "lo-"}
	cmd := &cobra.Command{
		Use:   "packets [--data DIR] [--port N]",
		Short: "Run the demo with real packets: machines, gates and points in network namespaces",
		Long: `Needs root, ip and nft. The demo company's machines of three places talk in network
namespaces; each place is behind a gate with a real point, which nftables obeys. The
server listens on ` + packetsHere + `, an address that only this machine and its namespaces reach.
Everything goes when it ends.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return p.run(ctx)
		},
	}
	cmd.Flags().StringVar(&p.data, "data", "var/packets", "folder of the server's data")
	cmd.Flags().IntVar(&p.port, "port", 7411, "port of the server")
	return cmd
}

func talkCommand() *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use: "talk --rack NAME", Short: "Run the machines of a rack", Hidden: true, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return talk(ctx, name)
		},
	}
	cmd.Flags().StringVar(&name, "rack", "", "which")
	return cmd
}

func (p *packets) run(ctx context.Context) (err error) {
	if os.Geteuid() != 0 {
		return unusable("only root may make network namespaces")
	}
	for _, tool := range []string{"ip", "nft"} {
		if _, err := exec.LookPath(tool); err != nil {
			return unusable("%s is not installed", tool)
		}
	}
	if p.program, err = os.Executable(); err != nil {
		return err
	}
	if err := os.MkdirAll(p.data, 0o755); err != nil {
		return unusable("--data: %s", err)
	}
	defer p.end()
	if err := p.wire(); err != nil {
		return unusable("the kernel refuses namespaces: %s", err)
	}
	base := fmt.Sprintf("http://%s:%d", packetsHere, p.port)
	serve := exec.Command(p.program, "serve", "--demo", "--live=false", "--points=false", "--data",
		filepath.Join(p.data, "server"),
		"--listen", fmt.Sprintf("%s:%d", packetsHere, p.port), "--trust-network", "--ipfix", packetsHere+":4739",
		"--ipfix-tcp", "off",
		"--netflow", packetsHere+":2055", "--sflow", "off")
	serve.Stdout, serve.Stderr = os.Stdout, os.Stderr
	if err := p.start(serve); err != nil {
		return err
	}
	if err := p.answers(ctx, base); err != nil {
		return err
	}
	for _, r := range racks {
		token, err := p.point(base, r)
		if err != nil {
			return err
		}
		state := filepath.Join(p.data, "point-"+r.name)
		if err := p.start(p.inside("gate-"+r.name, p.program, "point", "--server", base, "--token-file", token,
			"--state", state,
			"--check", "2s", "--log-level", "warn")); err != nil {
			return err
		}
	}
	if _, err := exec.LookPath("softflowd"); err == nil { // so that what is permitted is seen as well
		for _, r := range racks {
			if err := p.start(p.inside("core", "softflowd", "-d", "-i", "to-"+r.name, "-v", "10", "-n", packetsHere+
				":4739", "-t",
				"maxlife=10", "-t", "expint=5", "-p", "/dev/null", "-c",
				filepath.Join(p.data, "softflowd-"+r.name))); err != nil {
				return err
			}
		}
	}
	for _, r := range racks {
		if err := p.start(p.inside("rack-"+r.name, p.program, "talk", "--rack", r.name)); err != nil {
			return err
		}
	}
	fmt.Printf("Real packets flow. Open %s/release\n", base)
	<-ctx.Done()
	return nil
}

// answers waits until the server does.
func (p *packets) answers(ctx context.Context, base string) error {
	for until := time.Now().Add(2 * time.Minute); time.Now().Before(until); {
		if r, err := http.Get(base + "/readyz"); err == nil {
			_ = r.Body.Close()
			if r.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return exit{1, "interrupted"}
		case <-time.After(200 * time.Millisecond):
		}
	}
	return unusable("the server does not answer at %s", base)
}

// point makes a gate's point, or finds that of an earlier run; it gives the file of its
// token.
func (p *packets) point(base string, r rack) (string, error) {
	file := filepath.Join(p.data, "token-"+r.name)
	if _, err := os.Stat(file); err == nil {
		return file, nil
	}
	raw, _ := json.Marshal(map[string]any{"name": r.name + "-gate", "kind": "gate", "guards": r.guards, "wave": r.wave})
	answer, err := http.Post(base+"/api/v1/points", "application/json", bytes.NewReader(raw))
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var made struct{ Token, Detail string }
	if err := json.NewDecoder(answer.Body).Decode(&made); err != nil || made.Token == "" {
		return "", unusable("the point %s-gate cannot be made: %s", r.name, made.Detail)
	}
	return file, os.WriteFile(file, []byte(made.Token+"\n"), 0o600)
}

func (p *packets) inside(ns, program string, args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", p.prefix + ns, program}, args...)...)
}

func (p *packets) start(cmd *exec.Cmd) error {
	if cmd.Stderr == nil {
		cmd.Stderr = os.Stderr
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true} // Ctrl C is for this process
	if err := cmd.Start(); err != nil {
		return err
	}
	p.children = append(p.children, cmd)
	return nil
}

// end stops what was started, last first, and takes the namespaces away.
func (p *packets) end() {
	for i := len(p.children) - 1; i >= 0; i-- {
		c := p.children[i]
		_ = c.Process.Signal(syscall.SIGTERM)
		done := make(chan struct{})
		go func() { _ = c.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(30 * time.Second):
			_ = c.Process.Kill()
		}
	}
	p.unwire()
}

func (p *packets) unwire() {
	names := []string{"core"}
	for _, r := range racks {
		names = append(names, "gate-"+r.name, "rack-"+r.name)
	}
	for _, n := range names {
		_ = exec.Command("ip", "netns", "del", p.prefix+n).Run() // one that is not there is no matter
	}
	_ = exec.Command("ip", "link", "del", "lo-core").Run()
}

// wire makes the namespaces: rack — gate — core, and the core to here.
func (p *packets) wire() (err error) {
	p.unwire() // of a run that was killed
	ip := func(ns string, args ...string) {
		if err != nil {
			return
		}
		if ns != "" {
			args = append([]string{"-n", p.prefix + ns}, args...)
		}
		if out, bad := exec.Command("ip", args...).CombinedOutput(); bad != nil {
			err = fmt.Errorf("ip %s: %s", strings.Join(args, " "), out)
		}
	}
	forward := func(ns string) {
		ip("", "netns", "add", p.prefix+ns)
		ip(ns, "link", "set", "lo", "up")
		if out, bad := p.inside(ns, "sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv4.conf.all.rp_filter=0",
			"net.ipv4.conf.default.rp_filter=0").CombinedOutput(); bad != nil && err == nil {
			err = fmt.Errorf("sysctl: %s", out)
		}
	}
	// pair wires two namespaces, or this machine (blank), with addresses of one small network.
	pair := func(a, linkA, addrA, b, linkB, addrB string) {
		args := []string{"link", "add", linkA}
		if a != "" {
			args = append(args, "netns", p.prefix+a)
		}
		ip("", append(args, "type", "veth", "peer", "name", linkB, "netns", p.prefix+b)...)
		for _, x := range [][3]string{{a, linkA, addrA}, {b, linkB, addrB}} {
			ip(x[0], "addr", "add", x[2], "dev", x[1])
			ip(x[0], "link", "set", x[1], "up")
		}
	}
	forward("core")
	pair("", "lo-core", packetsHere+"/30", "core", "here", packetsCore+"/30")
	ip("", "route", "replace", "10.97.128.0/17", "via", packetsCore)
	for i, r := range racks {
		gate, rk := "gate-"+r.name, "rack-"+r.name
		forward(gate)
		forward(rk)
		outer, inner := fmt.Sprintf("10.97.%d.", 128+2*i), fmt.Sprintf("10.97.%d.", 129+2*i)
		pair("core", "to-"+r.name, outer+"1/24", gate, "out", outer+"2/24")
		pair(gate, "in", inner+"1/24", rk, "wire", inner+"2/24")
		ip("core", "route", "add", r.holds.String(), "via", outer+"2")
		ip("core", "route", "add", inner+"0/24", "via", outer+"2")
		ip(gate, "route", "add", r.holds.String(), "via", inner+"2")
		ip(gate, "route", "add", "default", "via", outer+"1")
		ip(rk, "route", "add", "default", "via", inner+"1")
		ip(rk, "route", "add", "local", r.holds.String(), "dev", "lo") // every machine of the place is here
	}
	return err
}

// talk is the machines of a rack: they serve what others ask of them, and ask what the
// demo's machines ask of those of other racks.
func talk(ctx context.Context, name string) error {
	var mine *rack
	for i := range racks {
		if racks[i].name == name {
			mine = &racks[i]
		}
	}
	if mine == nil {
		return unusable("--rack: there is no rack %q", name)
	}
	elsewhere := func(a netip.Addr) bool {
		for _, r := range racks {
			if r.holds.Contains(a) {
				return !mine.holds.Contains(a)
			}
		}
		return false
	}
	usual, odd := demo.Habits(420, time.Now())
	pick := func(all []flow.Record) (out []flow.Record) {
		for _, r := range all {
			if mine.holds.Contains(r.Client) && elsewhere(r.Server) &&
				(r.Point.Proto() == service.TCP || r.Point.Proto() == service.UDP) {
				out = append(out, r)
			}
		}
		return out
	}
	asks, asksOddly := pick(usual), pick(odd)
	served := map[service.Point]bool{}
	for _, r := range append(usual, odd...) {
		if !mine.holds.Contains(r.Server) || served[r.Point] {
			continue
		}
		served[r.Point] = true
		switch r.Point.Proto() {
		case service.TCP:
			go serveLines(ctx, r.Point.Port())
		case service.UDP:
			go swallow(ctx, r.Point.Port())
		}
	}
	var all sync.WaitGroup
	tick := time.NewTicker(150 * time.Millisecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			all.Wait()
			return nil
		case <-tick.C:
		}
		from := asks
		if n%12 == 0 && len(asksOddly) > 0 {
			from = asksOddly
		}
		if len(from) == 0 {
			continue
		}
		r := from[rand.IntN(len(from))]
		all.Go(func() { _ = call(ctx, &r) }) // what is dropped is dropped: that is what is shown
	}
}

// serveLines answers whoever calls on a port.
func serveLines(ctx context.Context, port uint32) {
	l, err := net.Listen("tcp4", fmt.Sprintf(":%d", port))
	if err != nil {
		fmt.Fprintln(os.Stderr, "orchard:", err)
		return
	}
	go func() { <-ctx.Done(); _ = l.Close() }()
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		go func() {
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(10 * time.Second))
			b := make([]byte, 2000)
			if n, err := c.Read(b); err == nil {
				_, _ = c.Write(b[:n])
			}
		}()
	}
}

// swallow takes what comes to a port, so that nobody is told that it is not served.
func swallow(ctx context.Context, port uint32) {
	c, err := net.ListenPacket("udp4", fmt.Sprintf(":%d", port))
	if err != nil {
		fmt.Fprintln(os.Stderr, "orchard:", err)
		return
	}
	go func() { <-ctx.Done(); _ = c.Close() }()
	for b := make([]byte, 2000); !errors.Is(err, net.ErrClosed); {
		_, _, err = c.ReadFrom(b)
	}
}

// call is one connection, as a machine of the company would make it.
func call(ctx context.Context, r *flow.Record) error {
	network, local := "tcp4", net.Addr(&net.TCPAddr{IP: r.Client.AsSlice()})
	if r.Point.Proto() == service.UDP {
		network, local = "udp4", &net.UDPAddr{IP: r.Client.AsSlice()}
	}
	d := net.Dialer{LocalAddr: local, Timeout: 2 * time.Second}
	c, err := d.DialContext(ctx, network, fmt.Sprintf("%s:%d", r.Server, r.Point.Port()))
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.Write([]byte(strings.Repeat("saltmarsh ", 20))); err != nil || network == "udp4" {
		return err
	}
	_ = c.SetDeadline(time.Now().Add(2 * time.Second))
	_, err = io.ReadAll(c)
	return err
}
