package collect

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// Bounds on who is listened to.
const (
	mostSenders = 2000             // transport sessions at once
	mostRefused = 100              // addresses of those who may not send
	idle        = 30 * time.Minute // after which a sender is forgotten
	mostTCP     = 500              // connections at once
)

// senders are those who send: each address and port has templates and sequence
// numbers of its own (RFC 7011, §8 and §3.1).
type senders struct {
	mu      sync.Mutex
	allow   []netip.Prefix
	all     map[senderKey]*sender
	refused map[netip.Addr]int64
	tooMany int64
	resumed resumed
	icmp    func(netip.Addr) wire.Habit // what people have said
	clock   *clock
}

// resumed is what was known of streams before this start, and of which nothing
// was heard since.
type resumed struct {
	mu     sync.Mutex
	all    map[netip.Addr][]savedStream
	habits map[streamOf]wire.Habit
}

func (r *resumed) take(addr netip.Addr, p wire.Protocol, domain uint32) (expected uint32, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, s := range r.all[addr] {
		if s.Protocol == p && s.Domain == domain {
			r.all[addr] = slices.Delete(r.all[addr], i, i+1)
			return s.Expected, true
		}
	}
	return 0, false
}

// habit returns what was known of a stream. It stays known: a stream may come again from another
// port.
func (r *resumed) habit(addr netip.Addr, p wire.Protocol, domain uint32) wire.Habit {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.habits[streamOf{addr, p, domain}]
}

// learn keeps what a stream has shown.
func (r *resumed) learn(addr netip.Addr, s *wire.Stream) {
	h := s.ICMP()
	if h == wire.Unlearnt {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	k := streamOf{addr, s.Protocol, s.Domain}
	if _, known := r.habits[k]; !known && len(r.habits) >= mostHabits {
		return
	}
	if r.habits == nil {
		r.habits = map[streamOf]wire.Habit{}
	}
	r.habits[k] = h
}

// mostHabits is of how many streams it is remembered where they write types.
const mostHabits = 10_000

// streamOf is a stream, whichever port it comes from.
type streamOf struct {
	addr     netip.Addr
	protocol wire.Protocol
	domain   uint32
}

type senderKey struct {
	addr netip.AddrPort
	tcp  bool
	name string // of one that hands its messages over in the same process; else blank
}

// sender is one transport session.
type sender struct {
	senderKey
	mu      sync.Mutex
	decoder *wire.Decoder
	last    time.Time
	first   time.Time
	octets  int64
	reason  string // of the last fault
	faulty  time.Time
	numbers []int32
	names   *observers
	clock   *clock
	records int64 // at the last measure
	rate    float64
}

// of returns the sender of a packet; nil if it may not send, or there are too many.
func (s *senders) of(k senderKey, names *observers) *sender {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x := s.all[k]; x != nil {
		return x
	}
	addr := k.addr.Addr()
	if k.name == "" && len(s.allow) > 0 && !slices.ContainsFunc(s.allow,
		func(p netip.Prefix) bool { return p.Contains(addr) }) {
		if s.refused == nil {
			s.refused = map[netip.Addr]int64{}
		}
		if _, known := s.refused[addr]; known || len(s.refused) < mostRefused {
			s.refused[addr]++
		}
		return nil
	}
	if len(s.all) >= mostSenders && !s.forgetIdle() {
		s.tooMany++
		return nil
	}
	x := &sender{senderKey: k, decoder: wire.NewDecoder(), first: time.Now(), names: names, clock: s.clock}
	x.decoder.Shift = true
	x.decoder.Number = func(wire.Protocol, uint32) int32 {
		n := names.take(k.observer())
		x.numbers = append(x.numbers, n)
		return n
	}
	x.decoder.Habit = func(p wire.Protocol, domain uint32) wire.Habit { return s.resumed.habit(addr, p, domain) }
	if s.icmp != nil && k.name == "" {
		x.decoder.ICMP = func() wire.Habit { return s.icmp(addr) }
	}
	x.decoder.Begin = func(p wire.Protocol, domain uint32) (uint32, bool) { return s.resumed.take(addr, p, domain) }
	if s.all == nil {
		s.all = map[senderKey]*sender{}
	}
	s.all[k] = x
	return x
}

// observer is what is said of the sender beside what it saw.
func (k senderKey) observer() string {
	if k.name != "" {
		return k.name
	}
	return k.addr.Addr().String()
}

// forgetIdle makes room; it reports whether there is some.
func (s *senders) forgetIdle() bool {
	for k, x := range s.all {
		x.mu.Lock()
		old := time.Since(x.last) > idle
		x.mu.Unlock()
		if old {
			s.forget(k, x)
		}
	}
	return len(s.all) < mostSenders
}

func (s *senders) forget(k senderKey, x *sender) {
	delete(s.all, k)
	x.names.give(x.numbers)
}

// decode reads a packet.
func (x *sender) decode(data []byte, at instant, emit func(*flow.Observation)) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.last = time.Now()
	x.octets += int64(len(data))
	x.decoder.Arrived = func(exported flow.Micros) flow.Micros { return x.clock.arrived(at, exported) }
	if fault := x.decoder.Decode(data, at.day, emit); fault != nil {
		x.reason, x.faulty = fault.Error(), x.last
	}
}

// observers numbers those who see, and names them. Numbers of
// those who are forgotten are given again.
type observers struct {
	mu   sync.Mutex
	all  []string
	free []int32
}

func (o *observers) take(name string) int32 {
	o.mu.Lock()
	defer o.mu.Unlock()
	if n := len(o.free); n > 0 {
		k := o.free[n-1]
		o.free = o.free[:n-1]
		o.all[k] = name
		return k
	}
	o.all = append(o.all, name)
	return int32(len(o.all) - 1)
}

func (o *observers) give(numbers []int32) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.free = append(o.free, numbers...)
}

func (o *observers) name(observer int32) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	if n := int(observer >> 1); n >= 0 && n < len(o.all) {
		return o.all[n]
	}
	return ""
}

// readBuffer is what the system is asked to keep of what was not read yet.
const readBuffer = 32 << 20

func (c *Collector) listenUDP() error {
	for _, at := range c.UDP {
		addr, err := net.ResolveUDPAddr("udp", at)
		if err != nil {
			return err
		}
		conn, err := net.ListenUDP("udp", addr)
		if err != nil {
			return err
		}
		_ = conn.SetReadBuffer(readBuffer) // as much as the system grants
		// What the system holds is read before the end, as far as a moment suffices.
		c.close = append(c.close, func() error { return conn.SetReadDeadline(time.Now().Add(lastReads)) })
		c.Listening = append(c.Listening, "udp "+conn.LocalAddr().String())
		c.listen.Go(func() { c.readUDP(conn) })
	}
	return nil
}

const lastReads = 200 * time.Millisecond

func (c *Collector) readUDP(conn *net.UDPConn) {
	defer conn.Close()
	pool := &sync.Pool{New: func() any { b := make([]byte, 1<<16); return &b }}
	for {
		b := *pool.Get().(*[]byte)
		b = b[:cap(b)]
		n, from, err := conn.ReadFromUDPAddrPort(b)
		if errors.Is(err, net.ErrClosed) || errors.Is(err, os.ErrDeadlineExceeded) {
			return
		}
		if err != nil {
			continue // such as an ICMP answer to something else
		}
		k := senderKey{addr: netip.AddrPortFrom(from.Addr().Unmap(), from.Port())}
		if x := c.senders.of(k, &c.names); x != nil {
			c.worker(k.addr.Addr()).take(packet{from: x, data: b[:n], at: c.clock.both(), pool: pool})
		}
	}
}

func (c *Collector) listenTCP() error {
	for _, at := range c.TCP {
		l, err := net.Listen("tcp", at)
		if err != nil {
			return err
		}
		var mu sync.Mutex
		open := map[net.Conn]bool{}
		closed := false
		c.close = append(c.close, func() error {
			mu.Lock()
			defer mu.Unlock()
			closed = true
			for conn := range open {
				conn.Close()
			}
			return l.Close()
		})
		c.Listening = append(c.Listening, "tcp "+l.Addr().String())
		c.listen.Go(func() {
			for {
				conn, err := l.Accept()
				if errors.Is(err, net.ErrClosed) {
					return
				}
				if err != nil {
					time.Sleep(50 * time.Millisecond) // out of files: wait for some
					continue
				}
				mu.Lock()
				if closed || len(open) >= mostTCP {
					conn.Close()
				} else {
					open[conn] = true
					c.listen.Go(func() {
						c.readTCP(conn)
						conn.Close()
						mu.Lock()
						delete(open, conn)
						mu.Unlock()
					})
				}
				mu.Unlock()
			}
		})
	}
	return nil
}

// readTCP reads IPFIX messages one after the other (RFC 7011, §10.4).
func (c *Collector) readTCP(conn net.Conn) {
	from, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return
	}
	k := senderKey{addr: netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), tcp: true}
	x := c.senders.of(k, &c.names)
	if x == nil {
		return
	}
	head := make([]byte, 4)
	for {
		_ = conn.SetReadDeadline(time.Now().Add(idle))
		if _, err := io.ReadFull(conn, head); err != nil {
			return
		}
		n := int(binary.BigEndian.Uint16(head[2:]))
		if binary.BigEndian.Uint16(head) != 10 || n < 16 {
			x.decode(head, c.clock.both(), nil) // counts the fault; where the next begins nobody knows
			return
		}
		b := make([]byte, n)
		copy(b, head)
		if _, err := io.ReadFull(conn, b[4:]); err != nil {
			return
		}
		c.worker(k.addr.Addr()).take(packet{from: x, data: b, at: c.clock.both()})
	}
}

// Take reads IPFIX messages, one after the other, that somebody in the same process
// was handed: name says who saw what is in them. Its messages come in their order.
func (c *Collector) Take(name string, messages []byte) error {
	c.taking.Lock()
	defer c.taking.Unlock()
	if c.stopped {
		return errors.New("the collector stops")
	}
	x := c.senders.of(senderKey{name: name}, &c.names)
	if x == nil {
		return errors.New("there is no room for more who send")
	}
	for at := 0; at < len(messages); {
		rest := messages[at:]
		if len(rest) < 16 || binary.BigEndian.Uint16(rest) != 10 ||
			int(binary.BigEndian.Uint16(rest[2:])) > len(rest) ||
			binary.BigEndian.Uint16(rest[2:]) < 16 {
			return fmt.Errorf("octet %d: found no whole IPFIX message; what came before it was taken", at)
		}
		n := int(binary.BigEndian.Uint16(rest[2:]))
		c.workers[0].take(packet{from: x, data: rest[:n], at: c.clock.both()})
		at += n
	}
	return nil
}
