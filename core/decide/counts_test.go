package decide_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/sample"
)

// A group is counted by asking everybody who is not retired, one by one: at the
// first address held, or without one.
func TestGroupCountsAskEverybodyOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		drawn := sample.Estate(t)
		var ws []estate.Workload
		for _, w := range drawn.All() {
			one := *w
			if rapid.IntRange(0, 4).Draw(t, "retired") == 0 {
				one.Retired = time.Unix(1_700_000_000, 0)
			}
			ws = append(ws, one)
		}
		e, conflicts := estate.New(ws)
		require.Empty(t, conflicts)
		p, at := parse(t, sample.Policy(t)), sample.Instant(t)
		walk := decide.NewWalk(e, p, at)
		want := make([]decide.GroupCount, len(p.GroupOrder))
		for i, w := range e.All() {
			if !w.Retired.IsZero() {
				continue
			}
			ep, addressed := estate.Endpoint{Workload: i}, false
			for _, l := range w.Leases {
				if held := e.At(l.Addr, at); held.Workload == i {
					ep, addressed = held, true
					break
				}
			}
			for g, group := range p.GroupOrder {
				switch walk.Group(group.Name, ep) {
				case expr.Yes:
					want[g].In++
					if !addressed {
						want[g].Unaddressed++
					}
				case expr.Undecided:
					want[g].Undecided++
				}
			}
		}
		require.Equal(t, want, decide.Compile(e, p, at).GroupCounts(at))
	})
}
