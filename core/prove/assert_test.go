package prove_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// everywhere has an address in every region that the sample's prefixes cut.
func everywhere() []netip.Addr {
	out := append([]netip.Addr{}, sample.Addresses...)
	for _, s := range []string{"10.0.0.10", "10.0.0.200", "10.0.1.0", "10.1.0.0", "192.0.2.0", "192.0.2.128",
		"8.8.4.4", "fd00::3", "fd00:2::", "::5"} {
		out = append(out, netip.MustParseAddr(s))
	}
	return out
}

func TestAssertionsAgreeWithBruteForce(t *testing.T) {
	points := append([]service.Point{}, service.PointOf(service.TCP, 80), service.PointOf(service.TCP, 81),
		service.PointOf(service.SCTP, 10), service.PointOf(service.ICMP, 7<<8),
		service.PointOf(service.ICMP6, 127<<8))
	for _, p := range sample.Points {
		if !service.IsICMP(p.Proto()) || p.Port() != service.UnknownType {
			points = append(points, p)
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		text := sample.Policy(t) + "\n" + sample.Assert(t)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		asOf := sample.Instant(t)
		w := decide.NewWalk(e, p, asOf)
		results := prove.Assertions(decide.Compile(e, p, asOf))
		require.Len(t, results, len(p.Asserts))
		for i, a := range p.Asserts {
			r := results[i]
			require.Equal(t, brute(e, p, w, a, asOf, points), r.Outcome, "%s\n%s", a, text)
			if r.Outcome == prove.Holds {
				continue
			}
			client, server := e.At(r.Client.Addr, asOf), e.At(r.Server.Addr, asOf)
			require.Equal(t, client, r.Client.Endpoint)
			require.Equal(t, server, r.Server.Endpoint)
			require.True(t, speaks(w, p, a, client, server, r.Point), "counterexample outside of %s", a)
			require.Same(t, w.Decide(client, server, r.Point), r.Rule)
		}
	})
}

// speaks reports whether the assertion speaks of the point.
func speaks(w *decide.Walk, p *policy.Policy, a *policy.Assert, client, server estate.Endpoint,
	pt service.Point) bool {
	if client.Workload == server.Workload && client.Workload != estate.Outside {
		return false
	}
	in := w.InList(a.Left, client) != (a.Kind == policy.Only)
	if !in || !w.InList(a.Right, server) || !p.Points(a.On).Contains(pt) {
		return false
	}
	rule := &policy.Rule{Left: policy.List{Any: true}, Right: policy.List{Any: true}, On: policy.Services{Any: true},
		Clauses: a.Clauses}
	return w.Matches(rule, client, server, pt)
}

func brute(e *estate.Estate, p *policy.Policy, w *decide.Walk, a *policy.Assert, asOf estate.Instant,
	points []service.Point) prove.Outcome {
	wrong := decide.Permit
	if a.Kind == policy.Always {
		wrong = decide.Reject
	}
	out := prove.Holds
	for _, from := range everywhere() {
		for _, to := range everywhere() {
			client, server := e.At(from, asOf), e.At(to, asOf)
			for _, pt := range points {
				if !speaks(w, p, a, client, server, pt) {
					continue
				}
				switch decide.VerdictOf(w.Decide(client, server, pt)) {
				case wrong:
					return prove.Broken
				case decide.Uncovered:
					out = prove.Open
				}
			}
		}
	}
	return out
}

func TestRegionsWithoutAFreeAddressHaveNoPoints(t *testing.T) {
	hold := func(id, addr string) estate.Workload {
		return estate.Workload{ID: id,
			Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}}
	}
	for _, c := range []struct {
		held int
		want prove.Outcome
	}{{3, prove.Broken}, {4, prove.Holds}} {
		var ws []estate.Workload
		for i, a := range []string{"192.0.2.0", "192.0.2.1", "192.0.2.2", "192.0.2.3"}[:c.held] {
			ws = append(ws, hold(string(rune('a'+i)), a))
		}
		e, _ := estate.New(ws)
		p, errs := policy.Parse("group far = address in 192.0.2.0/30 and outside\nlayer l\npermit any -> any on " +
			"any\nassert never far -> any on tcp/1")
		require.Empty(t, errs)
		require.Equal(t, c.want, prove.Assertions(decide.Compile(e, p, estate.Instant{}))[0].Outcome, "%d of 4 held",
			c.held)
	}
}

func TestMappedAddressesAreNoIPv6Endpoints(t *testing.T) {
	e, _ := estate.New(nil)
	for text, want := range map[string]prove.Outcome{
		// All of the /95 that is not in the group is IPv4, and so not in the /95.
		"group low = address in ::fffe:0:0/96\nlayer l\nreject low -> any on any\npermit any -> any on any\nassert " +
			"never ::fffe:0:0/95 -> any on any": prove.Holds,
		"group low = address in ::fffe:0:0/97\nlayer l\nreject low -> any on any\npermit any -> any on any\nassert " +
			"never ::fffe:0:0/95 -> any on any": prove.Broken,
	} {
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		require.Equal(t, want, prove.Assertions(decide.Compile(e, p, estate.Instant{}))[0].Outcome, text)
	}
}
