package watching

import (
	"context"
	"maps"
	"net/netip"
	"slices"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// split is what was tried so far to tell apart what was counted together: for each hour
// and address, what the points had loaded on that day, as far as they had reported then.
type split map[flow.Hour]map[netip.Addr]string

// splitUnclear gathers hours of a day anew from the single records, where connections were
// counted together before it was known that a point changed meanwhile. Where the records
// are kept no longer, the connections stay unclear. The next look judges what came apart.
func (a *Service) splitUnclear(ctx context.Context, m *model.Model, day time.Time) error {
	tried, loaded := a.looking.split, m.Loaded(day)
	todo := map[flow.Hour]map[netip.Addr]bool{}
	view := a.dayView(m, day)
	for i := range view.Len() {
		view.EachPortion(i, func(p *reach.Portion) {
			if !p.Unclear {
				return
			}
			c := view.At(i)
			for _, addr := range [2]netip.Addr{c.Client.Addr, c.Server.Addr} {
				if tried[p.Hour][addr] == loaded {
					continue
				}
				if todo[p.Hour] == nil {
					todo[p.Hour] = map[netip.Addr]bool{}
				}
				todo[p.Hour][addr] = true
			}
		})
	}
	for hour, addrs := range todo {
		r, err := a.Store.Rebuild(ctx, hour, slices.Collect(maps.Keys(addrs)), nil, m.Turned, nil)
		if err != nil {
			return err
		}
		if tried[hour] == nil {
			tried[hour] = map[netip.Addr]string{}
		}
		for addr := range addrs {
			tried[hour][addr] = loaded
		}
		if r.Partial {
			a.Log.Warn("a point changed in an hour whose single records are no longer kept: some of its connections "+
				"cannot be judged", "hour", hour.Start().String(), "addresses", len(addrs))
		}
	}
	if len(todo) > 0 {
		a.Models.Hurry()
	}
	return nil
}

// forget drops hours before the first that is watched.
func (s split) forget(before flow.Hour) {
	maps.DeleteFunc(s, func(h flow.Hour, _ map[netip.Addr]string) bool { return h < before })
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
