package flow_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Without a handshake, what comes on the same ports within five minutes is the same
// connection, and what comes later another one.
func TestAfterWhatPauseItIsAnotherConnection(t *testing.T) {
	for pause, want := range map[flow.Micros]int64{4 * 60 * second: 1, 6 * 60 * second: 2, 40 * 60 * second: 2} {
		one := truth{conversation: conversation{host(1, 1), host(2, 1), service.PointOf(service.UDP, 4500)},
			clientPort: 40001, start: began, length: second, out: sums{0, 9, 900}, back: sums{0, 8, 800}}
		two := one
		two.start += second + pause
		var all []arrival
		for _, c := range []truth{one, two} {
			for _, reply := range []bool{false, true} {
				for _, x := range c.observe(0, reply, 60*second, false) {
					all = append(all, arrival{x.End, x})
				}
			}
		}
		got := totals(run(flow.NewJoiner(flow.JoinOptions{Linger: 3600 * second}, flow.NewSides()), all))
		require.Equal(t, want, got[one.conversation].connections, "a pause of %d s", pause/second)
	}
}
