package api

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/consequences"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/drafting"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/model"
)

// EffectiveRule is a rule that can decide traffic of a workload.
type EffectiveRule struct {
	RuleRef
	Number int `json:"number" doc:"Its place in deciding order, from 1"`
	Hits   int `json:"hits" doc:"Conversations of the workload in the window that it decides"`
}

// WorkloadRules is what may reach a workload, and what it may reach, in deciding
// order.
type WorkloadRules struct {
	In     []EffectiveRule         `json:"in" doc:"Rules that can match with the workload as server"`
	Out    []EffectiveRule         `json:"out" doc:"With the workload as client"`
	ToIt   CountsOut               `json:"toIt" doc:"Conversations of the window in which it is the server"`
	FromIt CountsOut               `json:"fromIt" doc:"In which it is the client"`
	Said   []inventory.SourceValue `json:"said" doc:"What every source says of its tags"`
	Former []inventory.FormerValue `json:"former" doc:"What was said before"`
}

// MembershipChange is when a workload joined or left a group, and why.
type MembershipChange struct {
	At       string `json:"at"`
	Workload string `json:"workload"`
	Name     string `json:"name"`
	Before   string `json:"before" enum:"yes,no,undecided"`
	After    string `json:"after" enum:"yes,no,undecided"`
	Why      string `json:"why"`
}

// GroupHistory is who joined and left a group over the window.
type GroupHistory struct {
	Changes   []MembershipChange `json:"changes" doc:"Newest first, at most 500"`
	Total     int                `json:"total"`
	Revisions []model.Revision   `json:"revisions" doc:"Revisions of the window in which the group's definition changed, newest first"`
}

// RegroupOut is what renaming or removing a group did, or would do.
type RegroupOut struct {
	EditOut
	Changed []string `json:"changed" doc:"Statements that change"`
	Removed []string `json:"removed" doc:"Statements that go with the group"`
}

func (s *workloadsAPI) workloadRules(ctx context.Context, in *struct {
	Window
	ID      string `path:"id"`
	Release int    `query:"release" minimum:"0" doc:"The rules of this release; 0: those of the draft"`
}) (*Body[WorkloadRules], error) {
	v, snap, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	if in.Release != 0 {
		if v, err = s.underRelease(ctx, v, snap, in.Release); err != nil {
			return nil, err
		}
	}
	i, ok := snap.Estate.ByID(in.ID)
	if !ok {
		return nil, huma.Error404NotFound("there is no workload with the id " + in.ID)
	}
	out := WorkloadRules{In: []EffectiveRule{}, Out: []EffectiveRule{}}
	if out.Said, err = s.Store.SaidOf(ctx, in.ID); err != nil {
		return nil, err
	}
	if out.Former, err = s.Store.TagHistory(ctx, in.ID); err != nil {
		return nil, err
	}
	hits := [2]map[int]int{{}, {}}
	for k, to := range []*CountsOut{&out.ToIt, &out.FromIt} {
		var counts reach.Counts
		for _, c := range v.Select(reach.Query{Workload: &i, Turn: k == 1}) {
			conv := v.At(c)
			counts[conv.Verdict]++
			if conv.Rule != nil {
				hits[k][conv.Rule.Line]++
			}
		}
		*to = countsOut(counts)
	}
	c := v.Compiled
	ep := endpointsOf(snap.Estate, i, c.AsOf)[0]
	if !ep.Addr.IsValid() {
		return body(out), nil // it has no address: nothing can match
	}
	people := snap.People()
	if in.Release != 0 {
		people = c.Population(c.AsOf)
	}
	asClient, asServer := c.RulesOf(c.At(ep.Addr, c.AsOf), people)
	rule := func(r int32, hits map[int]int) EffectiveRule {
		ref := ruleRef(c.Policy.Rules[r])
		return EffectiveRule{*ref, int(r) + 1, hits[ref.Line]}
	}
	for _, r := range asServer {
		out.In = append(out.In, rule(r, hits[0]))
	}
	for _, r := range asClient {
		out.Out = append(out.Out, rule(r, hits[1]))
	}
	return body(out), nil
}

// underRelease gives a window as a release judges it.
func (s *base) underRelease(ctx context.Context, v *reach.View, m *model.Model, no int) (*reach.View, error) {
	r, err := s.ReleaseOf(ctx, no)
	if err != nil || r.Revision == m.Head.No {
		return v, err
	}
	compared, err := s.Models.View(ctx, m, v.From, v.To, r.Revision)
	if err != nil {
		return nil, err
	}
	return compared.Against, nil
}

func (s *groupsAPI) groupHistory(ctx context.Context, in *struct {
	Window
	Name string `query:"name" required:"true"`
}) (*Body[GroupHistory], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	g := snap.Policy.Groups[in.Name]
	if g == nil {
		return nil, huma.Error404NotFound("there is no group " + in.Name)
	}
	from, _, err := in.hours(snap)
	if err != nil {
		return nil, err
	}
	said, err := s.Store.SaidSince(ctx, from.Start().Time())
	if err != nil {
		return nil, err
	}
	since := from.Start().Time()
	out := GroupHistory{Changes: membershipChanges(snap, g.Name, said, since), Revisions: []model.Revision{}}
	for _, a := range arrivals(snap, g.Name, since) {
		// Who came with its first tags and its first address came once.
		if k := slices.IndexFunc(out.Changes, func(c MembershipChange) bool {
			return c.Workload == a.Workload && c.After == a.After && c.Why == firstTags
		}); k >= 0 {
			out.Changes[k] = a
		} else {
			out.Changes = append(out.Changes, a)
		}
	}
	slices.SortStableFunc(out.Changes, func(a, b MembershipChange) int { return strings.Compare(b.At, a.At) })
	out.Total = len(out.Changes)
	out.Changes = out.Changes[:min(500, len(out.Changes))]
	revisions, err := s.Store.RevisionsSince(ctx, from.Start().Time())
	if err != nil {
		return nil, err
	}
	was := ""
	for k, r := range revisions { // oldest first; the first one is from before the window
		p, _ := policy.Parse(r.Text)
		is := ""
		if g := p.Groups[in.Name]; g != nil {
			is = g.Body()
		}
		if k > 0 && is != was {
			out.Revisions = append(out.Revisions, r)
		}
		was = is
	}
	slices.Reverse(out.Revisions)
	return body(out), nil
}

// membershipChanges replays what was said of tags and asks the group, as it is
// defined now, before and after each change.
func membershipChanges(snap *model.Model, group string, said []inventory.SaidValue, from time.Time) []MembershipChange {
	out := []MembershipChange{}
	for len(said) > 0 {
		n := 1
		for n < len(said) && said[n].Workload == said[0].Workload {
			n++
		}
		mine := said[:n]
		said = said[n:]
		i, ok := snap.Estate.ByID(mine[0].Workload)
		if !ok {
			continue
		}
		var times []time.Time
		for _, v := range mine {
			if v.At.After(from) {
				times = append(times, v.At)
			}
			if v.Until != nil && v.Until.After(from) {
				times = append(times, *v.Until)
			}
		}
		sort.Slice(times, func(a, b int) bool { return times[a].Before(times[b]) })
		times = slices.CompactFunc(times, time.Time.Equal)
		w := snap.Estate.Workload(i)
		ask := func(at time.Time) (expr.Truth, map[string]string) {
			then := estate.Workload{ID: w.ID, Name: w.Name, OS: w.OS, Kind: w.Kind, Leases: w.Leases}
			values := map[string]string{}
			for _, v := range mine { // the source that ranks first comes first
				if v.At.After(at) || v.Until != nil && !v.Until.After(at) {
					continue
				}
				if _, have := values[v.Key]; !have {
					values[v.Key] = v.Value
					then.SetTag(estate.Tag{Key: v.Key, Value: v.Value})
				}
			}
			e, _ := estate.New([]estate.Workload{then})
			ep := endpointsOf(e, 0, snap.Compiled.AsOf)[0]
			return decide.NewWalk(e, snap.Policy, snap.Compiled.AsOf).Group(group, ep), values
		}
		was, had := ask(from)
		if len(had) == 0 {
			was = expr.No // it was not there, or nothing was said of it
		}
		for _, at := range times {
			is, has := ask(at)
			if is != was {
				out = append(out, MembershipChange{At: at.UTC().Format(time.RFC3339), Workload: w.ID, Name: w.Label(),
					Before: was.String(), After: is.String(), Why: tagChanges(had, has, mine, at)})
			}
			was, had = is, has
		}
	}
	return out
}

// arrivals gives the members that came with their first address, or that were
// retired, since an instant.
func arrivals(snap *model.Model, group string, from time.Time) []MembershipChange {
	out := []MembershipChange{}
	for _, w := range snap.Estate.All() {
		first, last := estate.Lease{}, estate.Lease{}
		for i, l := range w.Leases {
			if i == 0 || l.From.Before(first.From) {
				first = l
			}
			if i == 0 || last.Until.Before(l.Until) {
				last = l
			}
		}
		member := func(l estate.Lease) bool {
			return l.Addr.IsValid() && !l.Empty() && snap.Compiled.Group(group,
				snap.Compiled.At(l.Addr, l.From)) == expr.Yes
		}
		if first.From.IsBound() && first.From.Time().After(from) && member(first) {
			out = append(out, MembershipChange{At: first.From.String(), Workload: w.ID, Name: w.Label(), Before: "no",
				After: "yes", Why: "its first address, " + first.Addr.String()})
		}
		if w.Retired.After(from) && member(last) {
			out = append(out, MembershipChange{At: w.Retired.UTC().Format(time.RFC3339), Workload: w.ID,
				Name: w.Label(), Before: "yes", After: "no", Why: "retired: no source lists it any more"})
		}
	}
	return out
}

const firstTags = "its first tags"

// tagChanges says what changed about a workload's tags at an instant, and who
// said so.
func tagChanges(had, has map[string]string, said []inventory.SaidValue, at time.Time) string {
	if len(had) == 0 {
		return firstTags
	}
	var parts []string
	for k, v := range has {
		if had[k] != v {
			parts = append(parts, fmt.Sprintf("%s: %s → %s", k, cmp.Or(had[k], "missing"), v))
		}
	}
	for k, v := range had {
		if _, still := has[k]; !still {
			parts = append(parts, fmt.Sprintf("%s: %s → missing", k, v))
		}
	}
	slices.Sort(parts)
	for _, v := range said {
		if v.At.Equal(at) {
			return strings.Join(parts, ", ") + ", by " + cmp.Or(v.Author, v.Source)
		}
	}
	return strings.Join(parts, ", ")
}

func (s *groupsAPI) renameGroup(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision in which the group was looked at"`
		Name     string `json:"name"`
		To       string `json:"to"`
	}
}) (*Stored[RegroupOut], error) {
	probes, err := s.RenamedProbes(ctx, in.Body.Name, in.Body.To)
	if err != nil {
		return nil, err
	}
	out, err := s.regroup(ctx, in.Window, in.Body.Revision, in.DryRun,
		fmt.Sprintf("Rename group %s to %s", in.Body.Name, in.Body.To),
		func(snap *model.Model, out *RegroupOut) (string, *policy.EditError) {
			for _, item := range snap.Policy.Items {
				if item.Statement != nil && policy.Names(item.Statement, in.Body.Name) {
					out.Changed = append(out.Changed, item.Statement.String())
				}
			}
			return policy.RenameGroup(snap.Head.Text, in.Body.Name, in.Body.To)
		}, probes...)
	if err != nil {
		return nil, err
	}
	for _, e := range probes { // they go along: nothing becomes of them
		if c := out.Body.Consequences; c != nil {
			c.Probes = slices.DeleteFunc(c.Probes, func(p consequences.ProbeChange) bool { return p.Question == e.Question })
		}
		if e.Probe == nil {
			out.Body.Changed = append(out.Body.Changed, "probe "+e.Question)
		}
	}
	return out, nil
}

func (s *groupsAPI) removeGroup(ctx context.Context, in *struct {
	Window
	DryRun bool `query:"dryRun" doc:"Only say what it would do"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision in which the group was looked at"`
		Name     string `json:"name"`
	}
}) (*Stored[RegroupOut], error) {
	return s.regroup(ctx, in.Window, in.Body.Revision, in.DryRun, "Remove group "+in.Body.Name,
		func(snap *model.Model, out *RegroupOut) (string, *policy.EditError) {
			after, changed, removed, err := policy.DropGroup(snap.Head.Text, in.Body.Name)
			lines := policy.Lines(snap.Head.Text)
			for _, l := range changed {
				out.Changed = append(out.Changed, lines[l-1])
			}
			for _, l := range removed {
				out.Removed = append(out.Removed, lines[l-1])
			}
			return after, err
		})
}

func (s *groupsAPI) regroup(ctx context.Context, w Window, revision int, dryRun bool, words string,
	edit func(*model.Model, *RegroupOut) (string, *policy.EditError),
	probes ...drafting.ProbeEdit) (*Stored[RegroupOut], error) {
	v, snap, err := s.view(ctx, w)
	if err != nil {
		return nil, err
	}
	if revision != snap.Head.No {
		return nil, huma.Error409Conflict("somebody has changed the policy since; nothing was changed. Look again " +
			"at what uses the group, then do it")
	}
	out := RegroupOut{Changed: []string{}, Removed: []string{}}
	text, bad := edit(snap, &out)
	if bad != nil {
		return nil, refusal(bad)
	}
	done, err := s.edited(ctx, v, snap, text, words, dryRun, probes...)
	if err != nil {
		return nil, err
	}
	out.EditOut = done.Body
	return &Stored[RegroupOut]{done.Status, done.Location, out}, nil
}

func (s *groupsAPI) exportGroups(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	all, err := s.listGroups(ctx, &struct{ All }{All{Limit: math.MaxInt32}})
	if err != nil {
		return nil, err
	}
	return stream("groups.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"name", "definition", "note", "members", "of_these_without_address", "undecided", "used_by",
			"findings"})
		for _, g := range all.Body {
			var found []string
			for _, f := range g.Findings {
				found = append(found, f.Kind)
			}
			_ = w.Write([]string{g.Name, g.Body, g.Note, fmt.Sprint(g.In), fmt.Sprint(g.Unaddressed), fmt.Sprint(g.Undecided),
				fmt.Sprint(len(g.UsedBy)), strings.Join(found, "; ")})
		}
	}), nil
}

func (s *policyAPI) exportRules(ctx context.Context, in *struct{ Window }) (*huma.StreamResponse, error) {
	p, err := s.getPolicy(ctx, in)
	if err != nil {
		return nil, err
	}
	return stream("rules.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"line", "layer", "rule", "note", "author", "changed", "conversations", "last_hit",
			"findings"})
		for _, st := range p.Body.Statements {
			if st.Rule == nil {
				continue
			}
			var found []string
			for _, f := range st.Findings {
				found = append(found, f.Kind)
			}
			_ = w.Write([]string{fmt.Sprint(st.Line), st.Rule.Layer, st.Rule.Sentence, st.Note, st.Author, st.At,
				fmt.Sprint(st.Hits), st.Last, strings.Join(found, "; ")})
		}
	}), nil
}

func (s *inventoryAPI) exportDisagreements(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	said, _, err := s.Store.Disagreements(ctx, 0, 1_000_000)
	if err != nil {
		return nil, err
	}
	return stream("disagreements.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"id", "key", "source", "value", "author", "at"})
		for _, v := range said {
			_ = w.Write([]string{v.Workload, v.Key, v.Source, v.Value, v.Author, v.At.UTC().Format(time.RFC3339)})
		}
	}), nil
}
