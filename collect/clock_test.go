package collect

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/traffic"
)

// The time of day of a packet is the machine's, unless its clock was set wrong and the
// exporters show it.
func TestArrivalsWhileTheClockIsSet(t *testing.T) {
	const hour, second = flow.Micros(3600e6), flow.Micros(1e6)
	truth := flow.MicrosOf(time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC))
	for name, steps := range map[string][]struct{ day, exporter, want flow.Micros }{
		"a right clock, an exporter that is off": {{0, -3 * hour, 0}, {0, 0, 0}, {0, -3 * hour, 0}},
		"set back by a day, and right again": {{0, 0, 0}, {-24 * hour, 0, 0}, {-24 * hour, 0, 0}, {0, 0, 0},
			{2 * hour, 0, 0}},
		"a day behind since the start": {{-24 * hour, 0, -24 * hour}, {0, 0, 0}, {-24 * hour, 0, 0}},
		"slow corrections add up": {{0, 0, 0}, {20 * second, 0, 20 * second}, {40 * second, 20 * second, 40 * second},
			{-9 * hour, 40 * second, 40 * second}},
	} {
		c := &clock{}
		for k, s := range steps {
			steady := truth + flow.Micros(k)*second
			if name == "a day behind since the start" {
				steady -= 24 * hour
			}
			got := c.arrived(instant{truth + flow.Micros(k)*second + s.day, steady},
				truth+flow.Micros(k)*second+s.exporter)
			require.Equal(t, s.want, got-truth-flow.Micros(k)*second, "%s, step %d", name, k)
		}
	}
}

func TestExportersThatAgreeAgainstThisMachine(t *testing.T) {
	now := time.Now()
	of := func(ago time.Duration, skews ...float64) traffic.ExporterStatus {
		e := traffic.ExporterStatus{Last: now.Add(-ago)}
		for _, s := range skews {
			e.Streams = append(e.Streams, traffic.StreamStatus{Protocol: "IPFIX", Skew: s})
		}
		return e
	}
	relay := traffic.ExporterStatus{Last: now, Streams: []traffic.StreamStatus{{Protocol: "sFlow v5"}}}
	for _, c := range []struct {
		all       []traffic.ExporterStatus
		off       time.Duration
		exporters int
	}{
		{[]traffic.ExporterStatus{of(0, -86400), of(time.Minute, -86410, -86395)}, -86400 * time.Second, 2},
		{[]traffic.ExporterStatus{of(0, 7200), relay, of(time.Hour, 0)}, 7200 * time.Second, 1},
		{[]traffic.ExporterStatus{of(0, -86400), of(0, 1)}, 0, 0},
		{[]traffic.ExporterStatus{of(0, -86400), of(0, 86400)}, 0, 0},
		{[]traffic.ExporterStatus{of(0, 0.2)}, 0, 0},
		{nil, 0, 0},
	} {
		off, n := OffAgainst(c.all, now)
		require.InDelta(t, c.off.Seconds(), off.Seconds(), 60, "%v", c.all)
		require.Equal(t, c.exporters, n, "%v", c.all)
	}
}
