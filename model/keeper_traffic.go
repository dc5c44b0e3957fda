package model

// Traffic is read apart from the rest: it is large, and may come later.

import (
	"context"
	"maps"
	"runtime/debug"
	"time"

	"lucidorchard/core/flow"
)

// traffic is the conversations as they were last read. It is not changed.
type traffic struct {
	table   *flow.Table
	hours   map[flow.Hour]int64 // version of each hour that was read
	version int64               // of the conversations that was read
	cost    time.Duration       // of reading and resolving, the last time
	next    time.Time           // nothing is read beside the answers before this
	view    *keptView           // the one that was used last, from the new table
	of      *Model              // that it was made for
	err     error
}

// dueTraffic reports whether new traffic is to be read now, and not beside.
func (k *Keeper) dueTraffic(version int64) bool {
	if k.traffic.version >= version {
		return false
	}
	if k.traffic.table == nil || k.traffic.cost <= slow || k.urgent.Load() {
		return true
	}
	k.readBeside(version)
	return false
}

// loadTraffic brings the table up to date; if that takes long it is done beside,
// and what was read before stays for now.
func (k *Keeper) loadTraffic(ctx context.Context, next *Model) error {
	v, err := k.store.Versions(ctx)
	if err != nil {
		return err
	}
	if k.traffic.table != nil && !k.dueTraffic(v.Conversations) {
		return nil
	}
	start := time.Now()
	t, err := k.readTraffic(ctx, k.traffic, v.Conversations)
	if err != nil {
		return err
	}
	t.cost = time.Since(start)
	k.traffic = t
	k.lazy.Store(t.cost > slow)
	k.urgent.Store(false)
	return nil
}

// readTraffic reads the hours that have changed since some traffic was read.
func (k *Keeper) readTraffic(ctx context.Context, was traffic, version int64) (traffic, error) {
	hours, err := k.store.Hours(ctx)
	if err != nil {
		return was, err
	}
	var changed, gone []flow.Hour
	for h, v := range hours {
		if at, ok := was.hours[h]; !ok || at != v {
			changed = append(changed, h)
		}
	}
	for h := range was.hours {
		if _, ok := hours[h]; !ok {
			gone = append(gone, h)
		}
	}
	table := was.table
	if table == nil {
		table = flow.NewTable()
	}
	chunks, versions, err := k.store.Chunks(ctx, changed, table.Dict)
	if err != nil {
		return was, err
	}
	maps.Copy(hours, versions) // perhaps more was stored meanwhile
	return traffic{table: table.With(chunks, gone), hours: hours, version: version, cost: was.cost, next: was.next},
		nil
}

// readBeside reads new traffic and makes the view that is in use from it, while
// answers are given from what was read before.
func (k *Keeper) readBeside(version int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	m := k.current.Load()
	if k.reading || m == nil || time.Now().Before(k.traffic.next) {
		return
	}
	was := k.traffic
	was.hours = maps.Clone(was.hours)
	k.reading = true
	ctx := k.ctx
	go func() {
		start := time.Now()
		t, err := k.readTraffic(ctx, was, version)
		t.err = err
		if last := m.views.last(1); err == nil && len(last) > 0 {
			t.view, t.err = k.viewOf(m, t.table, last[0])
			t.of = m
		}
		t.cost = time.Since(start)
		t.next = time.Now().Add(4 * t.cost) // a quarter of the time at most
		k.read <- &t
	}()
}

func (k *Keeper) viewOf(m *Model, table *flow.Table, last *keptView) (out *keptView, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Fault{p, debug.Stack()}
		}
	}()
	from, to := table.Span()
	if last.from != m.From {
		from = last.from
	}
	if last.to != m.To {
		to = last.to
	}
	v := m.window(table, from, to).Under(m.Compiled)
	v.Warm()
	return made(viewKey{from: from, to: to}, v), nil
}

// take puts traffic that was read beside in place of what was there.
func (k *Keeper) take(t *traffic) {
	k.mu.Lock()
	k.reading = false
	k.mu.Unlock()
	k.traffic.next = t.next
	if t.err != nil {
		k.log.Error("new traffic cannot be read", "error", t.err)
		return
	}
	if k.traffic.version > t.version {
		return // something was imported meanwhile, and read at once
	}
	before := k.current.Load()
	view, of := t.view, t.of
	t.view, t.of = nil, nil
	k.traffic = *t
	k.lazy.Store(t.cost > slow)
	next := *before
	next.Table, next.Versions.Conversations, next.Hours = t.table, t.version, t.hours
	next.From, next.To = next.Table.Span()
	next.Made = time.Now()
	next.deriveJudge(before)
	next.views = &views{}
	if view != nil && of.Compiled == next.Compiled && of.guarding == next.guarding {
		next.views.all = append(next.views.all, view)
	}
	k.put(before, &next)
}
