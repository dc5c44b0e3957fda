package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/store"
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

// vocabularyAPI answers about tag values, suggestions and selections.
type vocabularyAPI struct {
	*base
	suggester suggester
}

func (s *vocabularyAPI) routes(a huma.API) {
	huma.Get(a, "/api/suggestions", answer(s.base, s.suggestions))
	huma.Post(a, "/api/suggestions/accept", answer(s.base, s.acceptSuggestions))
	huma.Post(a, "/api/suggestions/refuse", answer(s.base, s.refuseSuggestions))
	huma.Register(a, huma.Operation{OperationID: "export-suggestions", Method: http.MethodGet, Path: "/api/suggestions.csv", Summary: "The suggestions as CSV"}, answer(s.base, s.exportSuggestions))
	huma.Get(a, "/api/vocabulary/misspellings", answer(s.base, s.misspelt))
	huma.Register(a, huma.Operation{OperationID: "export-misspellings", Method: http.MethodGet, Path: "/api/misspellings.csv", Summary: "The values that look misspelt as CSV"}, answer(s.base, s.exportMisspellings))
	huma.Post(a, "/api/vocabulary/fix", answer(s.base, s.fixMisspellings))
	huma.Put(a, "/api/vocabulary/structural", answer(s.base, s.setStructural))
	huma.Post(a, "/api/workloads/find", answer(s.base, s.findWorkloads))
	huma.Get(a, "/api/selections", answer(s.base, s.selections))
	huma.Put(a, "/api/selections", answer(s.base, s.saveSelection))
	huma.Delete(a, "/api/selections", answer(s.base, s.dropSelection))
}

// misspellings finds the values that look like slips of others, key by key.
func misspellings(snap *model.Model) []Misspelling {
	counts := map[string]map[string]int{}
	for _, w := range snap.Estate.All() {
		for _, t := range w.Tags {
			if t.Value == "" || !w.Retired.IsZero() {
				continue
			}
			if counts[t.Key] == nil {
				counts[t.Key] = map[string]int{}
			}
			counts[t.Key][t.Value]++
		}
	}
	out := []Misspelling{}
	for _, key := range snap.TagKeys() {
		for v, like := range estate.UsualSpellings(counts[key]) {
			out = append(out, Misspelling{key, v, like, counts[key][v]})
		}
	}
	slices.SortFunc(out, func(a, b Misspelling) int {
		return cmp.Or(strings.Compare(a.Key, b.Key), strings.Compare(a.Value, b.Value))
	})
	return out
}

func (s *vocabularyAPI) misspelt(ctx context.Context, _ *struct{}) (*Body[[]Misspelling], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return body(misspellings(snap)), nil
}

func (s *vocabularyAPI) exportMisspellings(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return stream("misspellings.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"key", "value", "usual", "workloads"})
		for _, x := range misspellings(snap) {
			_ = w.Write([]string{x.Key, x.Value, x.Like, fmt.Sprint(x.Count)})
		}
	}), nil
}

func (s *vocabularyAPI) fixMisspellings(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Misspellings []Misspelling `json:"misspellings" minItems:"1"`
	}
}) (*Body[app.Consequences], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	to := map[[2]string]string{}
	for _, x := range in.Body.Misspellings {
		to[[2]string{x.Key, x.Value}] = x.Like
	}
	var edits []store.TagEdit
	for _, w := range snap.Estate.All() {
		for _, t := range w.Tags {
			if like, ok := to[[2]string{t.Key, t.Value}]; ok && w.Retired.IsZero() {
				edits = append(edits, store.TagEdit{Workload: w.ID, Key: t.Key, Value: &like, Was: &t.Value})
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
	return s.applyTags(ctx, v, snap, edits, words, in.DryRun)
}

func (s *vocabularyAPI) setStructural(ctx context.Context, in *struct {
	Body struct {
		Keys []string `json:"keys" minItems:"1" maxItems:"8" doc:"Tag keys, the first ones name what no group fits"`
	}
}) (*Body[[]string], error) {
	for i, k := range in.Body.Keys {
		if k == "" || slices.Contains(in.Body.Keys[:i], k) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("keys: found %q, expected each key once, and none blank", k))
		}
	}
	if err := s.Store.SetStructural(ctx, in.Body.Keys); err != nil {
		return nil, err
	}
	s.Models.Nudge()
	return body(in.Body.Keys), nil
}

// findWorkloads finds what a pasted list names: ids, names and addresses.
func (s *vocabularyAPI) findWorkloads(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"Ids, names or addresses, separated by blanks, commas, semicolons or line breaks"`
	}
}) (*Body[FoundList], error) {
	snap, err := s.snapshot(ctx)
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
	for _, word := range strings.FieldsFunc(in.Body.Text, func(r rune) bool { return strings.ContainsRune(" \t\r\n,;", r) }) {
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
	return body(out), nil
}

func (s *vocabularyAPI) selections(ctx context.Context, in *struct {
	List string `query:"list"`
}) (*Body[[]store.Selection], error) {
	return s.selectionsOf(ctx, in.List)
}

func (s *vocabularyAPI) selectionsOf(ctx context.Context, list string) (*Body[[]store.Selection], error) {
	all, err := s.Store.Selections(ctx, list)
	if err != nil {
		return nil, err
	}
	return body(all), nil
}

func (s *vocabularyAPI) saveSelection(ctx context.Context, in *struct {
	Body struct {
		List   string `json:"list" minLength:"1" maxLength:"40"`
		Name   string `json:"name" minLength:"1" maxLength:"100"`
		Filter string `json:"filter" maxLength:"10000" doc:"The query of the page's address"`
	}
}) (*Body[[]store.Selection], error) {
	if err := s.Store.SaveSelection(ctx, store.Selection{List: in.Body.List, Name: in.Body.Name, Filter: in.Body.Filter, Author: s.Author}); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.selectionsOf(ctx, in.Body.List)
}

func (s *vocabularyAPI) dropSelection(ctx context.Context, in *struct {
	List string `query:"list" required:"true"`
	Name string `query:"name" required:"true"`
}) (*Body[[]store.Selection], error) {
	if err := s.Store.DropSelection(ctx, in.List, in.Name); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.selectionsOf(ctx, in.List)
}
