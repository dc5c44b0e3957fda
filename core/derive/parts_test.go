package derive_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

// A tag of any name separates who calls from who does not, and the group says it
// as the language wants it.
func TestAnotherTagSeparates(t *testing.T) {
	w := harbour(t)
	for i := range w.workloads {
		centre := "4711"
		if i%3 == 0 {
			centre = "0815"
		}
		w.workloads[i].SetTag(estate.Tag{Key: "cost centre", Value: centre})
		if centre == "0815" {
			w.sees(w.workloads[i].ID, "names-core-shared-1", "tcp/7443", week...)
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit 0815 -> names on tcp/7443"}, rules(r))
	require.Equal(t, `group 0815 = "cost centre" is 0815 "Derived"`, groupNamed(r, "0815"))
}

func groupNamed(r *derive.Result, name string) string {
	for _, g := range r.Groups {
		if g.Name == name {
			return g.String()
		}
	}
	return ""
}

// A group of the policy with the right members is named, before any tag.
func TestTheUsersGroupsComeFirst(t *testing.T) {
	w := harbour(t)
	for i := 1; i <= 4; i++ {
		w.sees(fmt.Sprintf("fares-entry-live-%d", i), "tides-logic-live-1", "tcp/8443", week...)
		w.sees(fmt.Sprintf("fares-entry-live-%d", i), "tides-logic-live-2", "tcp/8443", week...)
	}
	r := w.derive("group front = app is fares and tier is entry and env is live\ngroup tide = app is tides and "+
		"tier is "+
		"logic and env is live", 0.5)
	require.Equal(t, []string{"permit front -> tide on tcp/8443"}, rules(r))
	require.Empty(t, r.Groups)
}

// A scan is set aside; a poller that goes round, and hardly ever asks the same
// machine twice, is none.
func TestAPollerIsNoScanner(t *testing.T) {
	w := harbour(t)
	rnd := rand.New(rand.NewPCG(1, 1))
	for i, id := range w.ids("-live-") {
		w.sees("names-core-shared-2", id, "tcp/9100", i%7)
		for range 3 {
			w.sees("tides-entry-live-3", id, fmt.Sprintf("tcp/%d", []int{21, 23, 135, 443, 1433, 3306, 8080,
				27017}[rnd.IntN(8)]), 2)
		}
	}
	for i := range w.records {
		w.records[i].Bytes, w.records[i].Connections = 900, 1
		if w.records[i].Client == w.addr("tides-entry-live-3") {
			w.records[i].Bytes = 0
		}
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit names -> live on tcp/9100"}, rules(r))
	for i, c := range w.conversations {
		if c.Client.Addr == w.addr("tides-entry-live-3") {
			require.Contains(t, asideOf(r, derive.Scan), i)
		}
	}
}

func asideOf(r *derive.Result, why derive.Reason) []int {
	for _, a := range r.Aside {
		if a.Reason == why {
			return a.Conversations
		}
	}
	return nil
}

// What goes to one address outside on an odd port is warned about; on 443 it is not.
func TestOneOutsideAddress(t *testing.T) {
	w := harbour(t)
	for i := 1; i <= 4; i++ {
		w.sees(fmt.Sprintf("fares-logic-live-%d", i), "203.0.113.7", "tcp/6667", week...)
		w.sees(fmt.Sprintf("tides-logic-live-%d", i), "203.0.113.9", "tcp/443", week...)
	}
	r := w.derive("", 0.5)
	require.Equal(t, []string{"permit fares-logic-live -> 203.0.113.7 on tcp/6667",
		"permit tides-logic-live -> 203.0.113.9 on tcp/443"}, rules(r))
	require.Contains(t, r.Proposals[0].Warnings, "to one outside address, on an unusual port")
	require.Empty(t, r.Proposals[1].Warnings)
}

// Callers with IPv6 addresses of one network get its prefix.
func TestAPrefixOfIPv6(t *testing.T) {
	w := harbour(t)
	for i := range 10 {
		w.sees(fmt.Sprintf("2001:db8:5:1::%x", 1+i*3), "fares-entry-live-1", "tcp/8444", i%7)
		w.sees(fmt.Sprintf("2001:db8:5:1::%x", 1+i*3), "fares-entry-live-2", "tcp/8444", i%7)
	}
	require.Equal(t, []string{"permit 2001:db8:5:1::/123 -> fares-entry-live on tcp/8444"}, rules(w.derive("", 0.5)))
}

func TestRangesOfPorts(t *testing.T) {
	ports := func(n int, of ...uint32) map[uint32]int {
		out := map[uint32]int{}
		for _, p := range of {
			out[p] = n
		}
		return out
	}
	for _, x := range []struct {
		seen map[uint32]int
		want [][2]uint32
	}{
		{ports(3, 8080, 8443), nil},
		{ports(5, 8080, 8081, 8443, 9090), nil}, // services of their own
		{ports(1, 10081, 10083, 10084, 10088), [][2]uint32{{10080, 10089}}},
		{ports(1, 30017, 30122, 30190, 30251, 30344, 30388), [][2]uint32{{30000, 30399}}},
		{ports(2, 50011, 61234), [][2]uint32{{49152, 65535}}},
		{ports(1, 6514, 8530, 20001, 20002, 20003, 20004), [][2]uint32{{20000, 20009}}},
		{ports(1, 49150, 49151, 49153, 49160), [][2]uint32{{49152, 65535}}}, // not over the edge
	} {
		require.Equal(t, x.want, derive.RangesOf(x.seen), x.seen)
	}
	many := ports(1, 10081, 10083, 10084, 10088)
	many[10082] = 40 // one of them is a service of its own
	require.Equal(t, [][2]uint32{{10080, 10089}}, derive.RangesOf(many))
}

// It can be stopped while rules are chosen, not only at the beginning.
func TestStoppedWhileChoosing(t *testing.T) {
	x := fieldOf(t, sample.Families[0], 1)
	for _, at := range []float64{0.25, 0.35, 0.6, 0.9} {
		asked := 0.0
		require.Nil(t, derive.Derive(derive.Input{Compiled: x.compiled, Conversations: x.seen, Judged: true,
			Balance: derive.DefaultBalance, Progress: func(done float64) bool {
				require.GreaterOrEqual(t, done, asked)
				asked = done
				return done < at
			}}))
		require.Less(t, asked, at+0.35)
	}
}

// Grown estates are the same for the same seed, and what is needed is never what
// an attacker does.
func TestGrownEstatesAreSound(t *testing.T) {
	for _, f := range sample.Families {
		a, b := sample.Grow(f, 5), sample.Grow(f, 5)
		require.Equal(t, a, b, f.Name)
		require.Greater(t, a.Needs, 8, f.Name)
		e, conflicts := estate.New(a.Workloads)
		require.Empty(t, conflicts)
		needed := map[triple]bool{}
		for _, week := range a.Weeks {
			for _, x := range week {
				if x.Needed {
					needed[tripleOf(e, x)] = true
				}
			}
		}
		kinds := map[string]int{}
		for _, week := range a.Weeks {
			for _, x := range week {
				if !x.Needed {
					kinds[x.Kind]++
					require.False(t, needed[tripleOf(e, x)], "%s: %s %v", f.Name, x.Kind, x.Record)
				}
			}
		}
		require.GreaterOrEqual(t, len(kinds), 7, f.Name)
	}
}

// On top of a draft only the difference is proposed: what was derived once is not
// derived again, and what it decides stays as it is.
func TestDerivingAgainProposesNothing(t *testing.T) {
	for _, f := range []sample.Family{sample.Families[0], sample.Families[5], sample.Families[9]} {
		x := fieldOf(t, f, 4)
		_, r := x.derived(t, derive.DefaultBalance)
		p, errs := policy.Parse(policy.InsertAllowances("", r.Lines()))
		require.Empty(t, errs)
		c := decide.Compile(x.estate, p, estate.Instant{})
		var g derive.Gather
		for _, told := range x.grown.Weeks[0] {
			g.Add(derive.Observed(c, told.Record))
		}
		again := derive.Derive(derive.Input{Compiled: c, Conversations: g.Conversations,
			Balance: derive.DefaultBalance})
		require.Equal(t, r.Considered-r.Covered, again.Considered, f.Name)
		require.LessOrEqual(t, len(again.Proposals), 2, f.Name)
	}
}
