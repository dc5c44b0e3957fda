package model

import (
	"context"
	"errors"
	"fmt"

	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/database"
	"lucidorchard/refuse"
)

// View returns the conversations of the hours [from, to) under the draft of m, compared
// with another revision of the policy over the same window and estate; 0 is none.
func (k *Keeper) View(ctx context.Context, m *Model, from, to flow.Hour, against int) (*reach.View, error) {
	v, err := m.View(ctx, from, to)
	if err != nil || against == 0 {
		return v, err
	}
	p, err := k.RevisionPolicy(ctx, against)
	if err != nil {
		return nil, err
	}
	return m.Against(ctx, v, against, p)
}

// RevisionPolicy returns the policy of a revision.
func (k *Keeper) RevisionPolicy(ctx context.Context, revision int) (*policy.Policy, error) {
	r, err := k.store.Revision(ctx, revision)
	if err != nil && !errors.Is(err, database.ErrNone) {
		return nil, err
	}
	if r.No == 0 {
		return nil, refuse.Missing(fmt.Sprintf("there is no revision %d to compare with", revision))
	}
	p, _ := policy.Parse(r.Text)
	return p, nil
}
