package reach

import (
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
)

// Filter selects conversations by what they are, whatever row they stand in.
// The zero value selects all.
type Filter struct {
	Client, Server *expr.Expr  // each end agrees with its expression
	Services       service.Set // nil: any
	Outcome        string      // carried, dropped, unknown; blank: any
	MinBytes       int64
	New            bool   // nothing like it was seen before the window
	Unsure         bool   // it may be the wrong way round
	Paths          []Path // it goes one of these ways over the map; none: any
	Map            MapKeys
	Part           *Part // one of its ends is part of this; nil: any
	Acceptance     *Acceptance
	Asking         bool          // it is not rejected with a reason that Acceptance has
	Only           map[Talk]bool // it is one of these; nil: any
}

// Talk names conversations: all between two addresses on one service.
type Talk struct {
	Client, Server netip.Addr
	Point          service.Point
}

// Path is a way over the terrace map. Blank members are any.
type Path struct {
	ClientColumn, ClientRow, ServerColumn, ServerRow string
}

func (f *Filter) all() bool {
	return f.Client == nil && f.Server == nil && f.Services == nil && f.Outcome == "" && f.MinBytes == 0 && !f.New &&
		!f.Unsure && len(f.Paths) == 0 && f.Part == nil && !f.Asking && f.Only == nil
}

// members evaluates an expression for each end of the view; nil for none.
func (v *View) members(e *expr.Expr) []bool {
	if e == nil {
		return nil
	}
	return v.cache.members.get(e.String(), func() []bool {
		out := make([]bool, len(v.places))
		for i, p := range v.places {
			groups := func(name string) expr.Truth {
				if v.Compiled.Policy.Groups[name] == nil {
					return expr.No
				}
				return v.Compiled.Group(name, p)
			}
			out[i] = e.Eval(decide.Subject(v.Compiled.Estate, p.Endpoint), groups) == expr.Yes
		}
		return out
	})
}

// chosen returns the conversations that a query's filters select but for those
// that its aggregates tell apart; nil: all.
func (v *View) chosen(q Query) func(i int) bool {
	var tests []func(i int) bool
	if text := (ledger{v}).texts(q.Text); text != nil {
		tests = append(tests, func(i int) bool { return text.in(v, i) })
	}
	if near := (ledger{v}).near(q); near != nil {
		column := v.cols.Server
		if q.Turn {
			column = v.cols.Client
		}
		tests = append(tests, func(i int) bool { return near[column[i]] })
	}
	f := &q.Filter
	if client := v.members(f.Client); client != nil {
		tests = append(tests, func(i int) bool { return client[v.cols.Client[i]] })
	}
	if server := v.members(f.Server); server != nil {
		tests = append(tests, func(i int) bool { return server[v.cols.Server[i]] })
	}
	if f.Services != nil {
		tests = append(tests, func(i int) bool { return f.Services.Contains(v.cols.Point[i]) })
	}
	switch f.Outcome {
	case "carried":
		tests = append(tests, func(i int) bool { return v.carried[i] > 0 })
	case "dropped":
		tests = append(tests, func(i int) bool { return v.dropped[i] > 0 })
	case "unknown":
		tests = append(tests, func(i int) bool { return v.carried[i] == 0 && v.dropped[i] == 0 })
	}
	if f.MinBytes > 0 {
		tests = append(tests, func(i int) bool { return v.bytes[i] >= f.MinBytes })
	}
	if f.Unsure {
		tests = append(tests, func(i int) bool { return v.unsure[i] > 0 })
	}
	if f.New {
		old := v.seenBefore(v.Compiled.Estate)
		tests = append(tests, func(i int) bool { return !old[i] })
	}
	if f.Part != nil {
		in := parter{v}.partOf(*f.Part)
		tests = append(tests, func(i int) bool { return in[v.cols.Client[i]] || in[v.cols.Server[i]] })
	}
	if f.Only != nil {
		tests = append(tests, func(i int) bool {
			c := v.At(i)
			return f.Only[Talk{c.Client.Addr, c.Server.Addr, c.Point}]
		})
	}
	if accepted := v.accepted(q); f.Asking && accepted != nil {
		tests = append(tests, func(i int) bool { return !accepted[i] })
	}
	if len(f.Paths) > 0 {
		at := surveyor{v}.placed(f.Map)
		tests = append(tests, func(i int) bool {
			a, b := at.of[v.cols.Client[i]], at.of[v.cols.Server[i]]
			for _, p := range f.Paths {
				if at.is(a, p.ClientColumn, p.ClientRow) && at.is(b, p.ServerColumn, p.ServerRow) {
					return true
				}
			}
			return false
		})
	}
	if len(tests) == 0 {
		return nil
	}
	return func(i int) bool {
		for _, t := range tests {
			if !t(i) {
				return false
			}
		}
		return true
	}
}

// seenBefore returns for each conversation whether it was seen before the window.
func (w *Window) seenBefore(e *estate.Estate) []bool {
	w.beforeOnce.Do(func() {
		w.before = make([]bool, w.Len())
		if w.whole == nil {
			return
		}
		pairs, begins := w.whole.Dict.Pairs(), w.begins()
		past := &Window{ends: slices.Clone(w.ends)}
		r := newResolver(e, w.whole.Dict, past)
		from, _ := w.whole.Span()
		for _, ch := range w.whole.Between(from, w.From).Chunks {
			for k, p := range ch.Pair {
				if begins[p] == 0 {
					continue
				}
				client, server := int32(-1), int32(-1)
				for i := begins[p] - 1; int(i) < len(w.pair) && w.pair[i] == p; i++ {
					if w.before[i] {
						continue
					}
					if client < 0 {
						client, server = r.held(pairs[p].Client, ch.First[k]).end,
							r.held(pairs[p].Server, ch.First[k]).end
					}
					w.before[i] = w.cols.Client[i] == client && w.cols.Server[i] == server
				}
			}
		}
	})
	return w.before
}
