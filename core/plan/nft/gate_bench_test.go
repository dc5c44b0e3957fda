package nft_test

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

// manyRules is a policy of so many rules for the address of a server, that are for
// others than the client but for the last: a first-match chain has to look at them all.
func manyRules(client, server netip.Addr, rules int) (*decide.Compiled, string) {
	var text, chain strings.Builder
	text.WriteString("layer allowances\n")
	rule := func(from string, port int) {
		fmt.Fprintf(&text, "permit %s -> %s on tcp/%d\n", from, server, port)
		fmt.Fprintf(&chain, "\t\tip saddr %s ip daddr %s tcp dport %d counter accept\n", from, server, port)
	}
	for i := range rules - 1 {
		rule(fmt.Sprintf("172.%d.%d.0/24", 16+i/256, i%256), 443)
	}
	rule(client.String(), 443)
	text.WriteString("layer closing\nreject any -> any on any\n")
	e, _ := estate.New([]estate.Workload{{ID: "server", Leases: []estate.Lease{{Addr: server, From: estate.Beginning,
		Until: estate.End}}}})
	p, errs := policy.Parse(text.String())
	if len(errs) > 0 {
		panic(errs[0])
	}
	return decide.Compile(e, p, estate.Instant{}),
		"table inet naive {\n\tchain forward {\n\t\ttype filter hook forward priority filter; " +
			"policy accept;\n\t\tct state established,related accept\n" + chain.String() + "\t\tip daddr " +
			server.String() +
			" counter drop\n\t}\n}\n"
}

// BenchmarkAGate measures how many connections a second go through a gate: without rules,
// with the plan of a policy of 2,000 rules, with the same rules as one chain that is
// looked at from its head, and with nothing but a rule that lets answers pass, which is
// what it costs to know conversations at all; in one run.
func BenchmarkAGate(b *testing.B) {
	l := newLand(b)
	client, server := sample.Addresses[2], sample.Addresses[3]
	compiled, chain := manyRules(client, server, 2000)
	made := plan.NewPlanner(compiled).Plan([]int32{0}, plan.Gate, plan.Both)
	var listener net.Listener
	require.NoError(b, inside(l.at(server), func() (err error) {
		listener, err = net.Listen("tcp", netip.AddrPortFrom(server, 443).String())
		return err
	}))
	defer listener.Close()
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			_ = c.(*net.TCPConn).SetLinger(0)
			_ = c.Close()
		}
	}()
	measure := func() float64 {
		var done atomic.Int64
		stop := time.Now().Add(2 * time.Second)
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				require.NoError(b, inside(l.at(client), func() error {
					d := net.Dialer{LocalAddr: &net.TCPAddr{IP: client.AsSlice()}, Timeout: 3 * time.Second}
					for time.Now().Before(stop) {
						c, err := d.Dial("tcp", netip.AddrPortFrom(server, 443).String())
						if errors.Is(err, syscall.ECONNRESET) { // the server's end was faster
							done.Add(1)
							continue
						}
						if err != nil {
							return err
						}
						_, _ = c.Read(make([]byte, 1))
						_ = c.Close()
						done.Add(1)
					}
					return nil
				}))
			})
		}
		all.Wait()
		return float64(done.Load()) / 2
	}
	for range b.N {
		measure() // so that all is warm
		var none, ours, naive, stateful float64
		for range 4 { // by turns: what else the machine does falls on all alike
			none += measure()
			l.load(l.gate, made, nft.Options{})
			ours += measure()
			l.unload(l.gate)
			l.script(l.gate, chain)
			naive += measure()
			l.run(l.gate, "nft", "delete", "table", "inet", "naive")
			l.script(l.gate, "table inet naive {\n\tchain forward {\n\t\ttype filter hook forward priority filter;\n"+
				"\t\tct state established,related accept\n\t}\n}\n")
			stateful += measure()
			l.run(l.gate, "nft", "delete", "table", "inet", "naive")
		}
		b.ReportMetric(none/4, "connections/s-without-rules")
		b.ReportMetric(ours/none, "share-with-2000-rules")
		b.ReportMetric(naive/none, "share-with-a-chain")
		b.ReportMetric(stateful/none, "share-with-no-rule-but-answers")
	}
}
