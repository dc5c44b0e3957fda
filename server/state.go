package server

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// snapshot gives the state of the estate that a request answers from: one that
// knows all that was written before the request came.
func (s *Server) snapshot(ctx context.Context) (*model.Model, error) {
	m, err := s.models.Current(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
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
func (s *Server) view(ctx context.Context, w Window) (*reach.View, *model.Model, error) {
	m, err := s.snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	v, err := s.viewOf(ctx, m, w)
	return v, m, err
}

// viewOf is view of a model that is there.
func (s *Server) viewOf(ctx context.Context, m *model.Model, w Window) (*reach.View, error) {
	from, to, err := w.hours(m)
	if err != nil {
		return nil, err
	}
	v, err := m.View(ctx, from, to)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	return v, nil
}

// viewAgainst is view, compared with another revision of the policy over the
// same window and estate; 0 is none.
func (s *Server) viewAgainst(ctx context.Context, w Window, revision int) (*reach.View, *model.Model, error) {
	v, m, err := s.view(ctx, w)
	if err != nil || revision == 0 {
		return v, m, err
	}
	p, err := s.revisionPolicy(ctx, revision)
	if err != nil {
		return nil, nil, err
	}
	out, err := m.Against(ctx, v, revision, p)
	if err != nil {
		return nil, nil, s.failed(ctx, err)
	}
	return out, m, nil
}

// revisionPolicy gives the policy of a revision.
func (s *Server) revisionPolicy(ctx context.Context, revision int) (*policy.Policy, error) {
	r, err := s.Store.Revision(ctx, revision)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, s.failed(ctx, err)
	}
	if r.No == 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no revision %d to compare with", revision))
	}
	p, _ := policy.Parse(r.Text)
	return p, nil
}
