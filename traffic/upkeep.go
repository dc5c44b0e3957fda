package traffic

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
	"lucidorchard/ingest/wire"
	"lucidorchard/model"
)

// portAt reports whether an address is where what was said of a port holds.
func portAt(snap *model.Model, p *ServicePort, addr netip.Addr, t estate.Instant) bool {
	switch p.Kind {
	case "everywhere":
		return true
	case "group":
		return snap.Policy.Groups[p.Place] != nil && snap.Compiled.Group(p.Place,
			snap.Compiled.At(addr, t)) == expr.Yes
	case "workload":
		i, ok := snap.Estate.ByID(p.Place)
		return ok && snap.Estate.At(addr, t).Workload == i
	}
	if prefix, err := netip.ParsePrefix(p.Place); err == nil {
		return prefix.Contains(addr)
	}
	one, err := netip.ParseAddr(p.Place)
	return err == nil && one.Unmap() == addr
}

// servesAt reports whether one of what was said of ports holds at an address.
func servesAt(snap *model.Model, said []ServicePort) func(netip.Addr, uint8, uint16, flow.Micros) bool {
	type key struct {
		proto uint8
		port  uint16
	}
	byPort := map[key][]*ServicePort{}
	for i := range said {
		p := &said[i]
		byPort[key{p.Protocol, p.Port}] = append(byPort[key{p.Protocol, p.Port}], p)
	}
	return func(addr netip.Addr, proto uint8, port uint16, at flow.Micros) bool {
		return slices.ContainsFunc(byPort[key{proto, port}],
			func(p *ServicePort) bool { return portAt(snap, p, addr, at.Instant()) })
	}
}

// Turned is what became of a correction.
type Turned struct {
	Records int `json:"records" doc:"That were turned"`
	Hours   int `json:"hours" doc:"That were gathered anew"`
	Partial int `json:"partial" doc:"Hours of which the single records are no longer kept: they stay as they are"`
}

// TurnRound applies what was said of a port to what is stored; or, if it is no
// longer said, takes back what it turned.
func (a *Service) TurnRound(ctx context.Context, p ServicePort, back bool, progress func(float64, string)) (*Turned,
	error) {
	snap, err := a.Model(ctx)
	if err != nil {
		return nil, err
	}
	byHour, err := a.Store.EndsOn(ctx, p.Protocol, p.Port, back)
	if err != nil {
		return nil, err
	}
	said, err := a.Store.ServicePorts(ctx)
	if err != nil {
		return nil, err
	}
	serves := servesAt(snap, said)
	out := &Turned{}
	done := 0
	for hour, addrs := range byHour {
		progress(float64(done)/float64(len(byHour)), fmt.Sprintf("%d of %d hours", done, len(byHour)))
		done++
		addrs = slices.DeleteFunc(addrs, func(a netip.Addr) bool {
			return !portAt(snap, &p, a, hour.Start()) && !portAt(snap, &p, a, (hour+1).Start())
		})
		if len(addrs) == 0 {
			continue
		}
		r, err := a.Store.Rebuild(ctx, hour, addrs, func(j *flow.Joined) bool {
			at := flow.MicrosOfInstant(j.Start)
			if back {
				if j.Reason != flow.ByHand || j.Point != service.PointOf(p.Protocol, uint32(p.Port)) ||
					serves(j.Server, p.Protocol, p.Port, at) {
					return false
				}
				j.Turn()
				j.Confidence, j.Reason = 50, flow.ByGuess
				return true
			}
			if j.Point.Proto() != p.Protocol || j.SourcePort != p.Port ||
				!serves(j.Client, p.Protocol, j.SourcePort, at) ||
				serves(j.Server, p.Protocol, uint16(j.Point.Port()), at) {
				return false
			}
			j.Turn()
			return true
		}, snap.Turned, nil)
		if err != nil {
			return nil, err
		}
		out.Records += r.Turned
		out.Hours++
		if r.Partial {
			out.Partial++
		}
	}
	a.Models.Hurry()
	if back {
		return out, nil
	}
	return out, a.Store.ServicePortApplied(ctx, p)
}

// RefreshHooks tells the collector what it may ask of the estate as it is now.
func (a *Service) RefreshHooks(ctx context.Context) error {
	if a.collector == nil {
		return nil
	}
	snap, err := a.Model(ctx)
	if err != nil {
		return err
	}
	said, err := a.Store.ServicePorts(ctx)
	if err != nil {
		return err
	}
	habits, err := a.Store.ExporterHabits(ctx)
	if err != nil {
		return err
	}
	icmp := map[netip.Addr]wire.Habit{}
	for _, h := range habits {
		icmp[h.Addr] = wire.Habit(h.ICMP)
	}
	a.collector.SetHooks(Hooks{Serves: servesAt(snap, said), Changes: a.turned, ICMP: icmp})
	return nil
}

// turned reports when it last changed whose an address is, or by what its traffic is judged,
// as it is known now: points change while records come.
func (a *Service) turned(addr netip.Addr, at estate.Instant) (estate.Instant, bool) {
	m := a.Models.Held()
	if m == nil {
		return at, false
	}
	return m.Turned(addr, at)
}

// finishTurns applies what was said of ports when the program ended in the middle
// of it.
func (a *Service) finishTurns(ctx context.Context) error {
	said, err := a.Store.ServicePorts(ctx)
	if err != nil {
		return err
	}
	for _, p := range said {
		if p.Applied {
			continue
		}
		if _, err := a.TurnRound(ctx, p, false, func(float64, string) {}); err != nil {
			return err
		}
	}
	return nil
}

// Retention returns for how long traffic is kept.
func (a *Service) Retention(ctx context.Context) (Retention, error) {
	r := defaultRetention
	err := a.Store.Setting(ctx, "retention", &r)
	return r, err
}

// Retain deletes what is over the bounds.
func (a *Service) Retain(ctx context.Context) error {
	r, err := a.Retention(ctx)
	if err != nil {
		return err
	}
	days, err := a.Store.Days(ctx)
	if err != nil {
		return err
	}
	over := r.Over(days, time.Now())
	if len(over) > 0 {
		a.Log.Info("deleting days that are over the bounds of what is kept", "days", len(over))
	}
	return a.Store.Drop(ctx, over)
}

// repair cuts stored conversations where an address changed hands within the
// hour, once the leases that say so are known.
func (a *Service) repair(ctx context.Context) error {
	snap, err := a.Model(ctx)
	if err != nil {
		return err
	}
	hours, err := a.Store.Hours(ctx)
	if err != nil {
		return err
	}
	made, err := a.Store.Cuts(ctx)
	if err != nil {
		return err
	}
	todo := map[flow.Hour][]Cut{}
	var nothing []Cut
	for _, w := range snap.Estate.All() {
		for _, l := range w.Leases {
			for _, t := range [2]estate.Instant{l.From, l.Until} {
				if !t.IsBound() {
					continue
				}
				cut := Cut{Addr: l.Addr.Unmap(), At: flow.MicrosOfInstant(t).Instant()}
				if made[cut] {
					continue
				}
				made[cut] = true
				h := flow.HourOf(t)
				if _, there := hours[h]; there {
					todo[h] = append(todo[h], cut)
				} else {
					nothing = append(nothing, cut) // what comes later is cut as it comes
				}
			}
		}
	}
	if err := a.Store.MarkCuts(ctx, nothing); err != nil {
		return err
	}
	for hour, cuts := range todo {
		var addrs []netip.Addr
		for _, c := range cuts {
			addrs = append(addrs, c.Addr)
		}
		r, err := a.Store.Rebuild(ctx, hour, addrs, nil, snap.Estate.ChangedHands, cuts)
		if err != nil {
			return err
		}
		if r.Partial {
			a.Log.Warn("an address changed hands in an hour whose single records are no longer kept: its "+
				"conversations stay with who held it first", "hour", hour.Start().String(), "addresses", len(addrs))
		}
	}
	return nil
}

// Run does what traffic needs in the background: it tells the collector of
// changes, cuts where addresses changed hands, and deletes what is over the
// bounds.
func (a *Service) Run(ctx context.Context) {
	var last database.Versions
	var retained time.Time
	begun := false
	for {
		err := func() error {
			v, err := a.Store.Versions(ctx)
			if err != nil {
				return err
			}
			if !begun || v.Workloads != last.Workloads || v.Revision != last.Revision {
				if err := a.RefreshHooks(ctx); err != nil {
					return err
				}
			}
			if !begun || v.Workloads != last.Workloads {
				if err := a.repair(ctx); err != nil {
					return err
				}
			}
			if !begun {
				if err := a.finishTurns(ctx); err != nil {
					return err
				}
			}
			begun, last = true, v
			if time.Since(retained) > time.Hour {
				if err := a.Retain(ctx); err != nil {
					return err
				}
				if err := a.Store.ForgetRequests(ctx); err != nil {
					return err
				}
				if err := a.Store.ForgetFiles(ctx); err != nil {
					return err
				}
				if err := a.Store.ForgetPointHistory(ctx); err != nil {
					return err
				}
				retained = time.Now()
			}
			return nil
		}()
		if err != nil && ctx.Err() == nil {
			a.Log.Error("traffic cannot be updated to the current estate; retrying", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}
