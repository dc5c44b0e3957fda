package flow_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

func TestHours(t *testing.T) {
	for sec, want := range map[int64]flow.Hour{0: 0, 3599: 0, 3600: 1, -1: -1, -3600: -1, -3601: -2,
		1_795_000_000: 498611} {
		h := flow.HourOf(estate.Instant{Sec: sec, Nsec: 5})
		require.Equal(t, want, h, sec)
		require.False(t, estate.Instant{Sec: sec}.Before(h.Start()))
		require.True(t, estate.Instant{Sec: sec}.Before((h + 1).Start()))
	}
}

// Buckets keep every connection, byte and packet, and lie in the right hour.
func TestBucketsLoseNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b flow.Buckets
		type key struct {
			hour   flow.Hour
			client netip.Addr
			point  service.Point
			out    flow.Outcome
		}
		want := map[key][3]int64{}
		for range rapid.IntRange(0, 40).Draw(t, "records") {
			r := flow.Record{
				Start:  estate.Instant{Sec: rapid.Int64Range(-8000, 8000).Draw(t, "start")},
				Client: rapid.SampledFrom(sample.Addresses[:3]).Draw(t, "client"), Server: sample.Addresses[4],
				Point:       rapid.SampledFrom(sample.Points[:3]).Draw(t, "point"),
				Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome")),
				Connections: rapid.Int64Range(0, 9).Draw(t, "connections"),
				Bytes:       rapid.Int64Range(0, 99).Draw(t, "bytes"), Packets: 1,
			}
			r.End = r.Start
			b.Add(r)
			k := key{flow.HourOf(r.Start), r.Client, r.Point, r.Outcome}
			v := want[k]
			want[k] = [3]int64{v[0] + r.Connections, v[1] + r.Bytes, v[2] + r.Packets}
		}
		all := b.All()
		require.Len(t, all, len(want))
		for i, v := range all {
			require.Equal(t, want[key{v.Hour, v.Client, v.Point, v.Outcome}],
				[3]int64{v.Connections, v.Bytes, v.Packets})
			require.Equal(t, v.Hour, flow.HourOf(v.First))
			require.False(t, v.Last.Before(v.First))
			require.True(t, i == 0 || all[i-1].Hour <= v.Hour)
		}
	})
}

func TestWords(t *testing.T) {
	for _, o := range []flow.Outcome{flow.Unknown, flow.Carried, flow.Dropped} {
		got, ok := flow.ParseOutcome(o.String())
		require.True(t, ok)
		require.Equal(t, o, got)
	}
	_, ok := flow.ParseOutcome("Carried")
	require.False(t, ok)
	require.Equal(t, "postgres", flow.ServiceName(service.PointOf(service.TCP, 5432)))
	require.Empty(t, flow.ServiceName(service.PointOf(service.UDP, 5432)))
}
