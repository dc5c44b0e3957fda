package demo

import (
	"context"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"sort"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// sender sends what the company's machines do now, as two of its switches would:
// over IPFIX, both directions of each connection, some of them seen by both.
type sender struct {
	Workloads int
	// Passes reports whether the enforcement points in the way of a connection let it
	// through; nil: all do.
	Passes func(*flow.Observation) bool
	stop   context.CancelFunc
	group  sync.WaitGroup
}

// NewSender makes one for a company of about so many workloads.
func NewSender(workloads int) *sender { return &sender{Workloads: workloads} }

// perSecond is how many connections are sent for each of a hundred workloads.
const perSecond = 3

// Start sends to a UDP address until Stop.
func (s *sender) Start(to string) error {
	conns := make([]net.Conn, 2)
	for i := range conns {
		c, err := net.Dial("udp", to)
		if err != nil {
			return err
		}
		conns[i] = c
	}
	ctx, stop := context.WithCancel(context.Background())
	s.stop = stop
	s.group.Go(func() {
		defer func() {
			for _, c := range conns {
				c.Close()
			}
		}()
		s.run(ctx, conns)
	})
	return nil
}

// Stop ends it.
func (s *sender) Stop() {
	if s.stop != nil {
		s.stop()
		s.group.Wait()
	}
}

// Habits returns what the company's machines did on the last day before an instant, which
// what happens now is like; and what in two weeks was carried although the policy rejects
// it, which somebody should find and settle: it goes on now and then. Of each such
// conversation there is one record, so that none drowns among the others.
func Habits(workloads int, now time.Time) (usual, odd []flow.Record) {
	c := Generate(Options{Workloads: workloads, End: now})
	since := estate.InstantOf(now.Add(-24 * time.Hour))
	first := sort.Search(len(c.Records), func(i int) bool { return !c.Records[i].Start.Before(since) })
	e, _ := estate.New(c.Workloads)
	p, _ := policy.Parse(c.Policy)
	compiled := decide.Compile(e, p, estate.InstantOf(now))
	type conversation struct {
		client, server netip.Addr
		point          service.Point
	}
	known := map[conversation]bool{}
	for _, r := range c.Records {
		k := conversation{r.Client, r.Server, r.Point}
		if known[k] {
			continue
		}
		rule := compiled.Decide(compiled.At(r.Client, r.Start), compiled.At(r.Server, r.Start), r.Point)
		if r.Outcome == flow.Carried && decide.VerdictOf(rule) == decide.Reject {
			known[k] = true
			odd = append(odd, r)
		}
	}
	return slices.Clone(c.Records[first:]), odd
}

func (s *sender) run(ctx context.Context, conns []net.Conn) {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 11))
	habits, odd := Habits(s.Workloads, time.Now())
	if len(habits) == 0 {
		return
	}
	exporters := [2]wire.Exporter{{Domain: 1}, {Domain: 2}}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for n := 0; ; n++ {
		now := flow.MicrosOf(time.Now())
		if n%30 == 0 {
			for i := range exporters {
				_, _ = conns[i].Write(exporters[i].Templates(now)) // nobody listens: it is a demo
			}
		}
		var sent [2][]flow.Observation
		for i := range 1 + s.Workloads*perSecond/100 {
			h := &habits[r.IntN(len(habits))]
			if i == 0 && len(odd) > 0 && r.IntN(3) == 0 {
				h = &odd[r.IntN(len(odd))]
			}
			if h.Client.Is6() {
				continue
			}
			there, back := observe(r, h, now)
			if back.Packets > 0 && s.Passes != nil && !s.Passes(&there) {
				// The switches see three attempts and no answer.
				there.Packets, there.Bytes, there.Outcome = 3, 180, flow.Unknown
				there.Start, there.End = min(there.Start, now-3e6), now
				if there.HasFlags {
					there.Flags = flow.SYN
				}
				back = flow.Observation{}
			}
			switches := []int{site(h.Client)}
			if other := site(h.Server); other != switches[0] {
				switches = append(switches, other)
			}
			for _, k := range switches {
				sent[k] = append(sent[k], there)
				if back.Packets > 0 {
					sent[k] = append(sent[k], back)
				}
			}
		}
		for i, all := range sent {
			for len(all) > 0 {
				k := min(len(all), wire.RecordsPerMessage)
				_, _ = conns[i].Write(exporters[i].Message(now, all[:k]))
				all = all[k:]
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// site returns the switch that a machine hangs on: those of southquay have an odd
// second octet.
func site(a netip.Addr) int { return int(a.As4()[1] & 1) }

// observe makes one connection of a habit, that has just ended.
func observe(r *rand.Rand, h *flow.Record, now flow.Micros) (there, back flow.Observation) {
	length := flow.Micros(r.ExpFloat64() * 4e5)
	size := h.Bytes / max(1, h.Connections)
	there = flow.Observation{
		Src: h.Client, Dst: h.Server, SrcPort: uint16(32768 + r.IntN(28000)), DstPort: uint16(h.Point.Port()),
		Proto:   h.Point.Proto(),
		Outcome: h.Outcome, Start: now - length - 1000, End: now, Packets: 2 + size/3000, Bytes: 120 + size/8,
	}
	if there.Proto == service.TCP {
		there.Flags, there.HasFlags = flow.SYN|flow.ACK|flow.PSH|flow.FIN, true
	}
	if h.Outcome == flow.Dropped {
		there.Packets, there.Bytes, there.Flags = 3, 180, flow.SYN
		return there, back
	}
	back = there
	back.Src, back.Dst, back.SrcPort, back.DstPort = there.Dst, there.Src, there.DstPort, there.SrcPort
	back.Start, back.Packets, back.Bytes = there.Start+800, 2+size/1400, 120+size-size/8
	if service.IsICMP(there.Proto) {
		there.SrcPort, back.SrcPort, back.DstPort = 0, 0, 0 // an echo and its reply
	}
	return there, back
}
