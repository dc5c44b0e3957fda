package flow_test

import (
	"math"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

func TestBucketsGoOnAfterTheyWereRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		addr := func(name string) netip.Addr {
			return netip.AddrFrom4([4]byte{10, 0, 0, byte(rapid.IntRange(1, 6).Draw(t, name))})
		}
		var read, once flow.Buckets
		for range rapid.IntRange(1, 40).Draw(t, "records") {
			at := estate.InstantOf(time.Unix(int64(rapid.IntRange(0, 3).Draw(t, "hour"))*3600, 0))
			r := flow.Record{Start: at, End: at, Client: addr("client"), Server: addr("server"),
				Point: service.PointOf(6, 443), Connections: 1, Bytes: 10, Packets: 2}
			read.Add(r)
			once.Add(r)
			if rapid.Bool().Draw(t, "read in between") {
				read.All() // as one does who then cannot store them
			}
		}
		require.Equal(t, once.All(), read.All())
	})
}

func TestSumsStopAtTheLargestNumber(t *testing.T) {
	require.Equal(t, int64(7), flow.Sum(3, 4))
	require.Equal(t, int64(flow.Most), flow.Sum(math.MaxInt64-1, 5))
	require.Equal(t, int64(flow.Most), flow.Sum(math.MaxInt64, math.MaxInt64))
	var b flow.Buckets
	r := flow.Record{Client: netip.MustParseAddr("10.0.0.1"), Server: netip.MustParseAddr("10.0.0.2"),
		Connections: math.MaxInt64, Bytes: 1 << 62, Packets: 1}
	for range 3 {
		b.Add(r)
	}
	require.Equal(t, int64(flow.Most), b.All()[0].Connections)
	require.Equal(t, int64(flow.Most), b.All()[0].Bytes)
	require.Equal(t, int64(3), b.All()[0].Packets)
}
