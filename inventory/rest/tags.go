package rest

import (
	"context"

	// Tags set for chosen workloads.
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/server"
)

// Chosen selects workloads: by id, or all that a filter selects.
type Chosen struct {
	Workloads []string        `json:"workloads,omitempty" doc:"Ids"`
	Filter    *workloadChoice `json:"filter,omitempty" doc:"Instead of ids"`
	Count     int             `json:"count,omitempty" doc:"Of a filter: how many it selected when it was looked at; if they are others now, nothing is changed"`
}

// workloadChoice is a WorkloadFilter in a body.
type workloadChoice struct {
	Text  string   `json:"q,omitempty"`
	Tags  []string `json:"tag,omitempty"`
	Group string   `json:"group,omitempty"`
	Guard string   `json:"guarded,omitempty" enum:"both,server,client,none,exempt"`
}

type setTagsInput struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Chosen
		Key   string  `json:"key" minLength:"1"`
		Value string  `json:"value" doc:"Empty: the workload does not have the tag"`
		Was   *string `json:"was,omitempty" doc:"Of one workload: the value that was shown. If it has another one by now, nothing is changed"`
	}
}

// chosenIDs returns the ids that are meant.
func (s *Selector) chosenIDs(ctx context.Context, snap *model.Model, c Chosen) ([]string, error) {
	if c.Filter == nil {
		if len(c.Workloads) == 0 {
			return nil, huma.Error422UnprocessableEntity("workloads: found none, expected ids or a filter")
		}
		return c.Workloads, nil
	}
	selected, err := s.selectGuarded(ctx, snap, inventory.Filter{Text: c.Filter.Text, Tags: c.Filter.Tags,
		Group: c.Filter.Group, Guard: c.Filter.Guard})
	if err != nil {
		return nil, err
	}
	if len(selected) != c.Count {
		return nil, huma.Error409Conflict(fmt.Sprintf("the filter selects %d workloads by now, and %d when it was "+
			"looked at; nothing was changed: look again", len(selected), c.Count))
	}
	out := make([]string, len(selected))
	for i, w := range selected {
		out[i] = snap.Estate.Workload(w).ID
	}
	return out, nil
}

func (s *Workloads) setTags(ctx context.Context, in *setTagsInput) (*server.Body[consequences.Consequences], error) {
	before, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	ids, err := s.chosenIDs(ctx, snap, in.Body.Chosen)
	if err != nil {
		return nil, err
	}
	edits := make([]inventory.TagEdit, len(ids))
	for i, id := range ids {
		edits[i] = inventory.TagEdit{Workload: id, Key: in.Body.Key, Value: &in.Body.Value}
	}
	if len(edits) == 1 {
		edits[0].Was = in.Body.Was
	}
	what := snap.Estate.Called(ids[0])
	if n := len(ids); n > 1 {
		what = fmt.Sprintf("%d workloads", n)
	}
	words := fmt.Sprintf("Set %s = %s on %s", in.Body.Key, in.Body.Value, what)
	if in.Body.Value == "" {
		words = fmt.Sprintf("Clear %s of %s", in.Body.Key, what)
	}
	c, err := s.SetTags(ctx, before, snap, edits, words, in.DryRun)
	return server.OK(c), err
}
