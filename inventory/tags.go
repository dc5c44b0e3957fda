package inventory

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"lucidorchard/consequences"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// SourceValue is what one source says of one tag.
type SourceValue struct {
	Workload string    `db:"workload"`
	Key      string    `db:"key"`
	Source   string    `db:"source"`
	Value    string    `db:"value"`
	Author   string    `db:"author"`
	At       time.Time `db:"at"`
}

// FormerValue is what a source or a person said of a tag before.
type FormerValue struct {
	SourceValue
	Until time.Time `db:"until"`
}

// ValueSpan is a value with the span in which it was said.
type ValueSpan struct {
	SourceValue
	Until *time.Time `db:"until"`
	Rank  int        `db:"rank"`
}

// RefusedTag is a suggestion that somebody said is wrong.
type RefusedTag struct {
	Workload string    `db:"workload"`
	Key      string    `db:"key"`
	Value    string    `db:"value"`
	Author   string    `db:"author"`
	At       time.Time `db:"at"`
}

// TagEdit sets a tag by hand; an empty value says that the workload does not
// have it.
type TagEdit struct {
	Workload string  `json:"workload"`
	Key      string  `json:"key"`
	Value    *string `json:"value"` // nil: nothing is set by hand
	// Was is the value that counted when the edit was made, "" for none; nil: it does
	// not matter. Where another one counts by now, nothing is set: see ChangedError.
	Was *string `json:"-"`
}

// SetInapplicable declares for which workloads a tag does not apply: an expression without
// groups; blank: it applies to all. Nothing that groups say changes by it.
func (a *Service) SetInapplicable(ctx context.Context, key, where string) error {
	where = strings.TrimSpace(where)
	if where != "" {
		if _, err := decide.ParseInapplicable(map[string]string{key: where}); err != nil {
			return refuse.Invalid(err.Error())
		}
	}
	if err := a.Store.SetInapplicable(ctx, key, where); err != nil {
		return err
	}
	a.Models.Nudge()
	return nil
}

// ChangedError reports that somebody else has changed it first.
type ChangedError struct {
	TagEdit
	Now    string // the value that counts now
	Source string
	Author string
}

func (e *ChangedError) Error() string {
	name := func(v string) string {
		if v == "" {
			return "missing"
		}
		return v
	}
	by := cmp.Or(e.Author, e.Source, "nobody")
	return fmt.Sprintf("somebody else has changed this meanwhile. %s of %s was %s; now it is %s, by %s. Nothing was "+
		"changed", e.Key, e.Workload, name(*e.Was), name(e.Now), by)
}

// Unwrap returns the error as a problem that whoever asked can put right.
func (e *ChangedError) Unwrap() error {
	return &refuse.Problem{Kind: refuse.IsMoved, Detail: e.Error()}
}

// SetTags sets tags by hand as one change, or says what that would do. What an
// edit was made on is looked at before, and by the store once more where nothing
// can come between.
func (a *Service) SetTags(ctx context.Context, before *reach.View, snap *model.Model, edits []TagEdit,
	words string, dryRun bool) (consequences.Consequences, error) {
	changed := map[string]*estate.Workload{}
	var put []estate.Workload
	for _, e := range edits {
		i, ok := snap.Estate.ByID(e.Workload)
		if !ok {
			return consequences.Consequences{}, refuse.Missing("there is no workload with the id " + e.Workload +
				"; nothing was changed")
		}
		if now, _ := snap.Estate.Workload(i).Tag(e.Key); e.Was != nil && now.Value != *e.Was {
			return consequences.Consequences{}, &ChangedError{TagEdit: e, Now: now.Value, Source: now.Source,
				Author: now.By}
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
	out := consequences.ConsequencesOf(before, snap, model.NewAfter(snap.Compiled.WithEstate(e, touched)))
	if dryRun {
		return out, nil
	}
	if err := a.Store.SetTags(ctx, edits, a.Author, words); err != nil {
		return out, err
	}
	a.reached(ctx)
	return out, nil
}
