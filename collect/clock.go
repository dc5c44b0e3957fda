package collect

import (
	"sync"
	"sync/atomic"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
	"lucidorchard/traffic"
)

// clock tells two times: the one of the day, which somebody may set, and one
// that only goes on, by which things wait.
type clock struct {
	wall  func() time.Time
	since func(time.Time) time.Duration // by a clock that nobody sets
	start time.Time
	base  flow.Micros  // the time of day at the start
	ahead atomic.Int64 // microseconds by which the time of day has left the other
	jumps atomic.Int64
	last  atomic.Pointer[jump]

	mu        sync.Mutex
	lead      flow.Micros // what to add to now for the time of day that exporters agreed with
	confirmed flow.Micros // now, when one last did; 0: none yet
}

// jump is a change of the time of day that is no passing of time.
type jump struct {
	At      time.Time `json:"at" doc:"The time of day after it"`
	Seconds float64   `json:"seconds" doc:"By how much; below 0: it was set back"`
}

// jumpLeast is from what on a difference is a jump: slower corrections are those
// of a clock that is kept right.
const jumpLeast = flow.Micros(2e6)

func newClock(wall func() time.Time) *clock {
	if wall == nil {
		wall = time.Now
	}
	start := time.Now()
	return &clock{wall: wall, since: time.Since, start: start, base: flow.MicrosOf(wall())}
}

// now is the time since the start, from the time of day that was then.
func (c *clock) now() flow.Micros { return c.base + flow.Micros(c.since(c.start).Microseconds()) }

// day is the time of day.
func (c *clock) day() flow.Micros { return flow.MicrosOf(c.wall()) }

// instant is one moment by both times.
type instant struct{ day, steady flow.Micros }

func (c *clock) both() instant { return instant{c.day(), c.now()} }

// confirmedFor is for how long an exporter that agrees with the steady clock outweighs
// one that agrees with the time of day.
const confirmedFor = flow.Micros(10e6)

// arrived returns the time of day of a moment, given what the clock of an exporter shows.
// Somebody may set this machine's clock; the exporters then still agree with how time has
// gone on since they agreed with it. It is safe for concurrent use.
func (c *clock) arrived(at instant, exported flow.Micros) flow.Micros {
	c.mu.Lock()
	defer c.mu.Unlock()
	steady := at.steady + c.lead
	switch {
	case wire.Agree(steady, exported):
		c.confirmed = at.steady
		if wire.Agree(at.day, exported) {
			c.lead = at.day - at.steady // slow corrections
			return at.day
		}
		return steady
	case wire.Agree(at.day, exported) && (c.confirmed == 0 || at.steady-c.confirmed > confirmedFor):
		c.lead, c.confirmed = at.day-at.steady, at.steady
	}
	return at.day
}

// look notes a jump; it gives it once.
func (c *clock) look() *jump {
	ahead := c.day() - c.now()
	by := ahead - flow.Micros(c.ahead.Load())
	if by < jumpLeast && by > -jumpLeast {
		return nil
	}
	c.ahead.Store(int64(ahead))
	c.jumps.Add(1)
	j := &jump{c.wall(), float64(by) / 1e6}
	c.last.Store(j)
	return j
}

// OffAgainst returns by how much the clock of this machine is off, if the exporters of the
// last ten minutes agree about it among themselves, and how many they are; else 0.
func OffAgainst(all []traffic.ExporterStatus, now time.Time) (off time.Duration, exporters int) {
	const same = time.Minute
	for _, e := range all {
		if now.Sub(e.Last) > 10*time.Minute {
			continue
		}
		counted := false
		for _, st := range e.Streams {
			if st.Protocol == wire.SFlow5.String() { // it sends no time
				continue
			}
			skew := time.Duration(st.Skew * float64(time.Second))
			if skew.Abs() <= same || off != 0 && (skew-off).Abs() > same {
				return 0, 0
			}
			off, counted = skew, true
		}
		if counted {
			exporters++
		}
	}
	return off, exporters
}
