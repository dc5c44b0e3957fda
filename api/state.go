package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// snapshot gives the state of the estate that a request answers from.
func (b *base) snapshot(ctx context.Context) (*model.Model, error) {
	m, err := b.Model(ctx)
	if err != nil {
		return nil, err
	}
	return m, nil
}

// Window is the stretch of time that a request speaks of.
type Window struct {
	From string `query:"from" doc:"Start of the window, RFC 3339; without it, the first conversation"`
	To   string `query:"to" doc:"End of the window, RFC 3339; without it, the last conversation"`
}

func (w Window) hours(m *model.Model) (from, to flow.Hour, err error) {
	from, to = m.From, m.To
	for _, b := range []struct {
		text string
		hour *flow.Hour
		name string
	}{{w.From, &from, "from"}, {w.To, &to, "to"}} {
		if b.text == "" {
			continue
		}
		t, bad := estate.ParseInstant(b.text)
		if bad != nil {
			return 0, 0, huma.Error422UnprocessableEntity(b.name + ": " + bad.Error())
		}
		*b.hour = flow.HourOf(t)
	}
	// Nothing was seen outside of what there is: a wider window is the same one.
	from, to = max(from, m.From), min(to, m.To)
	return from, max(from, to), nil
}

// view gives the conversations of a window under the draft.
func (b *base) view(ctx context.Context, w Window) (*reach.View, *model.Model, error) {
	return b.viewAgainst(ctx, w, 0)
}

// viewAgainst is view, compared with another revision of the policy over the
// same window and estate; 0 is none.
func (b *base) viewAgainst(ctx context.Context, w Window, revision int) (*reach.View, *model.Model, error) {
	m, err := b.snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	from, to, err := w.hours(m)
	if err != nil {
		return nil, nil, err
	}
	v, err := b.Models.View(ctx, m, from, to, revision)
	if err != nil {
		return nil, nil, err
	}
	return v, m, nil
}
