package collect

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/traffic/rows"
)

// Whatever comes, each record is in one of the batches that are stored by themselves, and so is all
// of its conversation; and what was not taken comes again.
func TestConversationsAreStoredWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		k := newKnown()
		var b batch
		asked := 0
		b.changes(func(netip.Addr, estate.Instant) (estate.Instant, bool) { asked++; return estate.Instant{}, false })
		want := map[string]int64{}
		for n := range rapid.IntRange(0, 200).Draw(t, "records") {
			x := one(rapid.IntRange(0, 30).Draw(t, "client"), "x")
			x.Connections, x.SourcePort = rapid.Int64Range(1, 3).Draw(t, "connections"), uint16(n)
			h := k.hash(talk{x.Client, x.Server, x.Point})
			b.add(h, &x)
			b.open(h, &flow.Open{Client: x.Client, ClientPort: uint16(n)})
			want[x.Client.String()] += x.Connections
		}
		n := b.len()
		in := map[string]int{} // conversation: batch
		sessions := map[uint16]int{}
		records := 0
		got := map[string]int64{}
		for round := 0; ; round++ {
			next, opened, forget := b.next()
			if next == nil {
				break
			}
			if rapid.Bool().Draw(t, "is not taken") {
				continue
			}
			forget()
			records += len(next.Records)
			require.LessOrEqual(t, len(next.Records), inOne)
			gathered := rows.BatchOf("", next.Records, nil)
			require.ElementsMatch(t, gathered.Buckets, next.Buckets)
			for _, x := range next.Buckets {
				_, twice := in[x.Client.String()]
				require.False(t, twice, "a conversation is in two batches")
				in[x.Client.String()] = round
				got[x.Client.String()] += x.Connections
			}
			for _, o := range opened {
				sessions[o.ClientPort]++
				require.Equal(t, round, in[o.Client.String()], "a session is with its conversation")
			}
		}
		require.Equal(t, n, records)
		require.Equal(t, want, got)
		require.Len(t, sessions, n)
		require.Zero(t, b.len())
		x := one(7, "x")
		asked = 0
		b.add(k.hash(talk{x.Client, x.Server, x.Point}), &x)
		require.Equal(t, 2, asked, "when addresses changed hands is still asked")
	})
}

func TestBatchesAreSmallEnough(t *testing.T) {
	k := newKnown()
	var b batch
	for n := range 3 * inOne {
		x := one(n, fmt.Sprint(n%7))
		x.Server = netip.AddrFrom4([4]byte{10, 2, byte(n >> 16), 1})
		b.add(k.hash(talk{x.Client, x.Server, x.Point}), &x)
	}
	batches := 0
	for next, _, forget := b.next(); next != nil; next, _, forget = b.next() {
		require.LessOrEqual(t, len(next.Records), inOne)
		forget()
		batches++
	}
	require.InDelta(t, 4, batches, 1)
}

// New is what did not go on lately: all of it until it is in the spool, each outcome by itself, and
// again when it was quiet for long.
func TestWhatIsNew(t *testing.T) {
	k := newKnown()
	a, b := k.hash(talk{netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"),
		service.PointOf(service.TCP, 22)}),
		k.hash(talk{netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2"),
			service.PointOf(service.TCP, 443)})
	require.True(t, k.new(a, flow.Carried))
	require.True(t, k.new(a, flow.Carried), "until it is in the spool")
	require.True(t, k.opened(a))
	require.False(t, k.opened(b))
	k.spooled()
	require.False(t, k.opened(a))
	require.False(t, k.new(a, flow.Carried))
	require.True(t, k.new(a, flow.Dropped), "that is something else")
	require.True(t, k.new(b, flow.Carried))
	k.spooled()
	old := func() {
		k.since = k.since.Add(-2 * knownFor)
		k.turn()
	}
	old()
	require.False(t, k.new(a, flow.Carried), "it goes on")
	old()
	require.False(t, k.new(a, flow.Carried))
	require.True(t, k.new(b, flow.Carried), "it has been quiet")
}

// What is new goes to the database before what waits, and no batch is dropped that is on its way.
func TestWhatIsNewGoesFirst(t *testing.T) {
	s, err := openSpool(t.TempDir(), 1<<30)
	require.NoError(t, err)
	defer s.close()
	put := func(n int, fresh bool) {
		b := rows.BatchOf("", []flow.Joined{one(n, "x")}, nil)
		require.NoError(t, s.put(&b, nil, fresh))
	}
	put(1, false)
	put(2, false)
	onItsWay, err := s.next()
	require.NoError(t, err)
	put(3, true)
	put(4, true)
	require.True(t, s.hasFresh())
	require.Empty(t, s.stored(onItsWay, time.Second, false))
	var order []netip.Addr
	var told int
	for range 3 {
		e, err := s.next()
		require.NoError(t, err)
		require.NoError(t, e.EachRecord(func(r *flow.Joined) { order = append(order, r.Client) }))
		told += len(s.stored(e, time.Millisecond, false))
	}
	require.Equal(t, []netip.Addr{one(3, "").Client, one(4, "").Client, one(2, "").Client}, order)
	require.Equal(t, 1, told, "what is held in memory is of one batch")
	none, err := s.next()
	require.NoError(t, err)
	require.Nil(t, none)
	require.Equal(t, time.Millisecond, s.took)

	put(5, false)
	put(6, false)
	put(7, false)
	_, err = s.next()
	require.NoError(t, err)
	s.most = 1
	put(8, false)
	require.Len(t, s.files, 2)
	require.Equal(t, []string{s.now}, []string{s.files[0].name}, "it is on its way")
	require.Equal(t, int64(2), s.lostRows)
}
