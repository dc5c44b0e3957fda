package reach

import (
	"math"
	"slices"
	"sort"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
)

// Fate is what became of a conversation, measured by what the enforcement points that
// guard its ends held at the time.
type Fate uint8

// The fates. Fine is also what nobody guarded.
const (
	Fine  Fate = iota
	Leak       // rejected by what was enforced, and carried all the same
	Choke      // permitted by what was held, and dropped all the same
)

// Holder is an enforcement point with what it held over time.
type Holder struct {
	Name           string
	Guards         []int32 // workloads, rising
	Server, Client bool    // as what it polices them
	Periods        []Period
}

// Period is some time for which a point held the same release.
type Period struct {
	From    flow.Micros // it ends where the next begins
	Release int         // 0: nothing
	Enforce bool        // else it only observed
}

// settling is how long what was carried just before a release is enforced may still
// be reported: exporters tell of connections some time after their last packet.
const settling = flow.Micros(5e6)

// Judge finds the fates of the conversations of windows. Of gives the view of a window under a
// release; it is asked for those only that were held in the time of the window.
type Judge struct {
	Holders []Holder
	Of      func(w *Window, release int) *View
}

// judged is the fates of a window, found once.
type judged struct {
	once             sync.Once
	fates            []Fate
	servers, clients map[int32][]*Holder // by workload
	views            map[int]*View       // by release
}

// JudgedBy lets a judge say which conversations are leaks and chokes, instead of the
// policy of each view; nil: nobody does. It is called before the window is shown.
func (w *Window) JudgedBy(j *Judge) { w.judge = j }

// Fates gives the fate of each conversation; nil: nobody judges.
func (w *Window) Fates() []Fate {
	if w.judge == nil {
		return nil
	}
	w.judged.once.Do(func() { w.judged.find(w, w.judge) })
	return w.judged.fates
}

// at gives the period of a time; one without a release before the first.
func (h *Holder) at(t flow.Micros) Period {
	i := sort.Search(len(h.Periods), func(i int) bool { return h.Periods[i].From > t })
	if i == 0 {
		return Period{}
	}
	return h.Periods[i-1]
}

func (x *judged) find(w *Window, j *Judge) {
	x.fates = make([]Fate, w.Len())
	servers, clients, views := map[int32][]*Holder{}, map[int32][]*Holder{}, map[int]*View{}
	x.servers, x.clients, x.views = servers, clients, views
	latest := flow.Micros(math.MinInt64)
	for _, t := range w.last {
		latest = max(latest, flow.MicrosOfInstant(t))
	}
	for i := range j.Holders {
		h := &j.Holders[i]
		for k, p := range h.Periods {
			over := k+1 < len(h.Periods) && h.Periods[k+1].From <= flow.MicrosOfInstant(w.From.Start())
			if p.Release != 0 && !over && p.From <= latest && views[p.Release] == nil {
				views[p.Release] = j.Of(w, p.Release)
			}
		}
		for _, workload := range h.Guards {
			if h.Server {
				servers[workload] = append(servers[workload], h)
			}
			if h.Client {
				clients[workload] = append(clients[workload], h)
			}
		}
	}
	if len(views) == 0 {
		return
	}
	decide.Parallel(workers, (w.Len()+stretch-1)/stretch, func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, w.Len()); i++ {
			x.fates[i] = w.ruling(i).Fate
		}
	})
}

// Ruling is how a conversation was judged, by what.
type Ruling struct {
	Fate    Fate
	Turned  bool         // it, or some of it, was dropped, and nothing that was held then permits it
	Release int          // by which it was judged; 0: by the policy of the view, as no point held any then
	Rule    *policy.Rule // that decides there; nil: none
	Holder  *Holder      // the point that should have done otherwise; nil where the fate is Fine, or no release judges
}

// Ruling judges a conversation as Fates does, and says by what.
func (v *View) Ruling(i int) Ruling {
	var r Ruling
	if v.Fates() != nil {
		r = v.ruling(i)
		r.Turned = v.dropped[i] > 0 && r.Fate == Fine
	} else {
		r.Fate = v.odd(i)
		r.Turned = v.dropped[i] > 0 && v.Verdict(i) != decide.Permit
	}
	if k := v.rules[i]; r.Release == 0 && k >= 0 {
		r.Rule = v.Compiled.Policy.Rules[k]
	}
	return r
}

// ruling judges a conversation by the points that guard its ends: it leaked if one that
// should have dropped it did not.
func (w *Window) ruling(i int) (out Ruling) {
	x := &w.judged
	servers, clients := x.servers[w.ends[w.cols.Server[i]].Workload], x.clients[w.ends[w.cols.Client[i]].Workload]
	if len(servers)+len(clients) == 0 {
		return out
	}
	in := slices.Concat(servers, clients)
	judged := func(p Period, v *View) {
		out.Release, out.Rule = p.Release, nil
		if k := v.rules[i]; k >= 0 {
			out.Rule = v.Compiled.Policy.Rules[k]
		}
	}
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		ch, row := w.Table.Row(int(w.parts[k].row))
		last := ch.Last[row]
		for _, h := range in {
			p := h.at(last)
			v := x.views[p.Release]
			if v == nil {
				continue
			}
			verdict, dropped := v.Verdict(i), ch.Outcome[row] == flow.Dropped
			switch {
			case verdict == decide.Reject && p.Enforce && ch.Outcome[row] == flow.Carried && last > p.From+settling:
				judged(p, v)
				out.Fate, out.Holder = Leak, h
				return out
			case verdict == decide.Permit && dropped:
				judged(p, v)
				out.Fate, out.Holder = Choke, h
			case out.Fate == Fine:
				judged(p, v)
			}
		}
	}
	return out
}
