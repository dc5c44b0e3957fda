package collect

import (
	"cmp"
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"time"

	"lucidorchard/ingest/wire"
	"lucidorchard/traffic"
)

// Status is what a collector tells of itself.
type Status struct {
	Listening   []string         `json:"listening"`
	Started     time.Time        `json:"started"`
	At          time.Time        `json:"at"`
	Rate        float64          `json:"rate" doc:"Records a second, over the last seconds"`
	Sessions    int              `json:"sessions" doc:"In memory"`
	Waiting     int64            `json:"waiting" doc:"Records that are in memory only"`
	Spooled     int              `json:"spooled" doc:"Batches that the database has not taken yet"`
	SpoolBytes  int64            `json:"spoolBytes"`
	Behind      float64          `json:"behind" doc:"Age of the oldest of them, in seconds"`
	Batches     int64            `json:"batches" doc:"That were stored since the start"`
	Records     int64            `json:"records" doc:"Of conversations, that were stored since the start"`
	Lost        int64            `json:"lost" doc:"Records for which there was no room"`
	Dropped     int64            `json:"dropped" doc:"Batches that were lost for want of room, or set aside because they cannot be read"`
	Repeated    int64            `json:"repeated" doc:"Records that an exporter sent twice"`
	Early       int64            `json:"early" doc:"Sessions that were sent off before their time, for want of room"`
	Unfinished  int64            `json:"unfinished" doc:"Records that were in memory only when the collector was last killed, at most"`
	Refused     map[string]int64 `json:"refused,omitempty" doc:"Packets of addresses that may not send"`
	TooMany     int64            `json:"tooMany" doc:"Packets of senders for whom there was no room"`
	Trouble     string           `json:"trouble,omitempty" doc:"Why the database does not take batches"`
	TroubleAt   *time.Time       `json:"troubleAt,omitempty" doc:"Since when"`
	StoreMillis int64            `json:"storeMillis" doc:"What the last batch took to store"`
	SetAside    int64            `json:"setAside" doc:"Batches whose content the database refused"`
	Jumps       int64            `json:"jumps" doc:"How often the clock of its machine was set since the start"`
	Jump        *jump            `json:"jump,omitempty" doc:"The last time"`
}

// saved is what survives the program.
type saved struct {
	Clean   bool                         `json:"clean"` // it ended in order
	Streams map[netip.Addr][]savedStream `json:"streams"`
	Habits  []savedHabit                 `json:"habits,omitempty"`
}

type savedHabit struct {
	Addr     netip.Addr    `json:"addr"`
	Protocol wire.Protocol `json:"protocol"`
	Domain   uint32        `json:"domain"`
	ICMP     wire.Habit    `json:"icmp"`
}

type savedStream struct {
	Protocol wire.Protocol `json:"protocol"`
	Domain   uint32        `json:"domain"`
	Expected uint32        `json:"expected"`
}

// Status returns the state as it was told last, within seconds.
func (c *Collector) Status() Status { return *c.told.Load() }

// tell gathers the state; rates are since it was last told.
func (c *Collector) tell() {
	t := Status{Listening: c.Listening, Started: c.started, At: time.Now(), Sessions: c.joiner.Sessions(),
		Waiting: c.gauge.sum(), Jumps: c.clock.jumps.Load(), Jump: c.clock.last.Load(), Repeated: c.joiner.Repeated,
		Early: c.joiner.Early, Unfinished: c.spool.unfinished}
	var copies int64
	t.Rate, copies = c.senders.measure(c.told.Load(), t.At)
	t.Repeated += copies
	c.senders.mu.Lock()
	t.TooMany = c.senders.tooMany
	if len(c.senders.refused) > 0 {
		t.Refused = map[string]int64{}
		for a, n := range c.senders.refused {
			t.Refused[a.String()] = n
		}
	}
	c.senders.mu.Unlock()
	s := c.spool
	s.mu.Lock()
	t.Spooled, t.SpoolBytes, t.Batches, t.Records, t.Lost, t.Dropped, t.Trouble, t.StoreMillis,
		t.SetAside = len(s.files), s.bytes, s.batches, s.records, s.lostRows, s.dropped, s.lastErr,
		s.took.Milliseconds(), s.setAside
	if s.lastErr != "" {
		since := s.since
		t.TroubleAt = &since
	}
	if len(s.files) > 0 {
		t.Behind = time.Since(s.files[0].at).Seconds()
	}
	s.mu.Unlock()
	c.told.Store(&t)
}

// measure finds the rates since the last time, and returns the sum; and how many records came
// in packets that came once more.
func (s *senders) measure(last *Status, now time.Time) (sum float64, copies int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k, x := range s.all {
		x.mu.Lock()
		var n int64
		for _, st := range x.decoder.Streams() {
			n += st.Records
			copies += st.Repeated
		}
		if last != nil {
			if span := now.Sub(last.At).Seconds(); span > 0 {
				x.rate = 0.7*x.rate + 0.3*float64(n-x.records)/span
			}
		}
		x.records = n
		if x.rate < 0.01 {
			x.rate = 0
		}
		sum += x.rate
		old := time.Since(x.last) > idle && !x.last.IsZero()
		x.mu.Unlock()
		if old {
			s.forget(k, x)
		}
	}
	return sum, copies
}

// Exporters returns what is known of each address that sends.
func (c *Collector) Exporters() []traffic.ExporterStatus {
	byAddr := map[netip.Addr]*traffic.ExporterStatus{}
	faults := map[netip.Addr]map[wire.Why]int64{}
	c.senders.mu.Lock()
	defer c.senders.mu.Unlock()
	for _, x := range c.senders.all {
		if x.name != "" { // an enforcement point, which is shown as that
			continue
		}
		x.mu.Lock()
		addr := x.addr.Addr()
		e := byAddr[addr]
		if e == nil {
			e = &traffic.ExporterStatus{Addr: addr.String(), First: x.first, Streams: []traffic.StreamStatus{},
				Unread: []traffic.FaultStatus{}}
			byAddr[addr], faults[addr] = e, map[wire.Why]int64{}
		}
		e.Sessions++
		e.Octets += x.octets
		e.Rate += x.rate
		if x.first.Before(e.First) {
			e.First = x.first
		}
		if e.Last.Before(x.last) {
			e.Last = x.last
		}
		if x.reason != "" && (e.FaultAt == nil || e.FaultAt.Before(x.faulty)) {
			at := x.faulty
			e.Fault, e.FaultAt = x.reason, &at
		}
		for why, n := range x.decoder.Unread {
			faults[addr][why] += n
		}
		for _, s := range x.decoder.Streams() {
			for why, n := range s.Bad {
				faults[addr][why] += n
			}
			transport := "udp"
			if x.tcp {
				transport = "tcp"
			}
			icmp := ""
			if s.SawICMP() {
				icmp = cmp.Or(string(s.ICMP()), "unlearnt")
			}
			e.Streams = append(e.Streams, traffic.StreamStatus{
				ICMP:     icmp,
				Protocol: s.Protocol.String(), Transport: transport, Port: x.addr.Port(), Domain: s.Domain,
				Messages: s.Messages, Records: s.Records, Options: s.Options, NoFlow: s.NoFlow,
				Untemplated: s.Untemplated,
				Templates:   len(s.Templates), Missed: s.Missed, Unit: s.Protocol.Unit(), Late: s.Late,
				Restarts: s.Restarts, Mixed: s.Mixed(), Sampling: s.Sampling, Skew: float64(s.Behind) / 1e6,
			})
		}
		x.mu.Unlock()
	}
	var out []traffic.ExporterStatus
	for addr, e := range byAddr {
		for why, n := range faults[addr] {
			e.Unread = append(e.Unread, traffic.FaultStatus{Reason: string(why), Packets: n})
		}
		slices.SortFunc(e.Unread, func(a, b traffic.FaultStatus) int { return int(b.Packets - a.Packets) })
		slices.SortFunc(e.Streams, func(a, b traffic.StreamStatus) int { return int(b.Records - a.Records) })
		out = append(out, *e)
	}
	slices.SortFunc(out, func(a, b traffic.ExporterStatus) int {
		return netip.MustParseAddr(a.Addr).Compare(netip.MustParseAddr(b.Addr))
	})
	return out
}

// save keeps what the next start needs.
func (c *Collector) save(clean bool) {
	state := saved{Clean: clean, Streams: map[netip.Addr][]savedStream{}}
	c.senders.resumed.mu.Lock()
	for addr, streams := range c.senders.resumed.all {
		state.Streams[addr] = slices.Clone(streams)
	}
	c.senders.resumed.mu.Unlock()
	c.senders.mu.Lock()
	for _, x := range c.senders.all {
		if x.name != "" {
			continue
		}
		x.mu.Lock()
		for _, s := range x.decoder.Streams() {
			c.senders.resumed.learn(x.addr.Addr(), s)
			if n, ok := s.Expected(); ok {
				state.Streams[x.addr.Addr()] = append(state.Streams[x.addr.Addr()],
					savedStream{s.Protocol, s.Domain, n})
			}
		}
		x.mu.Unlock()
	}
	c.senders.mu.Unlock()
	c.senders.resumed.mu.Lock()
	for k, h := range c.senders.resumed.habits {
		state.Habits = append(state.Habits, savedHabit{k.addr, k.protocol, k.domain, h})
	}
	c.senders.resumed.mu.Unlock()
	raw, err := json.Marshal(state)
	if err == nil {
		err = c.spool.saveState(raw)
	}
	if err != nil {
		c.Log.Error("the collector's state cannot be kept", "error", err)
	}
}

// report tells the database what there is, every few seconds.
func (c *Collector) report(done <-chan struct{}) {
	for {
		select {
		case <-time.After(2 * time.Second):
			c.reportOnce()
		case <-done:
			return
		}
	}
}

func (c *Collector) reportOnce() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	states := map[netip.Addr]json.RawMessage{}
	for _, e := range c.Exporters() {
		raw, err := json.Marshal(e)
		if err == nil {
			states[netip.MustParseAddr(e.Addr)] = raw
		}
	}
	self, err := json.Marshal(c.Status())
	if err == nil {
		err = c.Store.SaveExporters(ctx, c.Name, self, states)
	}
	if err != nil {
		c.Log.Warn("the exporters' state cannot be stored", "error", err)
	}
}

// resume takes up what the last run left.
func (c *Collector) resume() error {
	raw, err := c.spool.readState()
	if err != nil {
		return err
	}
	var state saved
	if len(raw) > 0 {
		if err := json.Unmarshal(raw, &state); err != nil {
			c.Log.Warn("what the collector knew of its exporters cannot be read; it starts anew", "error", err)
		}
	}
	c.senders.resumed.all, c.senders.resumed.habits = state.Streams, map[streamOf]wire.Habit{}
	for _, h := range state.Habits {
		c.senders.resumed.habits[streamOf{h.Addr, h.Protocol, h.Domain}] = h.ICMP
	}
	c.joiner.Resume(c.spool.readOpen(), c.clock.now())
	return nil
}
