package point

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan"
)

// What is new in the last minute is told, of less at first; counts that were lost are no
// negative ones.
func TestWhatWasCountedLately(t *testing.T) {
	var r recent
	at := time.Unix(1_795_000_000, 0)
	reported := int64(0)
	add := func(seconds int, permit, reject, uncovered int64) Lately {
		reported++
		return r.add(at.Add(time.Duration(seconds)*time.Second), []Line{{Line: 3, Verdict: "permit", Packets: permit},
			{Line: 4, Verdict: "reject", Packets: reject}, {Line: 5, Verdict: "reject", Packets: 0},
			{Verdict: "uncovered", Packets: uncovered}}, reported)
	}
	require.Zero(t, add(0, 10, 5, 1))
	require.Equal(t, Lately{20, 3, 1, 0, 1}, add(20, 13, 6, 1))
	require.Equal(t, Lately{60, 10, 5, 4, 2}, add(60, 20, 10, 5))
	require.Equal(t, Lately{60, 8, 5, 4, 2}, add(80, 21, 11, 5), "what is older than a minute is not counted")
	for n := range 100 {
		add(80+n*5, 21, 11, 5)
	}
	require.LessOrEqual(t, len(r), 14, "what it keeps is bounded")
	require.Zero(t, add(700, 2, 0, 0))
	require.Equal(t, Lately{10, 1, 0, 0, 1}, add(710, 3, 0, 0))
}

// Each way in which a kernel may hold something else is said in words.
func TestDriftIsSaidInWords(t *testing.T) {
	spans := func(text ...string) (out plan.Addresses) {
		for _, x := range text {
			var s plan.Span
			require.NoError(t, s.UnmarshalText([]byte(x)))
			out = append(out, s)
		}
		return out
	}
	a, b := netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2")
	should := func() *wanting {
		w := &wanting{Held: newHeld(), words: map[string]string{"p_entry_4": "entry"}}
		w.Rules["rule line 4 permit in s_c x"], w.Rules["rule uncovered in s_c y"] = "line 4 permit", "uncovered"
		w.Order["s_c"] = []string{"rule line 4 permit in s_c x", "rule uncovered in s_c y"}
		w.Sets["p_entry_4"] = spans("10.1.0.0/30", "10.1.0.9")
		w.Ways["servers_ip"] = map[netip.Addr]string{a: "s_c"}
		w.Other["chain s_c"] = "a chain"
		return w
	}
	for words, change := range map[string]func(h *Held){
		"":                               func(*Held) {},
		"a rule of line 4 is missing":    func(h *Held) { delete(h.Rules, "rule line 4 permit in s_c x") },
		"a rule of chain s_c is missing": func(h *Held) { delete(h.Rules, "rule uncovered in s_c y") },
		"a rule of chain s_c does not belong there": func(h *Held) {
			h.Rules["rule  in s_c z"] = ""
		},
		"the rules of chain s_c stand in another order": func(h *Held) {
			h.Order["s_c"] = []string{h.Order["s_c"][1], h.Order["s_c"][0]}
		},
		"2 addresses too many in “entry”": func(h *Held) {
			h.Sets["p_entry_4"] = spans("10.1.0.0/30",
				"10.1.0.8-10.1.0.10")
		},
		"1 address missing in “entry”": func(h *Held) { h.Sets["p_entry_4"] = spans("10.1.0.0/30") },
		"1 address too many and 1 missing in “entry”": func(h *Held) {
			h.Sets["p_entry_4"] = spans("10.1.0.0/30", "10.1.0.7")
		},
		"set p_entry_4 is missing": func(h *Held) { delete(h.Sets, "p_entry_4") },
		"1 address too many in what is guarded (servers_ip)": func(h *Held) {
			h.Ways["servers_ip"] = map[netip.Addr]string{a: "s_c", b: "s_c"}
		},
		"map servers_ip is missing":        func(h *Held) { delete(h.Ways, "servers_ip") },
		"chain s_c says something else":    func(h *Held) { h.Other["chain s_c"] = "another" },
		"chain s_c is missing":             func(h *Held) { delete(h.Other, "chain s_c") },
		"chain mine does not belong there": func(h *Held) { h.Other["chain mine"] = "" },
		"the table is missing":             func(h *Held) { *h = newHeld() },
	} {
		is := should().Held
		change(&is)
		require.Equal(t, words, should().drift(&is), words)
	}
	many := should().Held
	for _, n := range []string{"a", "b", "c", "d", "e", "f", "g"} {
		many.Other[n] = ""
	}
	require.Contains(t, should().drift(&many), "and 2 more")
}
