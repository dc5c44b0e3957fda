package nft

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/plan"
)

func flat(list []parcel, depth int, deepest *int) (out []plan.Rule) {
	*deepest = max(*deepest, depth)
	for _, x := range list {
		if x.inner == nil {
			out = append(out, x.rules...)
			continue
		}
		got := flat(x.inner, depth+1, deepest)
		if len(got) != len(x.rules) {
			panic("a parcel has other rules than its inner ones")
		}
		out = append(out, got...)
	}
	return out
}

// manyPeers draws rules in their order, most of them for peers of one of some sets.
func manyPeers(t *rapid.T, sets, most int) []plan.Rule {
	rules := make([]plan.Rule, rapid.IntRange(0, most).Draw(t, "rules"))
	for i := range rules {
		rules[i] = plan.Rule{Line: i + 1, Verdict: plan.Permit, Peers: []int{rapid.IntRange(0, sets-1).Draw(t, "set")}}
		if rapid.IntRange(0, 30).Draw(t, "anybody") == 0 {
			rules[i].Peers = nil
		}
	}
	return rules
}

// However many rules there are, parcels have each once and in their order, the kernel's
// stack of jumps is deep enough, no set is copied often, and where rules have sets of
// their own a packet is asked few questions.
func TestParcelsKeepTheOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rules := manyPeers(t, 40, 3000)
		own := rapid.Bool().Draw(t, "sets of their own")
		for i := range rules {
			if own && !rules[i].Anybody() {
				rules[i].Peers = []int{i}
			}
		}
		deepest := 0
		p := &plan.Plan{Sets: make([]plan.Set, max(40, len(rules))), Classes: []plan.Class{{Name: "c", Server: rules}}}
		for i := range p.Sets {
			p.Sets[i].Name = fmt.Sprint("p_", i)
		}
		cut := parcelsOf(p)
		list := cut.rules(rules)
		for _, n := range cut.copies {
			require.LessOrEqual(t, n, cut.most)
		}
		require.Equal(t, rules, append([]plan.Rule{}, flat(list, 0, &deepest)...))
		require.Less(t, deepest, 12, "nftables jumps 16 deep at most")
		// Of a peer that one rule is for, and no other: what it is asked until then.
		var asked func(list []parcel, line int) (int, bool)
		asked = func(list []parcel, line int) (n int, found bool) {
			for _, x := range list {
				n++
				in := slices.ContainsFunc(x.rules, func(r plan.Rule) bool { return r.Line == line })
				switch {
				case in && x.inner == nil:
					return n, true
				case in:
					more, ok := asked(x.inner, line)
					return n + more, ok
				}
			}
			return n, false
		}
		anybody := len(slices.DeleteFunc(slices.Clone(rules), func(r plan.Rule) bool { return !r.Anybody() }))
		for _, line := range []int{1, len(rules) / 2, len(rules)} {
			if own && line > 0 && line <= len(rules) {
				n, found := asked(list, line)
				require.True(t, found)
				require.LessOrEqual(t, n, 45+(anybody+1)*(fanOut+3), "of %d rules, %d of them for anybody", len(rules),
					anybody)
			}
		}
	})
}

// What moves from one plan to the next leads from what a kernel holds of the one to what
// it holds of the other, also in the sets of parcels.
func TestMovesLeadFromContentsToContents(t *testing.T) {
	moved := 0
	addresses := func(t *rapid.T) plan.Addresses {
		var all []plan.Addresses
		for range rapid.IntRange(0, 5).Draw(t, "addresses") {
			a := netip.AddrFrom4([4]byte{10, 0, 0, byte(rapid.IntRange(0, 40).Draw(t, "address"))})
			if rapid.Bool().Draw(t, "six") {
				a = netip.MustParseAddr(fmt.Sprintf("fd00::%x", rapid.IntRange(0, 40).Draw(t, "address")))
			}
			all = append(all, plan.Addresses{{First: a, Last: a}})
		}
		return plan.Union(all...)
	}
	rapid.Check(t, func(t *rapid.T) {
		const sets = 12
		class := plan.Class{Name: "c1", Addresses: []netip.Addr{netip.MustParseAddr("10.9.9.9")},
			Server: manyPeers(t, sets, 90), Client: manyPeers(t, sets, 40)}
		if rapid.Bool().Draw(t, "has six") {
			class.Addresses = append(class.Addresses, netip.MustParseAddr("fd00:9::9"))
		}
		from := &plan.Plan{Kind: plan.Host, Side: plan.Both, Classes: []plan.Class{class}}
		var m plan.Moves
		for i := range sets {
			from.Sets = append(from.Sets, plan.Set{Name: fmt.Sprintf("p_%d", i), Addresses: addresses(t)})
		}
		for _, s := range from.Sets {
			next := addresses(t)
			var move plan.SetMoves
			for _, x := range next {
				if !slices.Contains(s.Addresses, x) {
					move.Added = append(move.Added, x)
				}
			}
			for _, x := range s.Addresses {
				if !slices.Contains(next, x) {
					move.Removed = append(move.Removed, x)
				}
			}
			if move.Name = s.Name; rapid.Bool().Draw(t, "moves") && len(move.Added)+len(move.Removed) > 0 {
				m.Sets = append(m.Sets, move)
			}
		}
		to, err := from.Moved(m)
		require.NoError(t, err)
		was, _ := Contents(plan.Loaded{Enforced: from})
		is, _ := Contents(plan.Loaded{Enforced: to})
		come, gone := Moves(plan.Loaded{Enforced: from}, plan.Loaded{Enforced: to})
		require.Equal(t, len(was), len(is))
		for name := range is {
			spans := map[plan.Span]bool{}
			for _, x := range was[name] {
				spans[x] = true
			}
			for _, x := range gone[name] {
				require.True(t, spans[x], "only what is there goes")
				delete(spans, x)
			}
			for _, x := range come[name] {
				require.False(t, spans[x], "only what is not there comes")
				spans[x] = true
			}
			require.Len(t, spans, len(is[name]), name)
			for _, x := range is[name] {
				require.True(t, spans[x])
			}
			moved += len(come[name]) + len(gone[name])
		}
		for name := range come {
			require.Contains(t, is, name)
		}
	})
	require.Greater(t, moved, 100)
}
