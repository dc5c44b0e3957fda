package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The test's own program is the small programs that talk, too: one that serves
// and one that calls, each in a network namespace.
func init() {
	switch os.Getenv("ORCHARD_PART") {
	case "serve":
		partServes()
	case "call":
		partCalls()
	case "fill":
		partFills()
	case "push":
		partPushes()
	}
}

const (
	webPort, oddPort, udpPort = "443", "7411", "9999"
	webCalls, oddCalls        = 7, 4
	udpCalls, pings           = 5, 3
	refusedPort               = "4444"
)

func fatal(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// partServes answers on TCP and UDP, in both address families, until it is ended.
func partServes() {
	for _, port := range []string{webPort, oddPort} {
		l, err := net.Listen("tcp", "[::]:"+port)
		fatal(err)
		go func() {
			for {
				c, err := l.Accept()
				fatal(err)
				go func() {
					_, _ = io.Copy(c, c)
					c.Close()
				}()
			}
		}()
	}
	u, err := net.ListenPacket("udp", "[::]:"+udpPort)
	fatal(err)
	fmt.Println("serving")
	b := make([]byte, 2000)
	for {
		n, from, err := u.ReadFrom(b)
		fatal(err)
		_, err = u.WriteTo(b[:n], from)
		fatal(err)
	}
}

// partCalls calls the server at the addresses in ORCHARD_SERVERS.
func partCalls() {
	exchange := func(network, address string) {
		c, err := net.DialTimeout(network, address, 5*time.Second)
		fatal(err)
		_, err = c.Write([]byte(strings.Repeat("saltmarsh ", 20)))
		fatal(err)
		b := make([]byte, 2000)
		fatal(c.SetReadDeadline(time.Now().Add(5 * time.Second)))
		_, err = c.Read(b)
		fatal(err)
		c.Close()
	}
	for _, addr := range strings.Fields(os.Getenv("ORCHARD_SERVERS")) {
		for range webCalls {
			exchange("tcp", net.JoinHostPort(addr, webPort))
		}
		for range oddCalls {
			exchange("tcp", net.JoinHostPort(addr, oddPort))
		}
		for range udpCalls {
			exchange("udp", net.JoinHostPort(addr, udpPort))
		}
		if c, err := net.DialTimeout("tcp", net.JoinHostPort(addr, refusedPort), 5*time.Second); err == nil {
			c.Close()
			fatal(fmt.Errorf("somebody serves port %s", refusedPort))
		}
		network, echo := "ip4:icmp", []byte{8, 0, 0, 0, 0, 1, 0, 0}
		if strings.Contains(addr, ":") {
			network, echo[0] = "ip6:ipv6-icmp", 128
		}
		p, err := net.Dial(network, addr)
		fatal(err)
		for i := range pings {
			echo[7] = byte(i)
			if echo[0] == 8 { // the kernel sums up only for IPv6
				sum := ^(0x0800 + 1 + i)
				echo[2], echo[3] = byte(sum>>8), byte(sum)
			}
			_, err = p.Write(echo)
			fatal(err)
			b := make([]byte, 200)
			fatal(p.SetReadDeadline(time.Now().Add(5 * time.Second)))
			_, err = p.Read(b)
			fatal(err)
		}
		p.Close()
	}
	os.Exit(0)
}

// filler is where packets go that nobody answers.
const filler = "239.7.7.7"

func partFills() {
	c, err := net.Dial("udp", filler+":7")
	fatal(err)
	for range 300 {
		_, err = c.Write(make([]byte, 1400))
		fatal(err)
	}
	os.Exit(0)
}

// partPushes sends single packets from many ports, so that an exporter that sends when it
// has a message full gets one full.
func partPushes() {
	for range 60 {
		c, err := net.Dial("udp", os.Getenv("ORCHARD_SERVERS")+":9")
		fatal(err)
		_, err = c.Write([]byte("pushed"))
		fatal(err)
		c.Close()
	}
	os.Exit(0)
}

// network is two namespaces with a wire between them, and one from the second to
// here, over which its exporter sends.
type network struct{ client, server, here string }

func ip(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(t, err, "ip %s: %s", strings.Join(args, " "), out)
}

func makeNetwork(t *testing.T) network {
	if os.Getuid() != 0 {
		t.Skip("network namespaces need root")
	}
	id := fmt.Sprint(os.Getpid() % 10000)
	n := network{"oc" + id, "os" + id, "10.99.7.1"}
	wireA, wireB, out, in := "oa"+id, "ob"+id, "ox"+id, "oy"+id
	for _, ns := range []string{n.client, n.server} {
		ip(t, "netns", "add", ns)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns).Run() })
	}
	ip(t, "link", "add", wireA, "netns", n.client, "type", "veth", "peer", "name", wireB, "netns", n.server)
	ip(t, "link", "add", out, "type", "veth", "peer", "name", in, "netns", n.server)
	t.Cleanup(func() { _ = exec.Command("ip", "link", "del", out).Run() })
	ip(t, "addr", "add", n.here+"/24", "dev", out)
	ip(t, "link", "set", out, "up")
	for _, x := range [][3]string{{n.client, wireA, "10.20.3.10/16"}, {n.client, wireA, "fd00:20::10/64"},
		{n.server, wireB, "10.20.8.20/16"}, {n.server, wireB, "fd00:20::20/64"}, {n.server, in, "10.99.7.2/24"}} {
		args := []string{"-n", x[0], "addr", "add", x[2], "dev", x[1]}
		if strings.Contains(x[2], ":") {
			args = append(args, "nodad")
		}
		ip(t, args...)
		ip(t, "-n", x[0], "link", "set", x[1], "up")
		ip(t, "-n", x[0], "link", "set", "lo", "up")
	}
	ip(t, "-n", n.client, "route", "add", "239.0.0.0/8", "dev", wireA)
	return n
}

// inside runs a program in a namespace.
func inside(ns string, env []string, program string, args ...string) *exec.Cmd {
	cmd := exec.Command("ip", append([]string{"netns", "exec", ns, program}, args...)...)
	cmd.Env = append(os.Environ(), env...)
	return cmd
}

// end ends a program by its id and waits for it.
func end(cmd *exec.Cmd) {
	_ = cmd.Process.Signal(syscall.SIGTERM)
	_ = cmd.Wait()
}

// api reads JSON from the server.
func api[T any](t *testing.T, url string) T {
	t.Helper()
	var out T
	require.NoError(t, json.Unmarshal([]byte(get(t, url)), &out))
	return out
}

type exporters struct {
	Collectors []struct {
		Listening []string
		Waiting   int
	}
	Exporters []struct {
		Addr    string
		Streams []struct {
			Protocol, Transport string
			Records, Missed     int64
			ICMP                string
		}
		Unread []struct{ Reason string }
	}
}

type conversations struct {
	Conversations []struct {
		Client, Server struct{ Addr string }
		Service        string
		Connections    int
		Carried        int
		Unsure         int
	}
}

// serve runs the program that answers, and returns where the test's own program is.
func (n network) serve(t *testing.T) (me string) {
	t.Helper()
	me, err := os.Executable()
	require.NoError(t, err)
	serving := inside(n.server, []string{"ORCHARD_PART=serve"}, me)
	serving.Stderr = os.Stderr
	ready, err := serving.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, serving.Start())
	t.Cleanup(func() { end(serving) })
	_, err = ready.Read(make([]byte, 16))
	require.NoError(t, err)
	return me
}

// listening returns where a server takes records.
func listening(t *testing.T, base, transport string) (to string) {
	t.Helper()
	for _, l := range api[exporters](t, base+"/api/v1/exporters").Collectors[0].Listening {
		if at, ok := strings.CutPrefix(l, transport+" "); ok {
			to = at
		}
	}
	return to
}

// What a real exporter saw of real traffic stands in the ledger as it was: who
// called whom, on which service, how often.
func TestRealExportersAndRealTraffic(t *testing.T) {
	n := makeNetwork(t)
	me := n.serve(t)
	for _, c := range []struct {
		name, protocol, transport string
		args                      []string
		servers                   string
	}{
		{"NetFlow v5", "NetFlow v5", "udp", []string{"-v", "5"}, "10.20.8.20"},
		{"NetFlow v9", "NetFlow v9", "udp", []string{"-v", "9"}, "10.20.8.20 fd00:20::20"},
		{"IPFIX", "IPFIX", "udp", []string{"-v", "10"}, "10.20.8.20 fd00:20::20"},
		{"IPFIX both ways over TCP", "IPFIX", "tcp", []string{"-v", "10", "-b", "-A", "milli", "-P", "tcp"},
			"10.20.8.20 fd00:20::20"},
	} {
		t.Run(c.name, func(t *testing.T) {
			base := start(t, "--ipfix", n.here+":0", "--ipfix-tcp", n.here+":0", "--exporters", "10.99.7.0/24",
				"--hold", "2s")
			to := listening(t, base, c.transport)
			dir := t.TempDir()
			exporter := inside(n.server, nil, "softflowd",
				append([]string{"-i", "ob" + strings.TrimPrefix(n.client, "oc"), "-n", to, "-6", "-d", "-p",
					filepath.Join(dir, "pid"), "-c", filepath.Join(dir, "ctl")}, c.args...)...)
			exporter.Stdout, exporter.Stderr = os.Stderr, os.Stderr
			require.NoError(t, exporter.Start())
			control := func(command string) error {
				return inside(n.server, nil, "softflowctl", "-c", filepath.Join(dir, "ctl"), command).Run()
			}
			require.Eventually(t, func() bool { return control("statistics") == nil }, 10*time.Second,
				50*time.Millisecond)
			calls := inside(n.client, []string{"ORCHARD_PART=call", "ORCHARD_SERVERS=" + c.servers}, me)
			out, err := calls.CombinedOutput()
			require.NoError(t, err, string(out))
			// The exporter is given the packets when a block of its library is full: fill
			// it up, until all that was received when the calls ended is processed.
			statistics := func() (processed, received int) {
				out, _ := inside(n.server, nil, "softflowctl", "-c", filepath.Join(dir, "ctl"), "statistics").Output()
				for line := range strings.Lines(string(out)) {
					_, _ = fmt.Sscanf(line, "Packets processed: %d", &processed)
					_, _ = fmt.Sscanf(line, "Packets received by libpcap: %d", &received)
				}
				return processed, received
			}
			_, received := statistics()
			require.Eventually(t, func() bool {
				_ = inside(n.client, []string{"ORCHARD_PART=fill"}, me).Run()
				processed, _ := statistics()
				return processed >= received
			}, patience, 50*time.Millisecond)
			require.NoError(t, control("expire-all"))
			// The connections that a real exporter ends in order are all told at the end.
			end(exporter)

			want := map[string]int{}
			for _, server := range strings.Fields(c.servers) {
				client, ping := "10.20.3.10", "icmp/8.0"
				if strings.Contains(server, ":") {
					client, ping = "fd00:20::10", "icmp6/128.0"
				}
				for service, calls := range map[string]int{"tcp/" + webPort: webCalls, "tcp/" + oddPort: oddCalls,
					"udp/" + udpPort: udpCalls, "tcp/" + refusedPort: 1, ping: 1} {
					want[client+" → "+server+" "+service] = calls
				}
			}
			var got map[string]int
			require.Eventually(t, func() bool {
				got = map[string]int{}
				for _, x := range api[conversations](t, base+"/api/v1/conversations?limit=1000").Conversations {
					if strings.HasPrefix(x.Service, "icmp6/") && x.Service != "icmp6/128.0" {
						// neighbours and routers ask for each other: nobody's doing, and of some the exporter leaves
						// out the type
						continue
					}
					if x.Server.Addr == filler {
						continue
					}
					got[x.Client.Addr+" → "+x.Server.Addr+" "+x.Service] += x.Connections
				}
				return assert.ObjectsAreEqual(want, got) // what goes on comes a moment after what is new
			}, 15*time.Second, 300*time.Millisecond, "%v", &got)
			e := api[exporters](t, base+"/api/v1/exporters").Exporters
			require.Len(t, e, 1)
			require.Empty(t, e[0].Unread)
			require.Equal(t, []any{"10.99.7.2", c.protocol, c.transport},
				[]any{e[0].Addr, e[0].Streams[0].Protocol, e[0].Streams[0].Transport})
			// On a busy machine a datagram may get lost on the way.
			require.LessOrEqual(t, e[0].Streams[0].Missed, int64(1))
			require.Positive(t, e[0].Streams[0].Records)
			// Down to the single records.
			for _, r := range api[struct {
				Records []struct {
					ClientPort int
					Exporter   string
					Packets    int
				}
			}](t, base+"/api/v1/records?client=10.20.3.10&server=10.20.8.20&service="+
				url.QueryEscape("tcp/"+webPort)).Records {
				require.Equal(t, "10.99.7.2", r.Exporter)
				require.Greater(t, r.ClientPort, 1023)
				require.Greater(t, r.Packets, 4)
			}
		})
	}
}

// Three real exporters of as many makes tell of the same traffic at once, each in its own
// way: it is counted once, the right way round. One of them does not say what kind of ICMP
// it saw, one says it where no other does.
func TestThreeExportersAtOnce(t *testing.T) {
	for _, program := range []string{"fprobe", "pmacctd", "ulogd", "conntrack", "nft"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("NOT TRIED: %s is not installed; make tools installs it", program)
		}
	}
	n := makeNetwork(t)
	me := n.serve(t)
	base := start(t, "--ipfix", n.here+":0", "--ipfix-tcp", "off", "--exporters", "10.99.7.0/24", "--hold", "8s")
	to, dir, wire := listening(t, base, "udp"), t.TempDir(), "ob"+strings.TrimPrefix(n.client, "oc")
	run := func(program string, args ...string) {
		t.Helper()
		out, err := inside(n.server, nil, program, args...).CombinedOutput()
		require.NoError(t, err, "%s: %s", program, out)
	}
	run("nft", "add table ip watched; add chain ip watched in { type filter hook input priority 0; }; "+
		"add rule ip watched in ct state new,established accept")
	for _, set := range []string{"acct=1", "timestamp=1", "tcp_timeout_time_wait=1", "tcp_timeout_close=1",
		"udp_timeout=1",
		"udp_timeout_stream=1", "icmp_timeout=1"} {
		run("sysctl", "-qw", "net.netfilter.nf_conntrack_"+set)
	}
	host, port, err := net.SplitHostPort(to)
	require.NoError(t, err)
	config := func(name, text string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	var all []*exec.Cmd
	for _, args := range [][]string{
		{"fprobe", "-i", wire, "-f", "ip", "-s", "1", "-d", "2", "-e", "60", "-n", "5", "-q", "20000", "-B", "4096",
			"-l", "2", to},
		{"pmacctd", "-f", config("pmacctd", "daemonize: false\npcap_interface: "+wire+"\npcap_filter: ip\n"+
			"aggregate: src_host,dst_host,src_port,dst_port,proto,tcpflags\nplugins: nfprobe\nnfprobe_receiver: "+to+
			"\nnfprobe_version: 9\nnfprobe_timeouts: tcp=2:tcp.rst=1:tcp.fin=1:udp=2:icmp=2:general=2:maxlife=60:expint=1\n")},
		{"ulogd", "-c", config("ulogd", "[global]\nlogfile=\""+filepath.Join(dir, "ulogd.log")+
			"\"\nstack=seen:NFCT,out:IPFIX\n"+
			"[seen]\nhash_enable=1\n[out]\noid=1\nhost=\""+host+"\"\nport="+port+
			"\nproto=\"udp\"\nsend_template=\"once\"\n")},
	} {
		cmd := inside(n.server, nil, args[0], args[1:]...)
		require.NoError(t, cmd.Start())
		all = append(all, cmd)
	}
	ended := false
	endAll := func() {
		for _, cmd := range all {
			if !ended {
				end(cmd)
			}
		}
		ended = true
	}
	t.Cleanup(endAll)
	time.Sleep(2 * time.Second) // none of them says when it watches
	out, err := inside(n.client, []string{"ORCHARD_PART=call", "ORCHARD_SERVERS=10.20.8.20"}, me).CombinedOutput()
	require.NoError(t, err, string(out))
	for range 4 {
		time.Sleep(time.Second)
		_ = inside(n.client, []string{"ORCHARD_PART=fill"}, me).Run()
		run("conntrack", "-L") // those whose time is up end when somebody looks
	}
	_ = inside(n.server, []string{"ORCHARD_PART=push", "ORCHARD_SERVERS=" + n.here}, me).Run()
	run("conntrack", "-F")
	time.Sleep(2 * time.Second)
	endAll()

	want := map[string]int{"tcp/" + webPort: webCalls, "tcp/" + oddPort: oddCalls, "udp/" + udpPort: udpCalls,
		"tcp/" + refusedPort: 1, "icmp/8.0": 1, "icmp": 1}
	var got map[string]int
	require.Eventually(t, func() bool {
		got = map[string]int{}
		for _, x := range api[conversations](t, base+"/api/v1/conversations?limit=1000").Conversations {
			if x.Client.Addr == "10.20.3.10" && x.Server.Addr == "10.20.8.20" {
				got[x.Service] += x.Connections
			} else if x.Server.Addr != filler && !strings.HasPrefix(x.Client.Addr, "10.99.7.") {
				got[x.Client.Addr+" → "+x.Server.Addr+" "+x.Service] += x.Connections
			}
		}
		return assert.ObjectsAreEqual(want, got)
	}, 30*time.Second, 300*time.Millisecond, "%v", &got)
	e := api[exporters](t, base+"/api/v1/exporters").Exporters
	require.Len(t, e, 1)
	require.Empty(t, e[0].Unread)
	habits := map[string]string{}
	for _, s := range e[0].Streams {
		habits[s.Protocol] = s.ICMP
	}
	require.Equal(t, map[string]string{"NetFlow v5": "source", "NetFlow v9": "destination", "IPFIX": "unlearnt"},
		habits)
	// It is shown, and can be corrected.
	p := browse(t, base)
	p.open("/flows/exporters")
	const learnt = `[data-icmp=source], [data-icmp=destination]`
	p.see(learnt)
	p.choose(`select[aria-label="where 10.99.7.2 writes ICMP types"]`, "nowhere")
	p.see(`[data-icmp=nowhere]`)
	p.choose(`select[aria-label="where 10.99.7.2 writes ICMP types"]`, "")
	p.see(learnt)
}
