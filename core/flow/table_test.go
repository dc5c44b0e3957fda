package flow_test

import (
	"cmp"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

func anyBuckets(t *rapid.T, label string) []flow.Bucket {
	var b flow.Buckets
	for range rapid.IntRange(0, 30).Draw(t, label) {
		at := estate.Instant{Sec: rapid.Int64Range(0, 20_000).Draw(t, "start")}
		b.Add(flow.Record{Start: at, End: at, Client: rapid.SampledFrom(sample.Addresses[:4]).Draw(t, "client"),
			Server:      rapid.SampledFrom(sample.Addresses[:4]).Draw(t, "server"),
			Point:       rapid.SampledFrom(sample.Points[:3]).Draw(t, "point"),
			Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome")),
			Connections: rapid.Int64Range(0, 9).Draw(t, "connections"),
			Bytes:       rapid.Int64Range(0, 99).Draw(t, "bytes"),
			Observer:    rapid.SampledFrom([]string{"east", "west"}).Draw(t, "observer")})
	}
	return b.All()
}

func compareBuckets(a, b flow.Bucket) int {
	return cmp.Or(cmp.Compare(a.Hour, b.Hour), a.Client.Compare(b.Client), a.Server.Compare(b.Server),
		cmp.Compare(a.Point, b.Point), cmp.Compare(a.Outcome, b.Outcome))
}

func rowsOf(t *flow.Table) []flow.Bucket {
	var out []flow.Bucket
	for row := range t.Len() {
		out = append(out, t.Bucket(row))
	}
	slices.SortFunc(out, compareBuckets)
	return out
}

// A table has the buckets that were put in, hours can be put in the place of
// others and left out, and a cut has the rows of its hours.
func TestTableHasWhatWasPutIn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		first, second := anyBuckets(t, "first"), anyBuckets(t, "second")
		table := flow.Pack(first)
		byHour := map[flow.Hour][]flow.Bucket{}
		for _, b := range first {
			byHour[b.Hour] = append(byHour[b.Hour], b)
		}
		drafts := map[flow.Hour]*flow.Draft{}
		for i, b := range second {
			if drafts[b.Hour] == nil {
				drafts[b.Hour] = &flow.Draft{Chunk: flow.Chunk{Hour: b.Hour}}
				byHour[b.Hour] = nil
			}
			drafts[b.Hour].Add(table.Dict, &second[i])
			byHour[b.Hour] = append(byHour[b.Hour], b)
		}
		var put []*flow.Chunk
		for _, d := range drafts {
			put = append(put, d.Pack(table.Dict))
		}
		gone := flow.Hour(rapid.IntRange(0, 6).Draw(t, "gone"))
		delete(byHour, gone)
		next := table.With(put, []flow.Hour{gone})
		from, to := flow.Hour(rapid.IntRange(0, 6).Draw(t, "from")), flow.Hour(rapid.IntRange(0, 6).Draw(t, "to"))
		var all, between []flow.Bucket
		for h, list := range byHour {
			all = append(all, list...)
			if h >= from && h < to {
				between = append(between, list...)
			}
		}
		slices.SortFunc(all, compareBuckets)
		slices.SortFunc(between, compareBuckets)
		slices.SortFunc(first, compareBuckets)
		require.Equal(t, first, rowsOf(table), "the table that it was made from stays")
		require.Equal(t, all, rowsOf(next))
		require.Equal(t, between, rowsOf(next.Between(from, to)))
		for _, c := range next.Chunks {
			require.True(t, slices.IsSorted(c.Pair))
		}
	})
}

// What comes once and goes, as in a scan, is forgotten in the end; what stays is
// not changed by that.
func TestPairsOfRowsThatAreGoneAreForgotten(t *testing.T) {
	stays := flow.Bucket{Hour: 1, Client: netip.MustParseAddr("10.1.0.1"), Server: netip.MustParseAddr("10.1.0.2"),
		Point:       service.PointOf(service.TCP, 443),
		Connections: 3, Bytes: 40, Packets: 5, First: estate.Instant{Sec: 3600}, Last: estate.Instant{Sec: 3700},
		Observer: "east"}
	table := flow.Pack([]flow.Bucket{stays})
	scan := &flow.Draft{Chunk: flow.Chunk{Hour: 0}}
	scanned := stays
	for i := range 1_100_000 {
		scanned.Hour, scanned.Server, scanned.Point = 0, netip.AddrFrom4([4]byte{10, 2, 0, byte(i >> 16)}),
			service.PointOf(service.TCP, uint32(i&0xffff))
		scan.Add(table.Dict, &scanned)
	}
	table = table.With([]*flow.Chunk{scan.Pack(table.Dict)}, nil)
	require.Greater(t, len(table.Dict.Pairs()), 1_100_000)
	before := table
	table = table.With(nil, []flow.Hour{0})
	require.Len(t, table.Dict.Pairs(), 1)
	require.Len(t, table.Dict.Addresses(), 2)
	require.Equal(t, []flow.Bucket{stays}, rowsOf(table))
	require.Equal(t, stays, before.Bucket(before.Len()-1), "who still reads the table before is not disturbed")
}

// naively returns the rows of each pair of a table.
func naively(t *flow.Table) map[flow.Pair][]flow.Bucket {
	out := map[flow.Pair][]flow.Bucket{}
	addrs := t.Dict.Addresses()
	for row := range t.Len() {
		b := t.Bucket(row)
		p := flow.Pair{Point: b.Point, Client: uint32(slices.Index(addrs, b.Client)),
			Server: uint32(slices.Index(addrs, b.Server))}
		out[p] = append(out[p], b)
	}
	return out
}

// What is added stands beside what there was, in the order of a table; what has changed is each pair
// that has other rows; and some pairs alone have the rows that they had.
func TestTableGrows(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		first, second := anyBuckets(t, "first"), anyBuckets(t, "second")
		table := flow.Pack(first)
		grown := table.Plus(second)
		want := append(slices.Clone(first), second...)
		got := rowsOf(grown)
		slices.SortFunc(want, func(a, b flow.Bucket) int {
			return cmp.Or(compareBuckets(a, b),
				a.First.Compare(b.First))
		})
		slices.SortFunc(got, func(a, b flow.Bucket) int {
			return cmp.Or(compareBuckets(a, b),
				a.First.Compare(b.First))
		})
		require.ElementsMatch(t, want, got)
		for _, c := range grown.Chunks {
			for i := 1; i < c.Len(); i++ {
				require.LessOrEqual(t, cmp.Or(cmp.Compare(c.Pair[i-1], c.Pair[i]),
					cmp.Compare(c.Outcome[i-1], c.Outcome[i]),
					cmp.Compare(c.First[i-1], c.First[i])), 0)
			}
		}
		require.ElementsMatch(t, first, rowsOf(table), "what there was is not changed")

		// Some hours go as well.
		after := grown
		for _, c := range grown.Chunks {
			if rapid.IntRange(0, 3).Draw(t, "goes") == 0 {
				after = after.With(nil, []flow.Hour{c.Hour})
			}
		}
		before, now := naively(table), naively(after)
		changed := after.Changed(table)
		require.True(t, slices.IsSorted(changed))
		pairs := after.Dict.Pairs()
		for n := range pairs {
			require.Equal(t, !slices.Equal(before[pairs[n]], now[pairs[n]]), slices.Contains(changed, uint32(n)))
		}

		var some []uint32
		var rows []flow.Bucket
		for n := range pairs {
			if rapid.Bool().Draw(t, "takes") {
				some = append(some, uint32(n))
				rows = append(rows, now[pairs[n]]...)
			}
		}
		only := after.Only(some)
		require.ElementsMatch(t, rows, rowsOf(only))
		addrs, own := only.Dict.Addresses(), only.Dict.Pairs()
		require.Len(t, own, len(some))
		for place, n := range some {
			is := flow.Pair{Client: uint32(slices.Index(after.Dict.Addresses(), addrs[own[place].Client])),
				Server: uint32(slices.Index(after.Dict.Addresses(), addrs[own[place].Server])), Point: own[place].Point}
			require.Equal(t, pairs[n], is, "each has its place as its number")
		}
	})
}
