package derive_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/demo"
)

// Deriving from the demo company at growing sizes.
func BenchmarkDerive(b *testing.B) {
	for _, workloads := range []int{420, 2000, 5000} {
		b.Run(fmt.Sprintf("workloads=%d", workloads), func(b *testing.B) {
			company := demo.Generate(demo.Options{Workloads: workloads, Days: 7,
				End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
			e, _ := estate.New(company.Workloads)
			p, _ := policy.Parse(company.Policy)
			c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
			var seen derive.Gather
			for _, r := range company.Records {
				seen.Add(derive.Observed(c, r))
			}
			var r *derive.Result
			for b.Loop() {
				r = derive.Derive(derive.Input{Compiled: c, Conversations: seen.Conversations,
					Balance: derive.DefaultBalance})
			}
			b.ReportMetric(float64(len(seen.Conversations)), "conversations")
			b.ReportMetric(float64(len(r.Proposals)), "rules")
		})
	}
}

// many makes conversations of an estate whose groups are each called by six
// others on one or two services; one of a thousand is noise.
func many(c *decide.Compiled, n int) []derive.Conversation {
	r := rand.New(rand.NewPCG(uint64(n), 5))
	byRole := map[string][]decide.Placed{}
	var roles []string
	var all []decide.Placed
	for i, w := range c.Estate.All() {
		role := ""
		for _, key := range []string{"app", "tier", "env"} {
			t, _ := w.Tag(key)
			role += t.Value + " "
		}
		if byRole[role] == nil {
			roles = append(roles, role)
		}
		p := c.At(sample.LargeAddr(int(i)), c.AsOf)
		byRole[role] = append(byRole[role], p)
		all = append(all, p)
	}
	ports := []uint32{443, 8443, 5671, 9092, 636, 8080}
	out := make([]derive.Conversation, n)
	for i := range out {
		server := r.IntN(len(roles))
		clients, servers := byRole[roles[(server+3*(1+r.IntN(6)))%len(roles)]], byRole[roles[server]]
		if r.IntN(1000) == 0 {
			clients = all
		}
		out[i] = derive.Conversation{
			Client: clients[r.IntN(len(clients))], Server: servers[r.IntN(len(servers))],
			Point:       service.PointOf(service.TCP, ports[(server+r.IntN(2))%len(ports)]),
			Connections: 1 + int64(r.IntN(50)), Days: derive.Days(r.Uint64() & 0x3fff), First: c.AsOf, Last: c.AsOf,
		}
	}
	return out
}

// BenchmarkDeriveMillions measures the time and the memory of millions of
// conversations over 20,000 workloads.
func BenchmarkDeriveMillions(b *testing.B) {
	e, _ := sample.Large(20_000, 400, 0)
	p, _ := policy.Parse("layer allowances\n")
	c := decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
	for _, n := range []int{1_250_000, 2_500_000, 5_000_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			seen := many(c, n)
			var most runtime.MemStats
			for b.Loop() {
				runtime.GC()
				r := derive.Derive(derive.Input{Compiled: c, Conversations: seen, Balance: derive.DefaultBalance,
					Progress: func(float64) bool {
						var now runtime.MemStats
						runtime.ReadMemStats(&now)
						if now.HeapAlloc > most.HeapAlloc {
							most = now
						}
						return true
					}})
				b.ReportMetric(float64(len(r.Proposals)), "rules")
			}
			b.ReportMetric(float64(most.HeapAlloc)/(1<<20), "MiB-heap")
		})
	}
}
