package watching_test

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/collect"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
	"lucidorchard/notify"
	"lucidorchard/traffic/rows"
	"lucidorchard/watching"
)

// connection is what an exporter tells of one that is over: both directions.
func connection(client, server netip.Addr, from, port uint16) []flow.Observation {
	now := flow.MicrosOf(time.Now())
	o := flow.Observation{Src: client, Dst: server, SrcPort: from, DstPort: port, Proto: service.TCP,
		Flags: flow.SYN | flow.ACK | flow.FIN, HasFlags: true, Start: now - 3000, End: now, Packets: 3, Bytes: 300}
	back := o
	back.Src, back.Dst, back.SrcPort, back.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
	back.Start += 500
	return []flow.Observation{o, back}
}

// seenToday stores conversations that were seen since the day began.
func seenToday(b *testing.B, db *assembly.Store, n int) {
	day := time.Now().UTC().Truncate(24 * time.Hour)
	since := time.Since(day)
	const part = 100_000
	for from := 0; from < n; from += part {
		var all flow.Buckets
		for i := from; i < min(n, from+part); i++ {
			at := estate.InstantOf(day.Add(time.Duration(int64(since) / int64(n) * int64(i))))
			all.Add(flow.Record{Start: at, End: at, Client: netip.AddrFrom4([4]byte{198, 51, byte(i / 7919 % 256),
				byte(i / 30 % 251)}),
				Server: LandAddr(i % 30), Point: service.PointOf(service.TCP, 443), Connections: 1, Bytes: 100,
				Packets: 2,
				Outcome: flow.Carried, Observer: "leaf"})
		}
		_, err := db.AddBatch(b.Context(), rows.Batch{ID: rand.Text(), Buckets: all.All()})
		require.NoError(b, err)
	}
}

// syslog is a receiver of syslog over TCP (RFC 6587, octet counting), and when it got what is said of
// which pair.
type syslog struct {
	net.Listener
	mu   sync.Mutex
	when map[string]time.Time
}

func newSyslog(b *testing.B) *syslog {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { l.Close() })
	s := &syslog{Listener: l, when: map[string]time.Time{}}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go s.read(bufio.NewReader(conn))
		}
	}()
	return s
}

var whoAndWhat = regexp.MustCompile(`who="([^"]*)" what="([^"]*)"`)

func (s *syslog) read(r *bufio.Reader) {
	for {
		length, err := r.ReadString(' ')
		if err != nil {
			return
		}
		n, _ := strconv.Atoi(strings.TrimSpace(length))
		message := make([]byte, n)
		if _, err := io.ReadFull(r, message); err != nil {
			return
		}
		if m := whoAndWhat.FindSubmatch(message); m != nil {
			s.mu.Lock()
			s.when[string(m[1])+" "+string(m[2])] = time.Now()
			s.mu.Unlock()
		}
	}
}

// screen is a page that lists matters, and reads them again whenever it is told that they have
// changed.
type screen struct {
	mu   sync.Mutex
	when map[string]time.Time // by whom and what
}

func (s *screen) run(ctx context.Context, a *assembly.App) {
	for before := int64(-1); ; {
		now, changed := a.Events.Next()
		if now.Watch != before {
			before = now.Watch
			_, err := a.Models.Current(ctx)
			list, listErr := a.Store.Matters(ctx, time.Now().Add(-24*time.Hour))
			_, daysErr := a.Store.MatterDays(ctx, time.Now().Add(-24*time.Hour))
			if errors.Join(err, listErr, daysErr) == nil {
				s.see(list)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

func (s *screen) see(list []watching.Matter) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range list {
		var about watching.About
		if json.Unmarshal(m.About, &about) != nil || about.Who == nil || about.What == nil {
			continue
		}
		if key := about.Who.Text + " " + about.What.Text; s.when[key].IsZero() {
			s.when[key] = time.Now()
		}
	}
}

// BenchmarkFromAPacketToAMessage measures how long it takes from the moment in which an exporter
// reports a leak to its matter on a page that is open, and to its message at a syslog receiver, while all exporters
// together report records
// at a steady rate: of 60 machines and callers from outside, of whom each reaches 30 machines.
// ORCHARD_RATE is how many records a second (50,000), ORCHARD_SECONDS for how long (40),
// ORCHARD_CALLERS how many callers (251; best no multiple of 2, 3 or 5), ORCHARD_BEFORE how many
// conversations were seen before on the day (0).
func BenchmarkFromAPacketToAMessage(b *testing.B) {
	seconds, rate, callers, before := 40, 50_000, 251, 0
	for name, to := range map[string]*int{"ORCHARD_SECONDS": &seconds, "ORCHARD_RATE": &rate,
		"ORCHARD_CALLERS": &callers,
		"ORCHARD_BEFORE":  &before} {
		if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
			*to = n
		}
	}
	for range b.N {
		db := assemblytest.Open(b)
		land(b, db)
		seenToday(b, db, before)
		ctx, stop := context.WithCancel(context.Background())
		c, err := collect.Start(ctx, collect.Options{Store: db, Name: "bench", UDP: []string{"127.0.0.1:0"},
			Spool: b.TempDir()})
		require.NoError(b, err)
		a := assembly.New(ctx, assembly.Options{Store: db, Author: "me", Name: "one", Log: assemblytest.NoLog,
			Collector: c, Reach: assemblytest.Nearby})
		receiver := newSyslog(b)
		require.NoError(b, a.Watching.PutDestination(b.Context(), "duty",
			notify.Settings{Kind: "syslog", Transport: "tcp",
				Address: receiver.Addr().String()}))
		m, err := a.Models.Current(b.Context())
		require.NoError(b, err)
		_, err = a.Watching.PutNotice(b.Context(), m, watching.Notice{Kinds: []string{"leak"}, Pace: "at once",
			To: []string{"duty"}})
		require.NoError(b, err)
		page := &screen{when: map[string]time.Time{}}
		go page.run(ctx, a)
		address, _ := c.Address("udp")
		conn, err := net.Dial("udp", address)
		require.NoError(b, err)
		e := wire.Exporter{Domain: 1}
		_, err = conn.Write(e.Templates(flow.MicrosOf(time.Now())))
		require.NoError(b, err)

		for looked := before == 0; !looked; { // what was there before
			stamps, err := db.WatchStamps(b.Context())
			require.NoError(b, err)
			looked = len(stamps) > 0
			time.Sleep(100 * time.Millisecond)
		}
		const each = wire.RecordsPerMessage
		var told []time.Time // when each leak was
		var what []string
		begun, sent, n := time.Now(), 0, 0
		for sent < seconds*rate {
			if ahead := time.Duration(sent)*time.Second/time.Duration(rate) - time.Since(begun); ahead > 0 {
				time.Sleep(ahead)
			}
			var all []flow.Observation
			if time.Since(begun) > time.Duration(len(told)+1)*700*time.Millisecond && len(told) < 30*29 {
				// From another application's entry to another's store: a matter of its own.
				k := len(told)
				to := (k + 1 + k/30) % 30
				all = connection(LandAddr(k%30), LandAddr(30+to), uint16(40000+k), 22)
				told, what = append(told, time.Now()), append(what, fmt.Sprintf("app%d-entry app%d-store", k%30, to))
			}
			for len(all) < each-1 {
				outside := netip.AddrFrom4([4]byte{203, 0, byte(112 + n%callers/256), byte(n % callers)})
				all = append(all, connection(outside, LandAddr(n%30), uint16(1024+n%60000), 443)...)
				n++
			}
			_, err = conn.Write(e.Message(flow.MicrosOf(time.Now()), all))
			require.NoError(b, err)
			sent += len(all)
		}
		took := time.Since(begun)
		behind := c.Status().Behind
		came := func(mu *sync.Mutex, when map[string]time.Time) (list []time.Duration) {
			mu.Lock()
			defer mu.Unlock()
			for i, x := range what {
				if at, ok := when[x]; ok {
					list = append(list, at.Sub(told[i]))
				}
			}
			slices.Sort(list)
			return list
		}
		missed := float64(c.Exporters()[0].Streams[0].Missed) / float64(sent)
		for wait := time.Now(); min(len(came(&receiver.mu, receiver.when)),
			len(came(&page.mu, page.when))) < len(told) && time.Since(wait) < 20*time.Second; {
			time.Sleep(50 * time.Millisecond)
		}
		list, shown := came(&receiver.mu, receiver.when), came(&page.mu, page.when)
		at := func(list []time.Duration, share float64) float64 {
			return list[min(len(list)-1, int(share*float64(len(list))))].Seconds()
		}
		b.ReportMetric(float64(sent)/took.Seconds(), "records/s")
		b.ReportMetric(behind, "s-behind")
		b.ReportMetric(100*missed, "%missed")
		b.ReportMetric(100*float64(len(list))/float64(len(told)), "%told")
		b.ReportMetric(100*float64(len(shown))/float64(len(told)), "%shown")
		b.ReportMetric(at(list, 0.5), "s-to-message-p50")
		b.ReportMetric(at(list, 0.95), "s-to-message-p95")
		b.ReportMetric(at(shown, 0.5), "s-to-screen-p50")
		b.ReportMetric(at(shown, 0.95), "s-to-screen-p95")
		c.Stop()
		stop()
		a.Wait()
	}
}
