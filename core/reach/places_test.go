package reach_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/reach"
)

// placesOf makes an estate of so many workloads with each value of a tag.
func placesOf(t *testing.T, key string, sizes map[string]int) *estate.Estate {
	var ws []estate.Workload
	for value, n := range sizes {
		for i := range n {
			ws = append(ws, estate.Workload{ID: fmt.Sprintf("%q-%d", value, i),
				Tags: []estate.Tag{{Key: key, Value: value}},
				Leases: []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 0, byte(len(ws) >> 8), byte(len(ws))}),
					From: estate.Beginning, Until: estate.End}}})
		}
	}
	e, conflicts := estate.New(ws)
	require.Empty(t, conflicts)
	return e
}

// Small values share a row until every one is asked for; either way each workload
// is somewhere, and a row counts what an expression for its value would.
func TestSmallRowsFoldUntilAllAreAskedFor(t *testing.T) {
	sizes := map[string]int{"quay": 40, "QUAY": 2, "quay ": 1, "  ": 3}
	for i := range 30 {
		sizes[fmt.Sprintf("pier-%02d", i)] = 1 + i%9
	}
	e := placesOf(t, "app", sizes)
	v := reach.New(compile(t, e, "group quay = app is quay\n", estate.Instant{Sec: 1_795_000_000}), nil, 0, 1)
	rows := func(all bool) []reach.Place {
		return v.Terrace(reach.Query{}, reach.MapKeys{Columns: "env", Rows: "app", All: all}).Rows
	}
	count := func(places []reach.Place, name string) (n, values int) {
		for _, p := range places {
			if p.Name == name {
				n, values = p.Workloads, p.Values
			}
		}
		return n, values
	}
	folded := rows(false)
	open := rows(true)
	require.Less(t, len(folded), len(open))
	_, values := count(folded, reach.Others)
	require.Equal(t, len(open), len(folded)-1+values, "the folded row says how many it stands for")
	require.Len(t, open, 30+2, "each pier, quay in any case, and quay with a blank behind it")
	sum := func(places []reach.Place) (n int) {
		for _, p := range places {
			n += p.Workloads
		}
		return n
	}
	require.Equal(t, e.Len()-3, sum(folded), "a value of blanks alone has no row")
	require.Equal(t, sum(folded), sum(open))

	own, _ := count(open, "quay")
	require.Equal(t, v.Compiled.GroupCounts(v.Compiled.AsOf)[0].In, own, "a group for the value has as many")
}
