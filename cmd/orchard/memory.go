package main

import (
	"context"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

const (
	usualGarbage = 100       // percent of what is in use, as Go has it
	leastGarbage = 35        // percent: below that, collecting it takes more time than it is worth
	mostGarbage  = 400 << 20 // octets that it may take beside much that is in use
)

// keepTidy has the program take less memory than twice what is in use, where that is much:
// garbage is collected the sooner the more there is beside it. Where GOGC is set in the
// environment, that holds.
func keepTidy(ctx context.Context) {
	if os.Getenv("GOGC") != "" {
		return
	}
	now := usualGarbage
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(500 * time.Millisecond):
		}
		metrics.Read(live)
		want := usualGarbage
		if in := live[0].Value.Uint64(); in > 0 {
			want = int(min(usualGarbage, max(leastGarbage, 100*mostGarbage/in)))
		}
		if want < now-5 || want > now+5 {
			now = want
			debug.SetGCPercent(now)
		}
	}
}
