package access_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/access"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

var (
	gangway = netip.MustParseAddr("10.0.0.1")
	desk    = netip.MustParseAddr("10.0.0.2")
	store   = netip.MustParseAddr("10.0.0.3")
)

// found returns what is known of the store under a policy.
func found(t *testing.T, text string, from ...netip.Addr) access.Machine {
	var ws []estate.Workload
	for id, a := range map[string]netip.Addr{"gangway": gangway, "desk": desk, "store": store} {
		w := estate.Workload{ID: id, Leases: []estate.Lease{{Addr: a, From: estate.Beginning, Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "app", Value: id})
		ws = append(ws, w)
	}
	ws = append(ws, estate.Workload{ID: "without an address"})
	e, _ := estate.New(ws)
	p, errs := policy.Parse("group gangway = app is gangway\ngroup store = app is store\nlayer l\n" + text)
	require.Empty(t, errs)
	c := decide.Compile(e, p, estate.Instant{})
	var seen []access.Way
	for _, a := range from {
		for _, port := range []uint32{22, 443} { // only administration says anything
			seen = append(seen, access.Way{Client: c.At(a, c.AsOf), Server: c.At(store, c.AsOf),
				Point: service.PointOf(service.TCP, port)})
		}
	}
	w, _ := e.ByID("store")
	gone, _ := e.ByID("without an address")
	all := access.Find(c, []int32{w, gone, w}, seen)
	require.Len(t, all, 1)
	require.Equal(t, w, all[0].Workload)
	require.Equal(t, !all[0].Open, len(access.Shut(all)) == 1)
	return all[0]
}

func TestFromWhereMachinesAreAdministered(t *testing.T) {
	const closed = "reject any -> any on any\n"
	const promise = "assert always gangway -> store on tcp/22\n"
	for _, x := range []struct {
		what, text string
		from       []netip.Addr
		source     access.Source
		open       bool
		words      string
	}{
		{"an assertion that is kept", "permit gangway -> store on tcp/22\n" + closed + promise, nil, access.Asserted,
			true,
			"administered by gangway on tcp/22 (assertion)"},
		{"an assertion that is not kept, whatever was seen", "permit workload desk -> store on tcp/22\n" + closed +
			promise,
			[]netip.Addr{desk}, access.Asserted, false, "line 5 rejects 10.0.0.1 on tcp/22 (assertion)"},
		{"an assertion about something else", closed + "assert always gangway -> store on tcp/443\n", nil,
			access.Anybody, false,
			"line 4 blocks all management access to it"},
		{"seen, and still open", "permit workload desk -> store on tcp/22\n" + closed, []netip.Addr{desk}, access.Seen,
			true,
			"administered by 10.0.0.2 on tcp/22 (seen)"},
		{"one way of two is enough", "permit workload desk -> store on tcp/22\n" + closed, []netip.Addr{gangway, desk},
			access.Seen, true,
			"administered by 10.0.0.2 on tcp/22 (seen)"},
		{"seen, and shut", "reject any -> store on tcp/22\n", []netip.Addr{desk}, access.Seen, false,
			"line 4 rejects 10.0.0.2 on tcp/22 (seen)"},
		{"no rule: it is carried", "", []netip.Addr{desk}, access.Seen, true,
			"administered by 10.0.0.2 on tcp/22 (seen)"},
		{"never seen, somebody gets in", "permit gangway -> store on tcp/3389\n" + closed, nil, access.Anybody, true,
			"no administration was seen and no assertion names administrators; the release admits somebody"},
	} {
		m := found(t, x.text, x.from...)
		require.Equal(t, x.source, m.Source, x.what)
		require.Equal(t, x.open, m.Open, x.what)
		require.Equal(t, x.words, m.Words(), x.what)
	}
}

// A machine with several addresses is open if one of them is.
func TestOneOpenAddressIsEnough(t *testing.T) {
	w := estate.Workload{ID: "store"}
	for _, a := range []netip.Addr{store, netip.MustParseAddr("10.9.0.3")} {
		w.Leases = append(w.Leases, estate.Lease{Addr: a, From: estate.Beginning, Until: estate.End})
	}
	e, _ := estate.New([]estate.Workload{w,
		{ID: "gangway", Leases: []estate.Lease{{Addr: gangway, From: estate.Beginning, Until: estate.End}}}})
	for rule, open := range map[string]bool{"reject any -> 10.0.0.0/24 on any\n": true,
		"reject any -> 10.9.0.0/24 on any\n": true,
		"reject any -> any on any\n":         false} {
		p, errs := policy.Parse("layer l\n" + rule)
		require.Empty(t, errs)
		i, _ := e.ByID("store")
		all := access.Find(decide.Compile(e, p, estate.Instant{}), []int32{i}, nil)
		require.Equal(t, open, all[0].Open, rule)
	}
}
