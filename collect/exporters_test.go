package collect_test

import (
	"compress/gzip"
	"encoding/binary"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
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
			if strings.HasPrefix(filepath.Base(file), "ulogd") { // it does not say the type, and tells of those who ask only
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

// BenchmarkWhichWayRound gives the share of conversations of real exporters that are the
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
