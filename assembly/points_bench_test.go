package assembly_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/core/plan"
	"lucidorchard/core/sample"
	"lucidorchard/database/databasetest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/releasing"
)

// timed is a kernel that notes when it last got something to hold.
type timed struct {
	point.Memory
	last atomic.Int64 // nanoseconds
	n    atomic.Int64
}

func (k *timed) Load(l plan.Loaded, paired bool) error {
	err := k.Memory.Load(l, paired)
	k.last.Store(time.Now().UnixNano())
	k.n.Add(1)
	return err
}

func (k *timed) Move(from, to plan.Loaded) error {
	err := k.Memory.Move(from, to)
	k.last.Store(time.Now().UnixNano())
	k.n.Add(1)
	return err
}

// BenchmarkConnectedPoints gives, for points that are connected over real sockets, an
// estate in a real database and a policy of 2,000 rules: how long a release takes to
// all, how long a change of a tag, once it is acknowledged, takes to the last set that
// moves, what the answer to the change itself takes, how long all take to be heard of
// again after the server was restarted, and the server's memory for each that waits.
// ORCHARD_POINTS and ORCHARD_WORKLOADS are other
// sizes.
func BenchmarkConnectedPoints(b *testing.B) {
	points, workloads := 1000, 20_000
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_POINTS")); err == nil {
		points = n
	}
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_WORKLOADS")); err == nil {
		workloads = n
	}
	db, err := assembly.Open(b.Context(), databasetest.Database(b))
	require.NoError(b, err)
	defer db.Close()
	e, text := sample.Large(workloads, 2*points, 2000)
	_, err = db.Take(b.Context(), inventory.Listing{Source: "plan", Workloads: e.Workloads(), Complete: true})
	require.NoError(b, err)
	require.NoError(b, db.Begin(b.Context(), model.Revision{No: 1, Text: text, Blame: model.Blame{}, Author: "bench",
		Words: "begin"}))
	tokens := make([]string, points)
	for i := range tokens { // what each guards was looked at when it was made, elsewhere
		tokens[i] = fmt.Sprint("token ", i)
		require.NoError(b, db.AddPoint(b.Context(), releasing.Point{Name: fmt.Sprintf("p%04d", i), Kind: "gate",
			Side:   "both",
			Guards: fmt.Sprintf("app is app%d and site is %s", i/2, []string{"northquay", "southquay"}[i%2]), Wave: 1,
			Author: "bench"}, tokens[i]))
	}
	serve := func() (*assembly.App, *httptest.Server, func()) {
		ctx, cancel := context.WithCancel(context.Background())
		a := assembly.New(ctx, assembly.Options{Store: db, Author: "bench", Log: slog.New(slog.DiscardHandler)})
		s := assembly.Handler(a, assembly.HandlerOptions{Web: fstest.MapFS{}})
		h := httptest.NewServer(s)
		return a, h, func() { cancel(); s.Wait(); h.Close() }
	}
	a, h, end := serve()
	defer func() { end() }()
	m, err := a.Models.Current(b.Context())
	require.NoError(b, err)
	heap := func() int64 {
		for range 3 { // what only pools still hold goes as well
			runtime.GC()
		}
		var stats runtime.MemStats
		runtime.ReadMemStats(&stats)
		return int64(stats.HeapAlloc)
	}
	before := heap()
	waiting := make([]net.Conn, points)
	for i := range waiting {
		waiting[i], err = net.Dial("tcp", h.Listener.Addr().String())
		require.NoError(b, err)
		_, err = fmt.Fprintf(waiting[i],
			"GET /api/v1/point/told?have= HTTP/1.1\r\nHost: %s\r\nOrchard-Run: bench\r\nAuthorization: Bearer %s\r\n\r\n",
			h.Listener.Addr(), tokens[i])
		require.NoError(b, err)
	}
	time.Sleep(4 * time.Second) // all wait to be told something else than nothing
	b.ReportMetric(float64(heap()-before)/float64(points)/1024, "KiB/waiting-point")
	for _, c := range waiting {
		_ = c.Close()
	}
	kernels := make([]*timed, points)
	var running sync.WaitGroup
	defer running.Wait()
	pointsCtx, stop := context.WithCancel(context.Background())
	defer stop()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 2 * points}}
	for i := range kernels {
		kernels[i] = &timed{}
		agent := &point.Agent{Server: h.URL, Token: tokens[i], Kernel: kernels[i], Log: slog.New(slog.DiscardHandler),
			Client: client, Beat: 5 * time.Second, Check: time.Hour, RollbackAfter: 10 * time.Minute}
		running.Go(func() { _ = agent.Run(pointsCtx) })
	}
	all := func(n int64) time.Duration {
		start := time.Now()
		for slices.ContainsFunc(kernels, func(k *timed) bool { return k.n.Load() < n }) {
			if time.Since(start) > 5*time.Minute {
				b.Fatal("they never came")
			}
			time.Sleep(time.Millisecond)
		}
		return time.Since(start)
	}
	all(1)
	_, err = a.Releasing.Release(b.Context(), m, 1, "First", false)
	require.NoError(b, err)
	b.ReportMetric(all(2).Seconds(), "s/release-to-all")

	// A change a time, at the pace of 1,000 in a minute.
	r := rand.New(rand.NewPCG(3, 3))
	var took, answers []time.Duration
	tiers := []string{"entry", "logic", "store", "bus"}
	for range b.N {
		for range 30 {
			i := r.IntN(workloads)
			counts := make([]int64, points)
			for k := range kernels {
				counts[k] = kernels[k].n.Load()
			}
			asked := time.Now()
			m, err := a.Models.Current(b.Context())
			require.NoError(b, err)
			retag(b, a, m, fmt.Sprintf("w%d", i), tiers[r.IntN(4)])
			acknowledged := time.Now()
			answers = append(answers, acknowledged.Sub(asked))
			time.Sleep(1500 * time.Millisecond)
			last := time.Duration(-1)
			for k := range kernels {
				if kernels[k].n.Load() > counts[k] {
					last = max(last, time.Unix(0, kernels[k].last.Load()).Sub(acknowledged))
				}
			}
			if last >= 0 {
				took = append(took, last)
			}
		}
	}
	// A restart: another server at the same address.
	address := h.Listener.Addr().String()
	end()
	restarted := time.Now()
	_, h, end = serve()
	l, err := net.Listen("tcp", address)
	require.NoError(b, err)
	go func() { _ = http.Serve(l, h.Config.Handler) }()
	for heard := 0; heard < points; time.Sleep(50 * time.Millisecond) {
		list, err := db.Points(b.Context())
		require.NoError(b, err)
		heard = 0
		for _, p := range list {
			if p.Heard != nil && p.Heard.After(restarted) {
				heard++
			}
		}
	}
	b.ReportMetric(time.Since(restarted).Seconds(), "s/restart-to-all-heard")
	_ = l.Close()
	slices.Sort(took)
	slices.Sort(answers)
	at := func(list []time.Duration, share float64) float64 {
		return list[min(len(list)-1, int(share*float64(len(list))))].Seconds() * 1000
	}
	b.ReportMetric(at(answers, 0.5), "ms/answer-p50")
	b.ReportMetric(at(took, 0.5), "ms/move-p50")
	b.ReportMetric(at(took, 0.95), "ms/move-p95")
	b.ReportMetric(at(took, 0.99), "ms/move-p99")
	b.ReportMetric(float64(len(took))/float64(len(answers)), "moved")
}

func retag(b *testing.B, a *assembly.App, m *model.Model, id, tier string) {
	v, err := m.View(b.Context(), m.From, m.To)
	require.NoError(b, err)
	_, err = a.Inventory.SetTags(b.Context(), v, m, []inventory.TagEdit{{Workload: id, Key: "tier", Value: &tier}},
		"Set tier", false)
	require.NoError(b, err)
}
