package acl_test

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/acl"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// number reads a number of a document.
func number(v any) (uint32, bool) {
	f, ok := v.(float64)
	return uint32(f), ok
}

// matches asks one entry, as RFC 8519 says: all headers and fields have to agree.
func matches(e acl.Entry, client, server netip.Addr, pt service.Point) bool {
	for header, m := range e.Matches {
		for field, want := range m {
			n, _ := number(want)
			switch {
			case field == "protocol" && n != uint32(pt.Proto()):
				return false
			case strings.HasPrefix(field, "source-") && !netip.MustParsePrefix(want.(string)).Contains(client):
				return false
			case strings.HasPrefix(field, "destination-ipv") && !netip.MustParsePrefix(want.(string)).Contains(server):
				return false
			case field == "type" && (pt.Port() == service.UnknownType || n != pt.Port()>>8):
				return false
			case field == "code" && n != pt.Port()&255:
				return false
			case field == "destination-port":
				if service.ProtoName(pt.Proto()) != header {
					return false
				}
				ports := want.(map[string]any)
				if one, ok := number(ports["port"]); ok && one != pt.Port() {
					return false
				}
				lo, ok := number(ports["lower-port"])
				hi, _ := number(ports["upper-port"])
				if ok && (pt.Port() < lo || hi < pt.Port()) {
					return false
				}
			}
		}
	}
	return true
}

// The first entry that matches does what the plan says, as long as the policy does
// not speak of what the lists have no words for.
func TestTheFirstEntryDoesWhatThePlanSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		text, errs := policy.Parse(strings.ReplaceAll(sample.Policy(t), "sctp/09", "tcp/9"))
		require.Empty(t, errs)
		c := decide.Compile(e, text, sample.Instant(t))
		var some []int32
		for i := range e.All() {
			if rapid.Bool().Draw(t, "guards") {
				some = append(some, i)
			}
		}
		side := rapid.SampledFrom([]plan.Side{plan.Server, plan.Client, plan.Both}).Draw(t, "side")
		p := plan.NewPlanner(c).Plan(some, plan.Gate, side)
		made, cannot := acl.Of(p)
		for _, class := range p.Classes {
			for _, r := range slices.Concat(class.Server, class.Client) {
				if r.Until != 0 {
					require.NotEmpty(t, cannot)
				}
			}
		}
		raw, err := made.Text()
		require.NoError(t, err)
		var read acl.Document
		require.NoError(t, json.Unmarshal(raw, &read))
		names := map[string]bool{}
		for _, x := range read.Lists.ACL {
			for _, e := range x.ACEs.ACE {
				require.False(t, names[x.Name+e.Name], "names are keys")
				names[x.Name+e.Name] = true
			}
		}
		for range 40 {
			client := rapid.SampledFrom(sample.Addresses).Draw(t, "client")
			server := rapid.SampledFrom(sample.Addresses).Draw(t, "server")
			if client.BitLen() != server.BitLen() {
				continue
			}
			pt := rapid.SampledFrom(sample.Points).Draw(t, "point")
			if service.IsICMP(pt.Proto()) && pt.Port() == service.UnknownType {
				continue
			}
			list := read.Lists.ACL[0]
			if client.Is6() {
				list = read.Lists.ACL[1]
			}
			action := ""
			for _, e := range list.ACEs.ACE {
				if matches(e, client, server, pt) {
					action = strings.TrimPrefix(e.Actions["forwarding"], "ietf-access-control-list:")
					break
				}
			}
			want := "accept"
			if p.Decider().Decide(client, server, pt, c.AsOf.Sec).Verdict == decide.Reject {
				want = "drop"
			}
			require.Equal(t, want, action, "%s -> %s on %s", client, server, pt)
		}
	})
}
