package estate

import (
	"cmp"
	"slices"
	"time"
)

// History is what was known of workloads over time, so that the estate can be made as it
// was. It is not changed.
type History struct {
	Past  []Past
	Ranks map[string][]Rank // by source, in the order of time; the last is of now
}

// Past is one workload over time.
type Past struct {
	ID     string
	Added  Instant   // when it came; Beginning: that is unknown
	Were   []Was     // in the order of time; the last is of now, if it is still there
	Said   []TagSpan // what sources and people said of its tags
	Leases []Lease
}

// Was is what a workload was until an instant.
type Was struct {
	Name, OS, Kind string
	Retired        time.Time // zero: it was there
	Until          Instant   // End: it still is
}

// TagSpan is a value that a source gave for a tag, from Tag.At until an instant; a blank one
// by hand says that there is none.
type TagSpan struct {
	Tag
	Until Instant // End: it still does
}

func (s *TagSpan) holds(t Instant) bool { return !t.Before(InstantOf(s.At)) && t.Before(s.Until) }

// Rank says whose values win until an instant: those of the lower rank.
type Rank struct {
	Rank  int
	Until Instant
}

// Known returns since when anything is known of tags; false: nothing is.
func (h *History) Known() (since Instant, known bool) {
	for i := range h.Past {
		for k := range h.Past[i].Said {
			if at := InstantOf(h.Past[i].Said[k].At); !known || at.Before(since) {
				since, known = at, true
			}
		}
	}
	return since, known
}

// At returns the workloads as they were at an instant. Leases are all there are: they say
// themselves when they hold.
func (h *History) At(t Instant) []Workload {
	out := make([]Workload, 0, len(h.Past))
	for i := range h.Past {
		if w, there := h.one(&h.Past[i], t); there {
			out = append(out, w)
		}
	}
	return out
}

func (h *History) one(p *Past, t Instant) (w Workload, there bool) {
	i := slices.IndexFunc(p.Were, func(was Was) bool { return t.Before(was.Until) })
	if i < 0 || !p.Came(t) {
		return w, false
	}
	was := p.Were[i]
	w = Workload{ID: p.ID, Name: was.Name, OS: was.OS, Kind: was.Kind, Retired: was.Retired, Leases: p.Leases}
	if t.Before(InstantOf(w.Retired)) {
		w.Retired = time.Time{}
	}
	best := map[string]*TagSpan{}
	for k := range p.Said {
		s := &p.Said[k]
		if !s.holds(t) {
			continue
		}
		// What a source said later counts, also where it came back later to what it said before.
		if b := best[s.Key]; b == nil || cmp.Or(cmp.Compare(h.rank(s.Source, t), h.rank(b.Source, t)),
			cmp.Compare(s.Source, b.Source), b.At.Compare(s.At)) < 0 {
			best[s.Key] = s
		}
	}
	for _, s := range best {
		if s.Value != "" {
			w.Tags = append(w.Tags, s.Tag)
		}
	}
	SortTags(w.Tags)
	return w, true
}

// Came reports whether a workload was there by an instant, or something was said of it.
func (p *Past) Came(t Instant) bool {
	return !t.Before(p.Added) || slices.ContainsFunc(p.Said, func(s TagSpan) bool { return !t.Before(InstantOf(s.At)) })
}

func (h *History) rank(source string, t Instant) int {
	ranks := h.Ranks[source]
	i := slices.IndexFunc(ranks, func(r Rank) bool { return t.Before(r.Until) })
	if i < 0 {
		return 1 << 30
	}
	return ranks[i].Rank
}

// Changes returns the instants after one and up to another at which anything was another
// than before, in order.
func (h *History) Changes(after, to Instant) []Instant {
	found := map[Instant]bool{}
	note := func(t Instant) {
		if after.Before(t) && !to.Before(t) {
			found[t] = true
		}
	}
	for i := range h.Past {
		h.Past[i].each(note)
	}
	for _, ranks := range h.Ranks {
		for _, r := range ranks {
			note(r.Until)
		}
	}
	out := make([]Instant, 0, len(found))
	for t := range found {
		out = append(out, t)
	}
	slices.SortFunc(out, Instant.Compare)
	return out
}

// each calls f with the instants at which something of a workload changed.
func (p *Past) each(f func(Instant)) {
	f(p.Added)
	for _, w := range p.Were {
		f(w.Until)
		if !w.Retired.IsZero() {
			f(InstantOf(w.Retired))
		}
	}
	for k := range p.Said {
		f(InstantOf(p.Said[k].At))
		f(p.Said[k].Until)
	}
	for _, l := range p.Leases {
		f(l.From)
		f(l.Until)
	}
}

// Between returns the workloads of which something changed after one instant and up to
// another, as they are then, and the ids of those that are gone by then.
func (h *History) Between(after, to Instant) (put []Workload, gone []string) {
	within := func(t Instant) bool { return after.Before(t) && !to.Before(t) }
	all := false
	for _, ranks := range h.Ranks {
		all = all || slices.ContainsFunc(ranks, func(r Rank) bool { return within(r.Until) })
	}
	for i := range h.Past {
		p := &h.Past[i]
		changed := all
		p.each(func(t Instant) { changed = changed || within(t) })
		if !changed {
			continue
		}
		if w, there := h.one(p, to); there {
			put = append(put, w)
		} else {
			gone = append(gone, p.ID)
		}
	}
	return put, gone
}
