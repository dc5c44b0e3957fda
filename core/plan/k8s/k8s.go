// Package k8s renders a plan as NetworkPolicy objects of Kubernetes
// (networking.k8s.io/v1), in JSON: one for each class of guarded workloads, whose
// pods carry its name as the label lucid-orchard/class.
//
// A NetworkPolicy can only allow, and rejects what it does not: what is permitted or
// uncovered is worked out from the rules and their order, and allowed.
package k8s

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
)

// label is the label by which a policy selects its pods.
const label = "lucid-orchard/class"

// List is what is rendered.
type List struct {
	APIVersion string   `json:"apiVersion"`
	Kind       string   `json:"kind"`
	Items      []policy `json:"items"`
}

// policy is one NetworkPolicy.
type policy struct {
	APIVersion string `json:"apiVersion"`
	Kind       string `json:"kind"`
	Metadata   meta   `json:"metadata"`
	Spec       spec   `json:"spec"`
}

// meta names a policy, and says in an annotation which workloads it is for.
type meta struct {
	Name        string            `json:"name"`
	Annotations map[string]string `json:"annotations"`
}

// spec is the ingress and egress of the selected pods.
type spec struct {
	PodSelector struct {
		MatchLabels map[string]string `json:"matchLabels"`
	} `json:"podSelector"`
	PolicyTypes []string `json:"policyTypes"`
	Ingress     []Allow  `json:"ingress,omitempty"`
	Egress      []Allow  `json:"egress,omitempty"`
}

// Allow lets peers through on ports; none of either is all.
type Allow struct {
	From  []peer `json:"from,omitempty"`
	To    []peer `json:"to,omitempty"`
	Ports []port `json:"ports,omitempty"`
}

// peer is a block of addresses.
type peer struct {
	IPBlock struct {
		CIDR string `json:"cidr"`
	} `json:"ipBlock"`
}

// port is a port of a protocol, or the ports up to EndPort.
type port struct {
	Protocol string `json:"protocol"`
	Port     uint32 `json:"port"`
	EndPort  uint32 `json:"endPort,omitempty"`
}

// Notes is what has to be known of every such policy.
var Notes = []string{"a NetworkPolicy speaks of tcp, udp and sctp only: other protocols, icmp among them, are up to the network plugin",
	"pods are selected by the label " + label + ": set it to the class that each workload is listed under"}

// Of renders a plan, and returns what this plan needs and such policies cannot say.
func Of(p *plan.Plan) (List, []string) {
	out := List{"v1", "List", []policy{}}
	cannot := map[string]bool{}
	for i := range p.Classes {
		c := &p.Classes[i]
		x := policy{APIVersion: "networking.k8s.io/v1", Kind: "NetworkPolicy",
			Metadata: meta{"lucid-orchard-" + c.Name,
				map[string]string{"lucid-orchard/workloads": fmt.Sprint(c.Workloads)}}}
		x.Spec.PodSelector.MatchLabels = map[string]string{label: c.Name}
		if p.Side != plan.Client {
			x.Spec.PolicyTypes = append(x.Spec.PolicyTypes, "Ingress")
			for _, a := range allowed(p, c.Server, cannot) {
				a.From, a.To = a.To, nil
				x.Spec.Ingress = append(x.Spec.Ingress, a)
			}
		}
		if p.Side != plan.Server {
			x.Spec.PolicyTypes = append(x.Spec.PolicyTypes, "Egress")
			x.Spec.Egress = allowed(p, c.Client, cannot)
		}
		out.Items = append(out.Items, x)
	}
	return out, slices.Sorted(maps.Keys(cannot))
}

// spoken is the services that a NetworkPolicy can name.
var spoken = service.NewSet(service.Whole(service.TCP), service.Whole(service.UDP), service.Whole(service.SCTP))

// allowed works out what rules do not reject: for each stretch of ports that they
// treat alike, which peers. The peers stand in To.
func allowed(p *plan.Plan, rules []plan.Rule, cannot map[string]bool) []Allow {
	var out []Allow
	index := map[string]int{} // peers → index of out
	for _, r := range rules {
		if r.Until != 0 {
			cannot[fmt.Sprintf("line %d ends one day; the policies hold it until they are rendered again",
				r.Line)] = true
		}
		if others := r.Points.Minus(spoken); len(others) > 0 && !r.Points.Equal(service.All) {
			cannot[fmt.Sprintf("line %d is on protocols other than tcp, udp and sctp: it is left out there",
				r.Line)] = true
		}
		if r.Log {
			cannot[fmt.Sprintf("line %d asks for a log", r.Line)] = true
		}
	}
	for _, proto := range []uint8{service.TCP, service.UDP, service.SCTP} {
		whole := service.Whole(proto)
		cuts := []service.Point{whole.Lo}
		for _, r := range rules {
			for _, x := range r.Points.Intersect(service.Set{whole}) {
				cuts = append(cuts, x.Lo)
				if x.Hi < whole.Hi {
					cuts = append(cuts, x.Hi+1)
				}
			}
		}
		slices.Sort(cuts)
		cuts = slices.Compact(cuts)
		for i, lo := range cuts {
			hi := whole.Hi
			if i+1 < len(cuts) {
				hi = cuts[i+1] - 1
			}
			peers := carried(p, rules, lo)
			if lo.Port() == 0 {
				lo++ // there is no port 0 in such policies
			}
			if len(peers) == 0 || lo > hi {
				continue
			}
			key := peers.String()
			n, ok := index[key]
			if !ok {
				n = len(out)
				index[key] = n
				out = append(out, Allow{To: blocks(peers)})
			}
			out[n].add(proto, lo.Port(), hi.Port())
		}
	}
	return out
}

// carried returns the peers that rules do not reject on a service.
func carried(p *plan.Plan, rules []plan.Rule, on service.Point) plan.Addresses {
	open, rest := plan.Addresses(nil), plan.Everywhere
	for i := range rules {
		r := &rules[i]
		if !r.Points.Contains(on) {
			continue
		}
		match := rest
		if !r.Anybody() {
			match = rest.Intersect(p.PeersOf(r))
		}
		if r.Verdict == plan.Permit {
			open = plan.Union(open, match)
		}
		rest = rest.Minus(match)
	}
	return plan.Union(open, rest)
}

func blocks(peers plan.Addresses) []peer {
	var out []peer
	for _, s := range peers {
		s.Prefixes(func(x netip.Prefix) bool {
			var b peer
			b.IPBlock.CIDR = x.String()
			out = append(out, b)
			return true
		})
	}
	return out
}

// add adds ports, to those that end just before them if there are some.
func (a *Allow) add(proto uint8, lo, hi uint32) {
	name := map[uint8]string{service.TCP: "TCP", service.UDP: "UDP", service.SCTP: "SCTP"}[proto]
	if n := len(a.Ports); n > 0 && a.Ports[n-1].Protocol == name && max(a.Ports[n-1].Port, a.Ports[n-1].EndPort)+
		1 == lo {
		a.Ports[n-1].EndPort = hi
		return
	}
	p := port{Protocol: name, Port: lo}
	if hi > lo {
		p.EndPort = hi
	}
	a.Ports = append(a.Ports, p)
}

// Text returns the list as JSON.
func (l List) Text() ([]byte, error) { return json.MarshalIndent(l, "", "  ") }
