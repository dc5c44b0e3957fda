package prove_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/service"
)

// layered writes a policy whose groups and services name some of the level behind them:
// deep, wide, or both. Its text grows with depth times width times named.
func layered(r *rand.Rand, depth, width, named int) string {
	var b strings.Builder
	names := func(kind string, level int) (out []string) {
		for range named {
			out = append(out, fmt.Sprintf("%s%d-%d", kind, level, r.IntN(width)))
		}
		return out
	}
	for level := range depth {
		for i := range width {
			if level == depth-1 {
				fmt.Fprintf(&b, "group g%d-%d = %s\nservice s%d-%d = tcp/%d\n", level, i,
					[]string{"tier is web", "has app", "env in (live, trial)", "name starts w"}[r.IntN(4)], level, i,
					1+r.IntN(60000))
				continue
			}
			parts := names("member of g", level+1)
			for k := range parts {
				if r.IntN(4) == 0 {
					parts[k] = "not (" + parts[k] + ")"
				}
			}
			fmt.Fprintf(&b, "group g%d-%d = %s\n", level, i, strings.Join(parts, []string{" and ", " or "}[r.IntN(2)]))
			fmt.Fprintf(&b, "service s%d-%d = %s\n", level, i, strings.Join(names("s", level+1), ", "))
		}
	}
	b.WriteString("layer l\npermit g0-0 -> any on s0-0\nreject any -> g0-0 on any\nassert never g0-0 -> g0-0 on s0-0\n")
	return b.String()
}

// Whatever groups and services name each other, what a policy takes is bounded by its
// text and the estate, not by the ways that lead through it.
func TestGraphsOfGroupsAreBounded(t *testing.T) {
	rounds := 12
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_GRAPHS")); err == nil {
		rounds = n
	}
	seed := uint64(rounds)
	var ws []estate.Workload
	for i := range 40 {
		w := estate.Workload{ID: fmt.Sprint("w", i), Name: fmt.Sprint("w", i),
			Leases: []estate.Lease{{From: estate.Beginning, Until: estate.End,
				Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(i)})}}}
		if i%3 > 0 {
			w.SetTag(estate.Tag{Key: "tier", Value: []string{"web", "store"}[i%2]})
		}
		if i%5 > 0 {
			w.SetTag(estate.Tag{Key: "env", Value: []string{"live", "trial", "bench"}[i%3]})
		}
		ws = append(ws, w)
	}
	e, conflicts := estate.New(ws)
	require.Empty(t, conflicts)
	r := rand.New(rand.NewPCG(seed, 7))
	shapes := [][3]int{{60, 2, 2}, {400, 2, 2}, {6, 20, 20}, {2, 300, 100}, {2000, 1, 1}, {100, 5, 3}}
	for round := range rounds {
		shape := shapes[round%len(shapes)]
		if round >= len(shapes) {
			shape = [3]int{1 + r.IntN(300), 1 + r.IntN(12), 1 + r.IntN(6)}
		}
		text := layered(r, shape[0], shape[1], shape[2])
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		c := decide.Compile(e, p, estate.Instant{})
		c.Decide(c.At(netip.AddrFrom4([4]byte{10, 0, 0, 1}), estate.Instant{}),
			c.At(netip.AddrFrom4([4]byte{10, 0, 0, 2}), estate.Instant{}), service.PointOf(service.TCP, 443))
		prove.Findings(c)
		prove.Assertions(c)
		reasons := 0
		var count func([]expr.Reason)
		count = func(rs []expr.Reason) {
			reasons += len(rs)
			for i := range rs {
				count(rs[i].Kids)
			}
		}
		walk := decide.NewWalk(e, p, estate.Instant{})
		tr := walk.Trace(estate.Endpoint{Workload: 1}, estate.Endpoint{Workload: 2}, service.PointOf(service.TCP, 443))
		for _, s := range tr.Steps {
			for _, m := range s.Because {
				count(m.Reasons)
			}
		}
		for _, m := range append(tr.Client, tr.Server...) {
			count(m.Reasons)
		}
		q, errs := policy.Parse(strings.Replace(text, "tier is web", "tier is store", 1))
		require.Empty(t, errs)
		c.WithPolicy(q, estate.Instant{})
		runtime.ReadMemStats(&after)
		took := after.TotalAlloc - before.TotalAlloc
		bound := uint64(20<<20) + 500*uint64(len(text))
		require.Less(t, took, bound, "%d levels of %d that name %d each: %d octets of text", shape[0], shape[1],
			shape[2], len(text))
		require.Less(t, reasons, 8*(shape[0]*shape[1]*(shape[2]+1)+8), "reasons")
		t.Logf("%v: %d octets of text, %d MB allocated, %d reasons", shape, len(text), took>>20, reasons)
	}
}
