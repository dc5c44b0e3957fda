package collect_test

import (
	"compress/gzip"
	"encoding/binary"
	"io"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/collect"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
	"lucidorchard/traffic"
)

// judged is how the conversations that a real exporter told of came out.
type judged struct {
	right, wrong, sure int // sure: wrong, and above 90 % confidence
	icmp               map[string]int
}

// exporterFiles are those of testdata that begin with a word or not.
func exporterFiles(t testing.TB, anyPorts bool) (out []string) {
	t.Helper()
	all, err := filepath.Glob("testdata/exporters/*.gz")
	require.NoError(t, err)
	for _, f := range all {
		if strings.HasPrefix(filepath.Base(f), "any-ports") == anyPorts {
			out = append(out, f)
		}
	}
	require.NotEmpty(t, out)
	return out
}

// replay reads what an exporter sent as the collector does, at the times when it came.
func replay(t testing.TB, file string) judged {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	unzipped, err := gzip.NewReader(f)
	require.NoError(t, err)
	raw, err := io.ReadAll(unzipped)
	require.NoError(t, err)
	out := judged{icmp: map[string]int{}}
	server, clients := netip.MustParseAddr("10.20.8.20"), netip.MustParsePrefix("10.20.3.0/24")
	emit := func(j *flow.Joined) {
		switch {
		case service.IsICMP(j.Point.Proto()):
			if clients.Contains(j.Client) || clients.Contains(j.Server) {
				out.icmp[j.Client.String()+" "+j.Point.String()] += int(j.Connections)
			}
		case j.Connections == 0:
		case clients.Contains(j.Client) && j.Server == server:
			out.right++
		case j.Client == server && clients.Contains(j.Server):
			out.wrong++
			if j.Confidence > flow.Sure {
				out.sure++
			}
		}
	}
	d := wire.NewDecoder()
	d.Shift = true
	joiner := flow.NewJoiner(flow.JoinOptions{}, flow.NewSides())
	var at flow.Micros
	for len(raw) >= 12 {
		n := int(binary.BigEndian.Uint32(raw))
		at = flow.Micros(binary.BigEndian.Uint64(raw[4:]))
		if fault := d.Decode(raw[12:12+n], at, func(o *flow.Observation) { joiner.Add(o, at) }); fault != nil {
			t.Fatal(fault)
		}
		joiner.Flush(at, emit)
		raw = raw[12+n:]
	}
	require.Empty(t, raw)
	joiner.Close(at, emit)
	return out
}

// Seven real exporters, which tell of times, flags and ICMP each in its way, are all read
// the right way round.
func TestWhichWayRoundWithRealExporters(t *testing.T) {
	for _, file := range exporterFiles(t, false) {
		t.Run(filepath.Base(file), func(t *testing.T) {
			j := replay(t, file)
			require.Greater(t, j.right, 300)
			require.GreaterOrEqual(t, float64(j.right)/float64(j.right+j.wrong), 0.995)
			require.Zero(t, j.sure)
			want := map[string]int{"10.20.8.20 icmp/3.3": 1}
			ping := "icmp/8.0"
			// it does not say the type, and tells of those who ask only
			if strings.HasPrefix(filepath.Base(file), "ulogd") {
				ping = "icmp"
				delete(want, "10.20.8.20 icmp/3.3")
			}
			for _, last := range []string{"10", "11", "12", "13", "14"} {
				want["10.20.3."+last+" "+ping] = 1
			}
			require.Equal(t, want, j.icmp)
		})
	}
}

// Where nobody can tell, nothing is called sure that is wrong.
func TestNoWrongSideIsSure(t *testing.T) {
	for _, file := range exporterFiles(t, true) {
		j := replay(t, file)
		require.Greater(t, j.right+j.wrong, 250, file)
		require.Positive(t, j.wrong, "the file is not of that kind")
		require.Zero(t, j.sure, file)
	}
}

// BenchmarkWhichWayRound measures the share of conversations of real exporters that are the
// right way round, and how many of the wrong ones are above 90 % confidence.
func BenchmarkWhichWayRound(b *testing.B) {
	for _, anyPorts := range []bool{false, true} {
		for _, file := range exporterFiles(b, anyPorts) {
			b.Run(strings.TrimSuffix(filepath.Base(file), ".gz"), func(b *testing.B) {
				var j judged
				for range b.N {
					j = replay(b, file)
				}
				b.ReportMetric(100*float64(j.right)/float64(j.right+j.wrong), "%right")
				b.ReportMetric(float64(j.sure), "sureAndWrong")
				b.ReportMetric(float64(j.right+j.wrong), "conversations")
			})
		}
	}
}

// icmp5 is a packet of NetFlow v5 with one ICMP message, whose ports are given.
func icmp5(number uint32, client byte, from, to uint16) []byte {
	b := make([]byte, 72)
	now := time.Now()
	binary.BigEndian.PutUint16(b, 5)
	binary.BigEndian.PutUint16(b[2:], 1)
	binary.BigEndian.PutUint32(b[4:], 60_000)
	binary.BigEndian.PutUint32(b[8:], uint32(now.Unix()))
	binary.BigEndian.PutUint32(b[12:], uint32(now.Nanosecond()))
	binary.BigEndian.PutUint32(b[16:], number)
	r := b[24:]
	copy(r, []byte{10, 0, 0, client, 10, 0, 1, 1})
	binary.BigEndian.PutUint32(r[16:], 1)
	binary.BigEndian.PutUint32(r[20:], 84)
	binary.BigEndian.PutUint32(r[24:], 59_000)
	binary.BigEndian.PutUint32(r[28:], 59_000)
	binary.BigEndian.PutUint16(r[32:], from)
	binary.BigEndian.PutUint16(r[34:], to)
	r[38] = service.ICMP
	return b
}

// Where an exporter writes types of ICMP is known again after a restart, also from another
// port; what somebody says of it counts more.
func TestHabitsAreRemembered(t *testing.T) {
	spool := t.TempDir()
	points := func(db *assembly.Store, client byte) string {
		hours, err := db.Hours(t.Context())
		require.NoError(t, err)
		table := flow.NewTable()
		chunks, _, err := db.Chunks(t.Context(), slices.Collect(maps.Keys(hours)), table.Dict)
		require.NoError(t, err)
		table = table.With(chunks, nil)
		for i := range table.Len() {
			if b := table.Bucket(i); b.Client.As4()[3] == client && b.Server.As4()[2] == 1 ||
				b.Server.As4()[3] == client &&
					b.Client.As4()[2] == 1 {
				return b.Point.String()
			}
		}
		return ""
	}
	run := func(db *assembly.Store, said wire.Habit, packets ...[]byte) (*assembly.Store, string) {
		o := collect.Options{UDP: []string{"127.0.0.1:0"}, Spool: spool}
		if db != nil {
			o.Store = db
		}
		c, db := started(t, o)
		if said != wire.Unlearnt {
			c.SetHooks(traffic.Hooks{ICMP: map[netip.Addr]wire.Habit{netip.MustParseAddr("127.0.0.1"): said}})
		}
		addr, _ := c.Address("udp")
		conn, err := net.Dial("udp", addr)
		require.NoError(t, err)
		defer conn.Close()
		for _, p := range packets {
			_, err := conn.Write(p)
			require.NoError(t, err)
		}
		require.Eventually(t, func() bool {
			e := c.Exporters()
			return len(e) == 1 && len(e[0].Streams) == 1 && e[0].Streams[0].Messages == int64(len(packets))
		}, 20*time.Second, 10*time.Millisecond)
		shown := c.Exporters()[0].Streams[0].ICMP
		c.Stop()
		return db, shown
	}
	db, shown := run(nil, wire.Unlearnt, icmp5(0, 1, 0, 0))
	require.Equal(t, "unlearnt", shown)
	require.Equal(t, "icmp", points(db, 1))
	_, shown = run(db, wire.Unlearnt, icmp5(1, 2, 8, 0))
	require.Equal(t, "source", shown)
	require.Equal(t, "icmp/8.0", points(db, 2))
	_, shown = run(db, wire.Unlearnt, icmp5(2, 3, 0, 0))
	require.Equal(t, "source", shown, "it was shown before the restart")
	require.Equal(t, "icmp/8.0", points(db, 3), "an answer")
	run(db, wire.Nowhere, icmp5(3, 4, 8, 0))
	require.Equal(t, "icmp", points(db, 4), "somebody said that its ports say nothing")
}
