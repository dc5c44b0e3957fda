package service_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/service"
)

// small draws a set of points from 0 to 63, as a Set and as a plain list.
func small(t *rapid.T) (service.Set, [64]bool) {
	var plain [64]bool
	var rs []service.Range
	for range rapid.IntRange(0, 6).Draw(t, "ranges") {
		lo := rapid.IntRange(0, 63).Draw(t, "lo")
		hi := rapid.IntRange(lo, min(63, lo+12)).Draw(t, "hi")
		rs = append(rs, service.Range{Lo: service.Point(lo), Hi: service.Point(hi)})
		for i := lo; i <= hi; i++ {
			plain[i] = true
		}
	}
	return service.NewSet(rs...), plain
}

func TestSetsAgreeWithLists(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, inA := small(t)
		b, inB := small(t)
		union, both, minus := a.Union(b), a.Intersect(b), a.Minus(b)
		for i := range 64 {
			p := service.Point(i)
			require.Equal(t, inA[i], a.Contains(p))
			require.Equal(t, inA[i] || inB[i], union.Contains(p))
			require.Equal(t, inA[i] && inB[i], both.Contains(p))
			require.Equal(t, inA[i] && !inB[i], minus.Contains(p))
		}
		for _, s := range []service.Set{a, union, both, minus} {
			for i, r := range s {
				require.LessOrEqual(t, r.Lo, r.Hi)
				require.True(t, i == 0 || s[i-1].Hi+1 < r.Lo, "sorted, disjoint and not adjacent: %v", s)
			}
		}
		require.True(t, both.Equal(b.Intersect(a)))
		require.True(t, minus.Union(both).Equal(a))
	})
}

func TestParseSpec(t *testing.T) {
	point := func(proto uint8, lo, hi uint32) service.Range {
		return service.Range{Lo: service.PointOf(proto, lo), Hi: service.PointOf(proto, hi)}
	}
	for word, want := range map[string]service.Range{
		"tcp":           point(service.TCP, 0, 65535),
		"tcp/443":       point(service.TCP, 443, 443),
		"tcp/00443":     point(service.TCP, 443, 443),
		"udp/1000-1999": point(service.UDP, 1000, 1999),
		"sctp/0-65535":  point(service.SCTP, 0, 65535),
		"icmp":          point(service.ICMP, 0, service.UnknownType),
		"icmp/8":        point(service.ICMP, 8<<8, 8<<8|255),
		"icmp/8.0":      point(service.ICMP, 8<<8, 8<<8),
		"icmp6/128.001": point(service.ICMP6, 128<<8|1, 128<<8|1),
		"proto/47":      point(47, 0, 0),
		"proto/006":     point(service.TCP, 0, 65535),
		"proto/1":       point(service.ICMP, 0, service.UnknownType),
	} {
		got, ok, err := service.ParseSpec(word)
		require.True(t, ok, word)
		require.NoError(t, err, word)
		require.Equal(t, want, got, word)
		again, _, err := service.ParseSpec(got.String())
		require.NoError(t, err, got.String())
		require.Equal(t, got, again)
	}
	for _, word := range []string{"tcp/", "tcp/65536", "tcp/a", "tcp/1-", "tcp/-1", "tcp/2-1", "tcp/1-2-3", "tcp/1.2",
		"icmp/256", "icmp/8.", "icmp/8.256", "icmp/8-9", "proto/", "proto/256", "proto/6/80",
		"udp/99999999999999999999"} {
		_, ok, err := service.ParseSpec(word)
		require.True(t, ok, word)
		require.ErrorContains(t, err, "found "+word+", expected")
	}
	for _, word := range []string{"web", "TCP/443", "tcpx", "proto", "http/80", "icmp4/8"} {
		_, ok, err := service.ParseSpec(word)
		require.False(t, ok, word)
		require.NoError(t, err)
	}
}

func TestPoints(t *testing.T) {
	require.Equal(t, service.PointOf(47, 0), service.PointOf(47, 99), "a protocol without ports is one point")
	for p, want := range map[service.Point]string{
		service.PointOf(service.TCP, 443):                   "tcp/443",
		service.PointOf(service.ICMP, 8<<8|3):               "icmp/8.3",
		service.PointOf(service.ICMP6, service.UnknownType): "icmp6",
		service.PointOf(0, 0):                               "proto/0",
		service.PointOf(255, 0):                             "proto/255",
		service.PointOf(service.SCTP, 65535):                "sctp/65535",
	} {
		require.Equal(t, want, p.String())
	}
	require.Equal(t, uint8(service.UDP), service.PointOf(service.UDP, 53).Proto())
	require.Equal(t, uint32(53), service.PointOf(service.UDP, 53).Port())
}

func TestRealLeavesOutWhatIsNoPoint(t *testing.T) {
	real := service.All.Real()
	require.True(t, real.Contains(service.PointOf(service.ICMP, 255<<8|255)))
	require.False(t, real.Contains(service.PointOf(service.ICMP, service.UnknownType)))
	require.True(t, real.Contains(service.PointOf(47, 0)))
	require.False(t, real.Contains(service.PointOf(47, 0)+1))
	n := 0
	for _, r := range real {
		n += int(r.Hi-r.Lo) + 1
	}
	require.Equal(t, 5*65536+251, n, "five protocols with ports or types, the others one point each")
}
