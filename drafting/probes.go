package drafting

import (
	"context"
	"fmt"

	"lucidorchard/core/whatif"
	"lucidorchard/model"
)

// KeepProbes adds probes in one step that can be undone; one that is there gets
// the new verdict and reason.
func (a *Service) KeepProbes(ctx context.Context, probes []model.Probe) error {
	e := Edit{Author: a.Author}
	for _, p := range probes {
		e.Probes = append(e.Probes, ProbeEdit{Question: p.Question, Probe: &p})
	}
	if e.Words = fmt.Sprintf("Keep %d probes", len(probes)); len(probes) == 1 {
		e.Words = "Keep the probe “" + probes[0].Question + " = " + probes[0].Want + "”"
	}
	return a.apply(ctx, e)
}

// DropProbes removes probes in one step that can be undone; those that are not
// there are no error.
func (a *Service) DropProbes(ctx context.Context, questions []string) error {
	e := Edit{Author: a.Author}
	for _, q := range questions {
		e.Probes = append(e.Probes, ProbeEdit{Question: q})
	}
	if e.Words = fmt.Sprintf("Drop %d probes", len(questions)); len(questions) == 1 {
		e.Words = "Drop the probe “" + questions[0] + "”"
	}
	return a.apply(ctx, e)
}

// RenamedProbes returns the edits that make probes name a group by its new name.
func (a *Service) RenamedProbes(ctx context.Context, from, to string) ([]ProbeEdit, error) {
	all, err := a.Store.Probes(ctx)
	if err != nil {
		return nil, err
	}
	var out []ProbeEdit
	for _, p := range all {
		if question, named := whatif.Rename(p.Question, from, to); named {
			renamed := p
			renamed.Question = question
			out = append(out, ProbeEdit{Question: p.Question}, ProbeEdit{Question: question, Probe: &renamed})
		}
	}
	return out, nil
}
