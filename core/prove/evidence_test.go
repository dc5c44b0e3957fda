package prove_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
)

// crew makes 40 workloads: 4 gangways, 12 entries, 24 others.
func crew() *estate.Estate {
	var ws []estate.Workload
	for i := range 40 {
		w := estate.Workload{ID: fmt.Sprintf("m%02d", i),
			Leases: []estate.Lease{{Addr: addr(i), From: estate.Beginning, Until: estate.End}}}
		switch {
		case i < 4:
			w.SetTag(estate.Tag{Key: "tier", Value: "gangway"})
		case i < 16:
			w.SetTag(estate.Tag{Key: "tier", Value: "entry"})
		}
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	return e
}

func addr(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)}) }

func TestWhatTheWindowSaysOfRules(t *testing.T) {
	const text = "group gangway = tier is gangway\ngroup entry = tier is entry\nlayer l\n" +
		"permit any -> entry on tcp/22\n" + // seen from two gangways only
		"permit entry -> entry on tcp/443\n" + // seen from and to one
		"permit gangway -> any on udp/53\n" + // never seen
		"permit any -> any on tcp/80\n" // seen everywhere
	e := crew()
	var b flow.Buckets
	see := func(from, to int, port uint32, proto uint8) {
		b.Add(flow.Record{Client: addr(from), Server: addr(to), Point: service.PointOf(proto, port), Connections: 1})
	}
	see(0, 5, 22, service.TCP)
	see(1, 6, 22, service.TCP)
	see(4, 5, 443, service.TCP)
	for i := range 40 {
		for j := range 12 {
			see(i, (i+j+1)%40, 80, service.TCP)
		}
	}
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	c := decide.Compile(e, p, estate.Instant{})
	v := reach.New(c, b.All(), 0, 1)
	found := map[int]prove.Finding{}
	for _, f := range prove.Evident(c, v.Evidence()) {
		require.NotContains(t, found, f.Line)
		found[f.Line] = f
	}
	require.Len(t, found, 3)
	require.Equal(t, prove.TooWide, found[4].Kind)
	require.Equal(t, "Of 40 machines that may call, 2 did in the window. "+
		"Of 12 machines that may be called, 2 were in the window.", found[4].Words)
	require.Equal(t, "permit gangway -> entry on tcp/22", found[4].Fix.Edits[0].Text)
	require.Equal(t, "permit workload m04 -> entry on tcp/443", found[5].Fix.Edits[0].Text)
	require.Equal(t, prove.NeverHit, found[6].Kind)

	// The mend keeps the verdict of all that was seen.
	after, err := policy.ApplyAll(p.Format(), found[4].Fix.Edits)
	require.Nil(t, err)
	q, errs := policy.Parse(after)
	require.Empty(t, errs)
	require.Equal(t, v.Totals(reach.Query{}).Conversations,
		v.With(c.WithPolicy(q, c.AsOf)).Totals(reach.Query{}).Conversations)
}
