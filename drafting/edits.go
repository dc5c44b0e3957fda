package drafting

import (
	"context"
	"errors"
	"slices"
	"time"

	"lucidorchard/consequences"
	"lucidorchard/core/policy"
	"lucidorchard/database"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// Edit is what people change in one step: all of it is stored, or nothing, and
// it is undone as one.
type Edit struct {
	Words, Author string
	Revision      *model.Revision // made from its predecessor; if another came first, Apply gives ErrMoved
	Refusals      []RefusalEdit
	Probes        []ProbeEdit
}

// RefusalEdit sets the refusal of a rule, or takes it away.
type RefusalEdit struct {
	Rule    string   `json:"rule"`
	Refusal *Refusal `json:"refusal"`
}

// ProbeEdit sets a probe, or drops it.
type ProbeEdit struct {
	Question string       `json:"question"`
	Probe    *model.Probe `json:"probe"`
}

// Refusal is a proposal that somebody refused.
type Refusal struct {
	Rule   string    `db:"rule"`
	Reason string    `db:"reason"`
	Author string    `db:"author"`
	At     time.Time `db:"at"`
	// What was behind it then; 0 is not known.
	Conversations int `db:"conversations"`
	Callers       int `db:"callers"`
	// The sentence of the rule that was taken instead; while it stands in the
	// draft, the refusal holds. Blank: it was refused for good.
	Instead string `db:"instead"`
}

// Locate finds where a line of an older revision stands now. A line that has
// changed meanwhile is refused, with both versions.
func (a *Service) Locate(ctx context.Context, snap *model.Model, base, line int) (int, error) {
	if base == snap.Head.No || line == 0 {
		return line, nil
	}
	old, err := a.Store.Revision(ctx, base)
	if errors.Is(err, database.ErrNone) {
		return 0, refuse.Invalid("there is no revision with the number that the edit names")
	}
	if err != nil {
		return 0, err
	}
	before, after := policy.Lines(old.Text), policy.Lines(snap.Head.Text)
	if line < 1 || line > len(before) {
		return 0, refuse.Invalid("the revision has no such line")
	}
	where := policy.Follow(before, after)
	if to := where[line-1]; to > 0 {
		return to, nil
	}
	return 0, movedFrom(before[line-1], inPlace(where, after, line), snap.Head.No)
}

// inPlace reports what stands where a line stood that is no longer as it was:
// the new line behind the nearest one above it that has stayed.
func inPlace(where []int, after []string, line int) string {
	behind := 0
	for k := line - 2; k >= 0 && behind == 0; k-- {
		behind = where[k]
	}
	if behind < len(after) && after[behind] != "" && !slices.Contains(where, behind+1) {
		return after[behind]
	}
	return "it was removed"
}

// Unchanged refuses an edit of a statement that is not the one that was shown.
func Unchanged(snap *model.Model, line int, was string) error {
	if was == "" {
		return nil
	}
	for _, item := range snap.Policy.Items {
		if item.Statement == nil || item.First != line {
			continue
		}
		is := item.Statement.String()
		if g, ok := item.Statement.(*policy.Group); ok && was == g.Body() || was == is {
			return nil
		}
		return movedFrom(was, is, snap.Head.No)
	}
	return nil
}

// edited is what an edit did, or would do.
type edited struct {
	Revision     int
	Words        string
	Consequences *consequences.Consequences // of a dry run
}

// apply stores an edit, and tells of it.
func (a *Service) apply(ctx context.Context, e Edit) error {
	if e.Revision == nil && len(e.Refusals) == 0 && len(e.Probes) == 0 {
		return nil
	}
	err := a.Store.Apply(ctx, e)
	if errors.Is(err, database.ErrMoved) {
		return refuse.Moved("somebody else changed the policy at the same moment; nothing was changed. Try again")
	}
	if err != nil {
		return err
	}
	if len(e.Refusals) > 0 {
		a.Events.Changed()
	}
	a.Models.Nudge()
	return nil
}

// SaveText stores a new revision, with what changes of the probes along with it.
func (a *Service) SaveText(ctx context.Context, snap *model.Model, text, words string, probes ...ProbeEdit) (int,
	error) {
	if text == snap.Head.Text {
		return snap.Head.No, nil
	}
	if err := consequences.Affordable(snap, text); err != nil {
		return 0, err
	}
	r := model.Revision{No: snap.Head.No + 1, Text: text, Author: a.Author, Words: words,
		Blame: blame(snap.Head, text)}
	return r.No, a.apply(ctx, Edit{Words: words, Author: a.Author, Revision: &r, Probes: probes})
}

// blame returns for each line of the new text which revision wrote it.
func blame(before model.Revision, text string) model.Blame {
	lines := policy.Lines(text)
	out := make(model.Blame, len(lines))
	for i := range out {
		out[i] = before.No + 1
	}
	for i, to := range policy.Follow(policy.Lines(before.Text), lines) {
		if to > 0 && i < len(before.Blame) {
			out[to-1] = before.Blame[i]
		}
	}
	return out
}
