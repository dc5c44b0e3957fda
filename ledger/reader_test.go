package ledger_test

import (
	"context"
	"errors"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/ledger"
	"lucidorchard/model"
)

// A filter asks other steps only for what it names, and is narrowed to what they say.
func TestAFilterIsReadWithWhatOthersKnow(t *testing.T) {
	e, _ := estate.New(nil)
	p, errs := policy.Parse("layer l\n")
	require.Empty(t, errs)
	m := model.Of(e, p, estate.Instant{Sec: 1_795_000_000})
	talk := func(n byte) reach.Talk {
		return reach.Talk{Client: netip.AddrFrom4([4]byte{10, 0, 0, n}), Server: netip.AddrFrom4([4]byte{10, 0, 1, n}),
			Point: service.PointOf(service.TCP, 443)}
	}
	var asked []string
	away := errors.New("the database is away")
	r := &ledger.Reader{
		Aside: func(_ context.Context, reason string, add func(reach.Talk)) error {
			asked = append(asked, "aside "+reason)
			add(talk(1))
			return nil
		},
		Rejected: func(_ context.Context, _ *model.Model, wave int, add func(reach.Talk)) error {
			asked = append(asked, "rejected")
			if wave == 9 {
				return away
			}
			add(talk(2))
			return nil
		},
	}
	q, err := r.QueryOf(t.Context(), m, ledger.Filter{})
	require.NoError(t, err)
	require.Nil(t, q.Only, "nothing was asked for")
	require.Empty(t, asked)
	q, err = r.QueryOf(t.Context(), m, ledger.Filter{Aside: "scan"})
	require.NoError(t, err)
	require.Equal(t, map[reach.Talk]bool{talk(1): true}, q.Only)
	q, err = r.QueryOf(t.Context(), m, ledger.Filter{Wave: 1})
	require.NoError(t, err)
	require.Equal(t, map[reach.Talk]bool{talk(2): true}, q.Only)
	require.Equal(t, []string{"aside scan", "rejected"}, asked)
	_, err = r.QueryOf(t.Context(), m, ledger.Filter{Wave: 9})
	require.ErrorIs(t, err, away)
}
