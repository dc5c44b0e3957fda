package wire_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/ingest/wire"
)

// IPFIX may count the times of a flow from the start of its exporter, in 32 bits of
// milliseconds. When that was is in the record, in an option, or has to be estimated.
func TestTimesSinceTheExporterStarted(t *testing.T) {
	const hour = flow.Micros(3600e6)
	for up, boot := range map[string]flow.Micros{"a minute": now - 60e6, "a day": now - 24*hour,
		"after the count went round": now - 70*24*hour, "after it went round three times": now - 170*24*hour} {
		since := func(at flow.Micros) string { return fmt.Sprintf("%08x ", uint32((at-boot)/1000)) }
		milli := func(at flow.Micros) string { return fmt.Sprintf("%016x ", at/1000) }
		ends, who := "0008 0004 000c 0004 0004 0001 ", "0a000001 0a000002 06 "
		start, end := now-9_250_000, now-3_500_000

		// In the record, before the times or after them.
		for fields, data := range map[string]string{
			"0016 0004 0015 0004 00a0 0008": since(start) + since(end) + milli(boot),
			"00a0 0008 0015 0004 0016 0004": milli(boot) + since(end) + since(start),
		} {
			d := wire.NewDecoder()
			all, faults := read(d, message(0, 1, set(t, 2, "0100 0006 "+ends+fields), set(t, 256, who+data)))
			require.Empty(t, faults)
			require.Equal(t, []flow.Micros{start, end}, []flow.Micros{all[0].Start, all[0].End}, up)
		}

		// In an option, which comes once.
		plainTimes := set(t, 2, "0100 0005 "+ends+"0016 0004 0015 0004")
		d := wire.NewDecoder()
		_, faults := read(d, message(0, 1, set(t, 3, "0101 0002 0001 008f 0004 00a0 0008"),
			set(t, 257, "00000001 "+milli(boot))))
		require.Empty(t, faults)
		all, _ := read(d, message(1, 1, plainTimes, set(t, 256, who+since(start)+since(end))))
		require.Equal(t, []flow.Micros{start, end}, []flow.Micros{all[0].Start, all[0].End}, up)

		// Nowhere: the flow that ended last, ended when it was sent, to a second or two.
		d = wire.NewDecoder()
		read(d, message(0, 1, plainTimes, set(t, 256, who+since(now-40e6)+since(now-300_000))))
		all, _ = read(d, message(1, 1, set(t, 256, who+since(start)+since(end))))
		require.InDelta(t, int64(start), int64(all[0].Start), 2e6, up)
		require.EqualValues(t, end-start, all[0].End-all[0].Start, up)

		if up == "a minute" {
			continue
		}
		// It starts anew: what it counts from is found again.
		again := message(2, 1, set(t, 256, who+"000003e8 000007d0"))
		all, _ = read(d, again)
		require.InDelta(t, int64(now), int64(all[0].End), 2e6, up)
		require.EqualValues(t, 1_000_000, all[0].End-all[0].Start)
	}
}
