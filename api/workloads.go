package api

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/store"
)

// Body wraps what an operation returns.
type Body[T any] struct{ Body T }

func body[T any](v T) *Body[T] { return &Body[T]{v} }

// Missing stands for the workloads that lack a tag, in facets and filters.
const Missing = "(missing)"

// WorkloadFilter selects workloads: those that agree with all of it.
type WorkloadFilter struct {
	Text  string   `query:"q" doc:"Words in the id, the name, an address or a tag; or an expression"`
	Tags  []string `query:"tag,explode" doc:"key=value; several of one key are alternatives; value (missing) is those without"`
	Group string   `query:"group" doc:"Only members of this group"`
	Gone  bool     `query:"retired" doc:"Those that are retired, instead of those that are there"`
}

type listWorkloads struct {
	WorkloadFilter
	Offset int    `query:"offset" minimum:"0"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	Sort   string `query:"sort" doc:"name, address, or a tag's key; with - before it, downwards" default:"name"`
}

// TagOut is a tag as it is shown.
type TagOut struct {
	Key    string    `json:"key"`
	Value  string    `json:"value"`
	Source string    `json:"source"`
	ByHand bool      `json:"byHand"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// LeaseOut is a lease as it is shown.
type LeaseOut struct {
	Addr  string `json:"addr"`
	From  string `json:"from,omitempty"`
	Until string `json:"until,omitempty"`
	Now   bool   `json:"now"`
}

// WorkloadOut is a row of the list.
type WorkloadOut struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	OS      string     `json:"os"`
	Kind    string     `json:"kind"`
	Leases  []LeaseOut `json:"leases"`
	Tags    []TagOut   `json:"tags"`
	Retired string     `json:"retired,omitempty" doc:"Since when no source lists it"`
}

// WorkloadList is a page of workloads.
type WorkloadList struct {
	Total     int           `json:"total" doc:"Workloads that the filter selects"`
	All       int           `json:"all" doc:"Workloads there are"`
	Workloads []WorkloadOut `json:"workloads"`
	Keys      []string      `json:"keys" doc:"All tag keys, the structural ones first"`
}

// Facet is a tag key with its values.
type Facet struct {
	Key        string       `json:"key"`
	Structural bool         `json:"structural"`
	Missing    int          `json:"missing"`
	Values     []FacetValue `json:"values"`
}

// FacetValue is a value with how many of the selected workloads have it.
type FacetValue struct {
	Value string `json:"value"`
	Count int    `json:"count"`
	Like  string `json:"like,omitempty" doc:"The usual spelling that this one looks like"`
}

// workloadsAPI answers about workloads and their tags.
type workloadsAPI struct {
	*base
	orders     perEstate[[]int32]
	facetCache perEstate[[]Facet]
}

func (s *workloadsAPI) routes(a huma.API) {
	huma.Get(a, "/api/workloads", answer(s.base, s.listWorkloads))
	huma.Get(a, "/api/workloads/facets", answer(s.base, s.facets))
	huma.Get(a, "/api/workloads/{id}", answer(s.base, s.oneWorkload))
	huma.Post(a, "/api/tags", answer(s.base, s.setTags))
	huma.Register(a, huma.Operation{OperationID: "export-workloads", Method: http.MethodGet, Path: "/api/workloads.csv", Summary: "The selected workloads as CSV"}, answer(s.base, s.exportWorkloads))
	huma.Get(a, "/api/workloads/{id}/rules", answer(s.base, s.workloadRules))
}

// selected gives the indexes of the workloads that a filter selects.
func selectWorkloads(snap *model.Model, f WorkloadFilter) ([]int32, error) {
	byKey := map[string][]string{}
	for _, t := range f.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	var words []string
	var test *expr.Expr
	if f.Text != "" {
		if e, errs := expr.ParseText(f.Text); len(errs) == 0 {
			test = e
		} else {
			words = strings.Fields(strings.ToLower(f.Text))
		}
	}
	if f.Group != "" && snap.Policy.Groups[f.Group] == nil {
		return nil, huma.Error404NotFound("there is no group " + f.Group)
	}
	parts := make([][]int32, 2*runtime.GOMAXPROCS(0))
	bound := snap.Estate.Bound()
	decide.Parallel(len(parts), len(parts), func(_, part int) {
		walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
		for i := int32(part * bound / len(parts)); i < int32((part+1)*bound/len(parts)); i++ {
			w := snap.Estate.Workload(i)
			if w == nil || w.Retired.IsZero() == f.Gone || !hasTags(w, byKey) || !mentions(w, words) {
				continue
			}
			if test != nil || f.Group != "" {
				in := false
				for _, ep := range endpointsOf(snap.Estate, i, snap.Compiled.AsOf) {
					members := func(g string) expr.Truth { return walk.Group(g, ep) }
					if (test == nil || test.Eval(decide.Subject(snap.Estate, ep), members) == expr.Yes) && (f.Group == "" || walk.Group(f.Group, ep) == expr.Yes) {
						in = true
					}
				}
				if !in {
					continue
				}
			}
			parts[part] = append(parts[part], i)
		}
	})
	out := slices.Concat(parts...)
	if out == nil {
		out = []int32{}
	}
	return out, nil
}

// endpointsOf gives a workload's endpoints at an instant; if it holds no
// address then, one without an address.
func endpointsOf(e *estate.Estate, i int32, at estate.Instant) []estate.Endpoint {
	var out []estate.Endpoint
	for _, l := range e.Workload(i).Leases {
		if ep := e.At(l.Addr, at); ep.Workload == i && !slices.Contains(out, ep) {
			out = append(out, ep)
		}
	}
	if out == nil {
		out = []estate.Endpoint{{Workload: i}}
	}
	return out
}

func hasTags(w *estate.Workload, byKey map[string][]string) bool {
	for key, values := range byKey {
		t, ok := w.Tag(key)
		if !ok {
			t.Value = Missing
		}
		if !slices.Contains(values, t.Value) {
			return false
		}
	}
	return true
}

// mentions reports whether every word, in lower case, is in the id, the name or a
// tag, or begins an address.
func mentions(w *estate.Workload, words []string) bool {
	for _, word := range words {
		found := containsFold(w.ID, word) || containsFold(w.Name, word)
		if !found && (strings.IndexByte("0123456789abcdef:", word[0]) >= 0) {
			for _, l := range w.Leases {
				found = found || strings.HasPrefix(l.Addr.String(), word)
			}
		}
		for i := 0; !found && i < len(w.Tags); i++ {
			found = containsFold(w.Tags[i].Value, word)
		}
		if !found {
			return false
		}
	}
	return true
}

// containsFold reports whether s has a word that is in lower case, whatever the
// case of its own letters.
func containsFold(s, word string) bool {
	for i := 0; i+len(word) <= len(s); i++ {
		k := 0
		for k < len(word) {
			c := s[i+k]
			if c >= 0x80 { // beyond ASCII the lengths may differ
				return strings.Contains(strings.ToLower(s), word)
			}
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			if c != word[k] {
				break
			}
			k++
		}
		if k == len(word) {
			return true
		}
	}
	return false
}

func (s *workloadsAPI) listWorkloads(ctx context.Context, in *listWorkloads) (*Body[WorkloadList], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	selected, err := selectWorkloads(snap, in.WorkloadFilter)
	if err != nil {
		return nil, err
	}
	key, down := strings.CutPrefix(in.Sort, "-")
	selected = inOrder(selected, s.order(snap, key), down)
	out := WorkloadList{Total: len(selected), All: snap.Present(), Workloads: []WorkloadOut{}, Keys: snap.TagKeys()}
	for _, i := range selected[min(in.Offset, len(selected)):][:min(in.Limit, len(selected)-min(in.Offset, len(selected)))] {
		out.Workloads = append(out.Workloads, workloadOut(snap, i))
	}
	return body(out), nil
}

// order gives all workloads by name, address or a tag, and remembers it for the
// estate.
func (s *workloadsAPI) order(snap *model.Model, key string) []int32 {
	if have, ok := s.orders.get(snap.Estate, key); ok {
		return have
	}
	type keyed struct {
		key string
		i   int32
	}
	all := make([]keyed, 0, snap.Estate.Len())
	for i, w := range snap.Estate.All() {
		k := ""
		switch key {
		case "name":
			k = naturally(w.Label())
		case "address":
			if len(w.Leases) > 0 {
				b := w.Leases[len(w.Leases)-1].Addr.As16()
				k = string(b[:])
			}
		default:
			t, _ := w.Tag(key)
			k = naturally(t.Value)
		}
		all = append(all, keyed{k, i})
	}
	slices.SortFunc(all, func(a, b keyed) int { return cmp.Or(strings.Compare(a.key, b.key), cmp.Compare(a.i, b.i)) })
	out := make([]int32, len(all))
	for k, x := range all {
		out[k] = x.i
	}
	s.orders.put(snap.Estate, key, out)
	return out
}

// inOrder puts the workloads that are selected in an order.
func inOrder(selected, order []int32, down bool) []int32 {
	most := int32(-1)
	for _, i := range selected {
		most = max(most, i)
	}
	bits := make([]bool, most+1)
	for _, i := range selected {
		bits[i] = true
	}
	out := selected[:0]
	for k := range order {
		i := order[k]
		if down {
			i = order[len(order)-1-k]
		}
		if i <= most && bits[i] {
			out = append(out, i)
		}
	}
	return out
}

// naturally gives a key by which numbers in texts sort by their size.
func naturally(s string) string {
	if !strings.ContainsAny(s, "0123456789") {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		j := i
		for j < len(s) && s[j] >= '0' && s[j] <= '9' {
			j++
		}
		if j == i {
			b.WriteByte(s[i])
			i++
			continue
		}
		digits := strings.TrimLeft(s[i:j], "0")
		b.WriteString("0000000000000000000"[:max(0, 19-len(digits))])
		b.WriteString(digits)
		i = j
	}
	return b.String()
}

func workloadOut(snap *model.Model, i int32) WorkloadOut {
	w := snap.Estate.Workload(i)
	out := WorkloadOut{ID: w.ID, Name: w.Label(), OS: w.OS, Kind: w.Kind, Leases: []LeaseOut{}, Tags: []TagOut{}}
	for _, l := range w.Leases {
		lo := LeaseOut{Addr: l.Addr.String(), Now: snap.Estate.At(l.Addr, snap.Compiled.AsOf).Workload == i}
		if l.From.IsBound() {
			lo.From = l.From.String()
		}
		if l.Until.IsBound() {
			lo.Until = l.Until.String()
		}
		out.Leases = append(out.Leases, lo)
	}
	for _, t := range w.Tags {
		out.Tags = append(out.Tags, tagOut(t))
	}
	if !w.Retired.IsZero() {
		out.Retired = w.Retired.UTC().Format(time.RFC3339)
	}
	return out
}

func tagOut(t estate.Tag) TagOut {
	return TagOut{t.Key, t.Value, t.Source, t.Source == estate.ByHand, t.By, t.At}
}

func (s *workloadsAPI) facets(ctx context.Context, in *struct{ WorkloadFilter }) (*Body[[]Facet], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	// A facet counts under the filters of the other facets: a workload that fails
	// the filter of one key only counts in that facet.
	byKey := map[string][]string{}
	for _, t := range in.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	others := in.WorkloadFilter
	others.Tags = nil
	// Without words and group the answer hangs on the estate alone.
	name := fmt.Sprint(in.Gone, in.Tags, snap.Structural)
	if in.Text == "" && in.Group == "" {
		if have, ok := s.facetCache.get(snap.Estate, name); ok {
			return body(have), nil
		}
	}
	selected, err := selectWorkloads(snap, others)
	if err != nil {
		return nil, err
	}
	keys := snap.TagKeys()
	sorted := slices.Clone(keys)
	slices.Sort(sorted)
	parts := make([]*facetCounts, 2*runtime.GOMAXPROCS(0))
	decide.Parallel(len(parts), len(parts), func(_, part int) {
		parts[part] = countFacets(snap.Estate, selected[part*len(selected)/len(parts):(part+1)*len(selected)/len(parts)], sorted, byKey)
	})
	all := parts[0]
	for _, p := range parts[1:] {
		all.add(p)
	}
	out := []Facet{}
	for _, key := range keys {
		k, _ := slices.BinarySearch(sorted, key)
		counts := all.values[k]
		facet := Facet{Key: key, Structural: slices.Contains(snap.Structural, key), Missing: all.whole + all.seen[k] - all.has[k], Values: []FacetValue{}}
		usual := estate.UsualSpellings(counts)
		for _, v := range slices.Sorted(maps.Keys(counts)) {
			facet.Values = append(facet.Values, FacetValue{Value: v, Count: counts[v], Like: usual[v]})
		}
		slices.SortStableFunc(facet.Values, func(a, b FacetValue) int { return b.Count - a.Count })
		out = append(out, facet)
	}
	if in.Text == "" && in.Group == "" {
		s.facetCache.put(snap.Estate, name, out)
	}
	return body(out), nil
}

// perEstate remembers answers that hang on the estate alone, for the last one
// that was asked about.
type perEstate[T any] struct {
	mu     sync.Mutex
	estate *estate.Estate
	by     map[string]T
}

func (c *perEstate[T]) get(e *estate.Estate, name string) (T, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.estate != e {
		var none T
		return none, false
	}
	v, ok := c.by[name]
	return v, ok
}

func (c *perEstate[T]) put(e *estate.Estate, name string, v T) {
	c.mu.Lock()
	defer c.mu.Unlock()
	const most = 64
	if c.estate != e || len(c.by) >= most {
		c.estate, c.by = e, map[string]T{}
	}
	c.by[name] = v
}

// facetCounts counts workloads by the values of their tags.
type facetCounts struct {
	whole     int              // workloads that fail no filter
	values    []map[string]int // by key
	has, seen []int            // by key: those that have it; those that fail the filter of this key only
}

func countFacets(e *estate.Estate, selected []int32, keys []string, byKey map[string][]string) *facetCounts {
	c := &facetCounts{values: make([]map[string]int, len(keys)), has: make([]int, len(keys)), seen: make([]int, len(keys))}
	for k := range c.values {
		c.values[k] = map[string]int{}
	}
	for _, i := range selected {
		w := e.Workload(i)
		failed, fails := "", 0
		for key, values := range byKey {
			t, ok := w.Tag(key)
			if !ok {
				t.Value = Missing
			}
			if !slices.Contains(values, t.Value) {
				failed = key
				fails++
			}
		}
		switch fails {
		case 0:
			c.whole++
			k := 0
			for j := range w.Tags {
				t := &w.Tags[j]
				for keys[k] < t.Key { // both are in order
					k++
				}
				if t.Value != "" {
					c.values[k][t.Value]++
					c.has[k]++
				}
			}
		case 1:
			if k, ok := slices.BinarySearch(keys, failed); ok {
				c.seen[k]++
				if t, ok := w.Tag(failed); ok {
					c.values[k][t.Value]++
					c.has[k]++
				}
			}
		}
	}
	return c
}

func (c *facetCounts) add(d *facetCounts) {
	c.whole += d.whole
	for k := range c.values {
		c.has[k] += d.has[k]
		c.seen[k] += d.seen[k]
		for v, n := range d.values[k] {
			c.values[k][v] += n
		}
	}
}

// GroupMembership is what one group says of a workload, and why.
type GroupMembership struct {
	Group   string      `json:"group"`
	Truth   string      `json:"truth" enum:"yes,undecided"`
	Listed  string      `json:"listed,omitempty"`
	Reasons []ReasonOut `json:"reasons"`
	Missing []string    `json:"missing,omitempty" doc:"Keys that would settle it"`
}

// WorkloadPage is all that is known of a workload.
type WorkloadPage struct {
	WorkloadOut
	Groups []GroupMembership `json:"groups"`
}

func (s *workloadsAPI) oneWorkload(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*Body[WorkloadPage], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	i, ok := snap.Estate.ByID(in.ID)
	if !ok {
		return nil, huma.Error404NotFound("there is no workload with the id " + in.ID)
	}
	out := WorkloadPage{WorkloadOut: workloadOut(snap, i), Groups: []GroupMembership{}}
	walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
	ep := endpointsOf(snap.Estate, i, snap.Compiled.AsOf)[0]
	for _, g := range groupsInOrder(snap.Policy) {
		m := walk.Explain(g.Name, ep, false)
		if m.Truth != expr.No {
			out.Groups = append(out.Groups, GroupMembership{g.Name, m.Truth.String(), m.Listed, reasonsOut(m.Reasons), expr.MissingKeys(m.Reasons)})
		}
	}
	return body(out), nil
}

// groupsInOrder gives the groups in the order of the text.
func groupsInOrder(p *policy.Policy) []*policy.Group {
	var out []*policy.Group
	for _, item := range p.Items {
		if g, ok := item.Statement.(*policy.Group); ok {
			out = append(out, g)
		}
	}
	return out
}

// Chosen says which workloads are meant: by id, or all that a filter selects.
type Chosen struct {
	Workloads []string        `json:"workloads,omitempty" doc:"Ids"`
	Filter    *WorkloadChoice `json:"filter,omitempty" doc:"Instead of ids"`
	Count     int             `json:"count,omitempty" doc:"Of a filter: how many it selected when it was looked at; if they are others now, nothing is changed"`
}

// WorkloadChoice is a WorkloadFilter in a body.
type WorkloadChoice struct {
	Text  string   `json:"q,omitempty"`
	Tags  []string `json:"tag,omitempty"`
	Group string   `json:"group,omitempty"`
}

type setTagsInput struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Chosen
		Key   string  `json:"key" minLength:"1"`
		Value string  `json:"value" doc:"Empty: the workload does not have the tag"`
		Was   *string `json:"was,omitempty" doc:"Of one workload: the value that was shown. If it has another one by now, nothing is changed"`
	}
}

// choose gives the ids that are meant.
func chosenIDs(snap *model.Model, c Chosen) ([]string, error) {
	if c.Filter == nil {
		if len(c.Workloads) == 0 {
			return nil, huma.Error422UnprocessableEntity("workloads: found none, expected ids or a filter")
		}
		return c.Workloads, nil
	}
	selected, err := selectWorkloads(snap, WorkloadFilter{Text: c.Filter.Text, Tags: c.Filter.Tags, Group: c.Filter.Group})
	if err != nil {
		return nil, err
	}
	if len(selected) != c.Count {
		return nil, huma.Error409Conflict(fmt.Sprintf("the filter selects %d workloads by now, and %d when it was looked at; nothing was changed: look again", len(selected), c.Count))
	}
	out := make([]string, len(selected))
	for i, w := range selected {
		out[i] = snap.Estate.Workload(w).ID
	}
	return out, nil
}

func (s *workloadsAPI) setTags(ctx context.Context, in *setTagsInput) (*Body[app.Consequences], error) {
	before, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	ids, err := chosenIDs(snap, in.Body.Chosen)
	if err != nil {
		return nil, err
	}
	edits := make([]store.TagEdit, len(ids))
	for i, id := range ids {
		edits[i] = store.TagEdit{Workload: id, Key: in.Body.Key, Value: &in.Body.Value}
	}
	if was := in.Body.Was; was != nil && len(ids) == 1 {
		if i, ok := snap.Estate.ByID(ids[0]); ok {
			if now, _ := snap.Estate.Workload(i).Tag(in.Body.Key); now.Value != *was {
				return nil, huma.Error409Conflict(fmt.Sprintf("somebody has changed this meanwhile. %s of %s was %s; now it is %s, by %s. Nothing was changed", in.Body.Key, ids[0], orMissing(*was), orMissing(now.Value), cmp.Or(now.By, now.Source, "nobody")))
			}
		}
	}
	what := ids[0]
	if n := len(ids); n > 1 {
		what = fmt.Sprintf("%d workloads", n)
	}
	words := fmt.Sprintf("Set %s = %s on %s", in.Body.Key, in.Body.Value, what)
	if in.Body.Value == "" {
		words = fmt.Sprintf("Clear %s of %s", in.Body.Key, what)
	}
	return s.applyTags(ctx, before, snap, edits, words, in.DryRun)
}

// applyTags sets tags by hand as one change, or says what that would do.
func (s *base) applyTags(ctx context.Context, before *reach.View, snap *model.Model, edits []store.TagEdit, words string, dryRun bool) (*Body[app.Consequences], error) {
	changed := map[string]*estate.Workload{}
	var put []estate.Workload
	for _, e := range edits {
		i, ok := snap.Estate.ByID(e.Workload)
		if !ok {
			return nil, huma.Error404NotFound("there is no workload with the id " + e.Workload + "; nothing was changed")
		}
		w := changed[e.Workload]
		if w == nil {
			copied := *snap.Estate.Workload(i)
			w = &copied
			changed[e.Workload] = w
		}
		w.SetTag(estate.Tag{Key: e.Key, Value: *e.Value, Source: estate.ByHand, By: s.Author, At: time.Now()})
	}
	for _, w := range changed {
		put = append(put, *w)
	}
	e, touched, _ := snap.Estate.With(put, nil)
	out := app.ConsequencesOf(before, snap, model.NewAfter(snap.Compiled.WithEstate(e, touched)))
	if dryRun {
		return body(out), nil
	}
	if err := s.Store.SetTags(ctx, edits, s.Author, words); err != nil {
		return nil, s.failed(ctx, err)
	}
	s.Models.Nudge()
	return body(out), nil
}
