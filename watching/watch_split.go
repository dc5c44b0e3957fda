package watching

import (
	"context"
	"maps"
	"net/netip"
	"slices"

	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// split is what was tried so far to tell apart what was counted together: for each hour
// and address, the last change of a point that was known then.
type split map[flow.Hour]map[netip.Addr]flow.Micros

// splitUnclear gathers hours of a day anew from the single records, where connections were
// counted together before it was known that a point changed meanwhile. Where the records
// are kept no longer, the connections stay unclear. The next look judges what came apart.
func (a *Service) splitUnclear(ctx context.Context, m *model.Model, view *reach.View) error {
	todo := map[flow.Hour][]netip.Addr{}
	for i := range view.Len() {
		view.EachPortion(i, func(p *reach.Portion) {
			if !p.Unclear {
				return
			}
			c := view.At(i)
			for _, addr := range [2]netip.Addr{c.Client.Addr, c.Server.Addr} {
				if a.looking.split.begin(p.Hour, addr, m.LastTurn()) {
					todo[p.Hour] = append(todo[p.Hour], addr)
				}
			}
		})
	}
	for _, hour := range slices.Sorted(maps.Keys(todo)) {
		r, err := a.Store.Rebuild(ctx, hour, todo[hour], nil, m.Turned, nil)
		if err != nil {
			return err
		}
		if r.Partial {
			a.Log.Warn("a point changed in an hour whose single records are no longer kept: some of its connections "+
				"cannot be judged", "hour", hour.Start().String(), "addresses", len(todo[hour]))
		}
	}
	if len(todo) > 0 {
		a.Models.Hurry()
	}
	return nil
}

// begin reports whether an hour has not been tried for an address since a change, and
// notes that it is now.
func (s split) begin(hour flow.Hour, addr netip.Addr, change flow.Micros) bool {
	if s[hour][addr] == change {
		return false
	}
	if s[hour] == nil {
		s[hour] = map[netip.Addr]flow.Micros{}
	}
	s[hour][addr] = change
	return true
}

// forget drops hours before the first that is watched.
func (s split) forget(before flow.Hour) {
	maps.DeleteFunc(s, func(h flow.Hour, _ map[netip.Addr]flow.Micros) bool { return h < before })
}

// unclear reports whether some connection of a day cannot be judged.
func unclear(d *WatchedDay) bool {
	for _, h := range d.Hours {
		if h.Unclear > 0 {
			return true
		}
	}
	return false
}
