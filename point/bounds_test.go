package point

import (
	"net/netip"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan/nft"
)

func TestABacklogDropsItsOldest(t *testing.T) {
	var b backlog
	for n := range int64(mostUnsent) {
		b.keep(unsent{conversations: n})
	}
	require.Len(t, b, mostUnsent)
	require.EqualValues(t, 0, b[0].conversations, "nothing is dropped while there is room")
	b.keep(unsent{conversations: mostUnsent})
	require.Len(t, b, mostUnsent)
	require.EqualValues(t, 1, b[0].conversations)
	require.EqualValues(t, mostUnsent, b[mostUnsent-1].conversations)
}

// The kernel forgets an ended connection for which no packet came for nft.EndedFor: that is no
// drift. Before that, a connection that it does not drop is.
func TestEndedConnectionsAreMissedUntilTheKernelMayForgetThem(t *testing.T) {
	at := netip.MustParseAddrPort
	young := ended{Client: at("10.0.0.1:40000"), Server: at("10.0.0.2:22"), Proto: 6}
	old := ended{Client: at("10.0.0.3:40000"), Server: at("10.0.0.2:22"), Proto: 6}
	n := &Nftables{ended: map[ended]since{young: {At: time.Now().Add(time.Minute - nft.EndedFor)},
		old: {At: time.Now().Add(-time.Minute - nft.EndedFor)}}, freed: map[string]time.Time{}}
	before := n.endedNow()

	missing, extra, back := n.compareEnded(nil, false, before)
	require.Equal(t, 2, missing, "both directions of the young one")
	require.Zero(t, extra)
	require.Empty(t, back)
	require.Contains(t, n.ended, young)
	require.NotContains(t, n.ended, old)

	stranger := ended{Client: at("10.0.0.9:40000"), Server: at("10.0.0.2:22"), Proto: 6}
	missing, extra, _ = n.compareEnded(keysOf([]ended{young, stranger}, false), false, before)
	require.Zero(t, missing)
	require.Equal(t, 2, extra, "what nobody ended")

	missing, _, _ = n.compareEnded(nil, false, map[ended]since{})
	require.Zero(t, missing, "it was ended after the kernel was read")
}

// A connection that is permitted again and that a packet brought back is deleted once more, for
// a minute.
func TestFreedConnectionsAreDeletedAgainForAMinute(t *testing.T) {
	at := netip.MustParseAddrPort
	keys := keysOf([]ended{{Client: at("10.0.0.1:40000"), Server: at("10.0.0.2:22"), Proto: 6}}, false)
	require.Len(t, keys, 2)
	a, b := string(keys[0].Key), string(keys[1].Key)
	n := &Nftables{ended: map[ended]since{}, freed: map[string]time.Time{
		a: time.Now(), b: time.Now().Add(-2 * time.Minute)}}
	missing, extra, back := n.compareEnded([]nftables.SetElement{{Key: []byte(a)}}, false, nil)
	require.Zero(t, missing)
	require.Zero(t, extra)
	require.Equal(t, []nftables.SetElement{{Key: []byte(a)}}, back)
	require.Contains(t, n.freed, a)
	require.NotContains(t, n.freed, b)
}
