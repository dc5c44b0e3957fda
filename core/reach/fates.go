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

// Settling is how long what was carried just before a release is enforced may still
// be reported: exporters tell of connections some time after their last packet.
const Settling = flow.Micros(5e6)

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

// Fates returns the fate of each conversation; nil: nobody judges.
func (w *Window) Fates() []Fate {
	if w.judge == nil {
		return nil
	}
	w.judged.once.Do(func() { w.judged.find(w, w.judge) })
	return w.judged.fates
}

// at returns the period of a time; one without a release before the first.
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
		r.Fate = aggregator{v}.odd(i)
		r.Turned = v.dropped[i] > 0 && v.Verdict(i) != decide.Permit
	}
	if k := v.rules[i]; r.Release == 0 && k >= 0 {
		r.Rule = v.Compiled.Policy.Rules[k]
	}
	return r
}

// Portion is what a conversation was in one hour with one outcome, or a part of that, and
// how it was judged: by what the points held when it was seen.
type Portion struct {
	Hour        flow.Hour
	First, Last flow.Micros
	Outcome     flow.Outcome
	Connections int64 // a part of one that goes on counts as one
	Ruling      Ruling
	// Unclear is whether a point that guards an end changed between First and Last, so that
	// nobody can tell by what these connections are to be judged.
	Unclear bool
}

// EachPortion calls f with the portions of a conversation, the earliest hour first.
func (v *View) EachPortion(i int, f func(*Portion)) {
	if v.Fates() != nil {
		rule := v.ruleOf(i)
		v.portions(i, v.guards(i), func(p *Portion) {
			p.Ruling.Turned = p.Outcome == flow.Dropped && p.Ruling.Fate == Fine
			if p.Ruling.Release == 0 {
				p.Ruling.Rule = rule
			}
			f(p)
		})
		return
	}
	verdict, rule := v.Verdict(i), v.ruleOf(i)
	for k := v.cols.Starts[i]; k < v.cols.Starts[i+1]; k++ {
		p := v.portion(k)
		p.Ruling.Rule = rule
		switch {
		case p.Outcome == flow.Dropped && verdict == decide.Permit:
			p.Ruling.Fate = Choke
		case p.Outcome == flow.Dropped:
			p.Ruling.Turned = true
		case p.Outcome == flow.Carried && verdict == decide.Reject:
			p.Ruling.Fate = Leak
		}
		f(&p)
	}
}

func (v *View) ruleOf(i int) *policy.Rule {
	if k := v.rules[i]; k >= 0 {
		return v.Compiled.Policy.Rules[k]
	}
	return nil
}

// portion returns a row of a conversation.
func (w *Window) portion(k int32) Portion {
	ch, row := w.Table.Row(int(w.parts[k].row))
	return Portion{Hour: ch.Hour, First: ch.First[row], Last: ch.Last[row], Outcome: ch.Outcome[row],
		Connections: max(1, ch.Connections[row])}
}

// guards returns the points that guard an end of a conversation.
func (w *Window) guards(i int) []*Holder {
	x := &w.judged
	return slices.Concat(x.servers[w.ends[w.cols.Server[i]].Workload], x.clients[w.ends[w.cols.Client[i]].Workload])
}

// portions judges the rows of a conversation by points. Where one of them changed between
// the first and the last of a row in a way that matters, one connection is judged for
// certain, as it was seen first or last; of the others it is unclear.
func (w *Window) portions(i int, in []*Holder, f func(*Portion)) {
	for k := w.cols.Starts[i]; k < w.cols.Starts[i+1]; k++ {
		p := w.portion(k)
		p.Ruling = w.moment(i, p.Outcome, p.Last, in)
		if !crossed(in, p.First, p.Last) {
			f(&p)
			continue
		}
		first := w.moment(i, p.Outcome, p.First, in)
		same := first.Fate == p.Ruling.Fate
		for _, h := range in {
			h.turns(p.First, p.Last, func(at flow.Micros) {
				same = same && w.moment(i, p.Outcome, at, in).Fate == first.Fate
			})
		}
		if same {
			f(&p)
			continue
		}
		rest := p
		rest.Unclear, rest.Ruling.Fate, rest.Ruling.Holder = true, Fine, nil
		if first.Fate != Fine && p.Ruling.Fate != Leak {
			p.Ruling = first
		}
		if p.Ruling.Fate != Fine {
			p.Connections = 1
			f(&p)
			rest.Connections--
		}
		if rest.Connections > 0 {
			f(&rest)
		}
	}
}

// turns calls f with the times, after one and not after another, from which on a point may
// judge otherwise than before: it holds something else, or that has settled.
func (h *Holder) turns(after, until flow.Micros, f func(flow.Micros)) {
	from := sort.Search(len(h.Periods), func(i int) bool { return h.Periods[i].From > after-Settling })
	for _, p := range h.Periods[from:] {
		if p.From > until {
			return
		}
		for _, at := range [2]flow.Micros{p.From, p.From + Settling} {
			if at > after && at <= until {
				f(at)
			}
		}
	}
}

// Turned returns the last of the times, not after one, from which on a point may judge
// otherwise than before; false: there is none.
func (h *Holder) Turned(by flow.Micros) (at flow.Micros, ok bool) {
	i := sort.Search(len(h.Periods), func(i int) bool { return h.Periods[i].From > by })
	if i == 0 {
		return 0, false
	}
	at = h.Periods[i-1].From
	if at+Settling <= by {
		at += Settling
	}
	return at, true
}

// crossed reports whether a point may judge otherwise at one time than at another.
func crossed(in []*Holder, first, last flow.Micros) (yes bool) {
	for _, h := range in {
		h.turns(first, last, func(flow.Micros) { yes = true })
	}
	return yes
}

// ruling judges a conversation by the points that guard its ends: it leaked if one that
// should have dropped some of it did not.
func (w *Window) ruling(i int) (out Ruling) {
	in := w.guards(i)
	if len(in) == 0 {
		return out
	}
	w.portions(i, in, func(p *Portion) {
		if r := &p.Ruling; out.Fate != Leak && (r.Fate != Fine || out.Fate == Fine) {
			out = *r
		}
	})
	return out
}

// moment judges what was seen of a conversation at a time, with an outcome, by points: that
// it leaked goes before that it was choked.
func (w *Window) moment(i int, outcome flow.Outcome, at flow.Micros, in []*Holder) (out Ruling) {
	for _, h := range in {
		p := h.at(at)
		v := w.judged.views[p.Release]
		if v == nil {
			continue
		}
		fate := Fine
		switch verdict := v.Verdict(i); {
		case verdict == decide.Reject && p.Enforce && outcome == flow.Carried && at >= p.From+Settling:
			fate = Leak
		case verdict == decide.Permit && outcome == flow.Dropped:
			fate = Choke
		}
		if fate == Fine && out.Fate != Fine {
			continue
		}
		out.Release, out.Rule = p.Release, v.ruleOf(i)
		if fate != Fine {
			out.Fate, out.Holder = fate, h
		}
		if fate == Leak {
			return out
		}
	}
	return out
}
