package rest

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/server"
)

// Misspelling is a value that looks like a slip of another.
type Misspelling struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	Like  string `json:"like"`
	Count int    `json:"count"`
}

// FoundList is what a pasted list names.
type FoundList struct {
	Workloads []WorkloadOut `json:"workloads"`
	Unknown   []string      `json:"unknown" doc:"What names no workload"`
	Several   []string      `json:"several" doc:"Names that more than one workload has; all of them are in"`
}

// Vocabulary answers about tag values, suggestions and selections.
type Vocabulary struct {
	*answers.Desk
	*inventory.Service
}

func (s *Vocabulary) Routes(r server.Routes) {
	server.Get(r, "list-suggestions", "/suggestions", "Tags that workloads probably lack", s.suggestions)
	server.Post(r, "accept-suggestions", "/suggestions/accept", "Set suggested tags", s.acceptSuggestions,
		server.CanBeMissing)
	server.Post(r, "refuse-suggestions", "/suggestions/refuse", "Refuse suggested tags, or allow them again",
		s.refuseSuggestions)
	server.Get(r, "export-suggestions", "/suggestions.csv", "The suggestions as CSV", s.exportSuggestions)
	server.Get(r, "list-misspellings", "/vocabulary/misspellings", "Values that look misspelt", s.misspelt)
	server.Get(r, "export-misspellings", "/misspellings.csv", "The values that look misspelt as CSV",
		s.exportMisspellings)
	server.Post(r, "fix-misspellings", "/vocabulary/fix", "Set the usual spelling", s.fixMisspellings)
	server.Put(r, "set-structural-keys", "/vocabulary/structural", "Choose the tags that name what no group fits",
		s.setStructural)
	server.Put(r, "set-not-applicable", "/vocabulary/not-applicable",
		"Declare for which workloads a tag does not apply", s.setInapplicable)
	server.Post(r, "find-workloads", "/workloads/find", "Find what a pasted list names", s.findWorkloads)
	server.Get(r, "list-selections", "/selections", "Saved selections of a list", s.selections)
	server.Put(r, "save-selection", "/selections", "Save a selection", s.saveSelection)
	server.Remove(r, "drop-selection", "/selections", "Forget a selection", s.dropSelection, server.CanBeMissing)
}

// misspellings finds the values that look like slips of others, key by key.
func misspellings(snap *model.Model) []Misspelling {
	out := []Misspelling{}
	for _, m := range estate.Misspellings(snap.Estate) {
		out = append(out, Misspelling(m))
	}
	return out
}

func (s *Vocabulary) misspelt(ctx context.Context, in *struct{ server.All }) (*server.List[Misspelling], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, misspellings(snap), in.All), nil
}

func (s *Vocabulary) exportMisspellings(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("misspellings.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"key", "value", "usual", "workloads"})
		for _, x := range misspellings(snap) {
			_ = w.Write([]string{x.Key, x.Value, x.Like, fmt.Sprint(x.Count)})
		}
	}), nil
}

func (s *Vocabulary) fixMisspellings(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Misspellings []Misspelling `json:"misspellings" minItems:"1"`
	}
}) (*server.Body[consequences.Consequences], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	to := map[[2]string]string{}
	for _, x := range in.Body.Misspellings {
		to[[2]string{x.Key, x.Value}] = x.Like
	}
	var edits []inventory.TagEdit
	for _, w := range snap.Estate.All() {
		for _, t := range w.Tags {
			if like, ok := to[[2]string{t.Key, t.Value}]; ok && w.Retired.IsZero() {
				edits = append(edits, inventory.TagEdit{Workload: w.ID, Key: t.Key, Value: &like, Was: &t.Value})
			}
		}
	}
	if len(edits) == 0 {
		return nil, huma.Error409Conflict("no workload has these values any more; nothing was changed")
	}
	first := in.Body.Misspellings[0]
	words := fmt.Sprintf("Read %s %q as %s, on %d workloads", first.Key, first.Value, first.Like, len(edits))
	if n := len(in.Body.Misspellings); n > 1 {
		words = fmt.Sprintf("Mend %d values that look misspelt, on %d workloads", n, len(edits))
	}
	c, err := s.SetTags(ctx, v, snap, edits, words, in.DryRun)
	return server.OK(c), err
}

func (s *Vocabulary) setStructural(ctx context.Context, in *struct {
	Body struct {
		Keys []string `json:"keys" minItems:"1" maxItems:"8" doc:"Tag keys; the first ones name sides that no group fits"`
	}
}) (*server.Body[[]string], error) {
	for i, k := range in.Body.Keys {
		if k == "" || slices.Contains(in.Body.Keys[:i], k) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("keys: found %q, expected each key once, and "+
				"none blank", k))
		}
	}
	if err := s.SetStructural(ctx, in.Body.Keys); err != nil {
		return nil, err
	}
	s.Models.Nudge()
	return server.OK(in.Body.Keys), nil
}

func (s *Vocabulary) setInapplicable(ctx context.Context, in *struct {
	Body struct {
		Key   string `json:"key" minLength:"1" maxLength:"200" doc:"Tag key"`
		Where string `json:"where" maxLength:"10000" doc:"An expression without groups; blank: the tag applies to all workloads"`
	}
}) (*struct{}, error) {
	return nil, s.SetInapplicable(ctx, in.Body.Key, in.Body.Where)
}

// findWorkloads finds what a pasted list names: ids, names and addresses.
func (s *Vocabulary) findWorkloads(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"Ids, names or addresses, separated by blanks, commas, semicolons or line breaks"`
	}
}) (*server.Body[FoundList], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	byName := map[string][]int32{}
	for i, w := range snap.Estate.All() {
		if w.Name != "" {
			n := strings.ToLower(w.Name)
			byName[n] = append(byName[n], i)
		}
	}
	out := FoundList{Workloads: []WorkloadOut{}, Unknown: []string{}, Several: []string{}}
	seen := map[int32]bool{}
	take := func(i int32) {
		if !seen[i] {
			seen[i] = true
			out.Workloads = append(out.Workloads, workloadOut(snap, i))
		}
	}
	for _, word := range strings.FieldsFunc(in.Body.Text,
		func(r rune) bool { return strings.ContainsRune(" \t\r\n,;", r) }) {
		if i, ok := snap.Estate.ByID(word); ok {
			take(i)
			continue
		}
		if a, err := netip.ParseAddr(word); err == nil {
			if ep := snap.Estate.At(a, snap.Compiled.AsOf); ep.Workload != estate.Outside {
				take(ep.Workload)
				continue
			}
		}
		named := byName[strings.ToLower(word)]
		if len(named) == 0 {
			out.Unknown = append(out.Unknown, word)
		}
		if len(named) > 1 {
			out.Several = append(out.Several, word)
		}
		for _, i := range named {
			take(i)
		}
	}
	return server.OK(out), nil
}

func (s *Vocabulary) selections(ctx context.Context, in *struct {
	List string `query:"list"`
	server.All
}) (*server.List[Selection], error) {
	return s.selectionsOf(ctx, in.List, in.All)
}

func (s *Vocabulary) selectionsOf(ctx context.Context, list string, part server.All) (
	*server.List[Selection], error) {
	all, err := s.Selections(ctx, list)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(all, func(x inventory.Selection) Selection { return Selection(x) }), part), nil
}

func (s *Vocabulary) saveSelection(ctx context.Context, in *struct {
	Body struct {
		List   string `json:"list" minLength:"1" maxLength:"40"`
		Name   string `json:"name" minLength:"1" maxLength:"100"`
		Filter string `json:"filter" maxLength:"10000" doc:"The query of the page's address"`
	}
}) (*server.List[Selection], error) {
	if err := s.SaveSelection(ctx, inventory.Selection{List: in.Body.List, Name: in.Body.Name,
		Filter: in.Body.Filter, Author: s.Author}); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.selectionsOf(ctx, in.Body.List, server.Everything)
}

func (s *Vocabulary) dropSelection(ctx context.Context, in *struct {
	List string `query:"list" required:"true"`
	Name string `query:"name" required:"true"`
}) (*server.List[Selection], error) {
	found, err := s.DropSelection(ctx, in.List, in.Name)
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, huma.Error404NotFound("no selection of this list has the name " + in.Name)
	}
	s.Events.Changed()
	return s.selectionsOf(ctx, in.List, server.Everything)
}
