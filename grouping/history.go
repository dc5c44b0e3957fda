package grouping

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/inventory"
	"lucidorchard/model"
)

// MembershipChange is when a workload joined or left a group, and why.
type MembershipChange struct {
	At       string
	Workload string
	Name     string
	Before   string
	After    string
	Why      string
}

// MembershipChanges replays what was said of tags and asks the group, as it is
// defined now, before and after each change.
func MembershipChanges(snap *model.Model, group string, said []inventory.ValueSpan, from time.Time) []MembershipChange {
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
			ep := e.Endpoints(0, snap.Compiled.AsOf)[0]
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

// Arrivals returns the members that came with their first address, or that were
// retired, since an instant.
func Arrivals(snap *model.Model, group string, from time.Time) []MembershipChange {
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
				Name: w.Label(), Before: "yes", After: "no", Why: "retired: no source lists it"})
		}
	}
	return out
}

const FirstTags = "its first tags"

// tagChanges reports what changed about a workload's tags at an instant, and who
// said so.
func tagChanges(had, has map[string]string, said []inventory.ValueSpan, at time.Time) string {
	if len(had) == 0 {
		return FirstTags
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
