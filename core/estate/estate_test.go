package estate_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
)

func TestParseInstant(t *testing.T) {
	for text, want := range map[string]string{
		"2026-11-20T14:02:00Z":            "2026-11-20T14:02:00Z",
		"2026-11-20t14:02:00z":            "2026-11-20T14:02:00Z",
		"2026-11-20T14:02:00.5Z":          "2026-11-20T14:02:00.5Z",
		"2026-11-20T14:02:00.1234567891Z": "2026-11-20T14:02:00.123456789Z",
		"2026-11-20T01:02:00+02:30":       "2026-11-19T22:32:00Z",
		"2026-11-20T01:02:00-23:59":       "2026-11-21T01:01:00Z",
		"0000-01-01T00:00:00Z":            "0000-01-01T00:00:00Z",
		"9999-12-31T23:59:59.999Z":        "9999-12-31T23:59:59.999Z",
		"2028-02-29T00:00:00Z":            "2028-02-29T00:00:00Z",
	} {
		got, err := estate.ParseInstant(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got.String(), text)
	}
	for _, text := range []string{
		"", "now", "2026-11-20", "2026-11-20 14:02:00Z", "2026-11-20T14:02:00", "2026-11-20T14:02Z",
		"2026-11-20T24:00:00Z",
		"2026-11-20T14:60:00Z", "2026-11-20T14:02:60Z", "2026-13-01T00:00:00Z", "2026-02-29T00:00:00Z",
		"2026-00-10T00:00:00Z",
		"2026-11-20T14:02:00.Z", "2026-11-20T14:02:00,5Z", "2026-11-20T14:02:00+2:00", "2026-11-20T14:02:00+24:00",
		"2026-11-20T14:02:00+02:60",
		"2026-11-20T14:02:00Zx", "2026-11-20T1:02:00Z", "+026-11-20T14:02:00Z", "2026-11-20T14:02:00.5",
		"2026-11-20T14:02:00+02", "2026-11-20T14:02:00ZZ",
	} {
		_, err := estate.ParseInstant(text)
		require.Error(t, err, text)
	}
}

func TestInstantsAgreeWithTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		at := time.Unix(rapid.Int64Range(-62_167_219_200, 253_402_300_799).Draw(t, "sec"),
			rapid.Int64Range(0, 999_999_999).Draw(t, "nsec"))
		zone := time.FixedZone("", rapid.IntRange(-23*60, 23*60).Draw(t, "zone")*60)
		text := at.In(zone).Format(time.RFC3339Nano)
		if len(text) < 4 || text[4] != '-' {
			t.Skip("a year that RFC 3339 cannot say")
		}
		got, err := estate.ParseInstant(text)
		require.NoError(t, err, text)
		require.True(t, got.Time().Equal(at), text)
		require.Equal(t, estate.InstantOf(at), got)
		other := time.Unix(rapid.Int64Range(-62_167_219_200, 253_402_300_799).Draw(t, "other"), 7)
		require.Equal(t, at.Before(other), got.Before(estate.InstantOf(other)))
	})
}

func TestBoundsAreBeforeAndAfterEverything(t *testing.T) {
	some := estate.Instant{Sec: 5}
	require.True(t, estate.Beginning.Before(some))
	require.True(t, some.Before(estate.End))
	require.False(t, estate.Beginning.IsBound() || estate.End.IsBound())
	require.True(t, some.IsBound())
	require.Equal(t, "the beginning", estate.Beginning.String())
	require.Equal(t, "the end", estate.End.String())
}

var addr = netip.MustParseAddr("10.0.0.1")

// holder finds who holds an address by looking at every lease.
func holder(ws []estate.Workload, a netip.Addr, at estate.Instant) int32 {
	best, from := estate.Outside, estate.Instant{}
	for i, w := range ws {
		for _, l := range w.Leases {
			covers := !at.Before(l.From) && at.Before(l.Until)
			if l.Addr.Unmap() == a && covers && (best == estate.Outside || from.Before(l.From)) {
				best, from = int32(i), l.From
			}
		}
	}
	return best
}

func TestAtAgreesWithLookingAtEveryLease(t *testing.T) {
	bound := func(t *rapid.T, open estate.Instant) estate.Instant {
		if rapid.IntRange(0, 3).Draw(t, "open") == 0 {
			return open
		}
		return estate.Instant{Sec: rapid.Int64Range(0, 12).Draw(t, "sec"),
			Nsec: int32(rapid.IntRange(0, 1).Draw(t, "nsec"))}
	}
	rapid.Check(t, func(t *rapid.T) {
		ws := make([]estate.Workload, rapid.IntRange(0, 6).Draw(t, "workloads"))
		for i := range ws {
			ws[i].ID = fmt.Sprint("w", i)
			for range rapid.IntRange(0, 3).Draw(t, "leases") {
				a := rapid.SampledFrom([]netip.Addr{addr, addr.Next(), netip.MustParseAddr("::ffff:10.0.0.1"),
					netip.MustParseAddr("fd00::1")}).Draw(t, "addr")
				ws[i].Leases = append(ws[i].Leases, estate.Lease{Addr: a, From: bound(t, estate.Beginning),
					Until: bound(t, estate.End)})
			}
		}
		e, conflicts := estate.New(ws)
		for _, c := range conflicts {
			require.NotEqual(t, c.A, c.B)
			require.Contains(t, c.Error(), c.A)
			require.Contains(t, c.Error(), c.B)
			require.Contains(t, c.Error(), c.Addr.String())
		}
		if len(conflicts) > 0 {
			return
		}
		for _, a := range []netip.Addr{addr, addr.Next(), netip.MustParseAddr("fd00::1"),
			netip.MustParseAddr("fd00::2")} {
			for sec := int64(-1); sec < 14; sec++ {
				at := estate.Instant{Sec: sec}
				require.Equal(t, estate.Endpoint{Addr: a, Workload: holder(ws, a, at)}, e.At(a, at))
			}
		}
		var held []netip.Addr
		e.Held(estate.Instant{Sec: 6}, func(ep estate.Endpoint) {
			held = append(held, ep.Addr)
			require.NotEqual(t, estate.Outside, ep.Workload)
		})
		require.True(t, slices.IsSortedFunc(held, netip.Addr.Compare))
	})
}

func TestConflictNeedsTheSameStart(t *testing.T) {
	at := func(s int64) estate.Instant { return estate.Instant{Sec: s} }
	lease := func(from, until estate.Instant) []estate.Lease {
		return []estate.Lease{{Addr: addr, From: from, Until: until}}
	}
	for _, c := range []struct {
		a, b []estate.Lease
		want int
	}{
		{lease(estate.Beginning, estate.End), lease(estate.Beginning, at(1)), 1},
		{lease(estate.Beginning, estate.End), lease(at(1), estate.End), 0},
		{lease(at(1), at(5)), lease(at(1), at(2)), 1},
		{lease(at(1), at(5)), lease(at(1), at(1)), 0}, // an empty lease claims nothing
		{lease(at(1), at(5)), lease(at(1), at(0)), 0},
		{lease(at(1), at(2)), lease(at(2), at(3)), 0},
	} {
		_, conflicts := estate.New([]estate.Workload{{ID: "a", Leases: c.a}, {ID: "b", Leases: c.b}})
		require.Len(t, conflicts, c.want)
		_, conflicts = estate.New([]estate.Workload{{ID: "a", Leases: append(slices.Clone(c.a), c.b...)}})
		require.Empty(t, conflicts, "one workload may claim an address twice")
	}
}

func TestSetTagDoesNotReachOthers(t *testing.T) {
	a := estate.Workload{ID: "a", Tags: []estate.Tag{{Key: "app", Value: "x"}, {Key: "env", Value: "live"}}}
	b := a
	b.SetTag(estate.Tag{Key: "env", Value: "trial"})
	b.SetTag(estate.Tag{Key: "aa", Value: "first"})
	b.SetTag(estate.Tag{Key: "app"})
	require.Equal(t, []estate.Tag{{Key: "app", Value: "x"}, {Key: "env", Value: "live"}}, a.Tags)
	require.Equal(t, []estate.Tag{{Key: "aa", Value: "first"}, {Key: "env", Value: "trial"}}, b.Tags)
	_, ok := b.Tag("app")
	require.False(t, ok)
	empty := estate.Workload{ID: "e", Tags: []estate.Tag{{Key: "app"}}}
	_, ok = empty.Tag("app")
	require.False(t, ok, "an empty value counts as not having it")
	require.Equal(t, "e", empty.Label())
}

func TestUsualSpelling(t *testing.T) {
	counts := map[string]int{"live": 230, "Live ": 1, "live-": 1, "LIVE": 2, "lvie": 1, "trial": 90, "trail": 1,
		"bench": 40, "logic": 50, "store": 30, "stores": 1, "app1": 40, "app2": 3, "stage": 20}
	for value, want := range map[string]string{
		"Live ": "live", "live-": "live", "LIVE": "live", "lvie": "live", "trail": "trial", "stores": "store",
		"live": "", "trial": "", "bench": "", "logic": "", "app2": "", "stage": "",
	} {
		require.Equal(t, want, estate.UsualSpelling(value, counts), value)
	}
}

func TestOneSlip(t *testing.T) {
	for _, p := range [][2]string{{"live", "lives"}, {"live", "lie"}, {"live", "love"}, {"live", "lvie"},
		{"abc", "bac"}} {
		require.True(t, estate.OneSlip(p[0], p[1]), p)
		require.True(t, estate.OneSlip(p[1], p[0]), p)
	}
	for _, p := range [][2]string{{"live", "live"}, {"live", "evil"}, {"ab", "abc"}, {"live", "livery"},
		{"abcd", "badc"}} {
		require.False(t, estate.OneSlip(p[0], p[1]), p)
		require.False(t, estate.OneSlip(p[1], p[0]), p)
	}
}
