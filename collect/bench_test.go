package collect_test

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/collect"
	"lucidorchard/core/flow"
	"lucidorchard/database/databasetest"
	"lucidorchard/ingest/wire"
)

// BenchmarkSustained sends records over UDP at a steady rate and gives what came
// to the database of them, what was missed, and how far behind it was at the
// end. ORCHARD_SECONDS says for how long (60), ORCHARD_RATE how many a second
// (50,000).
func BenchmarkSustained(b *testing.B) {
	seconds, rate := 60, 50_000
	for name, to := range map[string]*int{"ORCHARD_SECONDS": &seconds, "ORCHARD_RATE": &rate} {
		if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
			*to = n
		}
	}
	for range b.N {
		db, err := assembly.Open(b.Context(), databasetest.Database(b))
		require.NoError(b, err)
		c, err := collect.Start(b.Context(), collect.Options{Store: db, Name: "bench", UDP: []string{"127.0.0.1:0"},
			Spool: b.TempDir()})
		require.NoError(b, err)
		addr, _ := c.Address("udp")
		conn, err := net.Dial("udp", addr)
		require.NoError(b, err)
		e := wire.Exporter{Domain: 1}
		now := flow.MicrosOf(time.Now())
		_, err = conn.Write(e.Templates(now))
		require.NoError(b, err)
		const each = wire.RecordsPerMessage
		start, sent, n := time.Now(), 0, 0
		for sent < seconds*rate {
			if ahead := time.Duration(sent)*time.Second/time.Duration(rate) - time.Since(start); ahead > 0 {
				time.Sleep(ahead)
			}
			for range rate / 100 / each {
				var all []flow.Observation
				for range each / 2 {
					all = append(all, both(n)...)
					n++
				}
				_, err = conn.Write(e.Message(flow.MicrosOf(time.Now()), all))
				require.NoError(b, err)
				sent += each
			}
		}
		took := time.Since(start)
		behind := c.Status().Behind
		ending := time.Now()
		c.Stop()
		s := c.Exporters()[0].Streams[0]
		got := stored(b, db)
		require.EqualValues(b, sent/2-int(s.Missed)/2, got.connections)
		b.ReportMetric(float64(sent)/took.Seconds(), "records/s")
		b.ReportMetric(100*float64(s.Missed)/float64(sent), "%missed")
		b.ReportMetric(behind, "s-behind")
		b.ReportMetric(time.Since(ending).Seconds(), "s-to-end")
		db.Close()
		fmt.Printf("%d records sent, %d connections stored in %d conversations\n", sent, got.connections,
			got.conversations)
	}
}
