package app

import (
	"context"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/reach"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// SetTags sets tags by hand as one change, or says what that would do. What an
// edit was made on is looked at before, and by the store once more where nothing
// can come between.
func (a *App) SetTags(ctx context.Context, before *reach.View, snap *model.Model, edits []inventory.TagEdit,
	words string, dryRun bool) (Consequences, error) {
	changed := map[string]*estate.Workload{}
	var put []estate.Workload
	for _, e := range edits {
		i, ok := snap.Estate.ByID(e.Workload)
		if !ok {
			return Consequences{}, refuse.Missing("there is no workload with the id " + e.Workload + "; nothing was changed")
		}
		if now, _ := snap.Estate.Workload(i).Tag(e.Key); e.Was != nil && now.Value != *e.Was {
			return Consequences{}, &inventory.ChangedError{TagEdit: e, Now: now.Value, Source: now.Source, Author: now.By}
		}
		w := changed[e.Workload]
		if w == nil {
			copied := *snap.Estate.Workload(i)
			w = &copied
			changed[e.Workload] = w
		}
		w.SetTag(estate.Tag{Key: e.Key, Value: *e.Value, Source: estate.ByHand, By: a.Author, At: time.Now()})
	}
	for _, w := range changed {
		put = append(put, *w)
	}
	e, touched, _ := snap.Estate.With(put, nil)
	out := ConsequencesOf(before, snap, model.NewAfter(snap.Compiled.WithEstate(e, touched)))
	if dryRun {
		return out, nil
	}
	if err := a.Store.SetTags(ctx, edits, a.Author, words); err != nil {
		return out, err
	}
	a.Known(ctx)
	return out, nil
}
