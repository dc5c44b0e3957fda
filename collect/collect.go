// Package collect listens for what exporters send, joins it to conversations,
// and hands these to the store: durably, and each once.
//
// A record goes from a socket to the decoder of its sender (ingest/wire), to the
// joiner (core/flow), into one of two batches, of what is new and of what goes on,
// into files of the spool, and from there into the database, what is new before
// all else; a file is deleted when the database has it. What memory it takes is
// bounded at each of these steps, whatever arrives.
//
// It must not know of policies or of the web. Start reading at Start.
package collect

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/disk"
	"lucidorchard/ingest"
	"lucidorchard/ingest/wire"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// store takes what was collected. Its methods are safe for concurrent use.
type store interface {
	// AddEncoded stores a batch, once: a batch with an id that is known is not stored again.
	AddEncoded(context.Context, *rows.Encoded) (traffic.Added, error)
	// KeepRefused keeps a batch that the database refuses for what it holds.
	KeepRefused(ctx context.Context, collector string, e *rows.Encoded, reason string, text []byte) error
	// SaveExporters keeps what a collector knows of itself and of its exporters.
	SaveExporters(ctx context.Context, collector string, self json.RawMessage,
		states map[netip.Addr]json.RawMessage) error
}

// Options are what a collector needs.
type Options struct {
	Store store
	Name  string         // of this collector among those of the database; blank: one that is kept in the spool
	UDP   []string       // addresses to listen on, for any of the protocols
	TCP   []string       // addresses to listen on, for IPFIX
	Allow []netip.Prefix // who may send; none: everybody who reaches the address
	Spool string         // folder for what is not in the database yet
	// SpoolMost bounds the spool in octets; 0 is 4 GiB. Over it the oldest batches
	// are lost, and counted.
	SpoolMost int64
	Every     time.Duration // how often a batch is made; 0 is 5 s
	Hold      time.Duration // how long a record waits for the other direction; 0 is 10 s
	Log       *slog.Logger
	Disk      *disk.Watch      // who says whether there is room; nil: there is
	Clock     func() time.Time // the time of day; nil: the system's
}

// Collector is a running collector.
type Collector struct {
	Options
	Listening []string              // "udp 127.0.0.1:4739"
	Stored    <-chan traffic.Stored // what was stored; where nobody takes it, only the first of it

	hooks   atomic.Pointer[traffic.Hooks]
	workers []*worker
	joined  chan observations
	spool   *spool
	stored  chan traffic.Stored
	names   observers
	senders senders
	joiner  *flow.Joiner
	batch   batch // of conversations that go on
	fresh   batch // of what is new
	known   known
	told    atomic.Pointer[Status]
	listen  sync.WaitGroup
	decode  sync.WaitGroup
	rest    sync.WaitGroup
	stop    context.CancelFunc
	close   []func() error
	started time.Time
	ending  bool // nothing more comes
	taking  sync.Mutex
	stopped bool // nothing more is taken
	clock   *clock
	gauge   *gauge
}

// mostRecords is how many records a batch has at most.
const mostRecords = 100_000

// observations are what one worker has decoded.
type observations struct {
	all []flow.Observation
	ack chan<- struct{} // closed when all before it is joined
}

// Start listens. Stop it with Stop; ctx only ends the start.
func Start(ctx context.Context, o Options) (*Collector, error) {
	if o.Every == 0 {
		o.Every = 5 * time.Second
	}
	if o.SpoolMost == 0 {
		o.SpoolMost = 4 << 30
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	sp, err := openSpool(o.Spool, o.SpoolMost)
	if err != nil {
		return nil, fmt.Errorf("the spool cannot be used: %w", err)
	}
	if o.Name == "" {
		o.Name = sp.name
	}
	c := &Collector{Options: o, joined: make(chan observations, 256), spool: sp, started: time.Now(),
		clock: newClock(o.Clock), stored: make(chan traffic.Stored, 64), known: newKnown()}
	c.Stored = c.stored
	if c.gauge, sp.unfinished, err = openGauge(o.Spool); err != nil {
		sp.close()
		return nil, fmt.Errorf("the spool cannot be used: %w", err)
	}
	c.hooks.Store(&traffic.Hooks{})
	c.senders.allow = o.Allow
	c.senders.clock = c.clock
	c.senders.icmp = func(addr netip.Addr) wire.Habit { return c.hooks.Load().ICMP[addr] }
	sides := flow.NewSides()
	sides.Serves = func(addr netip.Addr, proto uint8, port uint16, at flow.Micros) bool {
		f := c.hooks.Load().Serves
		return f != nil && f(addr, proto, port, at)
	}
	c.joiner = flow.NewJoiner(flow.JoinOptions{Hold: flow.Micros(o.Hold.Microseconds())}, sides)
	if err := c.resume(); err != nil {
		sp.close()
		return nil, err
	}
	for range 2 {
		c.workers = append(c.workers, &worker{c: c, packets: make(chan packet, 2048)})
	}
	for _, listen := range []func() error{c.listenUDP, c.listenTCP} {
		if err := listen(); err != nil {
			for _, f := range c.close {
				_ = f()
			}
			sp.close()
			return nil, err
		}
	}
	c.tell()
	c.reportOnce() // who asks as soon as it is ready is told where it listens
	work, stop := context.WithCancel(context.Background())
	c.stop = stop
	for _, w := range c.workers {
		c.decode.Go(w.run)
	}
	done := make(chan struct{})
	c.rest.Go(func() { defer close(done); c.join() })
	c.rest.Go(func() { c.storeAll(work, done) })
	c.rest.Go(func() { c.report(done) })
	return c, nil
}

// Address returns the first address that it listens on in a network, udp or tcp.
func (c *Collector) Address(network string) (string, bool) {
	for _, l := range c.Listening {
		if addr, ok := strings.CutPrefix(l, network+" "); ok {
			return addr, true
		}
	}
	return "", false
}

// SetHooks changes what the collector asks.
func (c *Collector) SetHooks(h traffic.Hooks) { c.hooks.Store(&h) }

// Stop ends the collector: what was received is joined and stored, or stays in
// the spool if the database does not take it.
func (c *Collector) Stop() {
	c.taking.Lock()
	c.stopped = true
	c.taking.Unlock()
	for _, f := range c.close {
		_ = f()
	}
	c.listen.Wait()
	for _, w := range c.workers {
		close(w.packets)
	}
	c.decode.Wait()
	close(c.joined)
	c.rest.Wait()
	c.tell()
	c.reportOnce()
	c.stop()
	c.spool.close()
	c.gauge.close()
}

// worker decodes the packets of some senders, in their order.
type worker struct {
	c       *Collector
	packets chan packet
	buffer  []flow.Observation
	each    atomic.Int64 // records that a packet had lately, rounded up
}

// take queues a packet.
func (w *worker) take(p packet) {
	p.guess = w.each.Load()
	w.c.gauge.add(gaugePackets, p.guess)
	w.packets <- p
}

// packet is what a socket gave.
type packet struct {
	from *sender
	data []byte
	at   instant
	pool *sync.Pool
	ack  chan<- struct{}

	guess int64 // how many records it may have
}

// worker returns the one that decodes a sender's packets.
func (c *Collector) worker(addr netip.Addr) *worker {
	h := fnv.New32a()
	b := addr.As16()
	h.Write(b[:])
	return c.workers[h.Sum32()%uint32(len(c.workers))]
}

const together = 512 // observations that go to the joiner at once

func (w *worker) run() {
	send := func(ack chan<- struct{}) {
		w.c.joined <- observations{w.buffer, ack}
		w.buffer = make([]flow.Observation, 0, together+64)
	}
	for p := range w.packets {
		if p.from != nil {
			before := len(w.buffer)
			p.from.decode(p.data, p.at, func(o *flow.Observation) { w.buffer = append(w.buffer, *o) })
			n := int64(len(w.buffer) - before)
			w.each.Store(max(n, (7*w.each.Load()+n+7)/8))
			w.c.gauge.add(gaugeDecoded, n)
			w.c.gauge.add(gaugePackets, -p.guess)
			if p.pool != nil {
				p.pool.Put(&p.data)
			}
		}
		if len(w.buffer) >= together || len(w.packets) == 0 || p.ack != nil {
			send(p.ack)
		}
	}
}

// join is the one place where sessions are put together.
func (c *Collector) join() {
	tick := time.NewTicker(time.Second / 10)
	defer tick.Stop()
	saved, told, kept := time.Now(), time.Now(), time.Now()
	c.batch.made, c.fresh.made = time.Now(), time.Now()
	for {
		select {
		case in, ok := <-c.joined:
			if !ok {
				c.joiner.Close(c.clock.now(), c.sort)
				c.sortOpened()
				c.ending = true
				if c.Disk.Room("") != nil {
					c.Disk.Release() // this is what the reserve is for
				}
				c.queue(&c.fresh)
				c.queue(&c.batch)
				if n := c.fresh.len() + c.batch.len(); n > 0 { // the disk did not take them, and there is no later
					c.spool.lost(n)
				}
				c.measure() // the next start tells what was lost
				c.spool.saveOpen(c.joiner.Alive())
				c.save(true)
				c.tell()
				return
			}
			at := c.clock.now()
			for i := range in.all {
				c.joiner.Add(&in.all[i], at)
			}
			c.measure()
			c.gauge.add(gaugeDecoded, -int64(len(in.all)))
			if in.ack != nil {
				close(in.ack)
			}
		case <-tick.C:
			c.batch.changes(c.hooks.Load().Changes)
			c.fresh.changes(c.hooks.Load().Changes)
			c.known.turn()
			if j := c.clock.look(); j != nil {
				c.Log.Warn("the clock was set", "by", time.Duration(j.Seconds*float64(time.Second)), "to", j.At)
			}
			c.joiner.Flush(c.clock.now(), c.sort)
			c.sortOpened()
			c.queueWhatIsDue()
			if time.Since(kept) >= c.Every {
				c.save(false)
				kept = time.Now()
			}
			if time.Since(saved) > time.Minute {
				c.spool.saveOpen(c.joiner.Alive())
				saved = time.Now()
			}
			c.measure()
			if time.Since(told) >= time.Second {
				told = time.Now()
				c.tell()
			}
		}
	}
}

// sort puts what the joiner sends off with what is new, or with what goes on.
func (c *Collector) sort(x *flow.Joined) {
	x.Observer = ingest.Observers(x, c.names.name)
	h := c.known.hash(talk{x.Client, x.Server, x.Point})
	if c.known.new(h, x.Outcome) {
		c.fresh.add(h, x)
	} else {
		c.batch.add(h, x)
	}
}

// sortOpened puts the sessions that were opened with their conversations.
func (c *Collector) sortOpened() {
	for _, o := range c.joiner.Opened() {
		h := c.known.hash(talk{o.Client, o.Server, service.PointOf(o.Proto, uint32(o.ServerPort))})
		if c.known.opened(h) {
			c.fresh.open(h, &o)
		} else {
			c.batch.open(h, &o)
		}
	}
}

// queueWhatIsDue queues what is new as soon as the database has taken what was new before, and what
// goes on when the database has had some rest; both when there is much of it, or Every has passed.
func (c *Collector) queueWhatIsDue() {
	n, since := c.fresh.len(), time.Since(c.fresh.made)
	if n >= mostRecords || n > 0 && (since >= c.Every || since >= c.Every/25 && !c.spool.hasFresh()) {
		c.queue(&c.fresh)
	}
	n, since = c.batch.len(), time.Since(c.batch.made)
	if n >= mostRecords || since >= c.Every || n > 0 && since >= c.Every/10 && c.spool.rested(since) {
		c.queue(&c.batch)
	}
}

// measure notes what would be lost if the program were killed now.
func (c *Collector) measure() {
	c.gauge.set(gaugeJoined, int64(c.joiner.Waiting()+c.fresh.len()+c.batch.len()))
}

// queue writes a batch to the spool. What the disk does not take is tried again with what
// comes meanwhile, as long as there is room in memory.
func (c *Collector) queue(b *batch) {
	defer c.measure()
	b.made = time.Now()
	for {
		next, opened, forget := b.next()
		if next == nil {
			break
		}
		var err error
		if !c.ending {
			err = c.Disk.Room("")
		}
		if err == nil {
			err = c.spool.put(next, opened, b == &c.fresh)
		}
		if err != nil {
			c.spool.failed(err)
			c.Log.Error("a batch cannot be written to the spool", "folder", c.Spool, "error", err)
			if c.fresh.len()+c.batch.len() < 5*mostRecords {
				return
			}
			c.spool.lost(len(next.Records))
		}
		forget()
	}
	if b == &c.fresh {
		c.known.spooled()
	}
}

// Drain waits until everything that was received before is decoded and joined,
// and sends it off: for tests and for senders in the same process.
func (c *Collector) Drain() {
	for _, w := range c.workers {
		ack := make(chan struct{})
		w.take(packet{ack: ack})
		<-ack
	}
}
