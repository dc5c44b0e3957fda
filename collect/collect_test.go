package collect_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/collect"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database/databasetest"
	"lucidorchard/ingest/wire"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

func TestMain(m *testing.M) {
	if os.Getenv("ORCHARD_COLLECTOR") != "" {
		partCollects()
		return
	}
	databasetest.Main(m)
}

// partCollects runs a collector until it is killed: it says where it listens.
func partCollects() {
	fatal := func(err error) {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	db, err := assembly.Open(ctx, os.Getenv("ORCHARD_COLLECTOR"))
	fatal(err)
	c, err := collect.Start(ctx, collect.Options{Store: db, Name: "test", TCP: []string{"127.0.0.1:0"},
		Spool: os.Getenv("ORCHARD_SPOOL"), Every: 50 * time.Millisecond, Hold: 100 * time.Millisecond})
	fatal(err)
	addr, _ := c.Address("tcp")
	fmt.Println(addr)
	select {}
}

type sums struct{ conversations, connections, packets int64 }

func stored(t testing.TB, db *assembly.Store) (out sums) {
	hours, err := db.Hours(t.Context())
	require.NoError(t, err)
	var all []flow.Hour
	for h := range hours {
		all = append(all, h)
	}
	table := flow.NewTable()
	chunks, _, err := db.Chunks(t.Context(), all, table.Dict)
	require.NoError(t, err)
	table = table.With(chunks, nil)
	seen := map[string]bool{}
	for i := range table.Len() {
		b := table.Bucket(i)
		seen[fmt.Sprint(b.Client, b.Server, b.Point)] = true
		out.connections += b.Connections
		out.packets += b.Packets
	}
	out.conversations = int64(len(seen))
	return out
}

// both returns the two directions of connection n.
func both(n int) []flow.Observation {
	now := flow.MicrosOf(time.Now())
	o := flow.Observation{Src: netip.AddrFrom4([4]byte{10, 1, byte(n >> 8), byte(n)}),
		Dst: netip.AddrFrom4([4]byte{10, 2, 0, byte(n % 5)}), SrcPort: uint16(32768 + n%28000), DstPort: 443,
		Proto: service.TCP, Flags: 27, HasFlags: true, Start: now - 3000, End: now, Packets: 3, Bytes: 300}
	back := o
	back.Src, back.Dst, back.SrcPort, back.DstPort = o.Dst, o.Src, o.DstPort, o.SrcPort
	back.Start += 500
	return []flow.Observation{o, back}
}

// exporter sends connections, each once.
type exporter struct {
	net.Conn
	wire.Exporter
	sent int
}

func dial(t testing.TB, network, addr string, domain uint32) *exporter {
	conn, err := net.Dial(network, addr)
	require.NoError(t, err)
	e := &exporter{Conn: conn, Exporter: wire.Exporter{Domain: domain}}
	e.write(t, e.Templates(flow.MicrosOf(time.Now())))
	return e
}

func (e *exporter) write(t testing.TB, b []byte) {
	_, err := e.Write(b)
	require.NoError(t, err)
}

func (e *exporter) send(t testing.TB, from, to int) {
	for n := from; n < to; n += 8 {
		var all []flow.Observation
		for k := n; k < min(n+8, to); k++ {
			all = append(all, both(k)...)
		}
		e.write(t, e.Message(flow.MicrosOf(time.Now()), all))
	}
	e.sent += to - from
}

func started(t *testing.T, o collect.Options) (*collect.Collector, *assembly.Store) {
	if o.Store == nil {
		db, err := assembly.Open(t.Context(), databasetest.Database(t))
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		o.Store = db
	}
	if o.Spool == "" {
		o.Spool = t.TempDir()
	}
	o.Name, o.Every, o.Hold = "test", 100*time.Millisecond, 300*time.Millisecond
	c, err := collect.Start(t.Context(), o)
	require.NoError(t, err)
	return c, o.Store.(*assembly.Store)
}

// What two exporters saw of the same connections is counted once, over UDP and
// TCP; the exporters' page knows both.
func TestWhatIsSentIsCountedOnce(t *testing.T) {
	c, db := started(t, collect.Options{UDP: []string{"127.0.0.1:0"}, TCP: []string{"127.0.0.1:0"}})
	udp, _ := c.Address("udp")
	tcp, _ := c.Address("tcp")
	one, two := dial(t, "udp", udp, 1), dial(t, "tcp", tcp, 2)
	for k := 0; k < 400; k += 80 {
		one.send(t, k, k+80)
		two.send(t, k, k+80)
	}
	two.Close()
	require.Eventually(t, func() bool {
		var n int64
		for _, e := range c.Exporters() {
			for _, s := range e.Streams {
				n += s.Records
			}
		}
		return n == 4*400
	}, 10*time.Second, 20*time.Millisecond)
	c.Stop()
	require.Equal(t, sums{400, 400, 2400}, stored(t, db))
	s := c.Status()
	require.EqualValues(t, []any{0, int64(0), int64(400)}, []any{s.Spooled, s.Lost, s.Records})
	told, err := db.Exporters(t.Context())
	require.NoError(t, err)
	require.Len(t, told, 1)
	var e traffic.ExporterStatus
	require.NoError(t, json.Unmarshal(told[0].State, &e))
	require.Len(t, e.Streams, 2)
	for _, s := range e.Streams {
		require.EqualValues(t, []any{int64(800), int64(0), 2}, []any{s.Records, s.Missed, s.Templates})
	}
}

// Whoever is not on the list is not heard, and whatever is no record is counted
// with its reason; the rest goes on.
func TestStrangersAndNonsense(t *testing.T) {
	c, db := started(t, collect.Options{UDP: []string{"127.0.0.1:0"},
		Allow: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}})
	udp, _ := c.Address("udp")
	dial(t, "udp", udp, 1).send(t, 0, 8)
	require.Eventually(t, func() bool { return c.Status().Refused["127.0.0.1"] == 2 }, 10*time.Second,
		20*time.Millisecond)
	c.Stop()
	require.Zero(t, stored(t, db))

	c, db = started(t, collect.Options{UDP: []string{"127.0.0.1:0"}, TCP: []string{"127.0.0.1:0"}})
	udp, _ = c.Address("udp")
	tcp, _ := c.Address("tcp")
	e := dial(t, "udp", udp, 1)
	e.write(t, []byte("who goes there?"))
	e.write(t, []byte{0, 10, 0, 99})
	nonsense, err := net.Dial("tcp", tcp)
	require.NoError(t, err)
	_, err = nonsense.Write([]byte("GET / HTTP/1.1\r\n\r\n"))
	require.NoError(t, err)
	require.NoError(t, nonsense.SetReadDeadline(time.Now().Add(10*time.Second)))
	_, err = nonsense.Read(make([]byte, 1))
	require.Error(t, err, "it is hung up")
	e.send(t, 0, 8)
	c.Drain()
	require.Eventually(t, func() bool {
		var unread int64
		for _, x := range c.Exporters() {
			for _, u := range x.Unread {
				unread += u.Packets
			}
		}
		return unread == 3
	}, 10*time.Second, 20*time.Millisecond)
	require.NotEmpty(t, c.Exporters()[0].Fault)
	require.Eventually(t, func() bool { return c.Status().Records == 8 }, 10*time.Second, 20*time.Millisecond)
	c.Stop()
	require.Equal(t, sums{8, 8, 48}, stored(t, db))
}

// While the database is away, batches wait in the spool; when it is back, they
// are counted, each once.
func TestTheDatabaseGoesAwayAndComesBack(t *testing.T) {
	url := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	c, _ := started(t, collect.Options{Store: db, UDP: []string{"127.0.0.1:0"}})
	udp, _ := c.Address("udp")
	e := dial(t, "udp", udp, 1)
	away := databasetest.Away(t, url)
	for k := range 10 {
		e.send(t, 40*k, 40*k+40)
		c.Drain()
	}
	require.Eventually(t, func() bool { s := c.Status(); return s.Trouble != "" && s.Spooled > 0 }, 20*time.Second,
		20*time.Millisecond)
	away()
	require.Eventually(t, func() bool { s := c.Status(); return s.Spooled == 0 && s.Records == 400 }, 30*time.Second,
		50*time.Millisecond)
	c.Stop()
	require.Equal(t, sums{400, 400, 2400}, stored(t, db))
}

// A collector that is killed and started again counts nothing twice, and what
// was in the spool is stored; what an exporter sent meanwhile is missed, and
// said so.
func TestKilledUnderLoad(t *testing.T) {
	url, spool := databasetest.Database(t), t.TempDir()
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	me, err := os.Executable()
	require.NoError(t, err)
	start := func() (*exec.Cmd, string) {
		cmd := exec.Command(me)
		cmd.Env = append(os.Environ(), "ORCHARD_COLLECTOR="+url, "ORCHARD_SPOOL="+spool)
		cmd.Stderr = os.Stderr
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		var addr string
		_, err = fmt.Fscanln(out, &addr)
		require.NoError(t, err)
		return cmd, addr
	}
	cmd, addr := start()
	e := dial(t, "tcp", addr, 1)
	e.send(t, 0, 2000)
	require.Eventually(t, func() bool { return stored(t, db).connections > 200 }, 20*time.Second, 5*time.Millisecond)
	e.send(t, 2000, 4000)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	left, err := filepath.Glob(filepath.Join(spool, "*.batch"))
	require.NoError(t, err)
	t.Logf("%d batches were in the spool, %d connections in the database", len(left), stored(t, db).connections)

	// What was counted and what was queued must be there in the end.
	before := counted(t, db)
	cmd, addr = start()
	again := dial(t, "tcp", addr, 1)
	again.Exporter = e.Exporter // the exporter went on meanwhile
	again.send(t, 4000, 4400)
	var got map[string]int64
	require.Eventually(t, func() bool {
		left, _ := filepath.Glob(filepath.Join(spool, "*.batch"))
		got = counted(t, db)
		for n := 4000; n < 4400; n++ {
			if got[client(n)] == 0 {
				return false
			}
		}
		return len(left) == 0
	}, 30*time.Second, 50*time.Millisecond)
	// What was lost is told: what was in memory, and what had not been read.
	lost := 4400 - len(got)
	require.Eventually(t, func() bool {
		all, err := db.Collectors(t.Context())
		require.NoError(t, err)
		var s collect.Status
		require.NoError(t, json.Unmarshal(all[0].State, &s))
		told := s.Unfinished
		senders, err := db.Exporters(t.Context())
		require.NoError(t, err)
		for _, x := range senders {
			var e traffic.ExporterStatus
			require.NoError(t, json.Unmarshal(x.State, &e))
			for _, st := range e.Streams {
				told += st.Missed
			}
		}
		t.Logf("%d connections are lost, %d records are said to be", lost, told)
		return told >= int64(lost)
	}, 20*time.Second, 200*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	for c, n := range got {
		require.EqualValues(t, 1, n, c)
	}
	for c := range before {
		require.Contains(t, got, c)
	}
	require.GreaterOrEqual(t, len(got), len(before)+400)
}

func client(n int) string { return both(n)[0].Src.String() }

// counted returns the connections of each client.
func counted(t *testing.T, db *assembly.Store) map[string]int64 {
	hours, err := db.Hours(t.Context())
	require.NoError(t, err)
	out := map[string]int64{}
	for h := range hours {
		table := flow.NewTable()
		chunks, _, err := db.Chunks(t.Context(), []flow.Hour{h}, table.Dict)
		require.NoError(t, err)
		table = table.With(chunks, nil)
		for i := range table.Len() {
			b := table.Bucket(i)
			out[b.Client.String()] += b.Connections
		}
	}
	return out
}

// A change of hands within an hour cuts the hour, so that each part stays with
// whoever held the address then.
func TestConversationsAreCutWhereAddressesChangeHands(t *testing.T) {
	db, err := assembly.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	at := func(minute int64) estate.Instant {
		return estate.Instant{Sec: 1_795_000_200 - 1_795_000_200%3600 + 60*minute}
	}
	addr := netip.MustParseAddr("10.1.0.7")
	record := func(minute int64) flow.Record {
		return flow.Record{Start: at(minute), End: at(minute), Client: addr, Server: netip.MustParseAddr("10.2.0.1"),
			Point: service.PointOf(service.TCP, 443), Connections: 1, Packets: 2, Bytes: 3}
	}
	records := flow.Stating([]flow.Record{record(5), record(10), record(40), record(50)})
	_, err = db.AddBatch(t.Context(), rows.BatchOf("early", records, nil))
	require.NoError(t, err)
	require.Equal(t, sums{1, 4, 8}, stored(t, db))
	// The lease is learnt later.
	changes := func(a netip.Addr, t estate.Instant) (estate.Instant, bool) {
		return at(30), a == addr && !t.Before(at(30))
	}
	r, err := db.Rebuild(t.Context(), flow.HourOf(at(0)), []netip.Addr{addr}, nil, changes,
		[]traffic.Cut{{Addr: addr, At: at(30)}})
	require.NoError(t, err)
	require.False(t, r.Partial)
	table := flow.NewTable()
	chunks, _, err := db.Chunks(t.Context(), []flow.Hour{flow.HourOf(at(0))}, table.Dict)
	require.NoError(t, err)
	table = table.With(chunks, nil)
	require.Equal(t, 2, table.Len())
	require.Equal(t, []estate.Instant{at(5), at(40)}, []estate.Instant{table.Bucket(0).First, table.Bucket(1).First})
	require.Equal(t, sums{1, 4, 8}, stored(t, db), "nothing is lost or doubled")
	cuts, err := db.Cuts(t.Context())
	require.NoError(t, err)
	require.True(t, cuts[traffic.Cut{Addr: addr, At: at(30)}])
}

// What a point in the same process was handed is taken like what comes over a socket: it
// is named by who saw it, joined with what exporters saw of it, and it is not one of them.
// What is no message is said, and what came before it is taken.
func TestMessagesThatAreHandedOver(t *testing.T) {
	c, db := started(t, collect.Options{UDP: []string{"127.0.0.1:0"}, Every: 50 * time.Millisecond,
		Hold:  50 * time.Millisecond,
		Allow: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}})
	var e wire.Exporter
	now := flow.MicrosOf(time.Now())
	one := both(1)[:1]
	one[0].Outcome, one[0].Flags = flow.Dropped, flow.SYN
	message := append(e.Templates(now), e.Message(now, one)...)
	require.NoError(t, c.Take("point trial", message))
	require.ErrorContains(t, c.Take("point trial", append(e.Message(now, both(2)), 0, 10, 0, 3)), "octet")
	require.Error(t, c.Take("point trial", []byte("no message at all, but long enough")))
	require.Empty(t, c.Exporters(), "points are not exporters")
	c.Stop()
	require.ErrorContains(t, c.Take("point trial", message), "stops")
	table := flow.NewTable()
	chunks, _, err := db.Chunks(t.Context(), []flow.Hour{flow.HourOf(now.Instant())}, table.Dict)
	require.NoError(t, err)
	table = table.With(chunks, nil)
	require.Equal(t, 2, table.Len())
	outcomes := map[flow.Outcome]int{}
	for i := range table.Len() {
		b := table.Bucket(i)
		outcomes[b.Outcome]++
		require.Equal(t, "point trial", b.Observer)
	}
	require.Equal(t, map[flow.Outcome]int{flow.Dropped: 1, flow.Carried: 1}, outcomes)
}
