package point_test

import (
	"context"
	"fmt"
	"log/slog"
	"os/exec"
	"slices"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan"
	"lucidorchard/point"
)

// stamped is a real kernel that notes when addresses have moved in it.
type stamped struct {
	*point.Nftables
	moved chan time.Time
	ends  atomic.Int64
}

func (k *stamped) Move(from, to plan.Loaded) error {
	err := k.Nftables.Move(from, to)
	if from.Enforced != to.Enforced {
		k.moved <- time.Now()
	}
	return err
}

func (k *stamped) End(d *plan.Decider) (int, error) {
	k.ends.Add(1)
	return k.Nftables.End(d)
}

// BenchmarkAMoveAtARealPoint measures how long it takes from what a server tells of one
// address until it has moved in a real kernel (p50, p95, p99), and the processor time that
// the agent takes for each: with a small set, with one of 20,000 addresses, and beside
// 50,000 tracked connections.
func BenchmarkAMoveAtARealPoint(b *testing.B) {
	for _, x := range []struct {
		name             string
		members, tracked int
	}{{"few", 10, 0}, {"members-20000", 20_000, 0}, {"tracked-50000", 10, 50_000}} {
		b.Run(x.name, func(b *testing.B) {
			name, kernel := space(b)
			k := &stamped{Nftables: kernel, moved: make(chan time.Time, 1000)}
			_ = exec.Command("ip", "netns", "exec", name, "sysctl", "-qw",
				"net.netfilter.nf_conntrack_max=500000").Run()
			plans := [2]*plan.Plan{crowd(b, x.members), crowd(b, x.members+1)}
			var moves [2]plan.Moves
			for i := range plans {
				m, same := plans[i].Difference(plans[1-i])
				require.True(b, same)
				moves[i] = m
			}
			s := serve(b)
			s.tell(telling("0", 1, plans[0]))
			ctx, stop := context.WithCancel(b.Context())
			a := &point.Agent{Server: s.URL, Token: "secret", Kernel: k, Log: slog.New(slog.DiscardHandler)}
			done := make(chan error, 1)
			go func() { done <- a.Run(ctx) }()
			b.Cleanup(func() { stop(); <-done })
			s.until(b, "it has loaded it", func(said point.Status) bool { return said.ID == "0" })
			if x.tracked > 0 {
				track(b, name, x.tracked)
			}
			var took []time.Duration
			var before, after syscall.Rusage
			require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &before))
			last := telling("0", 1, plans[0])
			for n := 1; n <= 120; n++ {
				next := moving(last, fmt.Sprint(n), moves[(n-1)%2])
				told := time.Now()
				s.tell(next)
				took = append(took, (<-k.moved).Sub(told))
				last = telling(fmt.Sprint(n), 1, plans[n%2])
				last.Enforces.ID = next.Enforces.ID
				time.Sleep(50 * time.Millisecond)
			}
			require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &after))
			slices.Sort(took)
			at := func(share float64) float64 { return took[int(share*float64(len(took)-1))].Seconds() * 1000 }
			b.ReportMetric(at(.5), "ms-p50")
			b.ReportMetric(at(.95), "ms-p95")
			b.ReportMetric(at(.99), "ms-p99")
			cpu := time.Duration(after.Utime.Nano() - before.Utime.Nano() + after.Stime.Nano() - before.Stime.Nano())
			b.ReportMetric(cpu.Seconds()*1000/float64(len(took)), "ms-processor/move")
			b.ReportMetric(0, "ns/op")
		})
	}
}
