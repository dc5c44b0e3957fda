package estate_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
)

// record keeps a history as a database does, edit by edit, and the state after each.
type record struct {
	said  map[[3]string]estate.TagSpan // that stand: workload, key, source
	past  map[string][]estate.TagSpan
	were  map[string][]estate.Was // the last is of now
	added map[string]estate.Instant
	ranks map[string][]estate.Rank
}

func (r *record) history() *estate.History {
	h := &estate.History{Ranks: r.ranks}
	for _, id := range []string{"a", "b", "c"} {
		p := estate.Past{ID: id, Added: r.added[id], Were: r.were[id], Said: slices.Clone(r.past[id])}
		for k, s := range r.said {
			if k[0] == id {
				p.Said = append(p.Said, s)
			}
		}
		if len(p.Were) > 0 {
			h.Past = append(h.Past, p)
		}
	}
	return h
}

// state is what counts now, worked out from what stands and not from times.
func (r *record) state() map[string]map[string]string {
	out := map[string]map[string]string{}
	for id, were := range r.were {
		if len(were) == 0 || were[len(were)-1].Until != estate.End {
			continue
		}
		out[id] = map[string]string{"name": were[len(were)-1].Name}
		for _, key := range []string{"app", "env"} {
			rank, value := 1<<30, ""
			for _, source := range []string{estate.ByHand, "one", "two"} {
				s, is := r.said[[3]string{id, key, source}]
				if now := r.ranks[source][len(r.ranks[source])-1].Rank; is && now < rank {
					rank, value = now, s.Value
				}
			}
			if value != "" {
				out[id][key] = value
			}
		}
	}
	return out
}

func stateOf(ws []estate.Workload) map[string]map[string]string {
	out := map[string]map[string]string{}
	for _, w := range ws {
		out[w.ID] = map[string]string{"name": w.Name}
		for _, t := range w.Tags {
			out[w.ID][t.Key] = t.Value
		}
	}
	return out
}

// The estate at any time is what it was then, whatever happened since; and going from one
// time to the next by what changed between comes to the same.
func TestTheEstateAsItWas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		begin := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
		r := &record{said: map[[3]string]estate.TagSpan{}, past: map[string][]estate.TagSpan{},
			were: map[string][]estate.Was{}, added: map[string]estate.Instant{}, ranks: map[string][]estate.Rank{
				estate.ByHand: {{Rank: 0, Until: estate.End}}, "one": {{Rank: 1, Until: estate.End}},
				"two": {{Rank: 2, Until: estate.End}}}}
		var states []map[string]map[string]string
		var at []estate.Instant
		for i := range rapid.IntRange(1, 25).Draw(t, "edits") {
			now := begin.Add(time.Duration(i+1) * time.Hour)
			instant := estate.InstantOf(now)
			id := rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, "id")
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0: // it is called something else, or comes
				if n := len(r.were[id]); n > 0 && r.were[id][n-1].Until == estate.End {
					r.were[id][n-1].Until = instant
				} else if n > 0 {
					continue // one that went does not come back under its id
				} else {
					r.added[id] = instant
				}
				r.were[id] = append(r.were[id], estate.Was{Name: fmt.Sprint("name ", i), Until: estate.End})
			case 1: // ranks change places
				for _, s := range []string{"one", "two"} {
					list := r.ranks[s]
					list[len(list)-1].Until = instant
					r.ranks[s] = append(list, estate.Rank{Rank: 3 - list[len(list)-1].Rank, Until: estate.End})
				}
			case 2: // it goes, with its tags
				n := len(r.were[id])
				if n == 0 || r.were[id][n-1].Until != estate.End {
					continue
				}
				r.were[id][n-1].Until = instant
				for k, s := range r.said {
					if k[0] == id {
						s.Until = instant
						r.past[id] = append(r.past[id], s)
						delete(r.said, k)
					}
				}
			default:
				if n := len(r.were[id]); n == 0 || r.were[id][n-1].Until != estate.End {
					continue
				}
				k := [3]string{id, rapid.SampledFrom([]string{"app", "env"}).Draw(t, "key"),
					rapid.SampledFrom([]string{estate.ByHand, "one", "two"}).Draw(t, "source")}
				if s, is := r.said[k]; is {
					s.Until = instant
					r.past[id] = append(r.past[id], s)
					delete(r.said, k)
				}
				if value := rapid.SampledFrom([]string{"x", "y", "", "none"}).Draw(t, "value"); value != "none" {
					r.said[k] = estate.TagSpan{Tag: estate.Tag{Key: k[1], Value: value, Source: k[2], At: now},
						Until: estate.End}
				}
			}
			states, at = append(states, r.state()), append(at, instant)
		}
		if len(at) == 0 {
			return
		}
		h := r.history()
		var moving *estate.Estate
		for i, instant := range at {
			require.Equal(t, states[i], stateOf(h.At(instant)), "at the change")
			later := estate.InstantOf(instant.Time().Add(59 * time.Minute))
			require.Equal(t, states[i], stateOf(h.At(later)), "until the next")
			if moving == nil {
				moving, _ = estate.New(h.At(instant))
			} else {
				put, gone := h.Between(at[i-1], instant)
				moving, _, _ = moving.With(put, gone)
			}
			require.Equal(t, states[i], stateOf(moving.Workloads()), "by what changed between")
		}
		require.Subset(t, at, h.Changes(estate.InstantOf(begin), at[len(at)-1]))
	})
}

func TestRetiredIsWhenItWasNotBefore(t *testing.T) {
	retired := time.Date(2026, 11, 10, 0, 0, 0, 0, time.UTC)
	h := &estate.History{Past: []estate.Past{{ID: "a", Added: estate.Beginning,
		Were: []estate.Was{{Name: "a", Retired: retired, Until: estate.End}}}}}
	require.True(t, h.At(estate.InstantOf(retired.Add(-time.Hour)))[0].Retired.IsZero())
	require.Equal(t, retired, h.At(estate.InstantOf(retired))[0].Retired)
	require.Equal(t, []estate.Instant{estate.InstantOf(retired)}, h.Changes(estate.InstantOf(retired.Add(-time.Hour)),
		estate.InstantOf(retired.Add(time.Hour))))
	_, known := h.Known()
	require.False(t, known, "it has no tags")
}
