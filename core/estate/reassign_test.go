package estate_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
)

// Listings come one after the other; after each, now resolves to what it says,
// the past to what it said before, and the same listing again changes nothing.
func TestReassignKeepsThePast(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		have := map[string][]estate.Lease{}
		claimed := map[netip.Addr]bool{}
		then := map[[2]string]string{} // instant and address → who held it
		build := func() *estate.Estate {
			var ws []estate.Workload
			for id, ls := range have {
				ws = append(ws, estate.Workload{ID: id, Leases: slices.Clone(ls)})
			}
			e, conflicts := estate.New(ws)
			require.Empty(t, conflicts)
			return e
		}
		held := func(e *estate.Estate, addr netip.Addr, at estate.Instant) string {
			if ep := e.At(addr, at); ep.Workload != estate.Outside {
				return e.Workload(ep.Workload).ID
			}
			return ""
		}
		addrs := []netip.Addr{netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"),
			netip.MustParseAddr("fd00::3")}
		for step := range rapid.IntRange(1, 6).Draw(t, "listings") {
			now := estate.Instant{Sec: int64(step+1) * 1000}
			var listing []estate.Listed
			free := slices.Clone(addrs)
			for w := range 4 {
				l := estate.Listed{ID: fmt.Sprint("w", w)}
				for range rapid.IntRange(0, 2).Draw(t, "addresses") {
					if len(free) == 0 {
						break
					}
					k := rapid.IntRange(0, len(free)-1).Draw(t, "address")
					l.Leases = append(l.Leases, estate.Lease{Addr: free[k], From: estate.Beginning,
						Until: estate.End})
					free = slices.Delete(free, k, k+1)
				}
				listing = append(listing, l)
			}
			changed, conflicts := estate.Reassign(have, listing, "plan", now, nobody)
			require.Empty(t, conflicts)
			for id, ls := range changed {
				have[id] = ls
			}
			e := build()
			for key, id := range then {
				var at int64
				_, _ = fmt.Sscan(key[0], &at)
				require.Equal(t, id, held(e, netip.MustParseAddr(key[1]), estate.Instant{Sec: at}), "the past at %s",
					key)
			}
			for _, a := range addrs {
				want := ""
				for _, l := range listing {
					if slices.ContainsFunc(l.Leases, func(x estate.Lease) bool { return x.Addr == a }) {
						want = l.ID
					}
				}
				require.Equal(t, want, held(e, a, now))
				claimed[a] = claimed[a] || want != ""
				if claimed[a] { // before that, whoever gets it first has had it always
					then[[2]string{fmt.Sprint(now.Sec), a.String()}] = want
				}
			}
			again, conflicts := estate.Reassign(have, listing, "plan", estate.Instant{Sec: now.Sec + 500}, nobody)
			require.Empty(t, conflicts)
			require.Empty(t, again)
		}
	})
}

func TestReassignWithStartsThatAreKnown(t *testing.T) {
	a := netip.MustParseAddr("10.0.0.1")
	at := func(n int64) estate.Instant { return estate.Instant{Sec: n} }
	have := map[string][]estate.Lease{"old": {{Addr: a, From: at(10), Until: estate.End, Source: "plan"}},
		"pinned": {{Addr: a, From: at(1), Until: at(5), Source: "other"}}}
	changed, conflicts := estate.Reassign(have,
		[]estate.Listed{{ID: "new", Leases: []estate.Lease{{Addr: a, From: at(20), Until: at(30)}}},
			{ID: "late", Leases: []estate.Lease{{Addr: a, From: at(10), Until: at(12)}}}}, "plan", at(100), nobody)
	require.Equal(t, map[string][]estate.Lease{"new": {{Addr: a, From: at(20), Until: at(30), Source: "plan"}},
		"old": {{Addr: a, From: at(10), Until: at(20), Source: "plan"}}}, changed)
	require.Equal(t, []estate.Conflict{{Addr: a, A: "old", B: "late", From: at(10)}}, conflicts)

	// What one had until somebody else got it, in either order.
	earlier := estate.Listed{ID: "first", Leases: []estate.Lease{{Addr: a, From: estate.Beginning, Until: at(50)}}}
	later := estate.Listed{ID: "second", Leases: []estate.Lease{{Addr: a, From: at(50), Until: estate.End}}}
	for _, listing := range [][]estate.Listed{{earlier, later}, {later, earlier}} {
		changed, conflicts = estate.Reassign(nil, listing, "plan", at(100), nobody)
		require.Empty(t, conflicts)
		require.Equal(t, map[string][]estate.Lease{"first": {{Addr: a, From: estate.Beginning, Until: at(50),
			Source: "plan"}}, "second": {{Addr: a, From: at(50), Until: estate.End, Source: "plan"}}}, changed)
		again, _ := estate.Reassign(changed, listing, "plan", at(200), nobody)
		require.Empty(t, again)
	}

	// A source ends only what it has said itself.
	changed, _ = estate.Reassign(have,
		[]estate.Listed{{ID: "old",
			Leases: []estate.Lease{{Addr: netip.MustParseAddr("10.0.0.9"), From: estate.Beginning,
				Until: estate.End}}}},
		"second", at(100), nobody)
	require.Equal(t, estate.End, changed["old"][0].Until)
	require.Len(t, changed["old"], 2)
}

// nobody outranks the source of the listing.
func nobody(string) bool { return false }

func TestAnAddressStaysWithWhomABetterSourceGivesIt(t *testing.T) {
	a := netip.MustParseAddr("10.0.0.1")
	at := func(s int64) estate.Instant { return estate.Instant{Sec: s} }
	have := map[string][]estate.Lease{"old": {{Addr: a, From: estate.Beginning, Until: estate.End,
		Source: "register"}}}
	listing := []estate.Listed{{ID: "new",
		Leases: []estate.Lease{{Addr: a, From: estate.Beginning, Until: estate.End}}}}
	changed, conflicts := estate.Reassign(have, listing, "script", at(100),
		func(source string) bool { return source == "register" })
	require.Empty(t, changed)
	require.Len(t, conflicts, 1)
	require.Contains(t, conflicts[0].Error(),
		`workload "old" holds address 10.0.0.1 by register, which outranks this source`)
	changed, conflicts = estate.Reassign(have, listing, "script", at(100), nobody)
	require.Empty(t, conflicts)
	require.Equal(t, at(100), changed["old"][0].Until)
}
