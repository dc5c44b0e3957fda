package collect

import (
	"sync/atomic"
	"time"

	"lucidorchard/core/flow"
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
	last  atomic.Pointer[Jump]
}

// Jump is a change of the time of day that is no passing of time.
type Jump struct {
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

// look notes a jump; it gives it once.
func (c *clock) look() *Jump {
	ahead := c.day() - c.now()
	by := ahead - flow.Micros(c.ahead.Load())
	if by < jumpLeast && by > -jumpLeast {
		return nil
	}
	c.ahead.Store(int64(ahead))
	c.jumps.Add(1)
	j := &Jump{c.wall(), float64(by) / 1e6}
	c.last.Store(j)
	return j
}
