package evidence

import (
	"cmp"
	"slices"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
)

// servers is which addresses of the traffic belong to the protected: as long as
// neither the estate nor the policy that says so changes, the same.
type servers struct {
	is     []bool // by number
	epoch  int
	policy *policy.Policy
}

func (m *making) serves(people *population) []bool {
	x := &m.traffic
	if x.is != nil && x.epoch == m.epoch && x.policy == people.at.Policy {
		return x.is
	}
	all := m.Traffic.Dict.Addresses()
	is := make([]bool, len(all))
	for i, a := range all {
		is[i] = people.right(people.at.At(a, m.asOf).Class)
	}
	*x = servers{is, m.epoch, people.at.Policy}
	return is
}

// look looks at what reached those who are protected.
func (m *making) look(day *Day, from, until time.Time, people *population, compiled *decide.Compiled) {
	if people == nil {
		return
	}
	first, end := flow.Hour(from.Unix()/3600), flow.Hour((until.Unix()+3599)/3600)
	part := m.Traffic.Between(first, end)
	if part.Len() == 0 {
		return
	}
	is, pairs := m.serves(people), part.Dict.Pairs()
	since, to := flow.MicrosOf(from), flow.MicrosOf(until)
	var rows []flow.Bucket
	for n, ch := range part.Chunks {
		base := part.Starts()[n]
		for i, k := range ch.Pair {
			if p := &pairs[k]; is[p.Server] && ch.First[i] >= since && ch.First[i] < to &&
				people.points.Contains(p.Point) {
				rows = append(rows, part.Bucket(base+i))
			}
		}
	}
	if len(rows) == 0 {
		return
	}
	slices.SortFunc(rows, func(a, b flow.Bucket) int {
		return cmp.Or(int(a.Hour-b.Hour), a.Client.Compare(b.Client), a.Server.Compare(b.Server),
			cmp.Compare(a.Point, b.Point), int(a.Outcome)-int(b.Outcome),
			a.First.Compare(b.First))
	})
	for i := range rows {
		m.inputs.bucket(&rows[i])
	}
	w := reach.NewWindow(m.estate, flow.Pack(rows), first, end)
	w.Structural = m.Structural
	if j := m.judge(from, until); j != nil {
		w.JudgedBy(j)
	}
	v := w.Under(compiled)
	for i := range v.Len() {
		m.take(day, v, i, people)
	}
}

// judge reports what was a leak and a choke by what points held; nil before any held anything:
// then the draft does.
func (m *making) judge(from, until time.Time) *reach.Judge {
	j := &reach.Judge{Of: func(w *reach.Window, release int) *reach.View {
		c, _ := m.of(release)
		if c == nil {
			return nil
		}
		return w.Under(c)
	}}
	exempt := m.exempt(from)
	any := false
	for i, g := range m.guarded() {
		p := &m.Points[i]
		h := reach.Holder{Name: p.Name, Server: p.Side != "client", Client: p.Side != "server",
			Guards: slices.DeleteFunc(slices.Clone(g.In),
				func(w int32) bool { return exempt[m.estate.Workload(w).ID] })}
		for k, held := range p.Held {
			if k+1 < len(p.Held) && !p.Held[k+1].At.After(from) {
				any = any || held.Release != 0
				continue // it was over
			}
			if held.At.Before(until) {
				h.Periods = append(h.Periods, reach.Period{From: flow.MicrosOf(held.At), Release: held.Release,
					Enforce: held.Mode == "enforce"})
				any = any || held.Release != 0
			}
		}
		if !p.Dropped.IsZero() {
			h.Periods = append(h.Periods, reach.Period{From: flow.MicrosOf(p.Dropped)})
		}
		if len(h.Periods) > 0 {
			j.Holders = append(j.Holders, h)
		}
	}
	if !any {
		return nil
	}
	return j
}

type callerKey struct {
	who     string
	service service.Point
	server  string
	verdict decide.Verdict
	release int
	rule    string
	against bool
}

func (m *making) take(day *Day, v *reach.View, i int, people *population) {
	c, r := v.At(i), v.Ruling(i)
	against := m.out.Promise.Kind != "group" && people.against(c.Client.Class, c.Server.Class)
	a, b := v.Labels(i)
	key := callerKey{service: c.Point, server: b.Text, verdict: decide.VerdictOf(r.Rule), release: r.Release,
		against: against}
	if r.Rule != nil {
		key.rule = r.Rule.Sentence()
	}
	if c.Client.Workload == estate.Outside {
		key.who = "outside " + c.Client.Addr.String()
	} else {
		key.who = m.estate.Workload(c.Client.Workload).ID
	}
	who := m.callers[key]
	if who == nil {
		who = &callerTime{Name: v.Name(c.Client), Label: a.Text, Server: b.Text, Service: reach.ServiceText(c.Point),
			Verdict: key.verdict.String(),
			Release: r.Release, Rule: key.rule, First: c.First.Time(), Against: against}
		m.callers[key] = who
	}
	if t := c.First.Time(); t.Before(who.First) {
		who.First = t
	}
	if t := c.Last.Time(); t.After(who.Last) {
		who.Last = t
	}
	if who.last != day.Day {
		who.last = day.Day
		who.Days++
	}
	var sums Sums
	v.EachPortion(i, sums.Count)
	for _, to := range []*Sums{&who.Sums, &day.Sums, &m.out.Total} {
		to.Add(sums)
	}
	if against {
		carried := flow.Sum(sums.Permitted, flow.Sum(sums.Uncovered, sums.Leaks))
		day.Against, m.out.Against = flow.Sum(day.Against, carried), flow.Sum(m.out.Against, carried)
	}
	day.leaked = day.leaked || r.Release != 0 && sums.Leaks > 0
}
