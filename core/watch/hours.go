package watch

import (
	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
)

// take takes away what was added before; false: that cannot be told any more.
func (h *Hour) take(o *Hour) bool {
	if h == nil {
		return false
	}
	for _, n := range [][2]*int64{{&h.Permitted, &o.Permitted}, {&h.Uncovered, &o.Uncovered}, {&h.Held, &o.Held},
		{&h.Leaks, &o.Leaks},
		{&h.Chokes, &o.Chokes}, {&h.Unclear, &o.Unclear}} {
		if *n[0] >= flow.Most || *n[0] < *n[1] {
			return false
		}
		*n[0] -= *n[1]
	}
	return true
}

// Hour is how many connections became what in an hour, or another stretch of time.
type Hour struct {
	Permitted int64 `json:"permitted" doc:"Carried, as a rule permits"`
	Uncovered int64 `json:"uncovered" doc:"Carried, as no rule speaks of them"`
	Held      int64 `json:"held" doc:"Dropped, and not permitted by the release enforced then"`
	Leaks     int64 `json:"leaks" doc:"Carried, though rejected"`
	Chokes    int64 `json:"chokes" doc:"Dropped, though permitted"`
	Unclear   int64 `json:"unclear" doc:"Cannot be judged, because a point changed its release or mode in the hour in which they were counted"`
}

// Add adds those of another stretch.
func (h *Hour) Add(o Hour) {
	h.Permitted, h.Uncovered, h.Held = flow.Sum(h.Permitted, o.Permitted), flow.Sum(h.Uncovered, o.Uncovered),
		flow.Sum(h.Held, o.Held)
	h.Leaks, h.Chokes, h.Unclear = flow.Sum(h.Leaks, o.Leaks), flow.Sum(h.Chokes, o.Chokes),
		flow.Sum(h.Unclear, o.Unclear)
}

// All is all of them.
func (h *Hour) All() int64 {
	return flow.Sum(flow.Sum(h.Permitted, h.Uncovered), flow.Sum(flow.Sum(h.Held, h.Unclear),
		flow.Sum(h.Leaks, h.Chokes)))
}

// Count adds the connections of a part of a conversation, by what became of them.
func (h *Hour) Count(p *reach.Portion) {
	if to := h.of(p); to != nil {
		*to = flow.Sum(*to, p.Connections)
	}
}

// of returns what the connections of a portion count as; nil: it is not known what became of
// them.
func (h *Hour) of(p *reach.Portion) *int64 {
	r, outcome := &p.Ruling, p.Outcome
	permit := r.Rule != nil && decide.VerdictOf(r.Rule) == decide.Permit
	switch {
	case outcome == flow.Unknown:
		return nil
	case p.Unclear:
		return &h.Unclear
	case outcome == flow.Dropped && r.Fate == reach.Choke:
		return &h.Chokes
	case outcome == flow.Dropped:
		return &h.Held
	case r.Fate == reach.Leak:
		return &h.Leaks
	case permit:
		return &h.Permitted
	}
	return &h.Uncovered
}

func (g *gathering) count(hours map[flow.Hour]*Hour, i int) {
	g.v.EachPortion(i, func(p *reach.Portion) {
		h := hours[p.Hour]
		if h == nil {
			h = &Hour{}
			hours[p.Hour] = h
		}
		h.Count(p)
	})
}
