package answers

import (
	"context"

	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/ledger"
	"lucidorchard/model"
)

// Desk is where handlers take the state that they answer from.
type Desk struct {
	Models *model.Keeper
	Ledger *ledger.Reader
}

// Snapshot returns the state of the estate that a request answers from.
func (b *Desk) Snapshot(ctx context.Context) (*model.Model, error) {
	m, err := b.Models.Current(ctx)
	if err != nil {
		return nil, err
	}
	return m, nil
}

// View returns the conversations of a window under the draft.
func (b *Desk) View(ctx context.Context, w Window) (*reach.View, *model.Model, error) {
	return b.ViewAgainst(ctx, w, 0)
}

// ViewAgainst is View, compared with another revision of the policy over the
// same window and estate; 0 is none.
func (b *Desk) ViewAgainst(ctx context.Context, w Window, revision int) (*reach.View, *model.Model, error) {
	m, err := b.Snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	from, to, err := w.Hours(m)
	if err != nil {
		return nil, nil, err
	}
	v, err := b.Models.View(ctx, m, from, to, revision)
	if err != nil {
		return nil, nil, err
	}
	return v, m, nil
}

// GroupsInOrder returns the groups in the order of the text.
func GroupsInOrder(p *policy.Policy) []*policy.Group {
	var out []*policy.Group
	for _, item := range p.Items {
		if g, ok := item.Statement.(*policy.Group); ok {
			out = append(out, g)
		}
	}
	return out
}

// LiveStore is where what is uncovered matters most.
var LiveStore = func() *expr.Expr {
	e, _ := expr.ParseText("tier is store and env is live")
	return e
}()

// Asked returns the view of a window, compared with another revision if the filter
// says so, and what the filter asks of it.
func (s *Desk) Asked(ctx context.Context, w Window, f ledger.Filter) (*reach.View, *model.Model, reach.Query, error) {
	v, snap, err := s.ViewAgainst(ctx, w, f.Against)
	if err != nil {
		return nil, snap, reach.Query{}, err
	}
	q, err := s.Ledger.QueryOf(ctx, snap, f)
	return v, snap, q, err
}

// PartKey is what For takes for a part by its name.
func PartKey(by, name string) string {
	switch by {
	case reach.ByArea:
		return reach.OfArea + ":" + name
	case reach.ByOwner:
		return reach.OfOwner + ":" + name
	}
	return by + ":" + name
}
