package watching

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/ledger"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// filterOf reads the filter of a notice.
func (a *Service) filterOf(ctx context.Context, m *model.Model, text string) (reach.Query, error) {
	values, err := url.ParseQuery(text)
	if err != nil {
		return reach.Query{}, refuse.Invalid(fmt.Sprintf("filter: found %q, expected the parts of an address", text))
	}
	f, err := ledger.FilterFrom(values)
	if err != nil {
		return reach.Query{}, err
	}
	if f.Rule != 0 {
		return reach.Query{},
			refuse.Invalid("filter: rule: found a line, which moves with the text; name clients, servers and services")
	}
	if f.Against != 0 {
		return reach.Query{}, refuse.Invalid("filter: against: found a revision; a notice compares with none")
	}
	return a.QueryOf(ctx, m, f)
}

// askedOfDay returns what there is, on a day that is followed, of the traffic that notices ask for.
// What cannot be read any more, such as for a group that is gone, is said with the notice.
func (a *Service) askedOfDay(ctx context.Context, m *model.Model, d *dayFollowed, t *telling) ([]Asked, error) {
	var out []Asked
	for i := range t.all { // also of those that pause: what came meanwhile is not told afterwards
		n := &t.all[i]
		if n.Filter == "" || n.Ends != nil && !n.Ends.After(t.now) {
			continue
		}
		q, err := a.filterOf(ctx, m, n.Filter)
		if problem := (*refuse.Problem)(nil); errors.As(err, &problem) {
			continue
		} else if err != nil {
			return nil, err
		}
		choose := func(v *reach.View) []int { return v.Chosen(q) }
		if q.New { // that goes by what was seen on other days, too
			v := m.Stretch(d.from, d.to)
			out = append(out, a.asked(v, choose(v), n, t.now)...)
			continue
		}
		name := n.Filter
		if q.Acceptance != nil {
			name += " " + q.Acceptance.Key
		}
		v, list := d.Chosen(name, choose)
		out = append(out, a.asked(v, list, n, t.now)...)
	}
	return out, nil
}

// asked returns the traffic of a notice, as conversations of a view, and the messages that it makes if
// there is more of it than before.
func (a *Service) asked(v *reach.View, conversations []int, n *Notice, now time.Time) (out []Asked) {
	list := watch.Asked(v, conversations)
	for i := range list {
		x := &list[i]
		id := matterID(x.Key())
		out = append(out, Asked{Notice: n.ID, Traffic: id, Connections: x.Connections, Tell: func() []Telling {
			if last := x.Last.Time(); n.Paused || now.Sub(last) > 24*time.Hour || !last.After(n.At) {
				return nil
			}
			m := matterOf(x)
			var tell []Telling
			for _, to := range n.To {
				message := a.message(&m)
				message.Matter, message.Verdict = "", decide.VerdictOf(x.Ruling.Rule).String()
				if a.Address != "" {
					message.Link = a.Address + "/check?" + n.Filter
				}
				tell = append(tell, Telling{Notice: n.ID, Destination: to, Matter: id, Message: message,
					Due: dueAt(n, now)})
			}
			return tell
		}})
	}
	return out
}

// NoticeProblem returns why a notice can tell nothing, or nothing any more; blank: it can.
func (a *Service) NoticeProblem(ctx context.Context, m *model.Model, n *Notice) (string, error) {
	for _, x := range []struct{ name, text string }{{"who", n.Who}, {"what", n.What}} {
		if _, err := ledger.EndOf(m, x.name, x.text); err != nil {
			return err.Error(), nil
		}
	}
	if n.Filter == "" {
		return "", nil
	}
	_, err := a.filterOf(ctx, m, n.Filter)
	if problem := (*refuse.Problem)(nil); errors.As(err, &problem) {
		return problem.Detail, nil
	}
	return "", err
}

// seenOf returns what there was already, today and yesterday, of the traffic that a notice asks for: it
// is not told. Nil: that is known.
func (a *Service) seenOf(ctx context.Context, m *model.Model, n *Notice) (map[time.Time][]Asked, error) {
	if n.Filter == "" {
		return nil, nil
	}
	q, err := a.filterOf(ctx, m, n.Filter)
	if err != nil {
		return nil, err
	}
	if n.ID != 0 {
		all, err := a.Store.Notices(ctx)
		if err != nil || slices.ContainsFunc(all, func(x Notice) bool { return x.ID == n.ID && x.Filter == n.Filter }) {
			return nil, err
		}
	}
	out := map[time.Time][]Asked{}
	last := flow.Hour((int64(m.To) - 1) / 24)
	for d := max(m.From/24, last-1); m.From < m.To && d <= last; d++ {
		day := time.Unix(int64(d)*86400, 0).UTC()
		v := a.dayView(m, day)
		out[day] = a.asked(v, v.Chosen(q), n, time.Now())
	}
	return out, nil
}
