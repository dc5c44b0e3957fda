package k8s_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/k8s"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// lets asks policies as Kubernetes does: any that lets it through is enough.
func lets(list []k8s.Allow, ingress bool, peer netip.Addr, pt service.Point) bool {
	name := map[uint8]string{service.TCP: "TCP", service.UDP: "UDP", service.SCTP: "SCTP"}[pt.Proto()]
	for _, a := range list {
		peers := a.To
		if ingress {
			peers = a.From
		}
		for _, p := range peers {
			for _, on := range a.Ports {
				if netip.MustParsePrefix(p.IPBlock.CIDR).Contains(peer) && on.Protocol == name &&
					on.Port <= pt.Port() && pt.Port() <= max(on.Port, on.EndPort) {
					return true
				}
			}
		}
	}
	return false
}

// What a policy of Kubernetes lets through is what the plan does not reject.
func TestPoliciesAllowWhatThePlanDoesNotReject(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		text, errs := policy.Parse(sample.Policy(t))
		require.Empty(t, errs)
		c := decide.Compile(e, text, sample.Instant(t))
		var all []int32
		for i := range e.All() {
			all = append(all, i)
		}
		p := plan.NewPlanner(c).Plan(all, plan.Gate, plan.Both)
		list, cannot := k8s.Of(p)
		asks := false // for what the format cannot say
		for _, class := range p.Classes {
			for _, r := range slices.Concat(class.Server, class.Client) {
				others := slices.ContainsFunc(r.Points, func(x service.Range) bool {
					return x.Lo.Proto() == service.ICMP || x.Lo.Proto() == service.ICMP6 || x.Lo.Proto() == 47 ||
						x.Hi.Proto() == 47
				})
				asks = asks || r.Until != 0 || r.Log || others
			}
		}
		if asks {
			require.NotEmpty(t, cannot)
		}
		require.Len(t, list.Items, len(p.Classes))
		for i, class := range p.Classes {
			for range 20 {
				peer := rapid.SampledFrom(sample.Addresses).Draw(t, "peer")
				pt := rapid.SampledFrom(sample.Points).Draw(t, "point")
				if proto := pt.Proto(); pt.Port() == 0 || proto != service.TCP && proto != service.UDP &&
					proto != service.SCTP {
					continue
				}
				own := class.Addresses[0]
				one := *p
				one.Side = plan.Server
				v := one.Decider().Decide(peer, own, pt, c.AsOf.Sec).Verdict
				require.Equal(t, v != decide.Reject, lets(list.Items[i].Spec.Ingress, true, peer, pt), "%s -> %s",
					peer, own)
				one.Side = plan.Client
				v = one.Decider().Decide(own, peer, pt, c.AsOf.Sec).Verdict
				require.Equal(t, v != decide.Reject, lets(list.Items[i].Spec.Egress, false, peer, pt), "%s -> %s", own,
					peer)
			}
		}
	})
}
