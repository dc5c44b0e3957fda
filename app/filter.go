package app

import (
	"context"

	"lucidorchard/core/reach"
	"lucidorchard/ledger"
	"lucidorchard/model"
	"lucidorchard/releasing"
)

// QueryOf reads a filter, with what the newest derivation set aside and what the newest
// release rejects at a wave, as far as it asks for them.
func (a *App) QueryOf(ctx context.Context, m *model.Model, f ledger.Filter) (reach.Query, error) {
	q, err := f.Query(m)
	if err != nil || f.Aside == "" && f.Wave == 0 {
		return q, err
	}
	q.Only = map[reach.Talk]bool{}
	if f.Wave != 0 {
		return q, a.onlyRejected(ctx, m, f.Wave, q.Only)
	}
	found, err := a.Store.SetAside(ctx, f.Aside)
	if err != nil {
		return q, err
	}
	for _, x := range found {
		q.Only[reach.Talk{Client: x.Client, Server: x.Server, Point: x.Point}] = true
	}
	return q, nil
}

// onlyRejected adds the conversations that the newest release rejects at the points of a
// wave.
func (a *App) onlyRejected(ctx context.Context, m *model.Model, wave int, only map[reach.Talk]bool) error {
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return err
	}
	p, err := a.Progress(ctx, v, m)
	if err != nil || len(p.Releases) == 0 {
		return err
	}
	list, err := a.Rejections(ctx, v, m, p.Releases[0].No, p.of(&WaveState{Wave: releasing.Wave{No: wave}}))
	for _, x := range list {
		c := v.At(x.Index)
		only[reach.Talk{Client: c.Client.Addr, Server: c.Server.Addr, Point: c.Point}] = true
	}
	return err
}
