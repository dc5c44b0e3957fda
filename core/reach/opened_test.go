package reach_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// Opened counts what one gets by asking for every pair of addresses and every port.
func TestOpenedIsWhatEveryPairSays(t *testing.T) {
	some := 0
	rapid.Check(t, func(t *rapid.T) {
		e, all, at := sample.Estate(t), buckets(t), sample.Instant(t)
		before := compile(t, e, sample.Policy(t), at)
		text := sample.Policy(t)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		v := reach.New(before, all, all[0].Hour, all[len(all)-1].Hour+1)
		got := reach.OpenedBy(v, before.WithPolicy(p, at))

		was, is := decide.NewWalk(e, before.Policy, at), decide.NewWalk(e, p, at)
		// Each set of ports that the policies tell apart has one of these in it.
		points := append([]service.Point{}, sample.Points...)
		for _, x := range []*policy.Policy{before.Policy, p} {
			for _, r := range x.Rules {
				for _, s := range x.Points(r.On) {
					points = append(points, s.Lo-1, s.Lo, s.Hi, s.Hi+1)
				}
			}
		}
		opens := func(client, server netip.Addr, pt service.Point) bool {
			a, b := e.At(client, at), e.At(server, at)
			return decide.VerdictOf(was.Decide(a, b, pt)) != decide.Permit &&
				decide.VerdictOf(is.Decide(a, b, pt)) == decide.Permit
		}
		var held []netip.Addr
		for _, addr := range sample.Addresses {
			if e.At(addr, at).Workload != estate.Outside {
				held = append(held, addr)
			}
		}
		want := reach.Opened{}
		for _, a := range held {
			for _, b := range held {
				if e.At(a, at).Workload == e.At(b, at).Workload {
					continue
				}
				any, seen := false, false
				for _, pt := range points {
					any = any || real(pt) && opens(a, b, pt)
				}
				for i := range v.Len() {
					c := v.At(i)
					seen = seen || c.Client.Addr == a && c.Server.Addr == b && opens(a, b, c.Point) &&
						c.Client.Workload == e.At(a, at).Workload && c.Server.Workload == e.At(b, at).Workload
				}
				if any {
					want.Pairs++
				}
				if any && !seen {
					want.Unseen++
				}
			}
		}
		require.Equal(t, want.Pairs, got.Pairs)
		require.Equal(t, want.Unseen, got.Unseen)
		if want.Pairs > 0 {
			some++
		}
	})
	require.Positive(t, some)
}

// real reports whether a point can be that of a packet.
func real(pt service.Point) bool {
	return len(service.NewSet(service.Range{Lo: pt, Hi: pt}).Real()) > 0
}
