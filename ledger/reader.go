package ledger

import (
	"context"

	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// Reader reads filters, with what other steps know of single conversations.
type Reader struct {
	// Aside adds the conversations that the newest derivation set aside for a reason.
	Aside func(ctx context.Context, reason string, add func(reach.Talk)) error
	// Rejected adds the conversations that the newest release rejects at the points of
	// a wave.
	Rejected func(ctx context.Context, m *model.Model, wave int, add func(reach.Talk)) error
}

// QueryOf reads a filter. It asks other steps only for what the filter names.
func (r *Reader) QueryOf(ctx context.Context, m *model.Model, f Filter) (reach.Query, error) {
	q, err := f.Query(m)
	if err != nil || f.Aside == "" && f.Wave == 0 {
		return q, err
	}
	q.Only = map[reach.Talk]bool{}
	add := func(t reach.Talk) { q.Only[t] = true }
	if f.Wave != 0 {
		return q, r.Rejected(ctx, m, f.Wave, add)
	}
	return q, r.Aside(ctx, f.Aside, add)
}
